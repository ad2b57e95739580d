package verdict_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/estate"
	"dowsingrod/core/internal/tiny"
	. "dowsingrod/core/verdict"
)

var io = []string{"read_iops", "write_iops", "read_latency_us", "write_latency_us", "read_bytes_s", "write_bytes_s"}

func drop(e *tiny.Estate, metrics []string, keys ...estate.Key) {
	for _, k := range keys {
		for _, m := range metrics {
			e.Drop(k, m)
		}
	}
}

// Places in a host's queue are held for as long as an I/O is below: a slow pool fills the queue, and is the cause of what waits there.
func TestAQueueThatFillsBecauseOfWhatLiesBelow(t *testing.T) {
	e := world(map[string][2]float64{"d": {50, 1500}}, 4000)
	e.Set(pool, "busy_share", tiny.From(onset, 0.3, 0.97))
	for _, h := range []string{"h0", "h1"} {
		device := tiny.Key("hyp", "device:"+h+"-v")
		e.Set(device, "queue_latency_us", tiny.From(onset, 0, 9000))
		e.Set(device, "read_latency_us", tiny.From(onset, 1150, 13_150))
	}
	for _, name := range []string{"a", "b", "c", "d"} {
		e.Set(tiny.Key("hyp", "vdisk:"+name), "read_latency_us", tiny.From(onset, 1200, 13_200))
	}
	x := explain(t, e, "a")
	require.NotNil(t, x.Verdict.Component, words(x))
	assert.Equal(t, pool.String(), x.Verdict.Component.Ref, "three quarters of the time is added in the queue")
	assert.Equal(t, []string{"d"}, accused(x))

	// The same wait with a pool that is as quick as before is the queue's own.
	e.Set(volume, "read_latency_us", tiny.Always(1000))
	e.Set(pool, "read_latency_us", tiny.Always(800))
	e.Set(pool, "busy_share", tiny.Always(0.3))
	for _, h := range []string{"h0", "h1"} {
		e.Set(tiny.Key("hyp", "device:"+h+"-v"), "read_latency_us", tiny.From(onset, 1150, 10_150))
	}
	for _, name := range []string{"a", "b", "c", "d"} {
		e.Set(tiny.Key("hyp", "vdisk:"+name), "read_latency_us", tiny.From(onset, 1200, 10_200))
	}
	x = explain(t, e, "a")
	require.NotNil(t, x.Verdict.Component, words(x))
	assert.Equal(t, estate.Device, x.Verdict.Component.Kind)
}

// An array that tells nothing of its LUNs hides a copy; the one disk that began to be copied then is the reason, and of two none is.
func TestACopyInAnArrayThatTellsNothing(t *testing.T) {
	e := world(nil, 9000)
	drop(e, append(io, "busy_share", "cache_hit_share", "write_pending_share"), pool, volume, controller)
	begun := func(disk string) Event {
		return Event{Of: tiny.Key("hyp", "vdisk:"+disk), Time: e.Grid().At(onset), What: "move_begun"}
	}
	x := explain(t, e, "a", begun("c"))
	assert.Equal(t, []string{"c"}, accused(x), words(x))
	assert.Equal(t, NoisyNeighbour, x.Verdict.Class)
	assert.Empty(t, accused(explain(t, e, "a", begun("c"), begun("b"))), "nobody can say which")
	late := begun("c")
	late.Time = e.Grid().At(onset + 20)
	assert.Empty(t, accused(explain(t, e, "a", late)))
	other := begun("c")
	other.What = "migrated"
	assert.Empty(t, accused(explain(t, e, "a", other)), "a machine that moved copies nothing")
}

// A port that tells nothing is seen from the switch port it is attached to.
func TestUnevenPortsAreSeenFromTheSwitch(t *testing.T) {
	e := world(nil, 9000)
	for k := range e.Objects {
		if o := &e.Objects[k]; o.Key.Ref.Kind == estate.SwitchPort {
			o.Facts["speed_bytes_s"] = 1e9
		}
	}
	for _, key := range []estate.Key{volume} {
		e.Set(key, "read_latency_us", tiny.Always(1000))
	}
	e.Set(pool, "read_latency_us", tiny.Always(800))
	e.Set(tiny.Key("fab", "switch_port:p1"), "rx_bytes_s", tiny.From(onset, 0.3e9, 0.95e9))
	e.Set(tiny.Key("fab", "switch_port:p1"), "tx_bytes_s", tiny.Always(0))
	e.Set(tiny.Key("fab", "switch_port:p2"), "rx_bytes_s", tiny.From(onset, 0.3e9, 0.01e9))
	e.Set(tiny.Key("fab", "switch_port:p2"), "tx_bytes_s", tiny.Always(0))
	x := explain(t, e, "a")
	require.NotNil(t, x.Verdict.Component, words(x))
	assert.Equal(t, "hba_port:h0-0@hyp", x.Verdict.Component.Ref)
	assert.Equal(t, Path, x.Verdict.Class)
}

// A line that is two thirds busy is not where milliseconds arise.
func TestALineThatIsNotFullAccountsForLittle(t *testing.T) {
	weight := func(use float64) float64 {
		e := world(nil, 12_000)
		e.Set(volume, "read_latency_us", tiny.Always(1000))
		e.Set(pool, "read_latency_us", tiny.Always(800))
		for _, p := range []string{"h0-0", "h0-1"} {
			e.Set(tiny.Key("hyp", "hba_port:"+p), "tx_bytes_s", tiny.From(onset, 0.05e9, use*1e9))
			e.Set(tiny.Key("hyp", "hba_port:"+p), "rx_bytes_s", tiny.Always(0))
		}
		for _, s := range explain(t, e, "a").Evidence {
			if s.Kind == estate.HBAPort {
				return float64(s.Weight)
			}
		}
		return 0
	}
	assert.Less(t, weight(0.66), 0.25)
	assert.Greater(t, weight(0.97), 0.8)
}

// One machine that waits alone, on a LUN of its own, tells of its own queue where others beside it do not wait.
func TestOneThatWaitsAlone(t *testing.T) {
	e := world(nil, 1000)
	e.Add("hyp", "datastore:own", "ds-own", estate.Facts{"extents": []any{"naa.600d05e0000000000000000000000002"}})
	e.Add("array", "volume:own", "vol-own", estate.Facts{"naa": "naa.600d05e0000000000000000000000002", "number": 15.0}, "part_of", "array:x", "carved_from", "pool:p", "served_by", "controller:c0", "served_by", "controller:c1")
	e.Add("hyp", "device:h0-own", "", estate.Facts{"naa": "naa.600d05e0000000000000000000000002"}, "part_of", "host:h0")
	for f := range 2 {
		e.Add("hyp", "path:own-"+string(rune('0'+f)), "", estate.Facts{"initiator": tiny.WWN(1 + f), "target": tiny.WWN(20 + 10*f), "lun": 15.0, "state": "active"}, "part_of", "device:h0-own")
	}
	e.Add("hyp", "vm:lone", "lone", estate.Facts{"tier": "1"}, "runs_on", "host:h0", "uses", "vdisk:lone")
	e.Add("hyp", "vdisk:lone", "lone disk", nil, "stored_on", "datastore:own")
	e.IO(tiny.Key("hyp", "vdisk:lone"), tiny.From(onset, 100, 2000), tiny.Always(8192), tiny.From(onset, 1200, 9000))
	e.IO(tiny.Key("array", "volume:own"), tiny.From(onset, 100, 2000), tiny.Always(8192), tiny.Always(1000))
	e.Set(tiny.Key("array", "volume:own"), "cache_hit_share", tiny.Always(0))
	drop(e, append(io, "queue_latency_us"), tiny.Key("hyp", "device:h0-v"), tiny.Key("hyp", "device:h1-v"))
	x := explain(t, e, "lone")
	require.NotNil(t, x.Verdict.Component, words(x))
	assert.Equal(t, "device:h0-own@hyp", x.Verdict.Component.Ref)
	assert.Equal(t, OwnDemand, x.Verdict.Class, words(x))
}
