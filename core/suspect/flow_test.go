package suspect_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/estate"
	"dowsingrod/core/internal/tiny"
	. "dowsingrod/core/suspect"
)

// tagged is an estate whose fabric tags the frames of one VM.
func tagged() (*tiny.Estate, Input) {
	e := tiny.New(cells)
	for k, name := range []string{"quiet", "loud", "third"} {
		e.AddVM(name, k%2)
		for i := range e.Objects {
			if e.Objects[i].Key.Ref.ID == name && e.Objects[i].Key.Ref.Kind == estate.VM {
				e.Objects[i].Facts["uuid"] = "4c4c4544-0000-4000-8000-00000000000" + string(rune('1'+k))
			}
		}
		e.IO(tiny.Key("hyp", "vdisk:"+name), tiny.Always(300), tiny.Always(8192), tiny.From(onset, 2000, 9000))
	}
	e.Add("fab", "flow:loud", "", estate.Facts{"initiator": tiny.WWN(3), "target": tiny.WWN(20), "lun": 14.0, "vm_uuid": "4c4c4544-0000-4000-8000-000000000002"})
	e.IO(tiny.Key("fab", "flow:loud"), tiny.From(onset, 300, 9000), tiny.Always(64<<10), tiny.From(onset, 1900, 8000))
	pool := tiny.Key("array", "pool:p")
	e.IO(pool, tiny.From(onset, 900, 9600), tiny.Always(8192), tiny.From(onset, 3000, 9000))
	return e, Input{Grid: e.Grid(), First: cells / 3, Of: pool, From: e}
}

// Where the hypervisor says nothing of a VM, the fabric's count of its frames stands in.
func TestTheFabricSeesWhatTheHypervisorDoesNot(t *testing.T) {
	e, in := tagged()
	for _, m := range []string{"read_iops", "write_iops", "read_bytes_s", "write_bytes_s", "read_latency_us", "write_latency_us"} {
		e.Drop(tiny.Key("hyp", "vdisk:loud"), m)
	}
	in.Moments = e.Moments()
	asked := false
	for _, n := range Needs(in.Moments, in.Of) {
		asked = asked || n.Key == tiny.Key("fab", "flow:loud")
	}
	require.True(t, asked)
	s, err := Compute(in)
	require.NoError(t, err)
	require.Equal(t, Culprit, s.Outcome)
	assert.Equal(t, []string{"loud"}, accused(s))
	assert.Equal(t, "fabric", s.Tenants[0].Seen)
	assert.Equal(t, "hypervisor", s.Tenants[1].Seen)
}

// Where both count, the hypervisor's count is used once, and the fabric's stands beside it.
func TestBothCountsStandSideBySide(t *testing.T) {
	e, in := tagged()
	e.IO(tiny.Key("hyp", "vdisk:loud"), tiny.From(onset, 300, 9000), tiny.Always(64<<10), tiny.From(onset, 2000, 9000))
	in.Moments = e.Moments()
	s, err := Compute(in)
	require.NoError(t, err)
	require.Equal(t, []string{"loud"}, accused(s))
	first := s.Tenants[0]
	assert.Equal(t, "hypervisor", first.Seen)
	assert.InDelta(t, 9000*64<<10, float64(first.Flows.During), 1)
	assert.InDelta(t, float64(first.BytesPair.During), float64(first.Flows.During), 1)
	assert.False(t, s.Tenants[1].Flows.During.Known())
	assert.Contains(t, strings.Join(s.Grounds, "; "), "fabric's own count")
}

// A component that became busier by more than what is asked of it grew by is slower by itself: nobody is accused.
func TestBusierThanAskedForIsItsOwnDoing(t *testing.T) {
	e, in := tagged()
	e.IO(tiny.Key("hyp", "vdisk:loud"), tiny.From(onset, 300, 500), tiny.Always(8192), tiny.From(onset, 2000, 9000))
	e.Set(in.Of, "busy_share", tiny.From(onset, 0.2, 0.95))
	in.Moments = e.Moments()
	s, err := Compute(in)
	require.NoError(t, err)
	assert.Equal(t, Itself, s.Outcome, "a fifth more is asked for, and five times as busy")
	assert.Empty(t, accused(s))
	e.Set(in.Of, "busy_share", tiny.From(onset, 0.2, 0.25))
	s, err = Compute(in)
	require.NoError(t, err)
	assert.Equal(t, Culprit, s.Outcome, "as much busier as is asked for")
}
