package compare_test

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	. "dowsingrod/core/compare"
	"dowsingrod/core/estate"
	"dowsingrod/core/internal/tiny"
	"dowsingrod/core/reading"
)

const change = 60

func world() *tiny.Estate {
	e := tiny.New(120)
	e.AddVM("a", 0)
	e.AddVM("b", 1)
	for _, n := range []string{"a", "b"} {
		e.IO(tiny.Key("hyp", "vdisk:"+n), tiny.Always(200), tiny.Always(8192), tiny.Always(1000))
	}
	e.Set(tiny.Key("array", "pool:p"), "busy_share", tiny.From(change, 0.3, 0.9))
	e.Set(tiny.Key("array", "controller:c0"), "busy_share", tiny.Always(0.2))
	return e
}

func side(t *testing.T, e *tiny.Estate, of string, from, to int) Side {
	g := e.Grid()
	m := e.Moments()[0].Map
	at, ok := m.Estate().Position(tiny.Key("hyp", of))
	require.True(t, ok)
	return Side{Grid: reading.Grid{From: g.At(from), Step: g.Step, N: to - from}, Map: m, At: at, From: e}
}

func TestWhatDiffersMostComesFirst(t *testing.T) {
	e := world()
	all := Compute(side(t, e, "vm:a", 0, change), side(t, e, "vm:a", change, 120))
	require.NotEmpty(t, all)
	assert.Equal(t, "pool:p@array", all[0].Ref)
	assert.Equal(t, "busy_share", all[0].Metric)
	assert.InDelta(t, 0.3, float64(all[0].First), 1e-9)
	assert.InDelta(t, 0.9, float64(all[0].Second), 1e-9)
	assert.EqualValues(t, 1, all[0].Apart)
	assert.Equal(t, "3.00 times as much", all[0].Words)
	for _, d := range all[1:] {
		assert.Less(t, float64(d.Weight), 0.05, "%s %s", d.Ref, d.Metric)
		assert.Equal(t, "much the same", d.Words)
	}
}

func TestPeersAreComparedInTheirPlaces(t *testing.T) {
	e := world()
	e.Set(tiny.Key("hyp", "vdisk:b"), "read_latency_us", tiny.Always(4000))
	all := Compute(side(t, e, "vm:a", 0, change), side(t, e, "vm:b", 0, change))
	require.NotEmpty(t, all)
	assert.Equal(t, "vdisk:a@hyp", all[0].Ref)
	assert.Equal(t, "vdisk:b@hyp", all[0].Other)
	assert.Equal(t, "a disk / b disk", all[0].Name, "what stands in the same place is named on both sides")
	assert.Equal(t, "read_latency_us", all[0].Metric)
	for _, d := range all {
		if d.Kind == estate.Pool {
			assert.Equal(t, d.Ref, d.Other, "what both share is compared with itself")
		}
	}
}

func TestWithoutReadingsNothingDiffers(t *testing.T) {
	e := tiny.New(120)
	e.AddVM("a", 0)
	assert.Empty(t, Compute(side(t, e, "vm:a", 0, 60), side(t, e, "vm:a", 60, 120)))
}

func TestNeedsCoverWhatIsCompared(t *testing.T) {
	e := world()
	s := side(t, e, "vm:a", 0, 60)
	kinds := map[estate.Kind]bool{}
	for _, n := range Needs(s.Map, s.At) {
		kinds[n.Key.Ref.Kind] = true
	}
	for _, k := range []estate.Kind{estate.VM, estate.VDisk, estate.Device, estate.Volume, estate.Controller, estate.Pool, estate.TargetPort} {
		assert.True(t, kinds[k], k)
	}
}

func find(t *testing.T, all []Contrast, ref, metric string) (Contrast, int) {
	t.Helper()
	for k, d := range all {
		if d.Ref == ref && d.Metric == metric {
			return d, k
		}
	}
	t.Fatalf("%s of %s is not compared", metric, ref)
	return Contrast{}, 0
}

// A multiple of next to nothing is next to nothing.
func TestWhatMattersLittleStandsBehind(t *testing.T) {
	e := world()
	port := tiny.Key("array", "target_port:t0A")
	e.Set(port, "tx_bytes_s", tiny.From(change, 1e6, 4e6)) // of 1 GB/s
	e.Set(port, "rx_bytes_s", tiny.Always(0))
	e.Set(tiny.Key("array", "controller:c0"), "busy_share", tiny.From(change, 0.05, 0.10))
	all := Compute(side(t, e, "vm:a", 0, change), side(t, e, "vm:a", change, 120))
	use, _ := find(t, all, port.String(), "utilization")
	assert.Equal(t, "much the same", use.Words)
	_, at := find(t, all, "pool:p@array", "busy_share")
	assert.Zero(t, at)
	half, _ := find(t, all, "controller:c0@array", "busy_share")
	assert.InDelta(t, math.Log(0.96/0.91), float64(half.Weight), 1e-3, "by what any queue there takes longer")
}

// A window that holds trouble for a part of it differs by what its mean does.
func TestTroubleForAPartOfAWindowCounts(t *testing.T) {
	e := world()
	e.Set(tiny.Key("hyp", "vdisk:a"), "read_latency_us", func(i int) float64 {
		if i >= change && i < change+20 {
			return 7000
		}
		return 1000 + 40*math.Sin(float64(i))
	})
	all := Compute(side(t, e, "vm:a", 0, change), side(t, e, "vm:a", change, 120))
	d, _ := find(t, all, "vdisk:a@hyp", "read_latency_us")
	assert.InDelta(t, 3000, float64(d.Second), 50)
	assert.InDelta(t, math.Log(3050.0/1050), float64(d.Weight), 0.05)
	assert.Less(t, float64(d.Apart), 0.5, "and yet most of its cells are as before")
}

// What readings scatter by is no difference.
func TestScatterIsNoDifference(t *testing.T) {
	for seed := range uint64(20) {
		r := rand.New(rand.NewPCG(seed, 3))
		e := world()
		e.Set(tiny.Key("hyp", "vdisk:a"), "read_latency_us", func(int) float64 { return 1000 * (1 + 0.4*(2*r.Float64()-1)) })
		all := Compute(side(t, e, "vm:a", 0, change), side(t, e, "vm:a", change, 120))
		d, _ := find(t, all, "vdisk:a@hyp", "read_latency_us")
		assert.Less(t, float64(d.Weight), 0.12, "seed %d", seed)
	}
}
