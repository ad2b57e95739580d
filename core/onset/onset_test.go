package onset_test

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	. "dowsingrod/core/onset"
)

func level(n int, base, noise float64, seed uint64) []float64 {
	r := rand.New(rand.NewPCG(seed, 1))
	out := make([]float64, n)
	for i := range out {
		out[i] = base * (1 + noise*(2*r.Float64()-1))
	}
	return out
}

func raise(v []float64, i, j int, factor float64) []float64 {
	for k := i; k < j; k++ {
		v[k] *= factor
	}
	return v
}

func TestFind(t *testing.T) {
	nan := math.NaN()
	gap := raise(level(200, 2000, .1, 9), 150, 200, 4)
	for i := 160; i < 170; i++ {
		gap[i] = nan
	}
	day := make([]float64, 288)
	for i := range day {
		day[i] = 2000 * (1 + 0.35*math.Sin(float64(i)/288*2*math.Pi))
	}
	for name, c := range map[string]struct {
		values     []float64
		begin, end int
		persists   bool
		found      bool
	}{
		"a step that lasts":        {raise(level(200, 2000, .1, 1), 150, 200, 3), 150, 200, true, true},
		"an episode that ends":     {raise(level(200, 2000, .1, 2), 120, 150, 3), 120, 150, false, true},
		"with a gap in it":         {gap, 150, 200, true, true},
		"steady":                   {level(200, 2000, .1, 3), 0, 0, false, false},
		"noisy but steady":         {level(200, 2000, .4, 4), 0, 0, false, false},
		"a single spike":           {raise(level(200, 2000, .1, 5), 150, 151, 9), 0, 0, false, false},
		"a day's rise and fall":    {day, 0, 0, false, false},
		"too small to matter":      {raise(level(200, 20, .1, 6), 150, 200, 3), 0, 0, false, false},
		"few readings that wander": {raise(level(24, 2000, .9, 11), 20, 24, 1.6), 0, 0, false, false},
		"slow from the very start": {raise(level(200, 2000, .1, 7), 0, 60, 4), 0, 0, false, false},
		"nothing known":            {[]float64{nan, nan, nan, nan, nan, nan, nan, nan, nan}, 0, 0, false, false},
		"empty":                    {nil, 0, 0, false, false},
	} {
		t.Run(name, func(t *testing.T) {
			e, ok := Find(c.values, 0, Rules{Floor: 300})
			require.Equal(t, c.found, ok, "%+v", e)
			if !ok {
				return
			}
			assert.InDelta(t, c.begin, e.Begin, 1)
			assert.InDelta(t, c.end, e.End, 1)
			assert.Equal(t, c.persists, e.Persists)
			assert.Greater(t, e.Probability, 0.95)
			assert.InDelta(t, 2000, e.Usual, 100)
		})
	}
}

// What is found does not depend on the unit.
func TestFindIsFreeOfScale(t *testing.T) {
	values := raise(level(200, 1, .2, 8), 150, 190, 2.5)
	a, okA := Find(values, 50, Rules{})
	scaled := make([]float64, len(values))
	for i, v := range values {
		scaled[i] = v * 1e6
	}
	b, okB := Find(scaled, 50, Rules{})
	require.True(t, okA && okB)
	assert.Equal(t, a.Begin, b.Begin)
	assert.Equal(t, a.End, b.End)
}

// Machines at rest do a few I/Os an interval, so their mean time wanders. That must not look like an onset: at most one
// series in fifty may.
func TestChanceIsNoOnset(t *testing.T) {
	found := 0
	for seed := range uint64(300) {
		r := rand.New(rand.NewPCG(seed, 3))
		v := make([]float64, 40)
		for i := range v {
			n, sum := 3+r.IntN(4), 0.0
			for range n {
				sum += r.ExpFloat64()
			}
			v[i] = 2000 * sum / float64(n)
		}
		if _, ok := Find(v, 0, Rules{Floor: 200}); ok {
			found++
		}
	}
	assert.LessOrEqual(t, found, 6)
}

// What lies before the first known value says nothing about what is usual.
func TestUsualBeginsWithTheFirstReading(t *testing.T) {
	v := append(level(30, math.NaN(), 0, 1), raise(level(60, 2000, .1, 8), 40, 60, 4)...)
	e, ok := Find(v, 0, Rules{Floor: 300})
	require.True(t, ok)
	assert.Equal(t, 30, e.UsualFrom)
	assert.Equal(t, 70, e.Begin)
}

// What was a little higher just before trouble is not part of it, whatever else happens in the window.
func TestTroubleBeginsWhereItStandsOut(t *testing.T) {
	for seed := range uint64(20) {
		v := raise(level(720, 1920, .09, seed), 582, 720, 3.1)
		for i := range 582 {
			v[i] *= 1 + 0.12*math.Sin(float64(i-540)/90*2*math.Pi)
		}
		v = raise(v, 568, 582, 1.15)
		e, ok := Find(v, 360, Rules{Factor: 1.2, Floor: 250})
		require.True(t, ok)
		assert.Equal(t, 582, e.Begin, "seed %d", seed)
	}
}

// A window that begins in the middle of trouble shows when that began.
func TestTroubleIsFollowedBackBeforeTheWindow(t *testing.T) {
	v := raise(level(240, 2000, .05, 3), 100, 240, 4)
	e, ok := Find(v, 120, Rules{Floor: 300})
	require.True(t, ok)
	assert.Equal(t, 120, e.Begin)
	e, ok = Shown(v, 120, Rules{Floor: 300})
	require.True(t, ok)
	assert.Equal(t, 100, e.Begin)
	assert.InDelta(t, 2000, e.Usual, 60)
	inside := raise(level(240, 2000, .05, 3), 150, 180, 4)
	a, _ := Find(inside, 120, Rules{Floor: 300})
	b, ok := Shown(inside, 120, Rules{Floor: 300})
	require.True(t, ok)
	assert.Equal(t, a, b)
	_, ok = Shown(level(240, 2000, .05, 3), 120, Rules{Floor: 300})
	assert.False(t, ok)
}
