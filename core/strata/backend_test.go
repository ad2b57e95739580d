package strata

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
)

// per makes a point of one cell with a time per I/O.
func per(seconds float64) point {
	return point{occupancy: []float64{seconds * 100}, rate: []float64{100}}
}

func TestAPoolsMeanSaysNoMoreOfAReadThanTheReadIsLongerThanACachedWrite(t *testing.T) {
	for _, c := range []struct {
		what                             string
		pool, front, write, hit, pending float64
		want                             float64
	}{
		{"misses wait for the pool", 4e-3, 2.5e-3, 0.3e-3, 0.5, 0.1, 2e-3},
		{"others' larger I/Os are in the pool's mean", 6e-3, 2.5e-3, 0.3e-3, 0.5, 0.1, 2.2e-3},
		{"writes that wait themselves prove nothing", 6e-3, 2.5e-3, 2.4e-3, 0.5, 0.9, 3e-3},
		{"writes slower than reads prove nothing", 6e-3, 2.5e-3, 4e-3, 0.5, 0.1, 3e-3},
		{"nothing is missed", 6e-3, 2.5e-3, 0.3e-3, 1, 0.1, 0},
	} {
		v := volumeSide{front: per(c.front), back: per(c.pool), cached: per(c.write), hit: []float64{c.hit}, pending: []float64{c.pending}}
		got, outer := v.backEnd(0, "read")
		assert.InDelta(t, c.want, got, 1e-9, c.what)
		assert.Zero(t, outer)
	}
	v := volumeSide{front: per(2.5e-3), back: per(6e-3), hit: []float64{0.5}, pending: []float64{math.NaN()}}
	got, _ := v.backEnd(0, "read")
	assert.InDelta(t, 3e-3, got, 1e-9, "no writes, no bound")
}
