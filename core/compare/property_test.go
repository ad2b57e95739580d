package compare_test

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"

	. "dowsingrod/core/compare"
	"dowsingrod/core/estate"
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

// Two hosts are compared with one another and by what both use, never by whatever machine happens to be the first on either.
func TestUsersAreNoPeers(t *testing.T) {
	e := world()
	for k, host := range []string{"h0", "h1"} {
		e.Set(tiny.Key("hyp", "host:"+host), "busy_share", tiny.Always(0.2+0.5*float64(k)))
	}
	e.Set(tiny.Key("hyp", "vdisk:b"), "read_latency_us", tiny.Always(9000))
	all := Compute(side(t, e, "host:h0", 0, 120), side(t, e, "host:h1", 0, 120))
	found := false
	for _, d := range all {
		assert.False(t, d.Kind == estate.VDisk || d.Kind == estate.VM, "%s beside %s", d.Ref, d.Other)
		found = found || d.Ref == "host:h0@hyp" && d.Other == "host:h1@hyp" && d.Metric == "busy_share"
	}
	assert.True(t, found)
	of := Compute(side(t, e, "host:h1", 0, change), side(t, e, "host:h1", change, 120))
	disks := 0
	for _, d := range of {
		if d.Kind == estate.VDisk {
			disks++
			assert.Equal(t, d.Ref, d.Other)
		}
	}
	assert.Positive(t, disks, "of two windows of one host its machines are compared, each with itself")
}
