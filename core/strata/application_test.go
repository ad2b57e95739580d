package strata_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/estate"
	"dowsingrod/core/internal/tiny"
	"dowsingrod/core/route"
	. "dowsingrod/core/strata"
)

// office is three machines, two of an application: one of them becomes slow at cell 80.
func office(t *testing.T) (*tiny.Estate, []route.Moment) {
	t.Helper()
	e := tiny.New(120)
	for k, name := range []string{"a", "b", "c"} {
		e.AddVM(name, k%2)
		after := 1000.0
		if name == "b" {
			after = 9000
		}
		e.IO(tiny.Key("hyp", "vdisk:"+name), tiny.Always(200), tiny.Always(8192), tiny.From(80, 1000, after))
	}
	for k := range e.Objects {
		switch e.Objects[k].Key {
		case tiny.Key("hyp", "vm:a"), tiny.Key("hyp", "vm:b"):
			e.Objects[k].Facts = estate.Facts{"application": "ledger"}
		}
	}
	return e, e.Moments()
}

func TestAnApplicationIsItsMachinesTogether(t *testing.T) {
	e, moments := office(t)
	assert.Len(t, Machines(moments[0].Map, "ledger"), 2)
	s := ComputeApplication(e.Grid(), 20, moments, "ledger", e)
	assert.Equal(t, "application:ledger", s.Of)
	assert.Equal(t, Application, s.Kind)
	assert.Equal(t, 2, s.Disks)
	assert.InDelta(t, 400, s.Read.IOPS[0], 1e-9)
	assert.InDelta(t, 1000, s.Read.Total[0], 1e-6)
	assert.InDelta(t, 5000, s.Read.Total[99], 1e-6, "the mean over the I/Os of both")
	require.NotNil(t, s.Change)
	assert.Equal(t, e.Grid().At(80), s.Change.From)

	worst, slow := Worst(e.Grid(), 20, moments, "ledger", e)
	assert.True(t, slow)
	assert.Equal(t, tiny.Key("hyp", "vm:b"), worst)
}

func TestAnApplicationThatIsWell(t *testing.T) {
	e, moments := office(t)
	e.IO(tiny.Key("hyp", "vdisk:b"), tiny.Always(300), tiny.Always(8192), tiny.Always(1000))
	s := ComputeApplication(e.Grid(), 20, moments, "ledger", e)
	assert.Equal(t, Cleared, s.Verdict)
	worst, slow := Worst(e.Grid(), 20, moments, "ledger", e)
	assert.False(t, slow)
	assert.Equal(t, tiny.Key("hyp", "vm:b"), worst, "it holds most in flight")
}

func TestAnApplicationThatNobodyStates(t *testing.T) {
	e, moments := office(t)
	assert.Empty(t, Machines(moments[0].Map, "chess"))
	s := ComputeApplication(e.Grid(), 20, moments, "chess", e)
	assert.Zero(t, s.Disks)
	assert.Equal(t, Unknown, s.Verdict)
	worst, slow := Worst(e.Grid(), 20, moments, "chess", e)
	assert.False(t, slow)
	assert.Empty(t, worst)
	assert.Empty(t, ApplicationNeeds(moments, "chess"))
}

// What is asked for is asked once, however many machines share it.
func TestReadingsOfAnApplicationAreAskedForOnce(t *testing.T) {
	_, moments := office(t)
	seen := map[estate.Key]bool{}
	for _, n := range ApplicationNeeds(moments, "ledger") {
		assert.False(t, seen[n.Key], n.Key)
		seen[n.Key] = true
	}
	for _, ref := range []string{"vdisk:a", "vdisk:b", "device:h0-v"} {
		assert.True(t, seen[tiny.Key("hyp", ref)], ref)
	}
	assert.True(t, seen[tiny.Key("array", "pool:p")])
}
