package strata_test

import (
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/estate"
	"dowsingrod/core/internal/tiny"
	"dowsingrod/core/phrase"
	"dowsingrod/core/reading"
	"dowsingrod/core/route"
	. "dowsingrod/core/strata"
)

// truth is what each layer really adds to a read, µs, per cell.
type truth struct{ guest, host, fabric, front, back func(int) float64 }

const hit = 0.6

// measured builds an estate whose readings follow from the truth: two VMs on one volume, each layer's
// figure including everything below it.
func measured(n int, w truth) *tiny.Estate {
	e := tiny.New(n)
	e.AddVM("manifest-db-01", 0)
	e.AddVM("tide-model-01", 1)
	sum := func(fs ...func(int) float64) func(int) float64 {
		return func(i int) float64 {
			var s float64
			for _, f := range fs {
				s += f(i)
			}
			return s
		}
	}
	size := tiny.Always(8192)
	for vm, host := range map[string]string{"manifest-db-01": "h0", "tide-model-01": "h1"} {
		e.IO(tiny.Key("hyp", "vdisk:"+vm), tiny.Always(500), size, sum(w.guest, w.host, w.fabric, w.front, w.back))
		d := tiny.Key("hyp", "device:"+host+"-v")
		e.IO(d, tiny.Always(500), size, sum(w.host, w.fabric, w.front, w.back))
		e.Set(d, "queue_latency_us", w.host)
	}
	v := tiny.Key("array", "volume:v")
	e.IO(v, tiny.Always(1000), size, sum(w.front, w.back))
	e.Set(v, "cache_hit_share", tiny.Always(hit))
	p := tiny.Key("array", "pool:p")
	e.IO(p, tiny.Always(1000*(1-hit)), size, func(i int) float64 { return w.back(i) / (1 - hit) })
	return e
}

func calm() truth {
	return truth{tiny.Always(80), tiny.Always(30), tiny.Always(70), tiny.Always(150), tiny.Always(1200)}
}

func compute(t *testing.T, e *tiny.Estate, of string) Strata {
	s, err := Compute(e.Grid(), e.N/3, e.Moments(), tiny.Key("hyp", of), e)
	require.NoError(t, err)
	return s
}

func band(s Strata, l estate.Layer) Band {
	for _, b := range s.Read.Bands {
		if b.Layer == l {
			return b
		}
	}
	return Band{Mean: reading.Missing, Added: reading.Missing}
}

func TestLayersAreWhatTheyReallyAre(t *testing.T) {
	s := compute(t, measured(90, calm()), "vm:manifest-db-01")
	for l, want := range map[estate.Layer]float64{estate.LayerGuest: 80, estate.LayerHost: 30, estate.LayerDatastore: 0, estate.LayerFabric: 70, estate.LayerFrontEnd: 150, estate.LayerBackEnd: 1200} {
		assert.InDelta(t, want, float64(band(s, l).Mean), 0.01, l)
	}
	assert.InDelta(t, 1530, float64(s.Read.Mean), 0.01)
	assert.Equal(t, Cleared, s.Verdict)
	assert.Contains(t, phrase.Text(s.Statement, time.UTC), "nothing in the storage slowed down")
	assert.Nil(t, s.Change)
	assert.EqualValues(t, 1, s.Coverage)
}

func TestNamesTheLayerThatSlowed(t *testing.T) {
	for layer, slow := range map[estate.Layer]func(*truth){
		estate.LayerGuest:    func(w *truth) { w.guest = tiny.From(60, 80, 6000) },
		estate.LayerHost:     func(w *truth) { w.host = tiny.From(60, 30, 6000) },
		estate.LayerFabric:   func(w *truth) { w.fabric = tiny.From(60, 70, 6000) },
		estate.LayerFrontEnd: func(w *truth) { w.front = tiny.From(60, 150, 6000) },
		estate.LayerBackEnd:  func(w *truth) { w.back = tiny.From(60, 1200, 7000) },
	} {
		t.Run(string(layer), func(t *testing.T) {
			w := calm()
			slow(&w)
			s := compute(t, measured(90, w), "vm:manifest-db-01")
			require.NotNil(t, s.Change)
			assert.Equal(t, layer, s.Change.Layer)
			assert.InDelta(t, 5900, float64(s.Change.Added), 110)
			assert.Equal(t, tiny.Start.Add(60*time.Minute), s.Change.From)
			assert.True(t, s.Change.Persists)
			assert.NotContains(t, s.Change.Cleared, layer)
			assert.GreaterOrEqual(t, len(s.Change.Cleared), 4)
			assert.Equal(t, "read", s.Change.Direction)
		})
	}
}

// Whatever the sources say, right or wrong, the layers sum to the disk's own latency, and none is below
// zero.
func TestLayersAlwaysSumToTheWhole(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	any := func() func(int) float64 {
		values := make([]float64, 90)
		for i := range values {
			values[i] = math.Exp(r.NormFloat64()*1.5) * 300
			if r.IntN(12) == 0 {
				values[i] = math.NaN()
			}
		}
		return func(i int) float64 { return values[i] }
	}
	for range 40 {
		e := measured(90, calm())
		for _, k := range []estate.Key{tiny.Key("hyp", "vdisk:manifest-db-01"), tiny.Key("hyp", "device:h0-v"), tiny.Key("array", "volume:v"), tiny.Key("array", "pool:p")} {
			e.Set(k, "read_latency_us", any())
		}
		e.Set(tiny.Key("hyp", "device:h0-v"), "queue_latency_us", any())
		s := compute(t, e, "vm:manifest-db-01")
		for i := range s.N {
			if math.IsNaN(s.Read.Total[i]) {
				continue
			}
			var sum float64
			for _, b := range s.Read.Bands {
				require.GreaterOrEqual(t, b.Time[i], -1e-9)
				sum += b.Time[i]
			}
			require.InDelta(t, s.Read.Total[i], sum, 1e-6*s.Read.Total[i])
		}
	}
}

func TestWhatIsNotMeasuredIsNotToldApart(t *testing.T) {
	e := measured(90, calm())
	for _, m := range []string{"read_iops", "read_latency_us"} {
		e.Drop(tiny.Key("array", "volume:v"), m)
	}
	s := compute(t, e, "vm:manifest-db-01")
	assert.InDelta(t, 80, float64(band(s, estate.LayerGuest).Mean), 0.01)
	assert.InDelta(t, 1420, float64(band(s, estate.LayerUnsplit).Mean), 0.01, "fabric, front and back end stay together")
	assert.Zero(t, float64(band(s, estate.LayerBackEnd).Mean))

	e = measured(90, calm())
	e.Set(tiny.Key("array", "volume:v"), "read_iops", tiny.Always(2500)) // others use it whom no source lists
	s = compute(t, e, "vm:manifest-db-01")
	assert.NotEmpty(t, s.Notes)
	assert.Positive(t, float64(band(s, estate.LayerUnsplit).Mean), "unlike is not compared")
}

func TestMissingReadingsAreNeverHealthy(t *testing.T) {
	e := measured(90, calm())
	for _, m := range []string{"read_iops", "read_latency_us", "write_iops", "write_latency_us"} {
		e.Drop(tiny.Key("hyp", "vdisk:manifest-db-01"), m)
	}
	s := compute(t, e, "vm:manifest-db-01")
	assert.Equal(t, Unknown, s.Verdict)
	assert.Zero(t, float64(s.Coverage))
	assert.Contains(t, phrase.Text(s.Statement, time.UTC), "nothing can be said")
	assert.False(t, s.Read.Mean.Known())
}

// A VM whose own reads miss more than its neighbours' must not have that blamed on its path.
func TestOwnMixIsNotBlamedOnTheFabric(t *testing.T) {
	e := measured(90, calm())
	d, v := tiny.Key("hyp", "device:h0-v"), tiny.Key("hyp", "vdisk:manifest-db-01")
	e.Set(d, "read_latency_us", tiny.Always(1450+900))
	e.Set(v, "read_latency_us", tiny.Always(1530+900))
	e.Set(tiny.Key("hyp", "device:h1-v"), "read_latency_us", tiny.Always(1450-900))
	for _, k := range []estate.Key{d, v, tiny.Key("array", "volume:v"), tiny.Key("hyp", "device:h1-v")} {
		e.Set(k, "write_iops", tiny.Always(100))
	}
	e.Set(v, "write_latency_us", tiny.Always(80+30+70+300))
	e.Set(d, "write_latency_us", tiny.Always(30+70+300))
	e.Set(tiny.Key("hyp", "device:h1-v"), "write_latency_us", tiny.Always(30+70+300))
	e.Set(tiny.Key("array", "volume:v"), "write_iops", tiny.Always(200))
	e.Set(tiny.Key("array", "volume:v"), "write_latency_us", tiny.Always(300))
	s := compute(t, e, "vm:manifest-db-01")
	assert.InDelta(t, 70, float64(band(s, estate.LayerFabric).Mean), 1)
	assert.InDelta(t, 80, float64(band(s, estate.LayerGuest).Mean), 1)
	assert.InDelta(t, 2100, float64(band(s, estate.LayerBackEnd).Mean), 5)
}

func TestEachCellUsesTheTopologyOfItsMoment(t *testing.T) {
	e := measured(90, calm())
	before := e.Moments()[0]
	middle := tiny.Start.Add(45 * time.Minute)
	for i := range e.Objects { // the VM moves to the other host
		if e.Objects[i].Key.Ref.String() == "vm:manifest-db-01" {
			o := e.Objects[i]
			o.Links = estate.Links{estate.RunsOn: {tiny.Key("hyp", "host:h1").Ref}, estate.Uses: o.Links[estate.Uses]}
			e.Objects[i] = o
		}
	}
	after := e.Moments()[0]
	e.Set(tiny.Key("hyp", "device:h1-v"), "queue_latency_us", tiny.Always(430)) // there the queue takes longer
	s, err := Compute(e.Grid(), 0, []route.Moment{{From: before.From, To: middle, Map: before.Map}, {From: middle, To: after.To, Map: after.Map}}, tiny.Key("hyp", "vm:manifest-db-01"), e)
	require.NoError(t, err)
	host := band(s, estate.LayerHost).Time
	assert.InDelta(t, 30, host[10], 0.1)
	assert.InDelta(t, 430, host[80], 0.1)
}

// What encloses cannot take less than what it encloses: a source that says so is found, with what each says.
func TestLayersThatContradictEachOther(t *testing.T) {
	assert.Empty(t, compute(t, measured(90, calm()), "vm:manifest-db-01").Conflicts)
	e := measured(90, calm())
	e.Set(tiny.Key("array", "volume:v"), "read_latency_us", func(i int) float64 {
		if i%3 == 0 {
			return 9000
		}
		return 300
	})
	s := compute(t, e, "vm:manifest-db-01")
	require.Len(t, s.Conflicts, 1)
	x := s.Conflicts[0]
	assert.Equal(t, "read", x.Direction)
	assert.InDelta(t, 9000, float64(x.InnerTime), 1)
	assert.Less(t, float64(x.OuterTime), 2000.0)
	assert.InDelta(t, 1.0/3, float64(x.Share), 0.05)
	assert.Contains(t, x.Inner, "vol-1")
	assert.Contains(t, x.Words, "9.00 ms")
	e.Set(tiny.Key("array", "volume:v"), "read_latency_us", func(i int) float64 {
		if i%12 == 0 {
			return 9000
		}
		return 300
	})
	assert.Empty(t, compute(t, e, "vm:manifest-db-01").Conflicts, "a twelfth of the cells is chance")
	e = measured(90, calm())
	e.Set(tiny.Key("hyp", "device:h0-v"), "read_latency_us", tiny.Always(20_000))
	s = compute(t, e, "vm:manifest-db-01")
	require.NotEmpty(t, s.Conflicts)
	assert.Contains(t, s.Conflicts[0].Outer, "all virtual disks")
}

// Quantiles count I/Os, not cells: a slow cell in which little was done weighs little.
func TestQuantilesCountIOs(t *testing.T) {
	e := measured(90, calm())
	disk := tiny.Key("hyp", "vdisk:manifest-db-01")
	slow := func(i int) bool { return i >= 60 && i%10 == 0 }
	e.Set(disk, "read_iops", func(i int) float64 {
		if slow(i) {
			return 1
		}
		return 1000
	})
	e.Set(disk, "read_latency_us", func(i int) float64 {
		if slow(i) {
			return 50_000
		}
		return 1500 + float64(i)
	})
	d := compute(t, e, "vm:manifest-db-01").Read
	assert.Less(t, float64(d.P99), 2000.0)
	assert.LessOrEqual(t, float64(d.P50), float64(d.P95))
	assert.EqualValues(t, 50_000, d.Worst)
	require.NotNil(t, d.WorstAt)
	assert.Equal(t, tiny.Start.Add(60*time.Minute), *d.WorstAt)
}
