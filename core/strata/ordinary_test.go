package strata_test

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/estate"
	"dowsingrod/core/internal/tiny"
	"dowsingrod/core/normal"
	"dowsingrod/core/route"
	. "dowsingrod/core/strata"
)

// learnedAs is what was learned of disks: the same in every cell; nothing of one that is not listed.
func learnedAs(n int, of map[string]normal.Band) Learned {
	return func(disk estate.Key, metric string) []normal.Band {
		b, ok := of[disk.Ref.ID+" "+metric]
		if !ok {
			return nil
		}
		out := make([]normal.Band, n)
		for k := range out {
			out[k] = b
		}
		return out
	}
}

// pair is a machine with two disks, of which the first does so many reads a second and the second so many.
func pair(n int, first, second func(int) float64) *tiny.Estate {
	e := tiny.New(n)
	e.AddVM("manifest-db-01", 0)
	e.AddVM("tide-model-01", 1)
	for vm, rate := range map[string]func(int) float64{"manifest-db-01": first, "tide-model-01": second} {
		e.IO(tiny.Key("hyp", "vdisk:"+vm), rate, tiny.Always(8192), tiny.Always(1000))
	}
	return e
}

// both are the disks of both machines, as those of an application are.
func both(m *route.Map) []int32 { return m.Estate().OfKind(estate.VDisk) }

// What is usual follows what the disks do in that very cell, not what they used to do.
func TestWhatIsUsualFollowsTheMix(t *testing.T) {
	e := pair(30, func(i int) float64 { return 300 }, func(i int) float64 {
		if i < 20 {
			return 0
		}
		return 100
	})
	read, write := Ordinary(e.Grid(), 10, e.Moments(), both, e, learnedAs(20, map[string]normal.Band{
		"manifest-db-01 read_latency_us": {Low: 800, Mid: 1000, High: 1200, Basis: normal.HourOfWeek, Seen: 4},
		"tide-model-01 read_latency_us":  {Low: 3600, Mid: 5000, High: 8400, Basis: normal.HourOfDay, Seen: 6},
	}))
	require.NotNil(t, read)
	require.Len(t, read.Mid, 20, "of the cells that are shown")
	assert.Equal(t, 1000.0, read.Mid[0], "only one of them reads")
	assert.Equal(t, (300.0*1000+100*5000)/400, read.Mid[15])
	assert.Equal(t, (300.0*800+100*3600)/400, read.Low[15])
	assert.Equal(t, (300.0*1200+100*8400)/400, read.High[15])
	assert.Equal(t, normal.HourOfDay, read.Basis, "it rests on what the least known rests on")
	assert.Equal(t, 6, read.Seen)
	assert.Nil(t, write, "nothing is written")
}

// Where too much of what is done is done by disks that nothing was learned of, nothing is claimed.
func TestWhatIsUsualIsNotClaimedOfTheUnknown(t *testing.T) {
	known := map[string]normal.Band{"manifest-db-01 read_latency_us": {Low: 800, Mid: 1000, High: 1200, Basis: normal.HourOfDay, Seen: 5}}
	for name, c := range map[string]struct {
		other float64
		shown bool
	}{"a fifth of all": {100, true}, "a little more": {101, false}, "all": {1e6, false}, "nothing": {0, true}} {
		t.Run(name, func(t *testing.T) {
			e := pair(12, tiny.Always(400), tiny.Always(c.other))
			read, _ := Ordinary(e.Grid(), 0, e.Moments(), both, e, learnedAs(12, known))
			assert.Equal(t, c.shown, read != nil)
			if read != nil {
				assert.Equal(t, 1000.0, read.Mid[3])
			}
		})
	}
	e := pair(12, tiny.Always(400), tiny.Always(0))
	read, write := Ordinary(e.Grid(), 0, e.Moments(), both, e, learnedAs(12, nil))
	assert.Nil(t, read)
	assert.Nil(t, write)
}

// A cell in which nothing was learned is missing beside cells in which something was.
func TestWhatIsUsualHasGaps(t *testing.T) {
	e := pair(10, tiny.Always(400), tiny.Always(0))
	none := normal.Band{Low: math.NaN(), Mid: math.NaN(), High: math.NaN(), Basis: normal.Nothing}
	read, _ := Ordinary(e.Grid(), 0, e.Moments(), both, e, func(disk estate.Key, metric string) []normal.Band {
		out := make([]normal.Band, 10)
		for k := range out {
			if out[k] = none; k >= 5 {
				out[k] = normal.Band{Low: 1, Mid: 2, High: 3, Basis: normal.All, Seen: 8}
			}
		}
		return out
	})
	require.NotNil(t, read)
	assert.True(t, math.IsNaN(read.Mid[4]))
	assert.Equal(t, 2.0, read.Mid[5])
	assert.Equal(t, normal.All, read.Basis)
}

// The disks that are held against what is usual are those whose latency is split.
func TestTheSameDisksAreHeldAndSplit(t *testing.T) {
	e := measured(30, calm())
	m := e.Moments()[0].Map
	for of, n := range map[string]int{"vm:manifest-db-01": 1, "vdisk:manifest-db-01": 1} {
		assert.Len(t, DisksOf(tiny.Key("hyp", of))(m), n, of)
		assert.Equal(t, n, compute(t, e, of).Disks, of)
	}
	assert.Empty(t, DisksOf(tiny.Key("hyp", "vm:gone"))(m), "it is not in the estate of that moment")
	assert.Empty(t, DisksOfApplication("nobody states it")(m))
}
