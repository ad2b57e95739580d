package strata

import (
	"cmp"
	"fmt"
	"math"
	"slices"

	"dowsingrod/core/phrase"
	"dowsingrod/core/reading"
	"dowsingrod/core/route"
)

// Contradiction says that two places that time the same I/O cannot both be right: what lies inside takes longer than what encloses it.
type Contradiction struct {
	Direction string         `json:"direction" doc:"Reads or writes" enum:"read,write"`
	Outer     string         `json:"outer" doc:"Who encloses: the place and its source"`
	Inner     string         `json:"inner" doc:"Who is enclosed, and yet says more"`
	OuterTime reading.Figure `json:"outer_us" doc:"What the outer says in the cells where they contradict each other, µs per I/O"`
	InnerTime reading.Figure `json:"inner_us" doc:"What the inner says there"`
	Share     reading.Figure `json:"share" doc:"Part of the cells in which both are known, 0–1"`
	Words     string         `json:"words" doc:"In words, with what it can come from"`
}

// Tolerance: sources have intervals and clocks of their own, so that a cell of one holds some of the next of the other. A tenth and 50 µs
// is what that makes at most where latency moves by a quarter from cell to cell; a fifth of the cells is no chance.
const (
	contradicts = 1.10
	byAtLeast   = 50e-6 // s
	oftenEnough = 0.20
)

// conflict collects the cells in which two points contradict each other.
type conflict struct {
	direction, outer, inner string
	judged, cells           int
	outerOf, innerOf        [2]float64 // in flight and rate, over those cells
}

// hold compares two points that count the same I/O, over cells [lo, hi). Each pair is named once.
func (c *computation) hold(direction, outer, inner string, out, in point, wait []float64, lo, hi int) {
	if out.rate == nil || in.rate == nil {
		return
	}
	id := direction + " " + outer + " " + inner
	k := slices.IndexFunc(c.conflicts, func(x conflict) bool { return x.direction+" "+x.outer+" "+x.inner == id })
	if k < 0 {
		k = len(c.conflicts)
		c.conflicts = append(c.conflicts, conflict{direction: direction, outer: outer, inner: inner})
	}
	x := &c.conflicts[k]
	for i := max(lo, c.first); i < hi; i++ {
		a, b := out.latency(i), in.latency(i)
		if wait != nil && !math.IsNaN(wait[i]) {
			a -= wait[i] / 1e6
		}
		if math.IsNaN(a) || math.IsNaN(b) || !between(out.rate[i]/in.rate[i]) {
			continue
		}
		x.judged++
		if b > contradicts*a && b > a+byAtLeast {
			x.cells++
			x.outerOf[0], x.outerOf[1] = x.outerOf[0]+a*out.rate[i], x.outerOf[1]+out.rate[i]
			x.innerOf[0], x.innerOf[1] = x.innerOf[0]+in.occupancy[i], x.innerOf[1]+in.rate[i]
		}
	}
}

// compare holds what encloses against what it encloses: all disks of a host on a LUN against its device, and all hosts' devices against the
// array's front end.
func (c *computation) compare(m *route.Map, d int32, dir string, devices, volumes []int32, side volumeSide, bound caps, lo, hi int) {
	e := m.Estate()
	source := func(i int32) string { return e.At(i).Key.Source }
	if len(volumes) > 0 && side.hosts.rate != nil {
		hosts := source(d)
		if len(devices) > 0 {
			hosts = source(devices[0])
		}
		c.hold(dir, "the hosts' device for "+m.FullName(volumes[0])+", by "+hosts, m.FullName(volumes[0])+" at the array's front end, by "+source(volumes[0]), side.hosts, side.front, bound.hostQueue, lo, hi)
	}
	if len(devices) > 0 && bound.ownReads.rate != nil {
		c.hold(dir, "all virtual disks on "+m.FullName(devices[0])+" together, by "+source(d), "the host's device, by "+source(devices[0]), bound.ownReads, bound.deviceReads, nil, lo, hi)
	}
}

// contradictions lists those that are no chance, the largest first.
func (c *computation) contradictions() []Contradiction {
	out := []Contradiction{}
	for _, x := range c.conflicts {
		if x.judged == 0 || float64(x.cells) < oftenEnough*float64(x.judged) {
			continue
		}
		f := Contradiction{Direction: x.direction, Outer: x.outer, Inner: x.inner, OuterTime: reading.Figure(x.outerOf[0] / x.outerOf[1] * 1e6),
			InnerTime: reading.Figure(x.innerOf[0] / x.innerOf[1] * 1e6), Share: reading.Figure(float64(x.cells) / float64(x.judged))}
		f.Words = fmt.Sprintf("%s says a %s takes %s, yet %s, which holds all of it, says %s, in %s of the time. One of them counts other I/O than it is taken for, averages over intervals and not over I/Os, or has a clock that is off; the split below is scaled to the outer one.",
			x.inner, x.direction, phrase.Micros(float64(f.InnerTime)), x.outer, phrase.Micros(float64(f.OuterTime)), phrase.Percent(float64(f.Share)))
		out = append(out, f)
	}
	slices.SortStableFunc(out, func(a, b Contradiction) int { return -cmp.Compare(a.InnerTime-a.OuterTime, b.InnerTime-b.OuterTime) })
	return out
}
