package large_test

import (
	"bytes"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/estate"
	"dowsingrod/core/route"
	"dowsingrod/internal/feed"
	"dowsingrod/internal/lab/large"
)

var at = time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC)

func nodes(t testing.TB, o large.Options) []estate.Node {
	t.Helper()
	var all []estate.Node
	source := ""
	n, err := large.Write(o, func(r feed.Record) error {
		if r.Header != nil {
			source = r.Header.Source
			return nil
		}
		all = append(all, r.Object.Node(source))
		return nil
	})
	require.NoError(t, err)
	require.Len(t, all, n)
	return all
}

func text(t *testing.T, o large.Options) string {
	t.Helper()
	var b bytes.Buffer
	w := feed.NewWriter(&b)
	_, err := large.Write(o, w.Write)
	require.NoError(t, err)
	require.NoError(t, w.Flush())
	return b.String()
}

func TestTheSameOptionsGiveTheSameBytes(t *testing.T) {
	o := large.Options{VMs: 300, Seed: 3, Time: at}
	assert.Equal(t, text(t, o), text(t, o))
	other := o
	other.Seed = 4
	assert.NotEqual(t, text(t, o), text(t, other))
}

func TestProportionsAreThoseOfLargeEstates(t *testing.T) {
	e := estate.Of(0, slices.Values(nodes(t, large.Options{VMs: 10_000, Seed: 1, Time: at})))
	assert.Empty(t, e.Findings(), "everything is joined")
	for kind, want := range map[estate.Kind]float64{estate.VM: 10_000, estate.VDisk: 14_000, estate.Host: 350, estate.Datastore: 300, estate.Volume: 600, estate.Path: 10_000, estate.Drive: 1_200} {
		assert.InEpsilon(t, want, e.Number(kind), 0.1, kind)
	}
	m := route.NewMap(e)
	r := rand.New(rand.NewPCG(1, 1))
	vms := e.OfKind(estate.VM)
	for range 50 {
		s := m.Cut(vms[r.IntN(len(vms))], route.Folding{Most: 12})
		assert.Empty(t, s.Breaks)
		assert.NotEmpty(t, s.Routes)
		assert.Equal(t, estate.LayerBackEnd, s.Nodes[len(s.Nodes)-1].Layer)
	}
}

func TestAShareOfItChanges(t *testing.T) {
	of := func(changed float64) map[string]estate.Node {
		out := map[string]estate.Node{}
		for _, n := range nodes(t, large.Options{VMs: 2000, Seed: 1, Time: at, Changed: changed}) {
			out[n.Key.String()] = n
		}
		return out
	}
	before, after := of(0), of(0.05)
	require.Len(t, after, len(before))
	differ := map[estate.Kind]int{}
	for k, n := range after {
		if n != before[k] {
			differ[n.Key.Ref.Kind]++
		}
	}
	assert.InDelta(t, 100, differ[estate.VM], 40)
	assert.InDelta(t, 140, differ[estate.VDisk], 50)
	assert.NotZero(t, differ[estate.Path])
	assert.Zero(t, differ[estate.Cluster])
}

func TestImpossibleSizesAreRefused(t *testing.T) {
	for says, o := range map[string]large.Options{"at least one": {VMs: 0}, "between 0 and 1": {VMs: 1, Changed: 1.5}} {
		_, err := large.Write(o, func(feed.Record) error { return nil })
		require.Error(t, err)
		assert.Contains(t, err.Error(), says)
	}
	assert.True(t, strings.Contains(text(t, large.Options{VMs: 1, Seed: 1, Time: at}), `"vm"`), "the smallest has one")
}

// The map's questions at 100,000 virtual machines.
func BenchmarkMap(b *testing.B) {
	all := nodes(b, large.Options{VMs: 100_000, Seed: 1, Time: at})
	var e *estate.Estate
	b.Run("build", func(b *testing.B) {
		for b.Loop() {
			e = estate.Of(len(all), slices.Values(all))
		}
	})
	if e == nil {
		e = estate.Of(len(all), slices.Values(all))
	}
	m := route.NewMap(e)
	vms := e.OfKind(estate.VM)
	b.Run("route", func(b *testing.B) {
		r := rand.New(rand.NewPCG(1, 1))
		for b.Loop() {
			m.Cut(vms[r.IntN(len(vms))], route.Folding{Most: 12})
		}
	})
	pool := slices.MaxFunc(e.OfKind(estate.Pool), func(x, y int32) int { return len(m.VMs(x)) - len(m.VMs(y)) })
	b.Run("reach", func(b *testing.B) {
		b.ReportMetric(float64(len(m.VMs(pool))), "VMs")
		for b.Loop() {
			m.Reach(pool)
		}
	})
	b.Run("lose", func(b *testing.B) {
		for b.Loop() {
			m.Lose(pool)
		}
	})
	b.Run("section", func(b *testing.B) {
		for b.Loop() {
			m.Cut(pool, route.Folding{Most: 12})
		}
	})
	for _, q := range []string{"m", "na", "naa.600d05e", "manifest", "lighthouse-00", "50:0d:12"} {
		b.Run("find "+q, func(b *testing.B) {
			for b.Loop() {
				e.Find(q, "", 20)
			}
		})
	}
}
