package strata_test

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/estate"
	"dowsingrod/core/internal/tiny"
	"dowsingrod/core/reading"
	. "dowsingrod/core/strata"
)

// listed hands out only the readings that Needs named.
type listed struct {
	*tiny.Estate
	allowed map[string]bool
	missed  []string
}

func (l *listed) Runs(k estate.Key, metric string) []reading.Series {
	if !l.allowed[k.String()+" "+metric] {
		if len(l.Estate.Runs(k, metric)) > 0 {
			l.missed = append(l.missed, k.String()+" "+metric)
		}
		return nil
	}
	return l.Estate.Runs(k, metric)
}

// Whatever Compute looks at that has readings must have been asked for, or it would be taken for
// missing.
func TestNeedsNamesAllThatIsLookedAt(t *testing.T) {
	w := calm()
	w.back = tiny.From(60, 1200, 9000)
	e := measured(90, w)
	for _, o := range e.Objects { // every object reports what its kind can
		for _, m := range reading.Catalogue {
			if m.On(o.Key.Ref.Kind) && len(e.Runs(o.Key, m.Name)) == 0 {
				v := 0.4
				if m.Unit != reading.SharePart {
					v = 100
				}
				e.Set(o.Key, m.Name, tiny.Always(v))
			}
		}
	}
	for _, of := range []string{"vm:manifest-db-01", "vdisk:manifest-db-01", "datastore:ds", "host:h0"} {
		key := tiny.Key("hyp", of)
		l := &listed{Estate: e, allowed: map[string]bool{}}
		for _, n := range Needs(e.Moments(), key) {
			for _, m := range n.Metrics {
				l.allowed[n.Key.String()+" "+m] = true
			}
		}
		got, err := Compute(e.Grid(), 30, e.Moments(), key, l)
		require.NoError(t, err)
		assert.Empty(t, l.missed, of)
		want, err := Compute(e.Grid(), 30, e.Moments(), key, e)
		require.NoError(t, err)
		assert.InDelta(t, float64(want.Read.Mean), float64(got.Read.Mean), 1e-9)
		assert.Equal(t, want.Verdict, got.Verdict)
	}
}

func TestADatastoreThatTimesIOItselfIsToldApart(t *testing.T) {
	e := measured(90, calm())
	e.IO(tiny.Key("hyp", "datastore:ds"), tiny.Always(1000), tiny.Always(8192), tiny.Always(1450+40))
	s := compute(t, e, "vm:manifest-db-01")
	assert.InDelta(t, 40, float64(band(s, estate.LayerDatastore).Mean), 0.01)
	assert.InDelta(t, 40, float64(band(s, estate.LayerGuest).Mean), 0.01)
}

func TestAFileShareHasNoHostDevice(t *testing.T) {
	e := tiny.New(60)
	e.Add("array", "share:s", "drift", estate.Facts{"export": "filer:/drift"}, "carved_from", "pool:p")
	e.Add("hyp", "datastore:nfs", "ds-bladder-01", estate.Facts{"export": "FILER:/drift/"})
	e.Add("hyp", "vdisk:n", "n", nil, "stored_on", "datastore:nfs")
	e.Add("hyp", "vm:n", "n", nil, "runs_on", "host:h0", "uses", "vdisk:n")
	e.IO(tiny.Key("hyp", "vdisk:n"), tiny.Always(100), tiny.Always(4096), tiny.Always(900))
	e.IO(tiny.Key("array", "share:s"), tiny.Always(100), tiny.Always(4096), tiny.Always(600))
	s := compute(t, e, "vm:n")
	assert.InDelta(t, 900, float64(band(s, estate.LayerAboveArray).Mean)+float64(band(s, estate.LayerInArray).Mean), 0.01, "guest, host and network stay together, and so do front and back end")
	assert.InDelta(t, 0, float64(band(s, estate.LayerBackEnd).Mean), 0.01)
}

func TestBehindAVirtualizerTheFabricIsCountedTwice(t *testing.T) {
	e := tiny.New(60)
	const outer = "naa.600d05e0000000000000000000000002"
	e.Add("virt", "array:y", "petrel", nil)
	e.Add("virt", "device:be", "be", estate.Facts{"naa": "600d05e0000000000000000000000001"}, "part_of", "array:y")
	e.Add("virt", "volume:vv", "stretched-1", estate.Facts{"naa": outer}, "part_of", "array:y", "backed_by", "device:be")
	e.Add("hyp", "datastore:d2", "ds-carrageen-01", estate.Facts{"extents": []any{outer}})
	e.Add("hyp", "device:h0-vv", "", estate.Facts{"naa": outer}, "part_of", "host:h0")
	e.Add("hyp", "vdisk:n", "n", nil, "stored_on", "datastore:d2")
	e.Add("hyp", "vm:n", "n", nil, "runs_on", "host:h0", "uses", "vdisk:n")
	x, size := tiny.Always(100), tiny.Always(4096)
	e.IO(tiny.Key("hyp", "vdisk:n"), x, size, tiny.Always(1000))
	e.IO(tiny.Key("hyp", "device:h0-vv"), x, size, tiny.Always(900))
	e.Set(tiny.Key("hyp", "device:h0-vv"), "queue_latency_us", tiny.Always(50))
	vv := tiny.Key("virt", "volume:vv")
	e.IO(vv, x, size, tiny.Always(780))
	e.Set(vv, "cache_hit_share", tiny.Always(0.5))
	e.IO(tiny.Key("virt", "device:be"), tiny.Always(50), size, tiny.Always(1000))
	e.IO(tiny.Key("array", "volume:v"), tiny.Always(50), size, tiny.Always(800))
	s := compute(t, e, "vm:n")
	for l, want := range map[estate.Layer]float64{estate.LayerGuest: 100, estate.LayerHost: 50, estate.LayerFabric: 70 + 0.5*200, estate.LayerFrontEnd: 780 - 500, estate.LayerBackEnd: 0.5 * 800} {
		assert.InDelta(t, want, float64(band(s, l).Mean), 0.1, l)
	}
}

func TestWritesWaitForTheBackEndOnlyWhenTheCacheIsFull(t *testing.T) {
	for pending, layer := range map[float64]estate.Layer{0.3: estate.LayerFrontEnd, 0.85: estate.LayerInArray} {
		e := measured(60, calm())
		for vm, host := range map[string]string{"manifest-db-01": "h0", "tide-model-01": "h1"} {
			for _, k := range []estate.Key{tiny.Key("hyp", "vdisk:"+vm), tiny.Key("hyp", "device:"+host+"-v")} {
				e.Set(k, "write_iops", tiny.Always(100))
				e.Set(k, "write_latency_us", tiny.Always(500))
			}
		}
		v := tiny.Key("array", "volume:v")
		e.Set(v, "write_iops", tiny.Always(200))
		e.Set(v, "write_latency_us", tiny.Always(400))
		e.Set(tiny.Key("array", "controller:c0"), "write_pending_share", tiny.Always(pending))
		s := compute(t, e, "vm:manifest-db-01")
		found := reading.Missing
		for _, b := range s.Write.Bands {
			if b.Layer == layer {
				found = b.Mean
			}
		}
		assert.InDelta(t, 400, float64(found), 0.1, "pending %v", pending)
	}
}

// A source that knows only minutes must not make layers differ within the minute.
func TestACoarseSourceShowsNoFalseDelay(t *testing.T) {
	e := measured(90, calm())
	swing := func(i int) float64 { return 3000 + 2500*math.Sin(float64(i)) } // cell by cell
	for vm, host := range map[string]string{"manifest-db-01": "h0", "tide-model-01": "h1"} {
		e.Set(tiny.Key("hyp", "vdisk:"+vm), "read_latency_us", func(i int) float64 { return swing(i) + 180 })
		e.Set(tiny.Key("hyp", "device:"+host+"-v"), "read_latency_us", func(i int) float64 { return swing(i) + 100 })
	}
	coarse := func(f func(int) float64) []float64 {
		var out []float64
		for i := 0; i < 90; i += 3 {
			out = append(out, (f(i)+f(i+1)+f(i+2))/3)
		}
		return out
	}
	v, p := tiny.Key("array", "volume:v"), tiny.Key("array", "pool:p")
	r := &slow{Estate: e, step: 3 * time.Minute, rows: map[string][]float64{
		v.String() + " read_iops": coarse(tiny.Always(1000)), v.String() + " read_latency_us": coarse(swing), v.String() + " cache_hit_share": coarse(tiny.Always(hit)),
		p.String() + " read_iops": coarse(tiny.Always(400)), p.String() + " read_latency_us": coarse(func(i int) float64 { return (swing(i) - 150) / (1 - hit) })}}
	s, err := Compute(e.Grid(), 0, e.Moments(), tiny.Key("hyp", "vm:manifest-db-01"), r)
	require.NoError(t, err)
	assert.InDelta(t, 70, float64(band(s, estate.LayerFabric).Mean), 4)
	assert.InDelta(t, 80, float64(band(s, estate.LayerGuest).Mean), 4)
	assert.InDelta(t, 150, float64(band(s, estate.LayerFrontEnd).Mean), 8)
}

type slow struct {
	*tiny.Estate
	step time.Duration
	rows map[string][]float64
}

func (s *slow) Runs(k estate.Key, metric string) []reading.Series {
	if row := s.rows[k.String()+" "+metric]; row != nil {
		return []reading.Series{{From: tiny.Start, Step: s.step, Values: row}}
	}
	return s.Estate.Runs(k, metric)
}

func TestBasisSaysWhatItRestsOn(t *testing.T) {
	s := compute(t, measured(90, calm()), "vm:manifest-db-01")
	points := map[string]Basis{}
	for _, b := range s.Basis {
		points[b.Point] = b
	}
	require.Contains(t, points, "virtual disk")
	assert.Equal(t, 2, points["host device"].Objects, "all hosts' devices, to compare like with like")
	assert.Equal(t, "array", points["array front end"].Source)
	assert.InDelta(t, 60, points["pool"].Interval, 1e-9)
	assert.EqualValues(t, 1, points["virtual disk"].Coverage)
}

func TestComponentsWithoutDisksHaveNoStrata(t *testing.T) {
	e := measured(60, calm())
	e.Add("array", "volume:idle", "idle", nil)
	s, err := Compute(e.Grid(), 0, e.Moments(), tiny.Key("array", "volume:idle"), e)
	require.NoError(t, err)
	assert.Zero(t, s.Disks)
	assert.Equal(t, Unknown, s.Verdict)
	assert.Contains(t, s.Statement[0].Text, "No virtual disk depends on")
	_, err = Compute(e.Grid(), 0, e.Moments(), tiny.Key("array", "volume:none"), e)
	assert.Error(t, err)
}

func TestTheStorageIsNotTheCauseNeedsAReason(t *testing.T) {
	vm := tiny.Key("hyp", "vm:manifest-db-01")
	say := func(steal, busy float64) string {
		e := measured(90, calm())
		e.Set(vm, "steal_share", tiny.From(60, 0.01, steal))
		e.Set(vm, "busy_share", tiny.From(60, 0.3, busy))
		var text string
		for _, p := range compute(t, e, "vm:manifest-db-01").Statement {
			text += p.Text
		}
		return text
	}
	assert.NotContains(t, say(0.01, 0.3), "not the cause", "without a reason elsewhere it only clears the storage")
	assert.Contains(t, say(0.30, 0.3), "waits up to 30 % of the time for a processor")
	assert.Contains(t, say(0.01, 0.99), "processors are up to 99 % busy")
}

// Virtual disk and array are timed and nothing between: the array's border still tells two parts apart, and the
// component inside that slowed is found.
func TestAnArrayBesideAHypervisorWithoutDevices(t *testing.T) {
	e := tiny.New(90)
	e.Add("array", "volume:direct", "LUN 1", estate.Facts{"luns": []any{"iqn.2026-03.example.tidewrack:shags/1"}}, "carved_from", "pool:p")
	e.Add("hyp", "datastore:direct", "shags LUN 1", estate.Facts{"extents": []any{"iqn.2026-03.example.tidewrack:shags/1"}})
	e.Add("hyp", "vdisk:n", "n", nil, "stored_on", "datastore:direct")
	e.Add("hyp", "vm:n", "n", nil, "runs_on", "host:h0", "uses", "vdisk:n")
	e.IO(tiny.Key("hyp", "vdisk:n"), tiny.Always(20), tiny.Always(8192), tiny.From(60, 1000, 10000))
	e.IO(tiny.Key("array", "volume:direct"), tiny.Always(20), tiny.Always(8192), tiny.From(60, 600, 9000))
	e.IO(tiny.Key("array", "pool:p"), tiny.Always(200), tiny.Always(8192), tiny.From(60, 600, 40000))
	s := compute(t, e, "vm:n")
	assert.InDelta(t, 400, float64(band(s, estate.LayerAboveArray).Usual), 1)
	assert.InDelta(t, 9000, float64(band(s, estate.LayerInArray).During), 1)
	require.NotNil(t, s.Change)
	assert.Equal(t, estate.LayerInArray, s.Change.Layer)
	assert.Equal(t, "pool:p@array", s.Change.Component)
	assert.Equal(t, []estate.Layer{estate.LayerAboveArray}, s.Change.Cleared)
}
