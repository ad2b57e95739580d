package codec_test

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	. "dowsingrod/internal/store/codec"
)

func same(t testing.TB, want, got []float64) {
	t.Helper()
	require.Len(t, got, len(want))
	for i := range want {
		if math.IsNaN(want[i]) {
			require.True(t, math.IsNaN(got[i]), "value %d", i)
			continue
		}
		require.Equal(t, math.Float64bits(want[i]), math.Float64bits(got[i]), "value %d: %v against %v", i, want[i], got[i])
	}
}

func TestWhatGoesInComesOut(t *testing.T) {
	nan := math.NaN()
	long := make([]float64, 1000)
	for i := range long {
		long[i] = float64(i%7)*0.1 + 812.4
	}
	for name, values := range map[string][]float64{
		"none": {}, "one": {640}, "missing": {nan, nan, nan}, "gaps": {1, nan, 2, nan, nan, 3}, "begins missing": {nan, 5},
		"decimals": {812.4, 799, 0.125, 0.1, 1e6}, "large": {1 << 50, 3}, "fractions": {1.0 / 3, math.Pi, 1e-9}, "extremes": {math.MaxFloat64, math.SmallestNonzeroFloat64, math.Inf(1)},
		"negative": {-5, 3.25, -0.1}, "minus zero": {math.Copysign(0, -1)}, "constant": long[:1], "long": long, "mixed exponents": {4503599627370495, 0.0000001},
	} {
		t.Run(name, func(t *testing.T) {
			got, err := Decode(Encode(nil, values), len(values))
			require.NoError(t, err)
			same(t, values, got)
		})
	}
}

func TestRandomRuns(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 8))
	for range 300 {
		values := make([]float64, r.IntN(700))
		scale := math.Pow(10, float64(r.IntN(4)))
		for i := range values {
			values[i] = math.Round(r.ExpFloat64()*1e4) / scale
			if r.IntN(20) == 0 {
				values[i] = math.NaN()
			}
		}
		got, err := Decode(Encode(nil, values), 700)
		require.NoError(t, err)
		same(t, values, got)
	}
}

func TestDecimalsTakeLittleRoom(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 10))
	values := make([]float64, 720)
	level := 640.0
	for i := range values {
		level += r.NormFloat64() * 8
		values[i] = math.Round(level)
	}
	assert.Less(t, len(Encode(nil, values)), 720*8/8, "a microsecond reading takes about a byte")
}

func FuzzDecode(f *testing.F) {
	f.Add(Encode(nil, []float64{812.4, math.NaN(), 3}))
	f.Add(Encode(nil, []float64{math.Pi}))
	f.Add([]byte{1, 9, 200, 200, 200})
	f.Add([]byte{})
	f.Fuzz(func(t *testing.T, b []byte) {
		values, err := Decode(b, 1<<16)
		if err != nil {
			require.ErrorIs(t, err, ErrCorrupt)
			return
		}
		require.LessOrEqual(t, len(values), 1<<16)
		again, err := Decode(Encode(nil, values), len(values))
		require.NoError(t, err)
		same(t, values, again)
	})
}
