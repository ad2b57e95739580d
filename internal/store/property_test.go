package store_test

import (
	"fmt"
	"maps"
	"math"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/estate"
	"dowsingrod/internal/feed"
	"dowsingrod/internal/store"
	"dowsingrod/internal/testbed"
)

// However readings arrive, overlapping, late, in pieces, with gaps, what is stored is what a plain map
// would hold: the last value said of each moment, null saying nothing.
func TestStoredReadingsAreWhatAPlainMapWouldHold(t *testing.T) {
	s := testbed.Store(t)
	take(t, s, header(t0, true), objects(vm("a", "h1")))
	r := rand.New(rand.NewPCG(11, 12))
	model := map[int64]float64{} // by unix second
	const step = 20
	for range 25 {
		from := t0.Add(time.Duration(r.IntN(1500)-200) * step * time.Second)
		values := make([]float64, 1+r.IntN(900))
		for i := range values {
			values[i] = math.Round(r.Float64()*1e4) / 1e4
			if r.IntN(6) == 0 {
				values[i] = math.NaN()
				continue
			}
			model[from.Unix()+int64(i*step)] = values[i]
		}
		take(t, s, header(t0, false), readings(from, step, values...))
	}
	got := map[int64]float64{}
	values, starts, _ := series(t, s, t0.Add(-24*time.Hour), t0.Add(48*time.Hour))
	for i, v := range values {
		if math.IsNaN(v) {
			continue
		}
		_, twice := got[starts[i].Unix()]
		require.False(t, twice, "%s is stored twice", starts[i])
		got[starts[i].Unix()] = v
	}
	assert.Equal(t, model, got)
}

// However feeds arrive, the estate of each moment is what replaying them in order of their times gives.
func TestTheEstateOfAnyMomentIsAReplay(t *testing.T) {
	type said struct {
		at   time.Time
		full bool
		vms  map[string]string // host by VM
	}
	r := rand.New(rand.NewPCG(13, 14))
	var feeds []said
	for i := range 14 {
		f := said{at: t0.Add(time.Duration(i) * time.Hour), full: i == 0 || r.IntN(3) == 0, vms: map[string]string{}}
		for k := range 5 {
			if f.full && r.IntN(4) > 0 || !f.full && r.IntN(4) == 0 {
				f.vms[fmt.Sprintf("vm-%d", k)] = fmt.Sprintf("h%d", r.IntN(3))
			}
		}
		feeds = append(feeds, f)
	}
	s := testbed.Store(t)
	for _, f := range feeds {
		var list []*feed.Object
		for _, id := range slices.Sorted(maps.Keys(f.vms)) {
			list = append(list, vm(id, f.vms[id]))
		}
		take(t, s, header(f.at, f.full), objects(list...))
	}
	for _, again := range []bool{false, true} {
		if again { // the same once more changes no moment
			f := feeds[6]
			var list []*feed.Object
			for id, host := range f.vms {
				list = append(list, vm(id, host))
			}
			take(t, s, header(f.at, false), objects(list...))
		}
		state := map[string]string{}
		for _, f := range feeds {
			if f.full {
				state = map[string]string{}
			}
			maps.Copy(state, f.vms)
			got := map[string]string{}
			for ref, o := range estateAt(t, s, f.at.Add(30*time.Minute)) {
				got[estate.Ref{Kind: o.Key.Ref.Kind, ID: o.Key.Ref.ID}.String()[len("vm:"):]] = hostOf(o)
				_ = ref
			}
			require.Equal(t, state, got, "at %s", f.at)
		}
	}
}

func TestDroppedSourcesLeaveNothing(t *testing.T) {
	s := testbed.Store(t)
	take(t, s, header(t0, true), objects(vm("a", "h1")))
	take(t, s, header(t0, false), readings(t0, 20, 0.1, 0.2))
	other := feed.Header{Version: 1, Source: "other", Time: t0, Full: true}
	take(t, s, other, objects(vm("a", "h1")))
	require.NoError(t, s.DropSources(t.Context(), []string{"hyp"}))
	sources, err := s.Sources(t.Context())
	require.NoError(t, err)
	require.Len(t, sources, 1)
	assert.Equal(t, "other", sources[0].Name)
	assert.Len(t, estateAt(t, s, t0), 1)
	take(t, s, header(t0, true), objects(vm("a", "h1")))
	id := int64(0)
	list, err := s.Estate(t.Context(), t0)
	require.NoError(t, err)
	for _, o := range list {
		if o.Key.Source == "hyp" {
			id = o.Store
		}
	}
	data, err := s.Readings(t.Context(), []store.Want{{Object: id, Metric: "busy_share"}}, t0.Add(-time.Hour), t0.Add(time.Hour))
	require.NoError(t, err)
	assert.Empty(t, data, "what comes back under the same name starts anew")
}

func TestSettings(t *testing.T) {
	s := testbed.Store(t)
	v, err := s.Setting(t.Context(), "x")
	require.NoError(t, err)
	assert.Empty(t, v)
	require.NoError(t, s.SetSetting(t.Context(), "x", "1"))
	require.NoError(t, s.SetSetting(t.Context(), "x", "2"))
	v, err = s.Setting(t.Context(), "x")
	require.NoError(t, err)
	assert.Equal(t, "2", v)
}
