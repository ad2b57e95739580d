package route

import (
	"math"

	"dowsingrod/core/estate"
)

// fabrics knows how switches are joined, and finds the ways between two of them.
type fabrics struct {
	e     *estate.Estate
	hops  map[int32][]hop // by switch
	cache map[[2]int32][]int32
}

// hop is one inter-switch link as seen from one of its ends.
type hop struct {
	isl, near, far int32 // the link, this end's port, the other end's port
	to             int32 // the other end's switch
	cost           float64
}

func newFabrics(e *estate.Estate) *fabrics {
	f := &fabrics{e: e, hops: make(map[int32][]hop), cache: make(map[[2]int32][]int32)}
	for _, isl := range e.OfKind(estate.ISL) {
		ends := e.To(isl, estate.Joins)
		if len(ends) != 2 {
			continue // Build has listed the missing end
		}
		cost, ok := e.At(isl).Facts.Number("cost")
		if !ok || cost <= 0 {
			cost = 1
		}
		a, okA := e.Owner(ends[0], estate.Switch)
		b, okB := e.Owner(ends[1], estate.Switch)
		if okA && okB && a != b {
			f.hops[a] = append(f.hops[a], hop{isl, ends[0], ends[1], b, cost})
			f.hops[b] = append(f.hops[b], hop{isl, ends[1], ends[0], a, cost})
		}
	}
	return f
}

// between returns the links (ISLs and the ports at their ends) on every least-cost way from one
// switch to another, as FSPF chooses them (T11 FC-SW), ordered from the first to the last. ok is
// false where there is none.
func (f *fabrics) between(from, to int32) (links []int32, ok bool) {
	if from == to {
		return nil, true
	}
	key := [2]int32{from, to}
	if way, done := f.cache[key]; done {
		return way, way != nil
	}
	cost := f.costs(to) // distance of every switch to the goal
	if _, reachable := cost[from]; !reachable {
		f.cache[key] = nil
		return nil, false
	}
	seen := map[int32]bool{from: true}
	for frontier := []int32{from}; len(frontier) > 0; {
		var next []int32
		for _, at := range frontier {
			for _, h := range f.hops[at] {
				left, reachable := cost[h.to]
				if !reachable || math.Abs(left+h.cost-cost[at]) > 1e-9 {
					continue
				}
				links = append(links, h.near, h.isl, h.far)
				if !seen[h.to] {
					seen[h.to] = true
					next = append(next, h.to)
				}
			}
		}
		frontier = next
	}
	f.cache[key] = links
	return links, true
}

// costs is Dijkstra's algorithm from one switch; fabrics hold at most a few hundred.
func (f *fabrics) costs(from int32) map[int32]float64 {
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
