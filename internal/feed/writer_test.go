package feed_test

import (
	"bytes"
	"encoding/json"
	"math"
	"math/rand/v2"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/internal/feed"
)

func TestValuesAreWrittenAsTheShortestDecimalThatReadsTheSame(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	values := []float64{0, math.Copysign(0, -1), 1, -1, 0.1, 0.0001, 0.00005, 12.3, 1e15, 1e17, 4503599627370497, 0.30000000000000004, 2.0 / 3, -7.25, 1e-300, math.MaxFloat64}
	for range 20000 {
		values = append(values, math.Round(r.ExpFloat64()*1e4)/[]float64{1, 10, 100, 1e3, 1e4}[r.IntN(5)], r.NormFloat64()*math.Pow(10, float64(r.IntN(20)-10)))
	}
	for _, v := range values {
		b, err := feed.Values{v}.MarshalJSON()
		require.NoError(t, err)
		require.Equal(t, "["+strconv.FormatFloat(v, 'f', -1, 64)+"]", string(b))
	}
	b, err := feed.Values{math.NaN(), math.Inf(1)}.MarshalJSON()
	require.NoError(t, err)
	assert.Equal(t, "[null,null]", string(b))
}

func TestAReadingIsWrittenAsTheStandardEncoderWould(t *testing.T) {
	reading := feed.Reading{Of: "vdisk:a \"b\"\n<é>", From: time.Date(2026, 3, 2, 9, 0, 0, 1500, time.UTC), Step: 20.5,
		Values: map[string]feed.Values{"write_iops": {1, math.NaN()}, "read_iops": {0.5}, "x_\"y": {}}}
	var out, want bytes.Buffer
	w := feed.NewWriter(&out)
	require.NoError(t, w.Write(feed.Record{Reading: &reading}))
	require.NoError(t, w.Flush())
	require.NoError(t, json.NewEncoder(&want).Encode(map[string]*feed.Reading{"reading": &reading}))
	assert.Equal(t, want.String(), out.String())
}
