package main

import (
	"math"
	"math/rand/v2"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/estate"
	"dowsingrod/core/verdict"
	"dowsingrod/internal/lab"
)

// named is a verdict that stands out so far and is right or not.
func named(standing float64, right bool) result {
	r := result{standing: standing, truth: verdict.Degraded, said: verdict.Degraded, component: truthOf(right)}
	return r
}

func standing(r result) float64 { return r.standing }

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
		for _, p := range pooled(all, standing, result.right) {
			assert.GreaterOrEqual(t, p.n, 40)
			share := p.right / float64(p.n)
			assert.Greater(t, share, last)
			assert.GreaterOrEqual(t, p.from, to)
			n, sum, last, to = n+p.n, sum+p.right, share, p.to
		}
		assert.Equal(t, 500, n)
		assert.Equal(t, right, sum)
	}
	assert.Empty(t, pooled(nil, standing, result.right))
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
	total := 0
	for n, round := range rounds {
		for pass := range 9 {
			for _, j := range round.jobs(tuningBase(n, pass), nil) {
				assert.False(t, tuned[j.seed], "each pass has seeds of its own")
				tuned[j.seed] = true
			}
		}
	}
	for _, round := range rounds {
		for _, j := range round.jobs(scoringSeed, nil) {
			assert.False(t, tuned[j.seed], "%s %d", j.kind, j.seed)
			assert.NotEmpty(t, j.kind)
			if !j.shape {
				total++
			}
		}
	}
	assert.GreaterOrEqual(t, total, 600)
}

// A look takes each choice of layers in turn, and says which.
func TestALookTakesEachChoiceOfLayers(t *testing.T) {
	for name, c := range map[string]struct {
		of      look
		choices int
		silent  int
	}{"whole": {whole, 1, 0}, "gaps": {gaps, 5, 1}, "murky": {murky, 10, 2}, "other shape": {otherShape, 1, 1}} {
		t.Run(name, func(t *testing.T) {
			said := map[string]bool{}
			for _, l := range c.of.losses(7) {
				assert.Len(t, l.silent, c.silent)
				assert.Equal(t, c.of.missing, l.missing)
				assert.NotContains(t, l.silent, estate.LayerGuest, "guests complain")
				said[l.String()] = true
			}
			assert.Len(t, said, c.choices)
		})
	}
	assert.True(t, otherShape.losses(2)[0].absent[estate.LayerFabric])
	assert.False(t, otherShape.losses(3)[0].absent[estate.LayerFabric])
}

// What is hidden is hidden: silent layers have no readings, absent ones no objects, and about a tenth of the rest is missing, the same tenth
// whenever it is asked for; nothing is taken from who looks after.
func TestWhatIsHiddenIsHidden(t *testing.T) {
	f, err := lab.Grow(lab.Options{VMs: 60, Seed: 4, From: labNoon.Add(-30 * time.Minute), To: labNoon, Fault: "quiet", Clean: true})
	require.NoError(t, err)
	all, err := take(f)
	require.NoError(t, err)
	count := func(v *view) (layers map[estate.Layer]int, missing float64) {
		layers, cells := map[estate.Layer]int{}, 0.0
		for key := range all.runs {
			for _, run := range v.Runs(key, "read_iops") {
				layers[key.Ref.Kind.Layer()]++
				for _, x := range run.Values {
					cells++
					missing += truthOf(math.IsNaN(x))
				}
			}
		}
		return layers, missing / cells
	}
	before, none := count(all.without(loss{}))
	require.Zero(t, none)
	for _, l := range []look{whole, gaps, murky, otherShape} {
		for _, loss := range l.losses(4) {
			v := all.without(loss)
			layers, missing := count(v)
			again, sameMissing := count(v)
			assert.Equal(t, layers, again)
			assert.Equal(t, missing, sameMissing, "the same whenever it is asked for")
			assert.InDelta(t, loss.missing, missing, 0.02)
			for layer, n := range before {
				if loss.silent[layer] || loss.absent[layer] {
					n = 0
				}
				assert.Equal(t, n, layers[layer], "%s %s: %s", l.name, loss, layer)
			}
			e := v.latest().Estate()
			assert.Equal(t, loss.absent[estate.LayerFabric], e.Number(estate.SwitchPort) == 0, "%s %s", l.name, loss)
			assert.Positive(t, e.Number(estate.VDisk))
		}
	}
	after, none := count(all.without(loss{}))
	assert.Equal(t, before, after)
	assert.Zero(t, none)
}

// What chance makes of how far right and stated are apart: as of independent trials where each incident is looked at once, more where the
// same incident is looked at again and again.
func TestLooksAtOneIncidentAreNotIndependent(t *testing.T) {
	once, often := []result{}, []result{}
	r := rand.New(rand.NewPCG(3, 4))
	for seed := range uint64(400) {
		x := named(0.5, r.Float64() < 0.7)
		x.seed, x.confidence, x.look = seed, 0.7, murky.name
		once = append(once, x)
		for range 4 {
			often = append(often, x)
		}
	}
	all := func(result) bool { return true }
	assert.InDelta(t, math.Sqrt(0.7*0.3/400), byChance(once, all), 0.002)
	assert.InDelta(t, byChance(once, all), byChance(often, all), 1e-12, "four looks at each are worth one")
	assert.InDelta(t, byChance(once, all)*math.Sqrt2, byChance(once, func(x result) bool { return x.seed%2 == 0 }), 0.004)
}

// The same incident is judged alike whoever looks first: losses are drawn by object and metric, not in the order of asking.
func TestALookIsTheSameInEveryOrder(t *testing.T) {
	f, err := lab.Grow(lab.Options{VMs: 60, Seed: 9, From: labNoon.Add(-30 * time.Minute), To: labNoon, Fault: "quiet", Clean: true})
	require.NoError(t, err)
	all, err := take(f)
	require.NoError(t, err)
	loss := murky.losses(9)[0]
	var keys []estate.Key
	for key := range all.runs {
		keys = append(keys, key)
	}
	together, alone := all.without(loss), all.without(loss)
	var wait sync.WaitGroup
	for range 4 {
		wait.Go(func() {
			for _, key := range keys {
				together.Runs(key, "read_iops")
			}
		})
	}
	wait.Wait()
	missing := func(v *view, key estate.Key) (out []int) {
		for _, run := range v.Runs(key, "read_iops") {
			for i, x := range run.Values {
				if math.IsNaN(x) {
					out = append(out, i)
				}
			}
		}
		return out
	}
	slices.Reverse(keys)
	for _, key := range keys {
		assert.Equal(t, missing(together, key), missing(alone, key), key)
	}
}
