package reading_test

import (
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	. "dowsingrod/core/reading"
)

// Added as it lies or put on the grid first: the cells are the same, whatever the interval and wherever the run begins.
func TestAddIsAlign(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	from := time.Date(2026, 3, 2, 14, 0, 0, 0, time.UTC)
	g := Grid{From: from, Step: time.Minute, N: 30}
	for range 200 {
		step := []time.Duration{20 * time.Second, time.Minute, 30 * time.Second, 45 * time.Second, 5 * time.Minute}[r.IntN(5)]
		run := func() []Series {
			values := make([]float64, 5+r.IntN(100))
			for i := range values {
				switch values[i] = r.Float64() * 1000; r.IntN(9) {
				case 0:
					values[i] = math.NaN()
				case 1:
					values[i] = 0
				}
			}
			return []Series{{From: from.Add(time.Duration(r.IntN(9)-4) * 20 * time.Second), Step: step, Values: values}}
		}
		rate, latency := run(), run()
		latency[0].From = rate[0].From
		row, flight := make([]float64, g.N), make([]float64, g.N)
		Add(row, g, rate, 2)
		AddOccupancy(flight, g, rate, latency)
		// An empty run beside it takes the long way.
		nothing := Series{From: from, Step: step}
		slow, slowly := Align(g, append([]Series{nothing}, rate...)), Occupancy(g, append([]Series{nothing}, rate...), latency)
		fast, fastly := Align(g, rate), Occupancy(g, rate, latency)
		for i := range row {
			requireSame(t, slow.Value[i], fast.Value[i])
			requireSame(t, slow.Cover[i], fast.Cover[i])
			requireSame(t, slowly.Value[i], fastly.Value[i])
			requireSame(t, slowly.Cover[i], fastly.Cover[i])
		}
		i, j := r.IntN(g.N), r.IntN(g.N+5)
		requireSame(t, MeanOver(slow.Value, i, max(i, j)), Mean(g, rate, i, max(i, j)))
		wants, flights := slow.Value, slowly.Value
		for i := range row {
			requireSame(t, 2*wants[i], row[i])
			requireSame(t, flights[i], flight[i])
		}
	}
}

func requireSame(t *testing.T, want, got float64) {
	t.Helper()
	if math.IsNaN(want) {
		require.True(t, math.IsNaN(got), "%v for nothing", got)
		return
	}
	require.InDelta(t, want, got, 1e-9*math.Max(1, math.Abs(want)))
}

func TestCorrelation(t *testing.T) {
	nan := math.NaN()
	assert.InDelta(t, 1, Correlation([]float64{1, 2, 3, nan}, []float64{10, 20, 30, 5}), 1e-12)
	assert.InDelta(t, -1, Correlation([]float64{1, 2, 3}, []float64{3, 2, 1}), 1e-12)
	assert.InDelta(t, 0, Correlation([]float64{1, 2, 1, 2}, []float64{1, 1, 2, 2}), 1e-12)
	assert.True(t, math.IsNaN(Correlation([]float64{1, 1, 1}, []float64{1, 2, 3})))
	assert.True(t, math.IsNaN(Correlation([]float64{1, nan, 3}, []float64{1, 2, 3})))
}
