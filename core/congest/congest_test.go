package congest_test

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	. "dowsingrod/core/congest"
	"dowsingrod/core/estate"
	"dowsingrod/core/internal/tiny"
	"dowsingrod/core/route"
)

// assess judges by the limits nobody changed.
func assess(e *tiny.Estate, m *route.Map, i int32) Assessment {
	return (*Book)(nil).Assess(e.Grid(), m.Estate(), i, e)
}

func TestAssess(t *testing.T) {
	pool := tiny.Key("array", "pool:p")
	short := func(v float64) func(int) float64 { // past the limit for one cell of fifty only
		return func(i int) float64 {
			if i == 20 {
				return v
			}
			return 0.3
		}
	}
	for name, c := range map[string]struct {
		busy func(int) float64
		want Condition
	}{
		"calm": {tiny.Always(0.5), Steady}, "strained": {tiny.Always(0.94), Strained}, "failing": {tiny.From(30, 0.5, 0.99), Failing},
		"one bad minute": {short(0.99), Steady}, "gone quiet": {tiny.From(20, 0.5, math.NaN()), Silent}, "never read": {tiny.Missing, NotMeasured},
	} {
		t.Run(name, func(t *testing.T) {
			e := tiny.New(50)
			e.Set(pool, "busy_share", c.busy)
			m := e.Moments()[0].Map
			i, _ := m.Estate().Position(pool)
			a := assess(e, m, i)
			assert.Equal(t, c.want, a.Condition)
			assert.Equal(t, c.want == Strained || c.want == Failing, len(a.Reasons) > 0)
		})
	}
}

func TestPortsAreJudgedByTheirBusierDirection(t *testing.T) {
	e := tiny.New(20)
	port := tiny.Key("array", "target_port:t0A") // 1e9 bytes a second
	e.Set(port, "tx_bytes_s", tiny.Always(0.95e9))
	e.Set(port, "rx_bytes_s", tiny.Always(0.10e9))
	m := e.Moments()[0].Map
	i, _ := m.Estate().Position(port)
	a := assess(e, m, i)
	require.Equal(t, Failing, a.Condition)
	assert.Equal(t, Utilization, a.Reasons[0].Metric)
	assert.InDelta(t, 0.95, float64(a.Reasons[0].Worst), 1e-9)
}

func TestPinpoint(t *testing.T) {
	change := Change{UsualFrom: 0, Begin: 30, End: 50}
	find := func(layer estate.Layer, set func(*tiny.Estate)) (string, bool) {
		e := tiny.New(50)
		e.AddVM("manifest-db-01", 0)
		set(e)
		m := e.Moments()[0].Map
		i, _ := m.Estate().Position(tiny.Key("hyp", "vm:manifest-db-01"))
		f, ok := Pinpoint(e.Grid(), m, i, layer, change, e)
		if !ok {
			return "", false
		}
		return m.Estate().At(f.At).Key.Ref.String(), true
	}
	name, ok := find(estate.LayerBackEnd, func(e *tiny.Estate) {
		e.Set(tiny.Key("array", "pool:p"), "busy_share", tiny.From(30, 0.5, 0.97))
		e.Set(tiny.Key("array", "raid_group:r1"), "busy_share", tiny.From(30, 0.5, 0.99))
	})
	assert.True(t, ok)
	assert.Equal(t, "pool:p", name, "the whole before its parts")
	name, ok = find(estate.LayerBackEnd, func(e *tiny.Estate) {
		e.Set(tiny.Key("array", "pool:p"), "busy_share", tiny.Always(0.6))
		e.Set(tiny.Key("array", "raid_group:r1"), "busy_share", tiny.From(30, 0.5, 0.99))
	})
	assert.True(t, ok)
	assert.Equal(t, "raid_group:r1", name)
	name, ok = find(estate.LayerFrontEnd, func(e *tiny.Estate) {
		e.IO(tiny.Key("array", "controller:c0"), tiny.Always(500), tiny.Always(4096), tiny.From(30, 300, 3000))
		e.IO(tiny.Key("array", "controller:c1"), tiny.Always(500), tiny.Always(4096), tiny.From(30, 300, 9000))
	})
	assert.True(t, ok)
	assert.Equal(t, "controller:c0", name, "the standby controller is in nobody's way")
	name, ok = find(estate.LayerHost, func(e *tiny.Estate) {
		e.Set(tiny.Key("hyp", "device:h0-v"), "queue_latency_us", tiny.From(30, 20, 2500))
	})
	assert.True(t, ok)
	assert.Equal(t, "device:h0-v", name, "a queue that is too short")
	limited := func(limit float64) (string, bool) {
		return find(estate.LayerFrontEnd, func(e *tiny.Estate) {
			for k := range e.Objects {
				if e.Objects[k].Key.Ref.ID == "v" {
					e.Objects[k].Facts["iops_limit"] = limit
				}
			}
			e.IO(tiny.Key("array", "volume:v"), tiny.From(30, 900, 500), tiny.Always(4096), tiny.From(30, 300, 3000))
		})
	}
	name, ok = limited(500)
	assert.True(t, ok)
	assert.Equal(t, "volume:v", name, "what it is allowed is what it does, although it did more before")
	_, ok = limited(4000)
	assert.False(t, ok, "a limit that does not bind, and a volume's own latency, say nothing")
	_, ok = find(estate.LayerBackEnd, func(e *tiny.Estate) { e.Set(tiny.Key("array", "pool:p"), "busy_share", tiny.Always(0.97)) })
	assert.False(t, ok, "busy before as well explains no change")
}
