package service_test

import (
	"bytes"
	"encoding/json"
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
	"dowsingrod/internal/service"
	"dowsingrod/internal/store"
	"dowsingrod/internal/testbed"
)

var begun = time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC)

func bringLarge(t *testing.T, s *service.Service, o large.Options) service.ImportResult {
	t.Helper()
	var b bytes.Buffer
	w := feed.NewWriter(&b)
	_, err := large.Write(o, w.Write)
	require.NoError(t, err)
	require.NoError(t, w.Flush())
	r, err := s.Import(t.Context(), &b, false)
	require.NoError(t, err)
	return r
}

// A picture that followed the store from import to import is the one that is read anew, now and at every moment of its past.
func TestAPictureThatFollowsIsTheOneReadAnew(t *testing.T) {
	url := testbed.Database(t)
	st, err := store.Open(t.Context(), url)
	require.NoError(t, err)
	t.Cleanup(st.Close)
	clock := func() time.Time { return begun.Add(10 * time.Hour) }
	follows := service.New(st, clock)
	first := bringLarge(t, follows, large.Options{VMs: 700, Seed: 2, Time: begun})
	require.NoError(t, follows.Load(t.Context()))
	for k, changed := range []float64{0.03, 0, 0.06} {
		o := large.Options{VMs: 700, Seed: 2, Time: begun.Add(time.Duration(k+1) * time.Hour), Changed: changed}
		r := bringLarge(t, follows, o)
		assert.Equal(t, first.Objects, r.Objects)
		assert.Less(t, r.Changed, r.Objects/5, "only what differs is written")
		assert.Zero(t, r.Gone)
		require.NoError(t, follows.Load(t.Context()))
	}
	anew := service.New(st, clock)
	for _, at := range []time.Time{{}, begun.Add(-time.Hour), begun.Add(30 * time.Minute), begun.Add(90 * time.Minute), begun.Add(150 * time.Minute), begun.Add(9 * time.Hour)} {
		for _, of := range []string{"vm:vm-000001", "vm:vm-000350", "pool:p0@heron-01", "host:h-0003", "switch:skerry-a-core1"} {
			a, errA := follows.Route(t.Context(), of, at, route.Folding{})
			b, errB := anew.Route(t.Context(), of, at, route.Folding{})
			require.Equal(t, errB, errA, "%s at %s", of, at)
			require.Equal(t, b, a, "%s at %s", of, at)
			x, errX := follows.Reach(t.Context(), of, at, 2000)
			y, errY := anew.Reach(t.Context(), of, at, 2000)
			require.Equal(t, errY, errX)
			slices.SortFunc(x.Objects, byRef)
			slices.SortFunc(y.Objects, byRef)
			left, err := json.Marshal(x) // a share that is not known is no number, and equals nothing
			require.NoError(t, err)
			right, err := json.Marshal(y)
			require.NoError(t, err)
			require.Equal(t, string(right), string(left), "%s at %s", of, at)
		}
		for _, q := range []string{"manifest-0000", "lighthouse", "naa.600d05e", "LUN 3"} {
			a, err := follows.Find(t.Context(), q, "", 500, at)
			require.NoError(t, err)
			b, err := anew.Find(t.Context(), q, "", 500, at)
			require.NoError(t, err)
			require.Equal(t, b.Objects, a.Objects, "%s at %s", q, at)
		}
	}
}

func byRef(a, b service.Dependent) int { return strings.Compare(a.Ref, b.Ref) }

// The same feed twice, and in another order of its lines, changes nothing.
func TestTheOrderOfLinesDoesNotMatter(t *testing.T) {
	s := service.New(testbed.Store(t), func() time.Time { return begun.Add(10 * time.Hour) })
	var head []feed.Record
	parts := map[string][]feed.Record{}
	source := ""
	_, err := large.Write(large.Options{VMs: 60, Seed: 5, Time: begun}, func(r feed.Record) error {
		if r.Header != nil {
			source = r.Header.Source
			head = append(head, r)
			return nil
		}
		parts[source] = append(parts[source], r)
		return nil
	})
	require.NoError(t, err)
	write := func(backward bool) string {
		var b bytes.Buffer
		w := feed.NewWriter(&b)
		heads := slices.Clone(head)
		if backward {
			slices.Reverse(heads)
		}
		for _, h := range heads {
			require.NoError(t, w.Write(h))
			lines := slices.Clone(parts[h.Header.Source])
			if backward {
				slices.Reverse(lines)
			}
			for _, r := range lines {
				require.NoError(t, w.Write(r))
			}
		}
		require.NoError(t, w.Flush())
		return b.String()
	}
	_, err = s.Import(t.Context(), strings.NewReader(write(false)), false)
	require.NoError(t, err)
	before, err := s.Route(t.Context(), "vm:vm-000007", time.Time{}, route.Folding{})
	require.NoError(t, err)
	again, err := s.Import(t.Context(), strings.NewReader(write(true)), false)
	require.NoError(t, err)
	assert.Zero(t, again.Changed+again.Gone)
	after, err := s.Route(t.Context(), "vm:vm-000007", time.Time{}, route.Folding{})
	require.NoError(t, err)
	assert.Equal(t, before, after)
	other := service.New(testbed.Store(t), func() time.Time { return begun.Add(10 * time.Hour) })
	_, err = other.Import(t.Context(), strings.NewReader(write(true)), false)
	require.NoError(t, err)
	mirrored, err := other.Route(t.Context(), "vm:vm-000007", time.Time{}, route.Folding{})
	require.NoError(t, err)
	assert.Equal(t, before, mirrored, "whichever source and line comes first")
}

// A section of thousands is folded, and every group can be unfolded until its members are seen.
func TestALargeSectionUnfolds(t *testing.T) {
	s := service.New(testbed.Store(t), func() time.Time { return begun.Add(2 * time.Hour) })
	bringLarge(t, s, large.Options{VMs: 2000, Seed: 1, Time: begun})
	w, err := s.Window(begun, begun.Add(time.Hour))
	require.NoError(t, err)
	v, err := s.Section(t.Context(), "pool:p0@heron-01", w, nil)
	require.NoError(t, err)
	assert.Less(t, len(v.Section.Nodes), 90)
	assert.Len(t, v.Figures, len(v.Section.Nodes))
	group := ""
	for k, n := range v.Section.Nodes {
		if n.Count > 0 {
			assert.Contains(t, v.Figures[k].Headline, n.Kind.Plural(), n.Ref)
		}
		if n.Kind == estate.VM && n.Count > 0 && group == "" {
			group = n.Ref
		}
	}
	require.NotEmpty(t, group)
	unfolded, err := s.Section(t.Context(), "pool:p0@heron-01", w, []string{group})
	require.NoError(t, err)
	assert.Greater(t, len(unfolded.Section.Nodes), len(v.Section.Nodes))
	assert.False(t, slices.ContainsFunc(unfolded.Section.Nodes, func(n route.Node) bool { return n.Ref == group }))
	assert.Equal(t, v.Section.VMs, unfolded.Section.VMs)
}
