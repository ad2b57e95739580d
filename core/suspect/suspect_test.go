package suspect_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/internal/tiny"
	"dowsingrod/core/phrase"
	. "dowsingrod/core/suspect"
)

const (
	cells = 120
	onset = 80
)

// vm is what a tenant does before and after the pool slowed.
type vm struct {
	reads, after float64
	size, later  float64
}

func steady(reads float64) vm { return vm{reads, reads * 0.9, 8192, 8192} }

func compare(t *testing.T, tenants map[string]vm, slower float64) Suspects {
	e := tiny.New(cells)
	k, before, after := 0, 0.0, 0.0
	for name, v := range tenants {
		e.AddVM(name, k%2)
		k++
		before, after = before+v.reads, after+v.after
		e.IO(tiny.Key("hyp", "vdisk:"+name), tiny.From(onset, v.reads, v.after), tiny.From(onset, v.size, v.later), tiny.From(onset, 2000, 2000*slower))
	}
	pool := tiny.Key("array", "pool:p")
	e.IO(pool, tiny.From(onset, before, after), tiny.Always(8192), tiny.From(onset, 3000, 3000*slower))
	s, err := Compute(Input{Grid: e.Grid(), First: cells / 3, Moments: e.Moments(), Of: pool, From: e})
	require.NoError(t, err)
	return s
}

func roles(s Suspects) map[string]Role {
	out := map[string]Role{}
	for _, t := range s.Tenants {
		out[t.Name] = t.Role
	}
	return out
}

func accused(s Suspects) (names []string) {
	for _, t := range s.Tenants {
		if t.Role == Suspect {
			names = append(names, t.Name)
		}
	}
	return names
}

func TestTheCulpritIsNotTheBusiest(t *testing.T) {
	s := compare(t, map[string]vm{"radar-replay-02": steady(5000), "sonar-tiles-05": {20, 900, 32 << 10, 256 << 10}, "manifest-db-02": steady(300), "crew-roster-01": {50, 70, 8192, 8192}}, 5)
	require.Equal(t, Culprit, s.Outcome)
	assert.Equal(t, []string{"sonar-tiles-05"}, accused(s))
	assert.Equal(t, "sonar-tiles-05", s.Tenants[0].Name)
	assert.Equal(t, Sufferer, roles(s)["radar-replay-02"])
	assert.Greater(t, float64(s.Tenants[0].Share), 0.9)
	assert.Greater(t, float64(s.Confidence), 0.8)
	assert.Equal(t, tiny.Start.Add(onset*time.Minute), *s.Onset)
	assert.Contains(t, phrase.Text(s.Statement, time.UTC), "sonar-tiles-05 did it")
	assert.NotEmpty(t, s.Grounds)
}

func TestNobodyIsAccusedWhere(t *testing.T) {
	many := map[string]vm{}
	for i := range 12 {
		many[fmt.Sprintf("ticket-gate-%02d", i)] = vm{300, 520, 8192, 8192}
	}
	same := map[string]vm{"a": steady(500), "b": steady(700), "c": steady(90)}
	for name, c := range map[string]struct {
		tenants map[string]vm
		slower  float64
		want    Outcome
	}{
		"everybody grew":               {many, 4, Everybody},
		"the pool slowed by itself":    {same, 4, Itself},
		"nothing slowed":               {map[string]vm{"a": {100, 3000, 8192, 65536}, "b": steady(700)}, 1, NoChange},
		"one grew, but by next to nil": {map[string]vm{"a": {100, 130, 8192, 8192}, "b": steady(9000)}, 4, Itself},
	} {
		t.Run(name, func(t *testing.T) {
			s := compare(t, c.tenants, c.slower)
			assert.Equal(t, c.want, s.Outcome)
			assert.Empty(t, accused(s))
			assert.False(t, s.Confidence.Known(), "no confidence without an accusation")
			assert.NotContains(t, phrase.Text(s.Statement, time.UTC), "did it")
		})
	}
}

func TestSeveralTogether(t *testing.T) {
	tenants := map[string]vm{"tide-model-01": {100, 2000, 8192, 8192}, "tide-model-02": {100, 1900, 8192, 8192}}
	for i := range 5 {
		tenants[fmt.Sprintf("crew-roster-%d", i)] = vm{200, 230, 8192, 8192}
	}
	s := compare(t, tenants, 4)
	require.Equal(t, Several, s.Outcome)
	assert.ElementsMatch(t, []string{"tide-model-01", "tide-model-02"}, accused(s))
}

// Large I/O counts for more than small: the one who brings bytes, not the one who brings counts.
func TestBigIOWeighsMore(t *testing.T) {
	s := compare(t, map[string]vm{"small": {100, 400, 4096, 4096}, "large": {20, 160, 1 << 20, 1 << 20}, "c": steady(100)}, 4)
	require.Equal(t, Culprit, s.Outcome)
	assert.Equal(t, []string{"large"}, accused(s))
}

func TestWithoutReadingsNothingIsSaid(t *testing.T) {
	e := tiny.New(cells)
	e.AddVM("a", 0)
	e.AddVM("b", 1)
	pool := tiny.Key("array", "pool:p")
	e.IO(pool, tiny.Always(1000), tiny.Always(8192), tiny.From(onset, 3000, 12000))
	s, err := Compute(Input{Grid: e.Grid(), First: 40, Moments: e.Moments(), Of: pool, From: e})
	require.NoError(t, err)
	assert.Equal(t, Unknown, s.Outcome)
	for _, role := range roles(s) {
		assert.Equal(t, NotSeen, role)
	}
	assert.Contains(t, phrase.Text(s.Statement, time.UTC), "too little")
}

// A tenant on the culprit's volume sees that volume's cache hits fall, but asks for little more itself.
func TestACacheLostToTheCulpritIsNotTheNeighboursDemand(t *testing.T) {
	e := tiny.New(cells)
	for name, after := range map[string]float64{"sonar-tiles-05": 1000, "radar-replay-14": 900} {
		before := 1000.0
		if name == "sonar-tiles-05" {
			before = 20
		}
		e.AddVM(name, 0)
		slow := map[string]float64{"sonar-tiles-05": 15000, "radar-replay-14": 6000}[name] // who misses waits longer
		e.IO(tiny.Key("hyp", "vdisk:"+name), tiny.From(onset, before, after), tiny.Always(65536), tiny.From(onset, 2000, slow))
	}
	e.Set(tiny.Key("array", "volume:v"), "cache_hit_share", tiny.From(onset, 0.6, 0.25))
	pool := tiny.Key("array", "pool:p")
	e.IO(pool, tiny.Always(1000), tiny.Always(8192), tiny.From(onset, 3000, 15000))
	s, err := Compute(Input{Grid: e.Grid(), First: 40, Moments: e.Moments(), Of: pool, From: e})
	require.NoError(t, err)
	assert.Equal(t, []string{"sonar-tiles-05"}, accused(s))
	for _, tn := range s.Tenants {
		if tn.Name == "radar-replay-14" {
			assert.Less(t, float64(tn.Demand.During), float64(tn.Demand.Before)*1.2)
		}
	}
}

// A port times no I/O: its tenants' own figures stand in, and bytes are what counts.
func TestAPortIsJudgedByItsTenants(t *testing.T) {
	e := tiny.New(cells)
	for k, name := range []string{"a", "b"} {
		e.AddVM(name, 0)
		after := []float64{100, 3000}[k]
		e.IO(tiny.Key("hyp", "vdisk:"+name), tiny.From(onset, 100, after), tiny.Always(65536), tiny.From(onset, 1000, 6000))
	}
	s, err := Compute(Input{Grid: e.Grid(), First: 40, Moments: e.Moments(), Of: tiny.Key("hyp", "hba_port:h0-0"), From: e})
	require.NoError(t, err)
	assert.Equal(t, []string{"b"}, accused(s))
	assert.Contains(t, s.Measured, "times no I/O")
	assert.Equal(t, "one byte", s.Unit)
}
