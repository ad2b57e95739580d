package main

import (
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"dowsingrod/core/estate"
	"dowsingrod/core/verdict"
	"dowsingrod/internal/lab"
)

// named is a verdict that stands out so far and is right or not.
func named(standing float64, right bool) result {
	r := result{standing: standing, truth: verdict.Degraded, said: verdict.Degraded, component: truthOf(right)}
	return r
}

// Pools hold every result once, in order, and what is right only rises.
func TestPoolsOnlyRise(t *testing.T) {
	for seed := range uint64(20) {
		r := rand.New(rand.NewPCG(seed, 1))
		var all []result
		right := 0.0
		for range 500 {
			s := r.Float64()
			ok := r.Float64() < 0.4+0.5*s
			right += truthOf(ok)
			all = append(all, named(s, ok))
		}
		n, sum, last, to := 0, 0.0, -1.0, -1.0
		for _, p := range pooled(all) {
			assert.GreaterOrEqual(t, p.n, 20)
			share := p.right / float64(p.n)
			assert.Greater(t, share, last)
			assert.GreaterOrEqual(t, p.from, to)
			n, sum, last, to = n+p.n, sum+p.right, share, p.to
		}
		assert.Equal(t, 500, n)
		assert.Equal(t, right, sum)
	}
	assert.Empty(t, pooled(nil))
}

func TestWhatCountsAsRight(t *testing.T) {
	nan := math.NaN()
	for name, c := range map[string]struct {
		r    result
		want float64
	}{
		"class and component":           {result{truth: "limit", said: "limit", component: 1}, 1},
		"the class alone":               {result{truth: "limit", said: "limit", component: 0}, 0},
		"the component alone":           {result{truth: "limit", said: "path", component: 1}, 0},
		"cleared, where there is none":  {result{truth: "cleared", said: "cleared", component: nan}, 1},
		"accused where there was none":  {result{truth: "cleared", said: "noisy_neighbour", component: nan}, 0},
		"nothing known, and there was":  {result{truth: "limit", said: "unknown", component: 0}, 0},
		"nothing known, and there none": {result{truth: "cleared", said: "unknown", component: nan}, 0},
	} {
		assert.Equal(t, c.want, c.r.right(), name)
	}
	share, n := mean([]result{{onset: 10}, {onset: nan}, {onset: 20}}, func(r result) float64 { return r.onset }, nil)
	assert.Equal(t, 15.0, share)
	assert.Equal(t, 2, n)
	assert.Equal(t, 20.0, medianOf([]result{{onset: 20}, {onset: nan}, {onset: 40}, {onset: 0}}, func(r result) float64 { return r.onset }))
	assert.True(t, math.IsNaN(medianOf(nil, func(r result) float64 { return r.onset })))
}

// Seeds for tuning and for scoring never meet, whatever the round.
func TestSeedsForScoringAreNotLookedAt(t *testing.T) {
	tuned := map[uint64]bool{}
	for n, round := range rounds {
		for pass := range uint64(9) {
			for _, j := range jobs(max(round.each, 60), tuningSeed+uint64(n)*100_000+pass*10_000, nil) {
				tuned[j.seed] = true
			}
		}
	}
	for _, round := range rounds {
		for _, j := range jobs(round.each, scoringSeed, nil) {
			assert.False(t, tuned[j.seed], "%s %d", j.kind, j.seed)
		}
	}
	total := 0
	for _, j := range jobs(rounds[0].each, scoringSeed, nil) {
		assert.NotEmpty(t, j.kind)
		total++
	}
	assert.GreaterOrEqual(t, total, 600)
}

// What is hidden is hidden: silent layers have no readings, absent ones no objects, and about a tenth of the rest is missing.
func TestVariantsHideWhatTheySay(t *testing.T) {
	for name, v := range map[string]variant{"plain": {}, "gaps": {gaps: true}, "murky": {murky: true}, "shape": {shape: true}} {
		t.Run(name, func(t *testing.T) {
			for seed := uint64(2); seed < 6; seed++ {
				loss := v.loss(seed)
				f, err := lab.Grow(lab.Options{VMs: 60, Seed: seed, From: labNoon.Add(-30 * time.Minute), To: labNoon, Fault: "quiet", Clean: true})
				assert.NoError(t, err)
				seen, err := take(f, v)
				assert.NoError(t, err)
				layers, missing, all := map[estate.Layer]int{}, 0.0, 0.0
				for key, by := range seen.runs {
					layers[key.Ref.Kind.Layer()]++
					for metric, runs := range by {
						if metric != "read_iops" {
							continue
						}
						for _, run := range runs {
							for _, x := range run.Values {
								all++
								if math.IsNaN(x) {
									missing++
								}
							}
						}
					}
				}
				for layer := range loss.silent {
					assert.Zero(t, layers[layer], "%s is silent", layer)
				}
				assert.InDelta(t, loss.missing, missing/all, 0.03)
				for layer := range loss.absent {
					if loss.absent[layer] {
						for _, i := range seen.moments[0].Map.Estate().OfKind(estate.SwitchPort) {
							assert.NotEqual(t, layer, seen.moments[0].Map.Estate().Kind(i).Layer())
						}
					}
				}
				want := map[string]int{"plain": 0, "gaps": 1, "murky": 2, "shape": 1}[name]
				assert.Len(t, loss.silent, want)
			}
		})
	}
}
