package main

import (
	"math"
	"slices"
	"time"

	"dowsingrod/core/estate"
	"dowsingrod/core/reading"
	"dowsingrod/core/suspect"
)

// byHand does what is done without a tool: take the tenant with the most I/O, with the largest change, or whose I/O goes most with
// the component's latency.
func (r *result) byHand(t *view, s suspect.Suspects, onset time.Time, culprits []string) {
	latest := t.latest()
	g := reading.Grid{From: s.From, Step: time.Duration(s.Step * float64(time.Second)), N: s.N} // as long cells as the component's own row has
	cut := g.Cell(onset)
	latency := s.Component.Time
	best := [3]float64{math.Inf(-1), math.Inf(-1), math.Inf(-1)}
	var named [3]string
	for _, x := range s.Tenants {
		at, err := latest.Estate().Resolve(x.Ref)
		if err != nil {
			continue
		}
		rate := make([]float64, g.N)
		for _, d := range latest.Estate().To(at, estate.Uses) {
			for _, metric := range []string{"read_iops", "write_iops"} {
				for i, v := range reading.Align(g, t.Runs(latest.Estate().At(d).Key, metric)).Value {
					if !math.IsNaN(v) {
						rate[i] += v
					}
				}
			}
		}
		before, during := reading.MeanOver(rate, 0, cut), reading.MeanOver(rate, cut, g.N)
		for k, v := range []float64{during, during - before, reading.Correlation(rate, latency)} {
			if v > best[k] {
				best[k], named[k] = v, x.Ref
			}
		}
	}
	r.busiest, r.change, r.like = truthOf(slices.Contains(culprits, named[0])), truthOf(slices.Contains(culprits, named[1])), truthOf(slices.Contains(culprits, named[2]))
}
