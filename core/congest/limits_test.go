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
		limits := Limits(key.Ref.Kind)
		require.NotEmpty(t, limits, key)
		for _, l := range limits {
			assert.Less(t, l.Strained, l.Failing, "%s %s", key, l.Metric)
			for value, want := range map[float64]Condition{l.Strained * 0.99: Steady, (l.Strained + l.Failing) / 2: Strained, l.Failing * 1.001: Failing} {
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
				a := Assess(e.Grid(), m.Estate().At(i), e)
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

func TestMetricsAreOnesTheKindReports(t *testing.T) {
	for _, key := range every {
		for _, name := range Metrics(key.Ref.Kind) {
			m, ok := reading.Lookup(name)
			require.True(t, ok, name)
			assert.True(t, m.On(key.Ref.Kind), "%s on %s", name, key.Ref.Kind)
		}
	}
	assert.Empty(t, Metrics(estate.Zone))
}

func TestTheWorstReasonComesFirst(t *testing.T) {
	e := tiny.New(30)
	c := tiny.Key("array", "controller:c0")
	e.Set(c, "busy_share", tiny.Always(0.75))
	e.Set(c, "write_pending_share", tiny.Always(0.95))
	m := e.Moments()[0].Map
	i, _ := m.Estate().Position(c)
	a := Assess(e.Grid(), m.Estate().At(i), e)
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
		return Assess(e.Grid(), m.Estate().At(i), e).Condition
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
