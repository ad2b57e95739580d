package lab

import (
	"math"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/internal/feed"
)

var noon = time.Date(2026, 3, 2, 12, 0, 0, 0, time.UTC)

func grow(t testing.TB, o Options) *Fleet {
	t.Helper()
	if o.VMs == 0 {
		o.VMs = 120
	}
	if o.To.IsZero() {
		o.To = noon
	}
	if o.From.IsZero() {
		o.From = o.To.Add(-time.Hour)
	}
	f, err := Grow(o)
	require.NoError(t, err)
	return f
}

// The operational laws hold by themselves in any measured system (Denning and Buzen 1978): so they must at every object and in
// every interval of this one, whatever goes wrong.
func TestTheLawsHoldEverywhereWhateverGoesWrong(t *testing.T) {
	for k, kind := range Kinds() {
		f := grow(t, Options{Fault: kind.Name, Seed: uint64(k + 1)})
		l := f.hurt
		for at := f.Onset.Add(-3 * Step); at.Before(f.Onset.Add(10 * Step)); at = at.Add(Step) {
			l.takeTurns(at, map[string][]feed.Record{})
			l.step(at, Step)
			l.gather()
			n := l.main.net
			busy, visits := make([]float64, len(n.Stations)), make([]float64, len(n.Stations))
			for i := range n.Tenants {
				x := &n.Tenants[i]
				if x.Threads <= 0 {
					continue
				}
				require.InEpsilon(t, x.Threads, x.Rate*(x.Response+x.Throttled+x.Think), 1e-6, "%s: Little's law around the loop", kind.Name)
				if x.Holder >= 0 {
					busy[x.Holder] += x.Rate * x.Held
					visits[x.Holder] += x.Rate
				}
				for v := x.From; v < x.To; v++ {
					busy[n.Visits[v].Station] += x.Rate * n.Visits[v].Count * n.Visits[v].Work
				}
			}
			for _, d := range l.devices {
				require.InDelta(t, busy[d.queue], n.Stations[d.queue].Busy, 1e-6+1e-6*busy[d.queue], "%s: places taken on %s", kind.Name, d.id)
				require.LessOrEqual(t, n.Stations[d.queue].Busy, 1.03*n.Stations[d.queue].Servers, "%s: no more than its depth on %s", kind.Name, d.id)
			}
			for _, p := range l.pools {
				require.InDelta(t, busy[p.station], n.Stations[p.station].Busy, 1e-6+1e-6*busy[p.station], "%s: utilization law at %s", kind.Name, p.ref())
				require.LessOrEqual(t, n.Stations[p.station].Busy, 1.03*float64(p.drives), "%s: no drive is busier than always", kind.Name)
			}
			disks, devices, volumes := 0.0, 0.0, 0.0
			for _, d := range l.disks {
				if d.volume.share == "" {
					disks += d.seen[0].reads + d.seen[1].reads
				}
			}
			for _, d := range l.devices {
				devices += d.io.reads
			}
			for _, v := range l.volumes {
				if v.device == nil && v.share == "" {
					volumes += v.io.reads
				}
			}
			require.InEpsilon(t, disks, devices, 1e-9, "%s: what disks read goes through devices", kind.Name)
			require.InEpsilon(t, disks, volumes, 1e-9, "%s: and comes from volumes", kind.Name)
		}
	}
}

func TestEveryFaultHurtsWhoItSays(t *testing.T) {
	for _, kind := range Kinds() {
		for seed := uint64(1); seed <= 3; seed++ {
			f := grow(t, Options{VMs: 200, Fault: kind.Name, Seed: seed, From: noon.Add(-100 * time.Minute), Every: time.Minute})
			listed := map[string]bool{}
			require.NoError(t, f.each(func(*Lab) error { return nil }))
			for _, s := range f.Sources() {
				for _, o := range f.Inventory(s.Name) {
					listed[o.Ref().String()+"@"+s.Name] = true
				}
			}
			require.NoError(t, f.Write(func(string, feed.Record) error { return nil }))
			truth := f.Truth()
			if kind.Name == "quiet" {
				assert.Empty(t, truth.Causes)
				continue
			}
			for _, c := range truth.Causes {
				say := kind.Name + " " + c.Fault
				assert.True(t, c.Onset.Before(c.End), say)
				for _, v := range c.Culprits {
					assert.True(t, listed[v], say)
					assert.NotContains(t, truth.Decoys, v, "%s: who did it is no decoy", say)
				}
				if c.Class == "cleared" {
					assert.Empty(t, c.Sufferers, say)
					assert.Empty(t, c.Component, say)
					assert.True(t, listed[c.Subject], say)
					continue
				}
				assert.True(t, listed[c.Component], "%s: %s is listed", say, c.Component)
				assert.NotEmpty(t, c.Sufferers, "%s, seed %d: somebody suffers", say, seed)
				for _, s := range c.Sufferers {
					assert.True(t, listed[s.VM], say)
					assert.GreaterOrEqual(t, s.Added, hurtTime*1e6, say)
				}
				switch c.Class {
				case "noisy_neighbour", "own_demand":
					assert.NotEmpty(t, c.Culprits, say)
				default:
					assert.Empty(t, c.Culprits, say)
				}
			}
			assert.NotEmpty(t, truth.Decoys, kind.Name)
		}
	}
}

func TestTheSameOptionsGiveTheSameBytes(t *testing.T) {
	write := func(seed uint64) map[string]string {
		dir := t.TempDir()
		f := grow(t, Options{VMs: 300, Fault: "migration", Seed: seed, From: noon.Add(-30 * time.Minute)})
		_, err := f.WriteFolder(dir)
		require.NoError(t, err)
		out := map[string]string{}
		files, err := os.ReadDir(dir)
		require.NoError(t, err)
		for _, x := range files {
			b, err := os.ReadFile(filepath.Join(dir, x.Name()))
			require.NoError(t, err)
			out[x.Name()] = string(b)
		}
		return out
	}
	a, b, c := write(4), write(4), write(5)
	require.Len(t, a, 15, "seven sources for each of two parts, and the truth")
	assert.True(t, mapsEqual(a, b))
	assert.False(t, mapsEqual(a, c))
}

func mapsEqual(a, b map[string]string) bool {
	if len(a) != len(b) {
		return false
	}
	for k := range a {
		if a[k] != b[k] {
			return false
		}
	}
	return true
}

func TestSourcesSeeTheEstateEachInItsWay(t *testing.T) {
	f := grow(t, Options{VMs: 120, Seed: 11, From: noon.Add(-6 * time.Hour)})
	steps, ahead, gaps := map[string]float64{}, map[string]time.Duration{}, 0
	require.NoError(t, f.Write(func(source string, r feed.Record) error {
		if r.Reading == nil {
			return nil
		}
		steps[source] = r.Reading.Step
		ahead[source] = r.Reading.From.Sub(r.Reading.From.Truncate(time.Duration(r.Reading.Step) * time.Second))
		for name, v := range r.Reading.Values {
			for _, x := range v {
				if math.IsNaN(x) && name == "busy_share" {
					gaps++
				}
				if !math.IsNaN(x) && strings.HasSuffix(name, "_us") && x != math.Trunc(x) {
					t.Fatalf("%s %s: %v is no whole number of µs", r.Reading.Of, name, x)
				}
			}
		}
		return nil
	}))
	require.Len(t, steps, 7)
	assert.InDelta(t, 20, steps["hyp-northmole"], 0)
	assert.GreaterOrEqual(t, steps["heron"], 60.0)
	differ := map[time.Duration]bool{}
	for _, a := range ahead {
		differ[a] = true
	}
	assert.Greater(t, len(differ), 4, "clocks differ")
	assert.Positive(t, gaps, "some intervals are missed")
}

func TestSpansJoinUpWhateverTheirLength(t *testing.T) {
	read := func(spans ...time.Duration) map[string]feed.Values {
		f := grow(t, Options{VMs: 60, Seed: 2, Steady: true, From: noon.Add(-time.Hour)})
		out, at := map[string]feed.Values{}, f.From
		ends := map[string]time.Time{}
		for _, d := range spans {
			require.NoError(t, f.WriteSpan(at, at.Add(d), false, func(source string, r feed.Record) error {
				if r.Reading == nil || r.Reading.Values["busy_share"] == nil {
					return nil
				}
				key := r.Reading.Of + "@" + source
				if end, ok := ends[key]; ok {
					assert.True(t, end.Equal(r.Reading.From), "%s goes on where it ended", key)
				}
				v := r.Reading.Values["busy_share"]
				ends[key] = r.Reading.From.Add(time.Duration(float64(len(v)) * r.Reading.Step * 1e9))
				out[key] = append(out[key], v...)
				return nil
			}))
			at = at.Add(d)
		}
		return out
	}
	whole := read(time.Hour)
	minutes := make([]time.Duration, 60)
	for k := range minutes {
		minutes[k] = time.Minute
	}
	pieces := read(minutes...)
	require.NotEmpty(t, whole)
	assert.Equal(t, whole, pieces)
}

func TestOptionsThatMakeNoSenseAreRefused(t *testing.T) {
	for _, o := range []Options{
		{VMs: 10}, {VMs: 2_000_000}, {VMs: 100, To: noon.Add(-24 * time.Hour)}, {VMs: 100, Fault: "gremlins"}, {VMs: 100, Fault: "limit", Force: 50},
		{VMs: 100, Fault: "limit", Onset: noon.Add(time.Hour)}, {VMs: 100, Every: 15 * time.Second},
	} {
		if o.To.IsZero() {
			o.To = noon
		}
		o.From = noon.Add(-time.Hour)
		_, err := Grow(o)
		assert.Error(t, err, "%+v", o)
	}
}
