package target

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/internal/feed"
	"dowsingrod/internal/source/meter"
)

var noon = time.Date(2026, 3, 2, 12, 0, 0, 0, time.UTC)

const interval = 20 * time.Second

// shelves are two LUNs on one shelf and one on another, behind one portal.
func shelves() *Source {
	return &Source{targets: []portal{{number: 1, name: "iqn.2026-03.example:Gannet", sessions: map[int]string{4: "iqn.2026-03.example:lighthouse-01"}, luns: []lun{
		{number: 1, kind: "disk", id: "a", backing: "/srv/one/a"}, {number: 2, kind: "disk", id: "b", backing: "/srv/one/b"}, {number: 3, kind: "disk", id: "c", backing: "/srv/two/c"}, {number: 0, kind: "controller", id: "ctl"},
	}}}}
}

func byRef(runs []feed.Reading) map[string]feed.Reading {
	out := map[string]feed.Reading{}
	for _, r := range runs {
		out[r.Of] = r
	}
	return out
}

// What sessions did is that of flows, LUNs, ports and shelves together: the same commands, however they are added up.
func TestCommandsAreAddedUpByWhatCarriedThem(t *testing.T) {
	src := shelves()
	p := &src.targets[0]
	s := newSums(interval)
	for number, grown := range map[int][]float64{1: {100, 819200, 0, 0}, 2: {40, 327680, 20, 163840}, 3: {10, 81920, 0, 0}} {
		s.add(p, count{target: 1, lun: number, session: 4, readsSent: 1}, meter.Interval{From: noon, Grown: grown})
	}
	s.add(p, count{target: 1, lun: 0, session: 4}, meter.Interval{From: noon, Grown: []float64{9, 9, 9, 9}})
	got := byRef(s.runs(src))
	volume := func(n int) string { return "volume:" + p.lunID(n) }
	for of, reads := range map[string]float64{volume(1): 100, volume(2): 40, volume(3): 10, "pool:/srv/one": 140, "pool:/srv/two": 10, "target_port:iqn.2026-03.example:gannet": 150} {
		require.Contains(t, got, of)
		assert.Equal(t, reads/20, got[of].Values["read_iops"][0], of)
		assert.Equal(t, reads*8192/20, got[of].Values["read_bytes_s"][0], of)
		assert.NotContains(t, got[of].Values, "read_latency_us", "nobody looked what was in flight")
		assert.Equal(t, 20.0, got[of].Step)
	}
	assert.Contains(t, got, "flow:iqn.2026-03.example:lighthouse-01|"+p.lunID(1))
	assert.NotContains(t, got, "volume:"+p.lunID(0), "the controller's own LUN is no disk")
}

// Times follow from what was in flight, by Little's law, where it was looked at for half the interval; those of a shelf from its LUNs'.
func TestTimesFollowFromWhatWasInFlight(t *testing.T) {
	for name, c := range map[string]struct {
		looked float64 // part of the interval
		timed  bool
	}{"all of it": {1, true}, "half of it": {0.5, true}, "less": {0.4, false}} {
		t.Run(name, func(t *testing.T) {
			src := shelves()
			p := &src.targets[0]
			s := newSums(interval)
			for _, n := range []int{1, 2} {
				s.add(p, count{target: 1, lun: n, session: 4, readsSent: 1}, meter.Interval{From: noon, Grown: []float64{1000, 8192000, 0, 0}})
				// 2 reads in flight while it was looked: in flight × time, reads and writes, then the time and the number of looks.
				s.fly(p.lunID(n), meter.Interval{From: noon, Grown: []float64{2 * c.looked * 20e9, 0, c.looked * 20e9, 200 * c.looked}})
			}
			got := byRef(s.runs(src))
			one, shelf := got["volume:"+p.lunID(1)].Values, got["pool:/srv/one"].Values
			if !c.timed {
				assert.NotContains(t, one, "read_latency_us")
				return
			}
			assert.InDelta(t, 40_000, one["read_latency_us"][0], 1e-6, "2 in flight ÷ 50 a second")
			assert.InDelta(t, 2, one["outstanding"][0], 1e-9)
			assert.True(t, math.IsNaN(one["write_latency_us"][0]), "nothing was written")
			assert.InDelta(t, 40_000, shelf["read_latency_us"][0], 1e-6)
			assert.InDelta(t, 4, shelf["outstanding"][0], 1e-9)
		})
	}
}

// Commands that no look caught took less than the time between two; half of one look stands for all of them.
func TestCommandsTooQuickToBeSeen(t *testing.T) {
	src := shelves()
	p := &src.targets[0]
	s := newSums(interval)
	s.add(p, count{target: 1, lun: 1, session: 4, readsSent: 1}, meter.Interval{From: noon, Grown: []float64{1000, 8192000, 0, 0}})
	s.fly(p.lunID(1), meter.Interval{From: noon, Grown: []float64{0, 0, 20e9, 200}})
	v := byRef(s.runs(src))["volume:"+p.lunID(1)].Values
	assert.InDelta(t, 50, v["read_latency_us"][0], 1e-9, "50 ms by 1000")
}

// What a session that ended did last is not known: its LUN has a gap, and so has all that carried it; what did not is whole.
func TestASessionThatEndedLeavesAGap(t *testing.T) {
	src := shelves()
	p := &src.targets[0]
	s := newSums(interval)
	for _, n := range []int{1, 3} {
		s.add(p, count{target: 1, lun: n, session: 4, readsSent: 1}, meter.Interval{From: noon, Grown: []float64{100, 819200, 0, 0}})
		s.add(p, count{target: 1, lun: n, session: 4, readsSent: 1}, meter.Interval{From: noon.Add(interval), Grown: []float64{100, 819200, 0, 0}})
	}
	s.spoil(p.lunID(1), noon)
	first := map[string]bool{}
	for _, r := range s.runs(src) {
		if r.From.Equal(noon) {
			first[r.Of] = true
		}
	}
	assert.False(t, first["volume:"+p.lunID(1)])
	assert.False(t, first["pool:/srv/one"])
	assert.False(t, first["target_port:iqn.2026-03.example:gannet"])
	assert.True(t, first["volume:"+p.lunID(3)])
	assert.True(t, first["pool:/srv/two"])
	assert.True(t, first["flow:iqn.2026-03.example:lighthouse-01|"+p.lunID(1)], "what another session did is known")
	assert.Len(t, s.runs(src), 4+7, "the next interval is whole: two LUNs, two shelves, the port and a flow of each")
}
