package compare_test

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"

	. "dowsingrod/core/compare"
	"dowsingrod/core/internal/tiny"
)

// What differs from the first side to the second differs as much the other way round, in the same order.
func TestSidesMayBeSwapped(t *testing.T) {
	r := rand.New(rand.NewPCG(31, 32))
	for range 20 {
		e := world()
		for _, set := range []struct {
			of     string
			metric string
			level  float64
		}{{"pool:p", "busy_share", 0.4}, {"controller:c0", "busy_share", 0.2}, {"controller:c1", "busy_share", 0.2}, {"pool:p", "read_latency_us", 900}} {
			before, after := set.level*math.Exp(0.4*r.NormFloat64()), set.level*math.Exp(0.4*r.NormFloat64())
			e.Set(tiny.Key("array", set.of), set.metric, func(i int) float64 {
				return tiny.From(change, before, after)(i) * (1 + 0.02*r.NormFloat64())
			})
		}
		there := Compute(side(t, e, "vm:a", 0, change), side(t, e, "vm:a", change, 120))
		back := Compute(side(t, e, "vm:a", change, 120), side(t, e, "vm:a", 0, change))
		assert.Len(t, back, len(there))
		for k := range there {
			assert.Equal(t, there[k].Ref+there[k].Metric, back[k].Ref+back[k].Metric, "in the same order")
			assert.Equal(t, there[k].First, back[k].Second)
			assert.Equal(t, there[k].Second, back[k].First)
			assert.InDelta(t, float64(there[k].Weight), float64(back[k].Weight), 1e-9)
			if k > 0 {
				assert.LessOrEqual(t, float64(there[k].Weight), float64(there[k-1].Weight), "what differs most comes first")
			}
		}
	}
}

// A window beside itself shows no difference.
func TestNothingDiffersFromItself(t *testing.T) {
	e := world()
	for _, d := range Compute(side(t, e, "vm:a", 0, 120), side(t, e, "vm:a", 0, 120)) {
		assert.Equal(t, d.First, d.Second)
		assert.Zero(t, float64(d.Weight), d.Metric)
		assert.Equal(t, "much the same", d.Words)
	}
}
