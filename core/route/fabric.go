package route

import (
	"math"
	"slices"
	"sync"

	"dowsingrod/core/estate"
)

// fabrics knows how switches are joined, and finds the ways between two of them.
type fabrics struct {
	e    *estate.Estate
	hops map[int32][]hop // by switch

	mu    sync.Mutex
	costs map[int32]map[int32]float64 // to a switch, from every other
	ways  map[[2]int32][]int32
	zones map[int32]bool // whether any of a fabric is known
}

// hop is one inter-switch link as seen from one of its ends.
type hop struct {
	isl, to int32 // the link, and the switch at its other end
	cost    float64
}

func newFabrics(e *estate.Estate) *fabrics { return without(e, -1) }

// without leaves out one object: a link, a switch, a port of a link, or none for -1.
func without(e *estate.Estate, gone int32) *fabrics {
	f := &fabrics{e: e, hops: make(map[int32][]hop), costs: make(map[int32]map[int32]float64), ways: make(map[[2]int32][]int32), zones: make(map[int32]bool)}
	for _, isl := range e.OfKind(estate.ISL) {
		ends := e.To(isl, estate.Joins)
		if len(ends) != 2 || isl == gone || slices.Contains(ends, gone) || lost(e.At(isl)) {
			continue // Build has listed a missing end
		}
		cost, ok := e.At(isl).Facts.Number("cost")
		if !ok || cost <= 0 {
			cost = 1
		}
		a, okA := e.Owner(ends[0], estate.Switch)
		b, okB := e.Owner(ends[1], estate.Switch)
		if okA && okB && a != b && a != gone && b != gone {
			f.hops[a] = append(f.hops[a], hop{isl, b, cost})
			f.hops[b] = append(f.hops[b], hop{isl, a, cost})
		}
	}
	return f
}

// between returns the inter-switch links on every least-cost way from one switch to another, as FSPF chooses them
// (T11 FC-SW), from the first to the last. ok is false where there is none.
func (f *fabrics) between(from, to int32) (links []int32, ok bool) {
	if from == to {
		return nil, true
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	key := [2]int32{from, to}
	if way, done := f.ways[key]; done {
		return way, way != nil
	}
	cost := f.costsTo(to)
	if _, reachable := cost[from]; !reachable {
		f.ways[key] = nil
		return nil, false
	}
	seen := map[int32]bool{from: true}
	for frontier := []int32{from}; len(frontier) > 0; {
		var next []int32
		for _, at := range frontier {
			for _, h := range f.hops[at] {
				if !f.onWay(cost, at, h) {
					continue
				}
				links = append(links, h.isl)
				if !seen[h.to] {
					seen[h.to] = true
					next = append(next, h.to)
				}
			}
		}
		frontier = next
	}
	f.ways[key] = links
	return links, true
}

// onWay reports whether a hop from a switch lies on a least-cost way, given the costs to its end.
func (f *fabrics) onWay(cost map[int32]float64, at int32, h hop) bool {
	left, reachable := cost[h.to]
	return reachable && math.Abs(left+h.cost-cost[at]) <= 1e-9
}

// costsTo is Dijkstra's algorithm from one switch; fabrics hold at most a few hundred. f.mu is held.
func (f *fabrics) costsTo(from int32) map[int32]float64 {
	if cost, ok := f.costs[from]; ok {
		return cost
	}
	cost := map[int32]float64{from: 0}
	done := map[int32]bool{}
	for {
		at, best := int32(-1), math.Inf(1)
		for sw, c := range cost {
			if !done[sw] && (c < best || c == best && sw < at) {
				at, best = sw, c
			}
		}
		if at < 0 {
			f.costs[from] = cost
			return cost
		}
		done[at] = true
		for _, h := range f.hops[at] {
			if c, ok := cost[h.to]; !ok || best+h.cost < c {
				cost[h.to] = best + h.cost
			}
		}
	}
}

// joined reports whether frames can get from one switch to another, by whatever way.
func (f *fabrics) joined(from, to int32) bool {
	_, ok := f.between(from, to)
	return ok
}

// over lists the pairs of switches whose frames use a link: from the first to the second.
func (f *fabrics) over(isl int32) map[int32][]int32 {
	f.mu.Lock()
	defer f.mu.Unlock()
	pairs := make(map[int32][]int32)
	var ends []int32
	for sw, hops := range f.hops {
		for _, h := range hops {
			if h.isl == isl {
				ends = append(ends, sw)
			}
		}
	}
	if len(ends) == 0 {
		return pairs
	}
	for to := range f.costsTo(ends[0]) {
		cost := f.costsTo(to)
		for _, end := range ends {
			for _, h := range f.hops[end] {
				if h.isl != isl || !f.onWay(cost, end, h) {
					continue
				}
				for from := range f.costsTo(end) { // everyone whose cheapest way leads over this end
					if from != to && math.Abs(f.costsTo(end)[from]+cost[end]-cost[from]) <= 1e-9 && !slices.Contains(pairs[from], to) {
						pairs[from] = append(pairs[from], to)
					}
				}
			}
		}
	}
	return pairs
}

// pathsOver returns the paths whose frames may use an inter-switch link.
func (m *Map) pathsOver(isl int32) []int32 {
	var at []int32
	for from, ends := range m.fabric().over(isl) {
		m.loggedIn(from, func(port int32) {
			m.e.EachIn(port, func(link estate.LinkKind, p int32) {
				if link != estate.Initiator || m.e.Kind(p) != estate.Path || m.e.First(p, estate.Initiator) != port {
					return
				}
				target := m.e.First(p, estate.Target)
				if target < 0 {
					return
				}
				if far := m.switchOf(target); far >= 0 && slices.Contains(ends, far) {
					at = append(at, p)
				}
			})
		})
	}
	return at
}

// loggedIn calls f with the ports that are logged in to a switch.
func (m *Map) loggedIn(sw int32, f func(port int32)) {
	m.e.EachIn(sw, func(link estate.LinkKind, sp int32) {
		if link != estate.PartOf || m.e.Kind(sp) != estate.SwitchPort {
			return
		}
		m.e.EachIn(sp, func(link estate.LinkKind, port int32) {
			if link == estate.Attached && m.e.First(port, estate.Attached) == sp {
				f(port)
			}
		})
	})
}

// switchOf returns the switch that a port is logged in to, -1 where that is not known.
func (m *Map) switchOf(port int32) int32 {
	sp := m.e.First(port, estate.Attached)
	if sp < 0 {
		return -1
	}
	sw, ok := m.e.Owner(sp, estate.Switch)
	if !ok {
		return -1
	}
	return sw
}

// way is what lies between the two ends of a path.
type way struct {
	initiator, target int32 // -1 where not known
	nearPort, farPort int32 // the switch ports they are logged in to, -1 where not known
	between           []int32
	state             State
	severed           bool
}

func (m *Map) pathState(path int32) State {
	switch s := State(m.e.At(path).Facts.Text("state")); s {
	case Standby, Dead, Disabled:
		return s
	}
	return Active
}

func (m *Map) way(path int32) way {
	return m.wayBetween(m.e.First(path, estate.Initiator), m.e.First(path, estate.Target), m.pathState(path), m.fabric())
}

func (m *Map) wayBetween(initiator, target int32, s State, f *fabrics) way {
	w := way{initiator: initiator, target: target, nearPort: -1, farPort: -1, state: s}
	if initiator >= 0 {
		w.nearPort = m.e.First(initiator, estate.Attached)
	}
	if target >= 0 {
		w.farPort = m.e.First(target, estate.Attached)
	}
	if w.nearPort >= 0 && w.farPort >= 0 {
		near, okN := m.e.Owner(w.nearPort, estate.Switch)
		far, okF := m.e.Owner(w.farPort, estate.Switch)
		if okN && okF {
			var joined bool
			w.between, joined = f.between(near, far)
			w.severed = !joined
		}
	}
	return w
}

// stops lists the objects of a way in order.
func (w way) stops() []int32 {
	at := make([]int32, 0, 4+len(w.between))
	add := func(i int32) {
		if i >= 0 && !slices.Contains(at, i) {
			at = append(at, i)
		}
	}
	add(w.initiator)
	add(w.nearPort)
	at = append(at, w.between...)
	add(w.farPort)
	add(w.target)
	return at
}

// zoned reports whether a zone holds both ports. known is false where no zone is known of the fabrics they are in: then
// nothing can be said.
func (m *Map) zoned(a, b int32) (zoned, known bool) {
	m.e.EachIn(a, func(link estate.LinkKind, zone int32) { // a host's port is in few zones, an array's in hundreds
		if link == estate.Zones && !zoned {
			m.e.EachOut(zone, func(link estate.LinkKind, port int32) { zoned = zoned || link == estate.Zones && port == b })
		}
	})
	if zoned {
		return true, true
	}
	for _, port := range []int32{a, b} {
		if sw := m.switchOf(port); sw >= 0 {
			if f := m.e.First(sw, estate.MemberOf); f >= 0 && m.fabric().zoned(f) {
				return false, true
			}
		}
	}
	return false, false
}

// zoned reports whether any zone of a fabric is known.
func (f *fabrics) zoned(fabric int32) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	known, ok := f.zones[fabric]
	if !ok {
		f.e.EachIn(fabric, func(link estate.LinkKind, from int32) {
			known = known || link == estate.MemberOf && f.e.Kind(from) == estate.Zone
		})
		f.zones[fabric] = known
	}
	return known
}

// Unused is a way from a device to its volume that the cables allow and no path uses.
type Unused struct {
	Initiator, Target int32
	Zoned             bool // the zones allow it too
}

// Unzoned returns the ways by which a host's device could reach its volume over the fabric and does not: both ports are
// logged in to switches that are joined, the volume is exposed on the array port, and no path is listed. Those of which
// zones are not known are left out.
func (m *Map) Unzoned(device int32) []Unused {
	host, ok := m.e.Owner(device, estate.Host)
	if !ok {
		return nil
	}
	listed := map[[2]int32]bool{}
	m.eachPath(device, func(p int32) {
		listed[[2]int32{m.e.First(p, estate.Initiator), m.e.First(p, estate.Target)}] = true
	})
	var out []Unused
	f := m.fabric()
	for _, v := range m.e.To(device, estate.Opens) {
		for _, target := range m.e.To(v, estate.ExposedOn) {
			far := m.switchOf(target)
			if far < 0 {
				continue
			}
			m.e.EachIn(host, func(link estate.LinkKind, port int32) {
				if link != estate.PartOf || m.e.Kind(port) != estate.HBAPort || listed[[2]int32{port, target}] {
					return
				}
				near := m.switchOf(port)
				if near < 0 || near != far && !f.joined(near, far) {
					return
				}
				if zoned, known := m.zoned(port, target); known {
					out = append(out, Unused{port, target, zoned})
				}
			})
		}
	}
	return out
}
