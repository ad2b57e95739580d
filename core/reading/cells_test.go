package reading_test

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/estate"
	. "dowsingrod/core/reading"
)

func TestMeans(t *testing.T) {
	v := []float64{1, nan, 3, 8}
	assert.InDelta(t, 4, MeanOver(v, 0, 4), 1e-9)
	assert.InDelta(t, 2, MeanOver(v, 0, 3), 1e-9)
	assert.InDelta(t, 4, MeanOver(v, -5, 99), 1e-9, "bounds are clamped")
	assert.True(t, math.IsNaN(MeanOver(v, 1, 2)))
	assert.True(t, math.IsNaN(MeanOver(nil, 0, 9)))
	a, b := PairMeans([]float64{1, 2, nan, 4}, []float64{10, nan, 30, 40}, 0, 4)
	assert.InDelta(t, 2.5, a, 1e-9, "only cells where both are known")
	assert.InDelta(t, 25, b, 1e-9)
	a, b = PairMeans([]float64{1}, []float64{nan}, 0, 1)
	assert.True(t, math.IsNaN(a) && math.IsNaN(b))
}

func TestCoverageIsTheMeanOfItsCells(t *testing.T) {
	g := grid(t, 3*time.Minute, time.Minute)
	assert.InDelta(t, 2.0/3, Align(g, []Series{run(0, time.Minute, 10, nan, 30)}).Covered(), 1e-9)
	assert.Zero(t, Cells{}.Covered())
}

func TestOccupancyOfReadingsWithDifferentIntervals(t *testing.T) {
	g := grid(t, 2*time.Minute, time.Minute)
	c := Occupancy(g, []Series{run(0, 20*time.Second, 100, 200, 300, 100, 100, 100)}, []Series{run(0, time.Minute, 1000, 5000)})
	assert.InDelta(t, 0.2, c.Value[0], 1e-9)
	assert.InDelta(t, 0.5, c.Value[1], 1e-9)
	none := Occupancy(g, nil, []Series{run(0, time.Minute, 1, 1)})
	assert.True(t, math.IsNaN(none.Value[0]))
}

// Occupancy on a coarser grid is the mean of that on a finer one.
func TestOccupancyIsTheSameOnAnyGrid(t *testing.T) {
	rate := []Series{run(0, 20*time.Second, 100, 250, 40, 0, 900, 33, 120, 80, 410)}
	latency := []Series{run(0, 20*time.Second, 500, 700, 9000, nan, 300, 1200, 640, 655, 2000)}
	fine := Occupancy(grid(t, 3*time.Minute, 20*time.Second), rate, latency)
	coarse := Occupancy(grid(t, 3*time.Minute, time.Minute), rate, latency)
	for i, v := range coarse.Value {
		assert.InDelta(t, MeanOver(fine.Value, 3*i, 3*i+3), v, 1e-12)
	}
}

func TestOverlappingRunsAreAveragedByTime(t *testing.T) {
	c := Align(grid(t, time.Minute, time.Minute), []Series{run(0, time.Minute, 4), run(30*time.Second, 30*time.Second, 10)})
	assert.InDelta(t, (4*60+10*30)/90.0, c.Value[0], 1e-9)
	assert.LessOrEqual(t, c.Cover[0], 1.0)
}

func TestMetricsKnowTheirKinds(t *testing.T) {
	m, ok := Lookup("read_latency_us")
	require.True(t, ok)
	assert.True(t, m.On(estate.VDisk))
	assert.True(t, m.On(estate.Pool))
	assert.False(t, m.On(estate.SwitchPort), "a switch port times no I/O")
	assert.Equal(t, "read_iops", m.Weight)
	assert.Equal(t, Microseconds, m.Unit)
}
