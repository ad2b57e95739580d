package lab

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestCountersWrapWithoutATraceAndLoseNothing(t *testing.T) {
	c := &counter{unit: 512, mask: math.MaxUint32, at: math.MaxUint32 - 1000}
	counted, wraps := 0.0, 0
	for k := range 500 {
		before := c.at
		rate := 1e6 * (1 + 0.5*math.Sin(float64(k)))
		got := c.rate(rate, 20)
		assert.InDelta(t, rate, got, 512.0/20+1e-6, "to a unit per interval")
		counted += (rate - got) * 20
		if c.at < before {
			wraps++
		}
	}
	assert.Equal(t, 1, wraps)
	assert.Less(t, math.Abs(counted), 513.0, "what is left over is never more than a unit")
	big := &counter{unit: 4, mask: math.MaxUint64, at: math.MaxUint64 - 10}
	assert.InEpsilon(t, 3.2e9, big.rate(3.2e9, 300), 1e-6)
}
