package store_test

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/estate"
	"dowsingrod/internal/feed"
	"dowsingrod/internal/store"
	"dowsingrod/internal/testbed"
)

// lines writes an estate down by key, apart from the store's numbers.
func lines(t *testing.T, s *store.Store, at time.Time) map[string]string {
	t.Helper()
	list, err := s.Estate(t.Context(), at)
	require.NoError(t, err)
	out := map[string]string{}
	for _, o := range list {
		out[o.Key.String()] = o.Name + " " + string(o.Facts) + " " + string(o.Links)
	}
	return out
}

func header2(source string, at time.Time, full bool) feed.Header {
	return feed.Header{Version: 1, Source: source, Time: at, Full: full}
}

// Removing a source removes exactly what it contributed: what is left is what would be there without it.
func TestRemovingASourceRemovesItsContributionAlone(t *testing.T) {
	a, b := testbed.Store(t), testbed.Store(t)
	for _, s := range []*store.Store{a, b} {
		take(t, s, header2("hyp", t0, true), objects(vm("a", "h1"), vm("b", "h1")))
		take(t, s, header2("hyp", t0.Add(2*time.Hour), true), objects(vm("a", "h2")))
	}
	take(t, a, header2("other", t0.Add(time.Hour), true), objects(vm("a", "h9"), vm("z", "h9")))
	take(t, a, header2("other", t0.Add(3*time.Hour), true), objects(vm("z", "h8")))
	require.NoError(t, a.DropSources(t.Context(), []string{"other"}))
	for _, at := range []time.Time{t0, t0.Add(90 * time.Minute), t0.Add(4 * time.Hour), {}} {
		assert.Equal(t, lines(t, b, at), lines(t, a, at), "as of %s", at)
	}
}

// Whatever kills an import before it is committed, the estate is as it was before it.
func TestAnImportThatBreaksOffLeavesNothing(t *testing.T) {
	url := testbed.Database(t)
	s, err := store.Open(t.Context(), url)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	take(t, s, header(t0, true), objects(vm("a", "h1"), vm("b", "h1")))
	before, version := lines(t, s, time.Time{}), func() int64 {
		v, err := s.EstateVersion(t.Context())
		require.NoError(t, err)
		return v
	}
	v := version()
	begin := func(ctx context.Context, end func(*store.Intake) error) error {
		_, err := s.Import(ctx, func(in *store.Intake) error {
			if err := in.Begin(header(t0.Add(time.Hour), true)); err != nil {
				return err
			}
			for n := range 300 {
				if err := in.Object(vm(fmt.Sprint("new-", n), "h3"), n); err != nil {
					return err
				}
			}
			return end(in)
		})
		return err
	}
	broken := errors.New("the stream broke off")
	require.ErrorIs(t, begin(t.Context(), func(*store.Intake) error { return broken }), broken)
	ctx, cancel := context.WithCancel(t.Context())
	require.Error(t, begin(ctx, func(*store.Intake) error { cancel(); return nil }), "cancelled before the end")
	require.Error(t, begin(t.Context(), func(in *store.Intake) error { // the server ends the session, as when it crashes
		conn, err := pgx.Connect(t.Context(), url)
		require.NoError(t, err)
		defer conn.Close(context.WithoutCancel(t.Context()))
		_, err = conn.Exec(t.Context(), `select pg_terminate_backend(pid) from pg_stat_activity where pid <> pg_backend_pid() and datname = current_database()`)
		require.NoError(t, err)
		return in.Object(vm("last", "h3"), 400)
	}))
	require.Eventually(t, func() bool { return s.Ping(t.Context()) == nil }, 10*time.Second, 20*time.Millisecond)
	assert.Equal(t, before, lines(t, s, time.Time{}))
	assert.Equal(t, v, version())
	take(t, s, header(t0.Add(time.Hour), false), objects(vm("c", "h1")))
	assert.Len(t, lines(t, s, time.Time{}), 3, "and the next import finds nothing in its way")
}

// Imports of the same sources at the same time end as if one had come after the other.
func TestImportsAtTheSameTimeEndAsInSomeOrder(t *testing.T) {
	for seed := range uint64(4) {
		r := rand.New(rand.NewPCG(seed, 3))
		at := t0.Add(time.Hour)
		import1 := func(k int, s *store.Store) error {
			_, err := s.Import(t.Context(), func(in *store.Intake) error {
				sources := []string{"hyp", "other"}
				for _, src := range sources { // in one order: two that wait for one another are refused by the database
					if err := in.Begin(header2(src, at, true)); err != nil {
						return err
					}
					for n := range 6 {
						if err := in.Object(vm(fmt.Sprint("vm-", (n*k+n)%9, "-", n), fmt.Sprint("h", k)), n+1); err != nil {
							return err
						}
					}
				}
				return nil
			})
			return err
		}
		together := testbed.Store(t)
		take(t, together, header2("hyp", t0, true), objects(vm("a", "h0")))
		take(t, together, header2("other", t0, true), objects(vm("a", "h0")))
		var wait sync.WaitGroup
		failed := make([]error, 3)
		for k := range 3 {
			wait.Go(func() { failed[k] = import1(k+1, together) })
		}
		wait.Wait()
		require.Equal(t, []error{nil, nil, nil}, failed)
		got := lines(t, together, time.Time{})
		orders := [][]int{{0, 1, 2}, {0, 2, 1}, {1, 0, 2}, {1, 2, 0}, {2, 0, 1}, {2, 1, 0}}
		r.Shuffle(len(orders), func(i, j int) { orders[i], orders[j] = orders[j], orders[i] })
		match := slices.ContainsFunc(orders, func(order []int) bool {
			one := testbed.Store(t)
			take(t, one, header2("hyp", t0, true), objects(vm("a", "h0")))
			take(t, one, header2("other", t0, true), objects(vm("a", "h0")))
			for _, k := range order {
				require.NoError(t, import1(k+1, one))
			}
			return assert.ObjectsAreEqual(lines(t, one, time.Time{}), got)
		})
		assert.True(t, match, "no order of the three gives %v", got)
	}
}

// A line that is byte for byte the one that was stored is recognised without being read; one that is listed twice is still found.
func TestUnchangedLinesAreRecognised(t *testing.T) {
	s := testbed.Store(t)
	first := vm("a", "h1")
	first.Name = `quotes " and <angles> – and more`
	take(t, s, header(t0, true), objects(first, vm("b", "h1")))
	text := func(o *feed.Object) []byte {
		var b writer
		w := feed.NewWriter(&b)
		require.NoError(t, w.Write(feed.Record{Object: o}))
		require.NoError(t, w.Flush())
		return b[:len(b)-1]
	}
	totals, err := s.Import(t.Context(), func(in *store.Intake) error {
		if err := in.Begin(header(t0.Add(time.Hour), true)); err != nil {
			return err
		}
		assert.True(t, in.Recognise(text(first), 1))
		assert.False(t, in.Recognise(text(first), 2), "listed twice: it must be read, and is refused")
		assert.ErrorIs(t, in.Object(first, 2), store.ErrDuplicate)
		assert.False(t, in.Recognise(text(vm("b", "h2")), 3))
		return in.Object(vm("b", "h2"), 3)
	})
	require.NoError(t, err)
	assert.Equal(t, 1, totals.Changed)
	assert.Zero(t, totals.Gone, "what was recognised is listed")
	_, err = s.Import(t.Context(), func(in *store.Intake) error {
		if err := in.Begin(header(t0.Add(2*time.Hour), true)); err != nil {
			return err
		}
		assert.False(t, in.Recognise(text(vm("b", "h1")), 1), "so it was, but it is not any more")
		return in.Object(vm("b", "h1"), 1)
	})
	require.NoError(t, err)
	assert.Equal(t, "h1", hostOf(estateAt(t, s, t0.Add(3*time.Hour))["vm:b"]))
}

type writer []byte

func (w *writer) Write(b []byte) (int, error) { *w = append(*w, b...); return len(b), nil }

func TestTransitionsTellWhatWasAndWhatIs(t *testing.T) {
	s := testbed.Store(t)
	take(t, s, header(t0, true), objects(vm("a", "h1"), vm("b", "h1")))
	take(t, s, header(t0.Add(time.Hour), false), objects(vm("a", "h2")))
	take(t, s, header(t0.Add(2*time.Hour), true), objects(vm("a", "h2"), vm("c", "h1")))
	all, total, err := s.Transitions(t.Context(), t0, t0.Add(3*time.Hour), nil, 10)
	require.NoError(t, err)
	assert.Equal(t, 3, total)
	var said []string
	for _, x := range all {
		word := "became"
		switch {
		case x.Before == nil:
			word = "came"
		case x.After == nil:
			word = "went"
		}
		id := ""
		for _, n := range []*estate.Node{x.Before, x.After} {
			if n != nil {
				id = n.Key.Ref.ID
			}
		}
		said = append(said, fmt.Sprint(x.At.Sub(t0).Hours(), id, word))
	}
	assert.Equal(t, []string{"2bwent", "2ccame", "1abecame"}, said)
	_, total, err = s.Transitions(t.Context(), t0.Add(time.Hour), t0.Add(2*time.Hour), nil, 1)
	require.NoError(t, err)
	assert.Equal(t, 2, total, "the window's end belongs to it, its start does not")
	some, _, err := s.Transitions(t.Context(), t0, t0.Add(3*time.Hour), []int64{all[2].After.Store}, 10)
	require.NoError(t, err)
	assert.Len(t, some, 1)
	moments, err := s.ChangeTimes(t.Context(), t0, t0.Add(3*time.Hour), nil)
	require.NoError(t, err)
	require.Len(t, moments, 2)
	assert.Equal(t, 2, moments[1].Count)
}
