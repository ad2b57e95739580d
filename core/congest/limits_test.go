package congest_test

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	. "dowsingrod/core/congest"
	"dowsingrod/core/estate"
	"dowsingrod/core/internal/tiny"
	"dowsingrod/core/reading"
)

var every = []estate.Key{tiny.Key("array", "pool:p"), tiny.Key("array", "raid_group:r1"), tiny.Key("array", "drive:d1"), tiny.Key("array", "controller:c0"),
	tiny.Key("array", "target_port:t0A"), tiny.Key("hyp", "hba_port:h0-0"), tiny.Key("hyp", "host:h0"), tiny.Key("hyp", "vm:a")}

// Each limit of each kind: just below it is steady, above it strained, further above failing.
func TestEveryLimitOfEveryKind(t *testing.T) {
	for _, key := range every {
		plain := tiny.New(30)
		plain.AddVM("a", 0)
		limits := limitsOf(plain, nil, key)
		require.NotEmpty(t, limits, key)
		for _, l := range limits {
			assert.Less(t, l.Strained, l.Failing, "%s %s", key, l.Metric)
			assert.NotEmpty(t, l.Reason)
			assert.NotEmpty(t, l.Aspect)
			if l.Metric == UsedShare || l.Metric == UnevenShare {
				continue // tried by themselves
			}
			for value, want := range map[float64]Condition{float64(l.Strained) * 0.99: Steady, float64(l.Strained+l.Failing) / 2: Strained, float64(l.Failing) * 1.001: Failing} {
				e := tiny.New(30)
				e.AddVM("a", 0)
				metric := l.Metric
				if metric == Utilization {
					metric = "rx_bytes_s"
					e.Set(key, metric, tiny.Always(value*1e9))
				} else {
					e.Set(key, metric, tiny.Always(value))
				}
				m := e.Moments()[0].Map
				i, ok := m.Estate().Position(key)
				require.True(t, ok, key)
				a := assess(e, m, i)
				assert.Equal(t, want, a.Condition, "%s %s at %v", key, l.Metric, value)
				if want != Steady {
					require.Len(t, a.Reasons, 1)
					assert.Equal(t, l.Metric, a.Reasons[0].Metric)
					assert.InDelta(t, 1, float64(a.Reasons[0].Over), 1e-9)
					assert.NotEmpty(t, a.Reasons[0].Words)
				}
			}
		}
	}
}

func limitsOf(e *tiny.Estate, b *Book, key estate.Key) []Limit {
	of := e.Moments()[0].Map.Estate()
	i, _ := of.Position(key)
	return b.Of(of, i)
}

func TestNeedsAreReadingsTheKindReports(t *testing.T) {
	e := tiny.New(1)
	e.AddVM("a", 0)
	of := e.Moments()[0].Map.Estate()
	for _, key := range every {
		i, _ := of.Position(key)
		for _, n := range Needs(nil, of, i) {
			for _, name := range n.Metrics {
				m, ok := reading.Lookup(name)
				require.True(t, ok, name)
				assert.True(t, m.On(n.Key.Ref.Kind), "%s on %s", name, n.Key.Ref.Kind)
			}
		}
	}
}

// Levels depend on what a thing is made of, how fast it is, and what stands beside it.
func TestLimitsDependOnConfiguration(t *testing.T) {
	e := tiny.New(1)
	e.Add("array", "pool:disks", "pool 2", estate.Facts{"media": "hdd", "bytes": 100.0, "promised_bytes": 300.0})
	e.Add("array", "array:lone", "tern", nil)
	e.Add("array", "controller:lone", "controller", nil, "part_of", "array:lone")
	first := func(ref string, metric string) reading.Figure {
		for _, l := range limitsOf(e, nil, tiny.Key("array", ref)) {
			if l.Metric == metric {
				return l.Strained
			}
		}
		return reading.Missing
	}
	assert.Less(t, first("pool:disks", "busy_share"), first("pool:p", "busy_share"), "flash answers many at once")
	assert.Less(t, first("pool:disks", UsedShare), first("pool:p", UsedShare), "more is promised than there is")
	assert.Less(t, first("controller:c0", "busy_share"), first("controller:lone", "busy_share"), "one of a pair must carry both")
	assert.InDelta(t, 0.01, float64(first("target_port:t0A", "crc_errors_s")), 1e-9, "a gigabyte a second allows a hundredth")
	fast := tiny.New(1)
	fast.Add("array", "target_port:fast", "", estate.Facts{"speed_bytes_s": 6.4e9})
	for _, l := range limitsOf(fast, nil, tiny.Key("array", "target_port:fast")) {
		if l.Metric == "crc_errors_s" {
			assert.InDelta(t, 0.064, float64(l.Strained), 1e-9)
		}
	}
}

func TestRules(t *testing.T) {
	e := tiny.New(30)
	c0, c1, pool := tiny.Key("array", "controller:c0"), tiny.Key("array", "controller:c1"), tiny.Key("array", "pool:p")
	busy := func(b *Book, key estate.Key) reading.Figure { return limitsOf(e, b, key)[0].Strained }
	b := NewBook([]Rule{{Kind: estate.Controller, Metric: "busy_share", Strained: 0.5, Failing: 0.6},
		{Kind: estate.Controller, Within: c1.String(), Metric: "busy_share", Strained: 0.3, Failing: 0.4},
		{Kind: estate.Pool, Within: tiny.Key("array", "array:x").String(), Metric: "busy_share", Strained: 0.2, Failing: reading.Missing}})
	assert.EqualValues(t, 0.5, busy(b, c0))
	assert.EqualValues(t, 0.3, busy(b, c1), "the nearest rule holds")
	assert.EqualValues(t, 0.2, busy(b, pool), "by what it is in")
	assert.Equal(t, 0.7, float64(busy(nil, c0)))
	assert.Contains(t, limitsOf(e, b, pool)[0].Reason, "all pools in heron")
	e.Set(pool, "busy_share", tiny.Always(0.99))
	m := e.Moments()[0].Map
	i, _ := m.Estate().Position(pool)
	assert.Equal(t, Strained, b.Assess(e.Grid(), m.Estate(), i, e).Condition, "never failing")
	for words, r := range map[string]Rule{
		"nothing limits": {Kind: estate.Pool, Metric: "steal_share"}, "below zero": {Kind: estate.Pool, Metric: "busy_share", Strained: -1},
		"swap": {Kind: estate.Pool, Metric: "busy_share", Strained: 0.9, Failing: 0.5},
	} {
		assert.ErrorContains(t, r.Validate(), words)
	}
	assert.NoError(t, Rule{Kind: estate.Pool, Metric: "busy_share", Strained: reading.Missing, Failing: reading.Missing}.Validate())
	assert.NotEmpty(t, Kinds()[estate.Drive])
}

func TestUnevenFullAndAllowed(t *testing.T) {
	e := tiny.New(20)
	e.Add("array", "pool:full", "pool 9", estate.Facts{"bytes": 100.0, "used_bytes": 99.0, "media": "hdd"})
	h0, h1 := tiny.Key("hyp", "hba_port:h0-0"), tiny.Key("hyp", "hba_port:h0-1")
	e.Set(h0, "tx_bytes_s", tiny.Always(0.6e9))
	e.Set(h1, "tx_bytes_s", tiny.Always(0.1e9))
	m := e.Moments()[0].Map
	at := func(k estate.Key) int32 { i, _ := m.Estate().Position(k); return i }
	a := assess(e, m, at(h0))
	assert.Equal(t, Strained, a.Condition)
	assert.Equal(t, UnevenShare, a.Reasons[0].Metric)
	assert.Equal(t, Steady, assess(e, m, at(h1)).Condition)
	a = assess(e, m, at(tiny.Key("array", "pool:full")))
	assert.Equal(t, Failing, a.Condition, "by what its source states")
	assert.Contains(t, a.Reasons[0].Words, "99 % full")
	e.Drop(h1, "tx_bytes_s")
	assert.Equal(t, Steady, assess(e, m, at(h0)).Condition, "what its peer does is not known")
}

func TestTheWorstReasonComesFirst(t *testing.T) {
	e := tiny.New(30)
	c := tiny.Key("array", "controller:c0")
	e.Set(c, "busy_share", tiny.Always(0.75))
	e.Set(c, "write_pending_share", tiny.Always(0.95))
	m := e.Moments()[0].Map
	i, _ := m.Estate().Position(c)
	a := assess(e, m, i)
	assert.Equal(t, Failing, a.Condition)
	require.Len(t, a.Reasons, 2)
	assert.Equal(t, "write_pending_share", a.Reasons[0].Metric)
}

// A tenth of the covered time is what it takes, however much of the window is covered.
func TestATenthOfTheCoveredTimeIsACondition(t *testing.T) {
	pool := tiny.Key("array", "pool:p")
	assess := func(bad, known int) Condition {
		e := tiny.New(200)
		e.Set(pool, "busy_share", func(i int) float64 {
			switch k := 199 - i; { // the newest cells are the known ones
			case k < bad:
				return 0.99
			case k < known:
				return 0.4
			}
			return math.NaN()
		})
		m := e.Moments()[0].Map
		i, _ := m.Estate().Position(pool)
		return assess(e, m, i).Condition
	}
	assert.Equal(t, Steady, assess(9, 100))
	assert.Equal(t, Failing, assess(10, 100))
	assert.Equal(t, Failing, assess(5, 50))
	assert.Equal(t, Steady, assess(10, 200))
}

func TestCandidatesAreOnTheWayInUse(t *testing.T) {
	e := tiny.New(1)
	e.AddVM("a", 0)
	m := e.Moments()[0].Map
	i, _ := m.Estate().Position(tiny.Key("hyp", "vm:a"))
	names := func(l estate.Layer) (out []string) {
		for _, at := range Candidates(m, i, l) {
			out = append(out, m.Estate().At(at).Key.Ref.String())
		}
		return out
	}
	assert.Equal(t, []string{"vdisk:a", "vm:a"}, names(estate.LayerGuest))
	assert.Contains(t, names(estate.LayerFrontEnd), "controller:c0")
	assert.NotContains(t, names(estate.LayerFrontEnd), "target_port:t1A", "a standby port carries nothing")
	assert.ElementsMatch(t, []string{"pool:p", "raid_group:r1", "raid_group:r2", "drive:d1"}, names(estate.LayerBackEnd))
	assert.Contains(t, names(estate.LayerFabric), "isl:a")
	assert.Empty(t, names(estate.LayerDatastore))
	pool, _ := m.Estate().Position(tiny.Key("array", "pool:p"))
	assert.Contains(t, Candidates(m, pool, estate.LayerBackEnd), pool, "a component may be its own cause")
}
