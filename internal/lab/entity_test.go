package lab

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestCountersWrapWithoutATraceAndLoseNothing(t *testing.T) {
	s, c := spec{unit: 512, mask: math.MaxUint32}, metric{count: math.MaxUint32 - 1000}
	counted, wraps := 0.0, 0
	for k := range 500 {
		before := c.count
		rate := 1e6 * (1 + 0.5*math.Sin(float64(k)))
		got := c.counted(&s, rate, 20)
		assert.InDelta(t, rate, got, 512.0/20+1e-6, "to a unit per interval")
		counted += (rate - got) * 20
		if c.count < before {
			wraps++
		}
	}
	assert.Equal(t, 1, wraps)
	assert.Less(t, math.Abs(counted), 513.0, "what is left over is never more than a unit")
	words, big := spec{unit: 4, mask: math.MaxUint64}, metric{count: math.MaxUint64 - 10}
	assert.InEpsilon(t, 3.2e9, big.counted(&words, 3.2e9, 300), 1e-6)
}
