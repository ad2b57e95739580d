package congest

import (
	"dowsingrod/core/estate"
	"dowsingrod/core/reading"
	"dowsingrod/core/route"
)

// starving is the part of the time without a credit from which on a port is held up rather than paced.
const starving = 0.05

// Receiver follows a port that has no credits downstream to who takes its frames too slowly: over links between switches, from each to
// the port of the next switch that starves most, to the port of a host or an array at the edge. It reports false where the port does not
// starve, or where readings do not tell who it waits for.
//
// Credits run out where frames are sent, one hop before who is slow; what waits there fills the buffers of its switch, and the links
// into that starve in turn.
func Receiver(g reading.Grid, e *estate.Estate, port int32, r route.Readings) (int32, bool) {
	starved := func(p int32) float64 {
		return reading.MeanOver(reading.Align(g, r.Runs(e.At(p).Key, "credit_zero_share")).Value, 0, g.N)
	}
	if !(starved(port) > starving) {
		return -1, false
	}
	seen := map[int32]bool{}
	for at := port; !seen[at]; {
		seen[at] = true
		if e.Kind(at) != estate.SwitchPort { // a port of a host or an array waits for the switch it is attached to
			next := e.First(at, estate.Attached)
			if next < 0 {
				return -1, false
			}
			worst, found := worstOf(e, next, starved)
			if !found {
				return -1, false
			}
			at = worst
			continue
		}
		if edge := e.FirstFrom(at, estate.Attached); edge >= 0 {
			return edge, true
		}
		far := farEnd(e, at)
		if far < 0 {
			return -1, false
		}
		worst, found := worstOf(e, far, starved)
		if !found {
			return -1, false
		}
		at = worst
	}
	return -1, false
}

// Downstream lists the ports whose readings Receiver may ask for: all of the switches that a port's frames can reach, its own included.
func Downstream(e *estate.Estate, port int32) (ports []int32) {
	seen := map[int32]bool{}
	var visit func(p int32)
	visit = func(p int32) {
		s, ok := e.Owner(p, estate.Switch)
		if !ok || seen[s] {
			return
		}
		seen[s] = true
		for _, q := range e.From(s, estate.PartOf) {
			if e.Kind(q) != estate.SwitchPort {
				continue
			}
			ports = append(ports, q)
			if far := farEnd(e, q); far >= 0 {
				visit(far)
			}
		}
	}
	if e.Kind(port) == estate.SwitchPort {
		visit(port)
	} else if p := e.First(port, estate.Attached); p >= 0 {
		visit(p)
	}
	return ports
}

// farEnd is the port at the other end of a link between switches, -1 where the port is not at one.
func farEnd(e *estate.Estate, port int32) int32 {
	link := e.FirstFrom(port, estate.Joins)
	if link < 0 {
		return -1
	}
	for _, p := range e.To(link, estate.Joins) {
		if p != port {
			return p
		}
	}
	return -1
}

// worstOf is the port of a port's switch that starves most, itself left out.
func worstOf(e *estate.Estate, port int32, starved func(int32) float64) (int32, bool) {
	s, ok := e.Owner(port, estate.Switch)
	if !ok {
		return -1, false
	}
	best, most := int32(-1), starving
	for _, p := range e.From(s, estate.PartOf) {
		if e.Kind(p) != estate.SwitchPort || p == port {
			continue
		}
		if v := starved(p); v > most {
			best, most = p, v
		}
	}
	return best, best >= 0
}
