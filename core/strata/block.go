package strata

import (
	"time"

	"dowsingrod/core/reading"
	"dowsingrod/core/route"
)

// blocks cuts a grid into runs of cells as long as the slowest source's interval. Within one, that
// source knows only a mean: held against the others' finer readings it would show differences between
// layers that are differences between moments. So layers are compared block by block, and each cell's
// own latency is then divided in its block's proportions.
type blocks struct {
	cells  int // per block
	offset int // cells of the first block that lie before the grid
}

func (c *computation) block(m *route.Map, objects []int32) blocks {
	longest := c.g.Step
	for _, i := range objects {
		for _, run := range c.r.Runs(m.Estate().At(i).Key, "read_iops") {
			longest = max(longest, run.Step)
		}
	}
	n := int((longest + c.g.Step - 1) / c.g.Step)
	if n == 1 {
		return blocks{1, 0}
	}
	length := time.Duration(n) * c.g.Step
	return blocks{n, int(c.g.From.Sub(c.g.From.Truncate(length)) / c.g.Step)}
}

// mean replaces each cell by the mean of its block's known cells; NaN where none is. nil stays nil.
func (b blocks) mean(values []float64) []float64 {
	if values == nil || b.cells == 1 {
		return values
	}
	out := make([]float64, len(values))
	for begin := -b.offset; begin < len(values); begin += b.cells {
		v := reading.MeanOver(values, begin, begin+b.cells)
		for i := max(0, begin); i < min(len(values), begin+b.cells); i++ {
			out[i] = v
		}
	}
	return out
}

// coarse replaces the cells of a point by block means over the cells where both are known, so that the
// latency is the block's own.
func (p point) coarse(b blocks) point {
	if p.rate == nil || b.cells == 1 {
		return p
	}
	out := point{make([]float64, len(p.rate)), make([]float64, len(p.rate))}
	for begin := -b.offset; begin < len(p.rate); begin += b.cells {
		o, x := reading.PairMeans(p.occupancy, p.rate, begin, begin+b.cells)
		for i := max(0, begin); i < min(len(p.rate), begin+b.cells); i++ {
			out.occupancy[i], out.rate[i] = o, x
		}
	}
	return out
}

func (v *volumeSide) coarse(b blocks) {
	v.front, v.hosts, v.back, v.outer = v.front.coarse(b), v.hosts.coarse(b), v.back.coarse(b), v.outer.coarse(b)
	v.hit = b.mean(v.hit)
	if b.cells > 1 && v.pending != nil {
		v.pending = b.mean(v.pending)
	}
}

func (b *caps) coarse(by blocks) {
	for _, p := range []*point{&b.ownWrites, &b.deviceWrites, &b.frontWrites, &b.ownReads, &b.deviceReads, &b.hostReads, &b.frontReads} {
		*p = p.coarse(by)
	}
	b.queue, b.hostQueue = by.mean(b.queue), by.mean(b.hostQueue)
}
