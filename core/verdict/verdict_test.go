package verdict_test

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/estate"
	"dowsingrod/core/internal/tiny"
	"dowsingrod/core/phrase"
	"dowsingrod/core/suspect"
	. "dowsingrod/core/verdict"
)

const (
	cells = 120
	onset = 80
)

var (
	pool       = tiny.Key("array", "pool:p")
	volume     = tiny.Key("array", "volume:v")
	controller = tiny.Key("array", "controller:c0")
)

// world is the tiny estate with four machines; a's reads slow from the onset on, everywhere below as much as a test says.
func world(rates map[string][2]float64, slow float64) *tiny.Estate {
	e := tiny.New(cells)
	before, after := 0.0, 0.0
	for k, name := range []string{"a", "b", "c", "d"} {
		e.AddVM(name, k%2)
		r, ok := rates[name]
		if !ok {
			r = [2]float64{300, 290}
		}
		before, after = before+r[0], after+r[1]
		e.IO(tiny.Key("hyp", "vdisk:"+name), tiny.From(onset, r[0], r[1]), tiny.Always(8192), tiny.From(onset, 1200, slow+200))
	}
	e.IO(volume, tiny.From(onset, before, after), tiny.Always(8192), tiny.From(onset, 1000, slow))
	for _, h := range []string{"h0", "h1"} {
		e.IO(tiny.Key("hyp", "device:"+h+"-v"), tiny.From(onset, before/2, after/2), tiny.Always(8192), tiny.From(onset, 1150, slow+150))
		e.Set(tiny.Key("hyp", "device:"+h+"-v"), "queue_latency_us", tiny.Always(0))
	}
	e.Set(volume, "cache_hit_share", tiny.Always(0))
	e.IO(pool, tiny.From(onset, before, after), tiny.Always(8192), tiny.From(onset, 800, slow-200))
	e.Set(controller, "busy_share", tiny.Always(0.2))
	e.Set(controller, "write_pending_share", tiny.Always(0.1))
	return e
}

func explain(t *testing.T, e *tiny.Estate, of string, events ...Event) Explanation {
	t.Helper()
	return answer(t, Input{Grid: e.Grid(), First: 20, Moments: e.Moments(), Of: tiny.Key("hyp", "vm:"+of), From: e, Events: events})
}

// answer goes both steps.
func answer(t *testing.T, in Input) Explanation {
	t.Helper()
	l, err := Locate(in)
	require.NoError(t, err)
	l.Infer(in.From)
	compare, ok := l.Compare()
	if !ok {
		return l.Conclude(nil)
	}
	s, err := suspect.Compute(compare)
	require.NoError(t, err)
	return l.Conclude(&s)
}

func accused(x Explanation) (names []string) {
	for _, s := range x.Suspects {
		if s.Accused {
			names = append(names, s.Name)
		}
	}
	return names
}

func words(x Explanation) string { return phrase.Text(x.Statement, time.UTC) }

func TestClassesAtAPool(t *testing.T) {
	for name, c := range map[string]struct {
		rates   map[string][2]float64
		busy    [2]float64
		class   Class
		accused []string
		says    string
	}{
		"one asks for much more":         {map[string][2]float64{"d": {50, 3000}}, [2]float64{0.3, 0.97}, NoisyNeighbour, []string{"d"}, "d did it"},
		"all begin to ask for much more": {map[string][2]float64{"a": {300, 900}, "b": {300, 900}, "c": {300, 900}, "d": {300, 900}}, [2]float64{0.3, 0.97}, Crowd, nil, "many began"},
		"all ask for a little more":      {map[string][2]float64{"a": {300, 460}, "b": {300, 460}, "c": {300, 460}, "d": {300, 460}}, [2]float64{0.6, 0.97}, Growth, nil, "everybody asks for more"},
		"nobody asks for more":           {nil, [2]float64{0.3, 0.9}, Degraded, nil, "became slower by itself"},
	} {
		t.Run(name, func(t *testing.T) {
			e := world(c.rates, 9000)
			e.Set(pool, "busy_share", tiny.From(onset, c.busy[0], c.busy[1]))
			x := explain(t, e, "a")
			assert.Equal(t, c.class, x.Verdict.Class, words(x))
			require.NotNil(t, x.Verdict.Component)
			assert.Equal(t, pool.String(), x.Verdict.Component.Ref)
			assert.Equal(t, c.accused, accused(x))
			assert.Contains(t, words(x), c.says)
			require.NotNil(t, x.Onset)
			assert.Equal(t, e.Grid().At(onset), *x.Onset)
			assert.Nil(t, x.Until, "it lasts")
			assert.Greater(t, float64(x.Verdict.Confidence), 0.9)
			assert.NotEmpty(t, x.Helps)
			assert.NotContains(t, words(x), "NaN")
		})
	}
}

func TestALimitIsNamedBeforeWhatLiesBelow(t *testing.T) {
	e := world(nil, 9000)
	for k := range e.Objects {
		if e.Objects[k].Key == tiny.Key("hyp", "vdisk:a") {
			e.Objects[k].Facts = estate.Facts{"iops_limit": 290.0}
		}
	}
	// Only a waits, above everything it shares.
	for _, key := range []estate.Key{volume, tiny.Key("hyp", "device:h0-v"), tiny.Key("hyp", "device:h1-v")} {
		e.Set(key, "read_latency_us", tiny.Always(1000))
	}
	x := explain(t, e, "a")
	assert.Equal(t, Limit, x.Verdict.Class, words(x))
	assert.Equal(t, "vdisk:a@hyp", x.Verdict.Component.Ref)
	assert.Empty(t, accused(x))
}

func TestAQueueInTheHost(t *testing.T) {
	e := world(nil, 9000)
	e.Set(volume, "read_latency_us", tiny.Always(1000))
	e.Set(pool, "read_latency_us", tiny.Always(800))
	e.Set(tiny.Key("hyp", "device:h0-v"), "queue_latency_us", tiny.From(onset, 0, 7900))
	x := explain(t, e, "a")
	assert.Equal(t, HostQueue, x.Verdict.Class, words(x))
	assert.Equal(t, "device:h0-v@hyp", x.Verdict.Component.Ref)
	assert.NotEmpty(t, x.Cleared)
}

func TestTheStorageIsCleared(t *testing.T) {
	x := explain(t, world(nil, 1000), "a")
	assert.Equal(t, Cleared, x.Verdict.Class)
	assert.Nil(t, x.Verdict.Component)
	assert.Nil(t, x.Onset)
	assert.Greater(t, float64(x.Verdict.Confidence), 0.9)
	assert.NotEmpty(t, x.Cleared)
	assert.Empty(t, accused(x))
}

func TestWithoutReadingsNothingIsKnown(t *testing.T) {
	e := tiny.New(cells)
	e.AddVM("a", 0)
	x := explain(t, e, "a")
	assert.Equal(t, Unknown, x.Verdict.Class)
	assert.Zero(t, x.Verdict.Confidence)
	assert.NotEmpty(t, x.Settle)
}

// A pool that reports nothing is told by who waits: all on it, and the layers above are well.
func TestASilentComponentIsInferred(t *testing.T) {
	e := world(map[string][2]float64{"d": {50, 3000}}, 9000)
	for _, m := range []string{"read_iops", "write_iops", "read_latency_us", "write_latency_us", "read_bytes_s", "write_bytes_s"} {
		e.Drop(pool, m)
	}
	x := explain(t, e, "a")
	require.NotNil(t, x.Verdict.Component, words(x))
	assert.Equal(t, estate.LayerBackEnd, x.Verdict.Component.Kind.Layer(), x.Verdict.Component.Ref)
	assert.Equal(t, []string{"d"}, accused(x))
	assert.Contains(t, x.Evidence[0].Words, "tells nothing of itself")
}

// A copy moves bytes at the LUN that no disk asked for; the disk that reports a move then is the one copied.
func TestACopyIsTracedToItsDisk(t *testing.T) {
	e := world(nil, 9000)
	e.Set(pool, "busy_share", tiny.From(onset, 0.3, 0.97))
	e.Set(volume, "read_bytes_s", tiny.From(onset, 1200*8192, 90e6))
	at := Event{Of: tiny.Key("hyp", "vdisk:c"), Time: e.Grid().At(onset - 1), What: "move_begun"}
	x := explain(t, e, "a", at)
	assert.Equal(t, NoisyNeighbour, x.Verdict.Class, words(x))
	assert.Equal(t, []string{"c"}, accused(x))
	assert.Contains(t, x.Suspects[0].Evidence, "move_begun")

	x = explain(t, e, "a")
	assert.Empty(t, accused(x), "without the event nobody is accused")
	assert.NotEmpty(t, x.Unseen)
}

func TestConfidenceIsBetweenNothingAndCertainty(t *testing.T) {
	for _, busy := range []float64{0.62, 0.7, 0.8, 0.9, 0.99} {
		e := world(map[string][2]float64{"d": {50, 2000}}, 4000)
		e.Set(pool, "busy_share", tiny.From(onset, 0.5, busy))
		c := float64(explain(t, e, "a").Verdict.Confidence)
		assert.False(t, math.IsNaN(c))
		assert.GreaterOrEqual(t, c, 0.0)
		assert.LessOrEqual(t, c, 0.995)
	}
}

// What is asked for holds what is used: everything that Locate and Compare look at is listed.
func TestNeedsHoldTheWay(t *testing.T) {
	e := world(nil, 9000)
	kinds := map[estate.Kind]bool{}
	for _, n := range Needs(e.Moments(), tiny.Key("hyp", "vm:a")) {
		kinds[n.Key.Ref.Kind] = true
		assert.NotEmpty(t, n.Metrics, n.Key)
	}
	for _, k := range []estate.Kind{estate.VDisk, estate.Device, estate.HBAPort, estate.SwitchPort, estate.TargetPort, estate.Volume, estate.Controller, estate.Pool} {
		assert.True(t, kinds[k], k)
	}
}
