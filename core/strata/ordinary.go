package strata

import (
	"math"

	"dowsingrod/core/estate"
	"dowsingrod/core/normal"
	"dowsingrod/core/reading"
	"dowsingrod/core/route"
)

// Learned tells what is usual for a metric of a virtual disk, a band for each shown cell; nil where nothing was learned of it.
type Learned func(disk estate.Key, metric string) []normal.Band

// wellKnown is the least part of a cell's I/Os that must be those of disks of which is known what is usual.
const wellKnown = 0.8

// Ordinary returns, for reads and for writes, what the same I/Os would take if each disk took what is usual for it at that hour: the bands of
// its latency, weighted by what it does in that very cell, over cells [first, g.N). So a window in which the slow disk does more than it
// used to is held against that disk, and not against a mean in which it hardly counted. Low and high are weighted means of the disks' quantiles,
// which are those of the sum where the disks are slow together, and lie further apart than it where they are not. A cell is missing where
// less than four fifths of its I/Os are those of disks that are known. It rests on what the least known disk rests on. Nil where there
// is nothing.
func Ordinary(g reading.Grid, first int, moments []route.Moment, disks func(m *route.Map) []int32, r route.Readings, learned Learned) (read, write *normal.Usual) {
	return ordinary(g, first, moments, disks, r, learned, "read"), ordinary(g, first, moments, disks, r, learned, "write")
}

func ordinary(g reading.Grid, first int, moments []route.Moment, disks func(m *route.Map) []int32, r route.Readings, learned Learned, dir string) *normal.Usual {
	n := g.N - first
	out := make([]normal.Band, n)
	all, known := make([]float64, n), make([]float64, n)
	for _, m := range moments {
		lo, hi := m.Cells(g)
		for _, d := range disks(m.Map) {
			key := m.Map.Estate().At(d).Key
			rate := reading.Align(g, r.Runs(key, dir+"_iops")).Value
			bands := learned(key, dir+"_latency_us")
			for i := max(lo, first); i < hi; i++ {
				x, k := rate[i], i-first
				if !(x > 0) {
					continue
				}
				all[k] += x
				if bands == nil || math.IsNaN(bands[k].Mid) {
					continue
				}
				b := bands[k]
				if known[k] == 0 || out[k].Better(b) {
					out[k].Basis, out[k].Seen = b.Basis, b.Seen
				}
				known[k] += x
				out[k].Low, out[k].Mid, out[k].High = out[k].Low+x*b.Low, out[k].Mid+x*b.Mid, out[k].High+x*b.High
			}
		}
	}
	any := false
	for k := range out {
		b := &out[k]
		if !(known[k] > 0) || known[k] < wellKnown*all[k] {
			*b = normal.Band{Low: math.NaN(), Mid: math.NaN(), High: math.NaN(), Basis: normal.Nothing}
			continue
		}
		any = true
		b.Low, b.Mid, b.High = b.Low/known[k], b.Mid/known[k], b.High/known[k]
	}
	if !any {
		return nil
	}
	u := normal.UsualOf(out)
	return &u
}

// DisksOf lists the virtual disks whose latency [Compute] splits for an object.
func DisksOf(of estate.Key) func(m *route.Map) []int32 {
	return func(m *route.Map) []int32 {
		i, ok := m.Estate().Position(of)
		if !ok {
			return nil
		}
		return active(m.VDisks(i))
	}
}

// DisksOfApplication lists those that [ComputeApplication] does.
func DisksOfApplication(name string) func(m *route.Map) []int32 {
	return func(m *route.Map) (disks []int32) {
		for _, vm := range Machines(m, name) {
			disks = append(disks, active(m.VDisks(vm))...)
		}
		return disks
	}
}
