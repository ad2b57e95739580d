package congest

import (
	"math"
	"slices"

	"dowsingrod/core/estate"
	"dowsingrod/core/phrase"
	"dowsingrod/core/reading"
	"dowsingrod/core/route"
)

// Change compares a stretch of trouble with what was usual before it, in cells of a grid.
type Change struct{ UsualFrom, Begin, End int }

// Found is the component of a layer in which delay arises, and what says so.
type Found struct {
	At     int32
	Words  string  // "97 % busy, before 46 %"
	Before float64 // in the metric's unit
	During float64
	Metric string
}

// tiers orders the kinds in which the delay of a layer can arise: what is shared by most comes first,
// a single member is named only where the whole is not past its limits.
var tiers = map[estate.Layer][]estate.Kind{
	estate.LayerBackEnd:  {estate.Pool, estate.RAIDGroup, estate.Drive},
	estate.LayerFrontEnd: {estate.Volume, estate.Controller, estate.TargetPort},
	estate.LayerFabric:   {estate.ISL, estate.SwitchPort, estate.TargetPort, estate.HBAPort},
	estate.LayerHost:     {estate.Device, estate.Host, estate.HBAPort},
	estate.LayerGuest:    {estate.VDisk, estate.VM},

	estate.LayerInArray:    {estate.Pool, estate.RAIDGroup, estate.Drive, estate.Volume, estate.Controller, estate.TargetPort},
	estate.LayerAboveArray: {estate.Device, estate.ISL, estate.SwitchPort, estate.HBAPort, estate.VDisk, estate.Host, estate.VM},
}

// ceilings are passed by what is well itself: a limit that was set, a queue that was made short. They
// tell where delay arises. A limit is kept to within what readings are rounded to; below 95 % it does not bind.
// A queue counts from 0.3 ms on, what a delay must have to be one.
var ceilings = map[estate.Kind][]Limit{
	estate.Volume: {{Metric: AllowedShare, Strained: 0.95, Words: "of the I/Os per second it is allowed"}},
	estate.VDisk:  {{Metric: AllowedShare, Strained: 0.95, Words: "of the I/Os per second it is allowed"}},
	estate.Device: {{Metric: "queue_latency_us", Strained: 300, Words: "in its queue"}},
}

// telling lists the limits that tell where delay arises: what is full delays nothing yet, and uneven ports delay only where one of them
// is busy.
func telling(e *estate.Estate, i int32) []Limit {
	if of := ceilings[e.Kind(i)]; of != nil {
		return of
	}
	return slices.DeleteFunc(defaults(e, i), func(l Limit) bool { return l.Aspect == Full || l.Aspect == Uneven })
}

// Candidates returns the components below i in which delay of a layer can arise, by way of what is in
// use: standby and dead ways carry no I/O.
func Candidates(m *route.Map, i int32, layer estate.Layer) []int32 {
	var at []int32
	for _, k := range tiers[layer] {
		if m.Estate().At(i).Key.Ref.Kind == k {
			at = append(at, i)
		}
		for _, r := range m.Below(i) {
			if r.State == route.Active && m.Estate().At(r.At).Key.Ref.Kind == k {
				at = append(at, r.At)
			}
		}
	}
	return at
}

// Pinpoint names the component of a layer in which delay that began with the change arises: the one
// that passed its limits furthest and was better before, else the one whose own latency rose most, by
// half at least. It reports false where no component's readings tell.
func Pinpoint(g reading.Grid, m *route.Map, i int32, layer estate.Layer, c Change, r route.Readings) (Found, bool) {
	candidates := Candidates(m, i, layer)
	for _, k := range tiers[layer] {
		best, score := Found{}, 0.0
		for _, at := range candidates {
			o := m.Estate().At(at)
			if o.Key.Ref.Kind != k {
				continue
			}
			for _, l := range telling(m.Estate(), at) {
				v := Cells(g, m.Estate(), at, l.Metric, r).Value
				before, during := reading.MeanOver(v, c.UsualFrom, c.Begin), reading.MeanOver(v, c.Begin, c.End)
				// What a limit allows was asked for and more before it was set.
				if !(during > float64(l.Strained)) || l.Metric != AllowedShare && during < 1.1*before {
					continue
				}
				if s := during / float64(l.Strained); s > score {
					words := l.Show(during)
					if before < during {
						words += ", before " + l.Figure(before)
					}
					best, score = Found{at, words, before, during, l.Metric}, s
				}
			}
		}
		if score > 0 {
			return best, true
		}
	}
	return slowest(g, m, candidates, c, r)
}

func slowest(g reading.Grid, m *route.Map, candidates []int32, c Change, r route.Readings) (Found, bool) {
	best, score := Found{}, 1.5
	for _, at := range candidates {
		key := m.Estate().At(at).Key
		if ceilings[key.Ref.Kind] != nil {
			continue // its latency is that of all below it
		}
		for _, dir := range []string{"read", "write"} {
			rate := r.Runs(key, dir+"_iops")
			occupancy := reading.Occupancy(g, rate, r.Runs(key, dir+"_latency_us"))
			iops := reading.Align(g, rate)
			before := latency(occupancy, iops, c.UsualFrom, c.Begin)
			during := latency(occupancy, iops, c.Begin, c.End)
			if s := during / before; s > score {
				best, score = Found{at, phrase.Micros(during) + " a " + dir + ", before " + phrase.Micros(before), before, during, dir + "_latency_us"}, s
			}
		}
	}
	return best, score > 1.5
}

func latency(occupancy, rate reading.Cells, i, j int) float64 {
	n, x := reading.PairMeans(occupancy.Value, rate.Value, i, j)
	if !(x > 0) {
		return math.NaN()
	}
	return n / x * 1e6
}
