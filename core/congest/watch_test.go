package congest_test

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	. "dowsingrod/core/congest"
	"dowsingrod/core/estate"
	"dowsingrod/core/internal/tiny"
)

// watched feeds the busy share of one pool, a cell a minute, and returns what changed by cell.
func watched(t *testing.T, w *Watch, from int, values ...float64) map[int]Stretch {
	out := map[int]Stretch{}
	row := -1
	for k := range w.Len() {
		if key, l := w.Row(k); key == tiny.Key("array", "pool:p") && l.Metric == "busy_share" {
			row = k
		}
	}
	require.GreaterOrEqual(t, row, 0)
	figures := make([]float64, w.Len())
	for i, v := range values {
		for k := range figures {
			figures[k] = math.NaN()
		}
		figures[row] = v
		changed := w.Observe(tiny.Start.Add(time.Duration(from+i)*time.Minute), time.Minute, figures)
		require.LessOrEqual(t, len(changed), 1)
		if len(changed) > 0 {
			out[from+i] = changed[0]
		}
	}
	return out
}

func TestStretches(t *testing.T) {
	e := tiny.New(1).Moments()[0].Map.Estate()
	minute := func(i int) time.Time { return tiny.Start.Add(time.Duration(i) * time.Minute) }
	w := NewWatch(nil, e, nil)
	assert.Empty(t, watched(t, w, 0, 0.2, 0.95, 0.95, 0.2, 0.2, 0.2, 0.2, 0.2, 0.2, 0.2, 0.2, 0.2), "two cells are no stretch")
	got := watched(t, w, 12, 0.95, 0.5, 0.95, 0.95, 0.99, 0.99, 0.99, 0.5, 0.5, 0.5, 0.5, 0.5)
	require.Len(t, got, 3)
	assert.Equal(t, Strained, got[15].Level)
	assert.Equal(t, minute(12), got[15].From, "it begins with the first of them")
	assert.Equal(t, Failing, got[18].Level)
	over := got[23]
	assert.True(t, over.Ended)
	assert.Equal(t, Failing, over.Level)
	assert.Equal(t, minute(19), over.To)
	assert.InDelta(t, 0.99, over.Worst, 1e-6)
	assert.Empty(t, w.Open())
}

func TestAStretchBreaksOffWithItsReadings(t *testing.T) {
	w := NewWatch(nil, tiny.New(1).Moments()[0].Map.Estate(), nil)
	nan := math.NaN()
	got := watched(t, w, 0, 0.95, 0.95, nan, 0.95, nan, nan, nan, nan, nan, nan, nan, nan, nan, nan, nan)
	require.Len(t, got, 2)
	assert.False(t, got[3].Ended, "a missing cell is no calm one")
	assert.True(t, got[13].Ended && got[13].Broken)
}

func TestAWatchGoesOnWhenTheEstateChanges(t *testing.T) {
	few := tiny.New(1)
	w := NewWatch(nil, few.Moments()[0].Map.Estate(), nil)
	watched(t, w, 0, 0.95, 0.95)
	few.AddVM("late", 0)
	grown := few.Moments()[0].Map.Estate()
	w = NewWatch(nil, grown, w)
	assert.Len(t, watched(t, w, 2, 0.95), 1, "the two before count")
	require.Len(t, w.Open(), 1)
	w = NewWatch(NewBook([]Rule{{Kind: estate.Pool, Metric: "busy_share", Strained: 0.5, Failing: 0.6}}), grown, w)
	assert.Empty(t, w.Open(), "judged by another limit it begins anew")
}

func TestTheSlowReceiverIsFoundDownstream(t *testing.T) {
	e := tiny.New(10)
	p := func(ref string) estate.Key { return tiny.Key("fab", "switch_port:"+ref) }
	find := func(from estate.Key) string {
		m := e.Moments()[0].Map.Estate()
		i, ok := m.Position(from)
		require.True(t, ok)
		asked := map[int32]bool{i: true}
		for _, k := range Downstream(m, i) {
			asked[k] = true
		}
		r, found := Receiver(e.Grid(), m, i, e)
		if !found {
			return ""
		}
		return m.At(r).Key.Ref.String()
	}
	// The array's port t0A is on switch a2, hosts are on a1: what the array sends to h0 waits on a2's end of the link.
	e.Set(p("a2-9"), "credit_zero_share", tiny.Always(0.4))
	assert.Empty(t, find(p("a2-9")), "nobody behind it is seen to starve")
	e.Set(p("p1"), "credit_zero_share", tiny.Always(0.6)) // toward host 0
	e.Set(p("p3"), "credit_zero_share", tiny.Always(0.1)) // toward host 1
	assert.Equal(t, "hba_port:h0-0", find(p("a2-9")))
	assert.Equal(t, "hba_port:h0-0", find(p("p1")))
	e.Set(tiny.Key("array", "target_port:t0A"), "credit_zero_share", tiny.Always(0.3))
	assert.Equal(t, "hba_port:h0-0", find(tiny.Key("array", "target_port:t0A")), "from the array over both switches")
	assert.Empty(t, find(p("a1-9")), "it does not starve")
}
