package congest_test

import (
	"math"
	"math/rand/v2"
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

// stretches says by definition where a series was past a limit: it begins with the first of the last ten cells once three of them were past
// it, and is over after five that were not.
func stretches(values []float64, limit float64) (out [][2]int) {
	open, since, last := false, 0, 0
	begin := 0 // cells before it belong to a stretch that is over
	for i := range values {
		past, calm := []int{}, 0
		for k := max(begin, i-9); k <= i; k++ {
			if values[k] > limit {
				past = append(past, k)
			}
		}
		for k := i; k >= begin && k > i-5 && values[k] <= limit; k-- {
			calm++
		}
		switch {
		case !open && len(past) >= 3:
			open, since = true, past[0]
		case open && calm == 5:
			out, open, begin = append(out, [2]int{since, last + 1}), false, i+1
		}
		if values[i] > limit {
			last = i
		}
	}
	return out
}

// The watch, which remembers ten cells in bits, says the same as the definition.
func TestStretchesAreThoseOfTheDefinition(t *testing.T) {
	e := tiny.New(1).Moments()[0].Map.Estate()
	for seed := range uint64(60) {
		r := rand.New(rand.NewPCG(seed, 9))
		values := make([]float64, 300)
		p := 0.0
		for i := range values {
			if i%20 == 0 {
				p = []float64{0, 0.1, 0.3, 0.6, 1}[r.IntN(5)]
			}
			values[i] = 0.2
			if r.Float64() < p {
				values[i] = 0.92 // past the limit of flash, not failing
			}
		}
		for i := 290; i < 300; i++ {
			values[i] = 0.2
		}
		var got [][2]int
		for at, s := range watched(t, NewWatch(nil, e, nil), 0, values...) {
			if s.Ended {
				got = append(got, [2]int{int(s.From.Sub(tiny.Start).Minutes()), int(s.To.Sub(tiny.Start).Minutes())})
				assert.LessOrEqual(t, int(s.To.Sub(tiny.Start).Minutes()), at)
			}
		}
		assert.ElementsMatch(t, stretches(values, 0.90), got, "seed %d", seed)
	}
}

func TestAStretchIsAdoptedFromAnEarlierWatch(t *testing.T) {
	e := tiny.New(1).Moments()[0].Map.Estate()
	first := NewWatch(nil, e, nil)
	watched(t, first, 0, 0.95, 0.95, 0.95, 0.95)
	kept := first.Open()
	require.Len(t, kept, 1)
	kept[0].Worst = 0.97

	second := NewWatch(nil, e, nil) // it knows nothing of the first
	watched(t, second, 4, 0.92, 0.92, 0.92)
	assert.Empty(t, second.Adopt(kept), "it goes on")
	open := second.Open()
	require.Len(t, open, 1)
	assert.Equal(t, tiny.Start, open[0].From, "since it began")
	assert.InDelta(t, 0.97, open[0].Worst, 1e-6)

	calm := NewWatch(nil, e, nil)
	watched(t, calm, 4, 0.2, 0.2, 0.2)
	over := calm.Adopt(kept)
	require.Len(t, over, 1, "it is over")
	assert.Equal(t, kept[0].Of, over[0].Of)
}

func TestWhatOnlyWaits(t *testing.T) {
	waits, busy := Reason{Metric: "queue_latency_us"}, Reason{Metric: "busy_share"}
	assert.True(t, Assessment{Reasons: []Reason{waits}}.OnlyWaits())
	assert.False(t, Assessment{Reasons: []Reason{waits, busy}}.OnlyWaits())
	assert.False(t, Assessment{}.OnlyWaits())
}

func TestBooksOfTheSameRules(t *testing.T) {
	rule := Rule{Kind: estate.Pool, Metric: "busy_share", Strained: 0.5, Failing: 0.6}
	of := tiny.New(1).Moments()[0].Map.Estate()
	pool, _ := of.Position(tiny.Key("array", "pool:p"))
	controller, _ := of.Position(tiny.Key("array", "controller:c0"))
	var none *Book
	a, b := NewBook([]Rule{rule}), NewBook([]Rule{rule})
	assert.True(t, a.Same(b))
	assert.True(t, none.Same(nil))
	assert.False(t, none.Same(a))
	rule.Failing = 0.7
	assert.False(t, a.Same(NewBook([]Rule{rule})))
	assert.True(t, a.Holds(of, pool))
	assert.False(t, a.Holds(of, controller))
	within := NewBook([]Rule{{Kind: estate.Pool, Within: "array:x@array", Metric: "busy_share", Strained: 0.5, Failing: 0.6}})
	assert.True(t, within.Holds(of, pool), "it is part of the array")
	elsewhere := NewBook([]Rule{{Kind: estate.Pool, Within: "array:y@array", Metric: "busy_share", Strained: 0.5, Failing: 0.6}})
	assert.False(t, elsewhere.Holds(of, pool))
}

func TestWhatAnObjectIsIn(t *testing.T) {
	e := tiny.New(1).Moments()[0].Map.Estate()
	chain := func(source, ref string) (out []string) {
		i, ok := e.Position(tiny.Key(source, ref))
		require.True(t, ok)
		for at := range Around(e, i) {
			out = append(out, e.At(at).Key.Ref.String())
		}
		return out
	}
	assert.Equal(t, []string{"target_port:t0A", "controller:c0", "array:x"}, chain("array", "target_port:t0A"))
	assert.Equal(t, []string{"switch_port:p1", "switch:a1", "fabric:a"}, chain("fab", "switch_port:p1"))
	assert.Equal(t, []string{"array:x"}, chain("array", "array:x"))
	for at := range Around(e, 0) { // one may stop at any time
		_ = at
		break
	}
}
