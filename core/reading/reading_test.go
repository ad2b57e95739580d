package reading_test

import (
	"encoding/json"
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	. "dowsingrod/core/reading"
)

var t0 = time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC)

var nan = math.NaN()

func run(offset, step time.Duration, values ...float64) Series {
	return Series{From: t0.Add(offset), Step: step, Values: values}
}

func grid(t *testing.T, length, step time.Duration) Grid {
	g, err := NewGrid(t0, t0.Add(length), step)
	require.NoError(t, err)
	return g
}

func TestAlign(t *testing.T) {
	for name, c := range map[string]struct {
		step   time.Duration
		n      int
		runs   []Series
		value  []float64
		covers []float64
	}{
		"same interval":    {time.Minute, 3, []Series{run(0, time.Minute, 1, 2, 3)}, []float64{1, 2, 3}, []float64{1, 1, 1}},
		"finer readings":   {time.Minute, 2, []Series{run(0, 20*time.Second, 3, 6, 9, 1, 1, 4)}, []float64{6, 2}, []float64{1, 1}},
		"coarser readings": {20 * time.Second, 4, []Series{run(0, time.Minute, 6, 9)}, []float64{6, 6, 6, 9}, []float64{1, 1, 1, 1}},
		"gap stays a gap":  {time.Minute, 3, []Series{run(0, time.Minute, 1, nan, 3)}, []float64{1, nan, 3}, []float64{1, 0, 1}},
		"half covered":     {time.Minute, 2, []Series{run(30*time.Second, time.Minute, 4)}, []float64{4, 4}, []float64{.5, .5}},
		"out of phase":     {time.Minute, 1, []Series{run(-20*time.Second, time.Minute, 3, 6)}, []float64{4}, []float64{1}},
		"begins before":    {time.Minute, 1, []Series{run(-10*time.Minute, time.Minute, 9, 9, 9, 9, 9, 9, 9, 9, 9, 9, 5)}, []float64{5}, []float64{1}},
		"nothing":          {time.Minute, 2, nil, []float64{nan, nan}, []float64{0, 0}},
		"step zero":        {time.Minute, 1, []Series{{From: t0, Values: []float64{1}}}, []float64{nan}, []float64{0}},
	} {
		t.Run(name, func(t *testing.T) {
			got := Align(grid(t, time.Duration(c.n)*c.step, c.step), c.runs)
			assert.InDeltaSlice(t, orZero(c.value), orZero(got.Value), 1e-9)
			for i := range c.value {
				assert.Equal(t, math.IsNaN(c.value[i]), math.IsNaN(got.Value[i]), "cell %d", i)
			}
			assert.InDeltaSlice(t, c.covers, got.Cover, 1e-9)
		})
	}
}

func orZero(v []float64) []float64 {
	out := make([]float64, len(v))
	for i, x := range v {
		if !math.IsNaN(x) {
			out[i] = x
		}
	}
	return out
}

// Putting readings on a grid moves them in time but neither makes nor loses any: value × time is kept.
func TestAlignKeepsWhatWasMeasured(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	for range 200 {
		step := time.Duration(1+r.IntN(90)) * time.Second
		cell := time.Duration(1+r.IntN(200)) * time.Second
		offset := time.Duration(r.IntN(300)) * time.Second
		values := make([]float64, 1+r.IntN(40))
		var want float64
		for i := range values {
			values[i] = r.Float64() * 100
			if r.IntN(5) == 0 {
				values[i] = nan
				continue
			}
			want += values[i] * step.Seconds()
		}
		s := run(offset, step, values...)
		g, err := NewGrid(t0, t0.Add(offset+time.Duration(len(values))*step), cell)
		require.NoError(t, err)
		c := Align(g, []Series{s})
		var got float64
		for i, v := range c.Value {
			if !math.IsNaN(v) {
				got += v * c.Cover[i] * cell.Seconds()
			}
		}
		require.InDelta(t, want, got, 1e-6*math.Max(1, want))
	}
}

func TestOccupancyIsLittlesLaw(t *testing.T) {
	g := grid(t, 4*time.Minute, time.Minute)
	c := Occupancy(g, []Series{run(0, time.Minute, 1000, 0, 500, 200)}, []Series{run(0, time.Minute, 2000, nan, nan, 10_000)})
	assert.InDelta(t, 2, c.Value[0], 1e-9)
	assert.InDelta(t, 0, c.Value[1], 1e-9, "no I/O, none in flight, although no latency is known")
	assert.True(t, math.IsNaN(c.Value[2]), "I/O without a latency is not known")
	assert.InDelta(t, 2, c.Value[3], 1e-9)
}

// The latency of two intervals is weighted by their I/O, never averaged plainly.
func TestLatencyIsWeightedByIO(t *testing.T) {
	g := grid(t, 2*time.Minute, 2*time.Minute)
	rate, latency := []Series{run(0, time.Minute, 990, 10)}, []Series{run(0, time.Minute, 1000, 100_000)}
	n, x := PairMeans(Occupancy(g, rate, latency).Value, Align(g, rate).Value, 0, 1)
	assert.InDelta(t, 1990, n/x*1e6, 1e-6)
}

func TestGridRefuses(t *testing.T) {
	for name, f := range map[string]func() (Grid, error){
		"reversed": func() (Grid, error) { return NewGrid(t0, t0.Add(-time.Hour), time.Minute) },
		"empty":    func() (Grid, error) { return NewGrid(t0, t0, time.Minute) },
		"step 0":   func() (Grid, error) { return NewGrid(t0, t0.Add(time.Hour), 0) },
		"too many": func() (Grid, error) { return NewGrid(t0, t0.Add(1000*time.Hour), time.Second) },
	} {
		_, err := f()
		assert.Error(t, err, name)
	}
	g := grid(t, time.Hour, time.Minute)
	assert.Equal(t, 60, g.N)
	assert.Equal(t, 0, g.Cell(t0.Add(-time.Hour)))
	assert.Equal(t, 60, g.Cell(t0.Add(9*time.Hour)))
}

func TestRowsAndFiguresAsJSON(t *testing.T) {
	row := Row{1, nan, 0, 1234567, 0.125, math.Inf(1)}
	text, err := json.Marshal(row)
	require.NoError(t, err)
	assert.Equal(t, `[1,null,0,1.2346e+06,0.125,null]`, string(text))
	var back Row
	require.NoError(t, json.Unmarshal(text, &back))
	require.Len(t, back, 6)
	assert.True(t, math.IsNaN(back[1]))
	assert.Equal(t, 0.125, back[4])
	var empty, none Row
	require.NoError(t, json.Unmarshal([]byte(`[]`), &empty))
	require.NoError(t, json.Unmarshal([]byte(`null`), &none))
	assert.Empty(t, empty)
	var f Figure
	require.NoError(t, json.Unmarshal([]byte(`null`), &f))
	assert.False(t, f.Known())
	assert.Error(t, json.Unmarshal([]byte(`["x"]`), &back))
}

func TestCatalogueIsWhole(t *testing.T) {
	for _, m := range Catalogue {
		assert.NotEmpty(t, m.Doc, m.Name)
		assert.NotEmpty(t, m.Kinds, m.Name)
		assert.NotEmpty(t, m.Unit, m.Name)
		if m.Unit == Microseconds && m.Name != "round_trip_us" {
			_, ok := Lookup(m.Weight)
			assert.True(t, ok, "%s must name the rate its means are weighted by", m.Name)
		}
	}
	_, ok := Lookup("no_such")
	assert.False(t, ok)
}
