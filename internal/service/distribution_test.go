package service

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"dowsingrod/core/reading"
)

func TestDistributionsInWords(t *testing.T) {
	for words, counts := range map[string][]float64{
		"of 1,000 all but 0 were under 250 µs":    {1000, 0, 0, 0},
		"of 1,000 all but 10.0 were under 500 µs": {900, 90, 5, 5},
		"of 1,000 500 were above 2.00 ms":         {100, 200, 200, 500},
		"nothing was counted":                     {0, 0, 0, 0},
	} {
		d := Distribution{Metric: "read_latency_us", Unit: reading.Microseconds, Bounds: []float64{250, 500, 2000}, Counts: counts}
		assert.Equal(t, words, d.words())
	}
}
