package verdict_test

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/internal/tiny"
	"dowsingrod/core/reading"
	. "dowsingrod/core/verdict"
)

// What a verdict rests on stands on the axis of the window, cell by cell.
func TestEvidenceIsTracedOverTheWindow(t *testing.T) {
	const first = 20
	e := world(map[string][2]float64{"d": {50, 3000}}, 9000)
	e.Set(pool, "busy_share", tiny.From(onset, 0.3, 0.97))
	e.Set(tiny.Key("hyp", "vdisk:d"), "write_bytes_s", func(i int) float64 {
		if i == first+5 {
			return math.NaN()
		}
		return 1000
	})
	x := explain(t, e, "a")
	require.Equal(t, NoisyNeighbour, x.Verdict.Class)
	assert.Equal(t, 60.0, x.Step)
	busy := x.Evidence[0]
	require.Equal(t, "busy_share", busy.Metric)
	assert.Equal(t, reading.SharePart, busy.Unit)
	require.Len(t, busy.Trace, cells-first)
	assert.Equal(t, 0.3, busy.Trace[onset-first-1])
	assert.Equal(t, 0.97, busy.Trace[onset-first])
	traced := 0
	for _, v := range x.Evidence {
		if v.Trace != nil {
			traced++
			assert.NotEmpty(t, v.Unit, "%s %s", v.Name, v.Metric)
		}
	}
	assert.LessOrEqual(t, traced, 5)

	d := x.Suspects[0]
	require.Equal(t, "d", d.Name)
	require.Len(t, d.Trace, cells-first)
	assert.Equal(t, 50*8192.0, d.Trace[5], "what is known of it counts")
	assert.Equal(t, 50*8192.0+1000, d.Trace[6])
	assert.Equal(t, 3000*8192.0+1000, d.Trace[onset-first])
	assert.Nil(t, x.Suspects[3].Trace, "only the first few")
}

func TestWhatIsClearedHasNoTraces(t *testing.T) {
	e := world(nil, 1000)
	x := explain(t, e, "a")
	require.Equal(t, Cleared, x.Verdict.Class)
	for _, s := range x.Suspects {
		assert.Nil(t, s.Trace)
	}
	assert.Empty(t, x.Evidence)
}
