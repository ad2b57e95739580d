package store_test

import (
	"context"
	"errors"
	"math"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/estate"
	"dowsingrod/internal/feed"
	"dowsingrod/internal/postgres"
	"dowsingrod/internal/store"
	"dowsingrod/internal/testbed"
)

func TestMain(m *testing.M) { os.Exit(testbed.Run(m)) }

var t0 = time.Date(2026, 3, 2, 3, 50, 0, 0, time.UTC) // ten minutes before a span ends

func header(at time.Time, full bool) feed.Header {
	return feed.Header{Version: 1, Source: "hyp", Time: at, Full: full}
}

func vm(id, host string) *feed.Object {
	return &feed.Object{Kind: estate.VM, ID: id, Name: id, Facts: estate.Facts{"tier": "1"}, Links: map[string][]string{"runs_on": {"host:" + host}}}
}

func take(t *testing.T, s *store.Store, h feed.Header, f func(*store.Intake) error) store.Totals {
	t.Helper()
	totals, err := s.Import(t.Context(), func(in *store.Intake) error {
		if err := in.Begin(h); err != nil {
			return err
		}
		return f(in)
	})
	require.NoError(t, err)
	return totals
}

func objects(list ...*feed.Object) func(*store.Intake) error {
	return func(in *store.Intake) error {
		for i, o := range list {
			if err := in.Object(o, i+2); err != nil {
				return err
			}
		}
		return nil
	}
}

func estateAt(t *testing.T, s *store.Store, at time.Time) map[string]estate.Node {
	t.Helper()
	list, err := s.Estate(t.Context(), at)
	require.NoError(t, err)
	out := map[string]estate.Node{}
	for _, o := range list {
		out[o.Key.Ref.String()] = o
	}
	return out
}

func hostOf(o estate.Node) string { return strings.TrimPrefix(o.Links.Texts("runs_on")[0], "host:") }

func TestAnyMomentOfTheEstateCanBeRebuilt(t *testing.T) {
	s := testbed.Store(t)
	take(t, s, header(t0, true), objects(vm("a", "h1"), vm("b", "h1")))
	before, err := s.EstateVersion(t.Context())
	require.NoError(t, err)
	take(t, s, header(t0.Add(time.Hour), false), objects(vm("a", "h2")))                 // a migrates
	take(t, s, header(t0.Add(2*time.Hour), true), objects(vm("a", "h2"), vm("c", "h1"))) // b is gone, c is new
	after, err := s.EstateVersion(t.Context())
	require.NoError(t, err)
	assert.Greater(t, after, before)

	long := estateAt(t, s, t0.Add(-48*time.Hour))
	assert.Len(t, long, 2, "before the first feed the estate is taken to be as it says")
	first := estateAt(t, s, t0.Add(30*time.Minute))
	assert.Equal(t, "h1", hostOf(first["vm:a"]))
	assert.Equal(t, "1", first["vm:a"].Facts.Text("tier"))
	second := estateAt(t, s, t0.Add(90*time.Minute))
	assert.Equal(t, "h2", hostOf(second["vm:a"]))
	assert.Contains(t, second, "vm:b")
	third := estateAt(t, s, t0.Add(3*time.Hour))
	assert.NotContains(t, third, "vm:b")
	assert.Contains(t, third, "vm:c")

	moments, err := s.Moments(t.Context(), -1)
	require.NoError(t, err)
	slices.SortFunc(moments, time.Time.Compare)
	require.Len(t, moments, 2)
	assert.True(t, moments[0].Equal(t0.Add(time.Hour)))
	later, err := s.Moments(t.Context(), after-1)
	require.NoError(t, err)
	assert.Len(t, later, 1, "only what the last change brought")

	touched, listed, err := s.ChangedSince(t.Context(), before, after)
	require.NoError(t, err)
	assert.True(t, listed)
	assert.Len(t, touched, 3, "a, b and c")
	_, listed, err = s.ChangedSince(t.Context(), before-5, after)
	require.NoError(t, err)
	assert.False(t, listed, "what came before the first change is not known")
	there := map[string]bool{}
	require.NoError(t, s.NodesOf(t.Context(), touched, func(n estate.Node, ok bool) { there[n.Key.Ref.ID] = ok }))
	assert.Equal(t, map[string]bool{"a": true, "b": false, "c": true}, there)
	then := map[string]bool{}
	require.NoError(t, s.Differences(t.Context(), t0.Add(90*time.Minute), func(n estate.Node, ok bool) { then[n.Key.Ref.ID] = ok }))
	assert.Equal(t, map[string]bool{"b": true, "c": false}, then, "a was by then as it is")
}

func TestTheSameFeedTwiceChangesNothing(t *testing.T) {
	s := testbed.Store(t)
	full := objects(vm("a", "h1"), vm("b", "h1"))
	assert.Equal(t, 2, take(t, s, header(t0, true), full).Changed)
	v, err := s.EstateVersion(t.Context())
	require.NoError(t, err)
	again := take(t, s, header(t0, true), full)
	assert.Zero(t, again.Changed+again.Gone)
	same, err := s.EstateVersion(t.Context())
	require.NoError(t, err)
	assert.Equal(t, v, same)
	// A correction as of the same moment replaces what was said.
	take(t, s, header(t0, true), objects(vm("a", "h9"), vm("b", "h1")))
	assert.Equal(t, "h9", hostOf(estateAt(t, s, t0)["vm:a"]))
}

func TestAnOlderFeedFillsInHistoryOnly(t *testing.T) {
	s := testbed.Store(t)
	take(t, s, header(t0, true), objects(vm("a", "h1")))
	take(t, s, header(t0.Add(4*time.Hour), false), objects(vm("a", "h4")))
	take(t, s, header(t0.Add(2*time.Hour), false), objects(vm("a", "h2"))) // arrives late
	assert.Equal(t, "h1", hostOf(estateAt(t, s, t0.Add(time.Hour))["vm:a"]))
	assert.Equal(t, "h2", hostOf(estateAt(t, s, t0.Add(3*time.Hour))["vm:a"]))
	assert.Equal(t, "h4", hostOf(estateAt(t, s, t0.Add(5*time.Hour))["vm:a"]))
}

func readings(from time.Time, step float64, values ...float64) func(*store.Intake) error {
	return func(in *store.Intake) error {
		return in.Reading(&feed.Reading{Of: "vm:a", From: from, Step: step, Values: map[string]feed.Values{"busy_share": values}})
	}
}

func series(t *testing.T, s *store.Store, from, to time.Time) (values []float64, starts []time.Time, runs int) {
	t.Helper()
	id := estateAt(t, s, t0)["vm:a"].Store
	w := store.Want{Object: id, Metric: "busy_share"}
	data, err := s.Readings(t.Context(), []store.Want{w}, from, to)
	require.NoError(t, err)
	for _, r := range data[w] {
		for i, v := range r.Values {
			values, starts = append(values, v), append(starts, r.From.Add(time.Duration(i)*r.Step))
		}
	}
	return values, starts, len(data[w])
}

func TestReadingsCrossSpansAndMerge(t *testing.T) {
	s := testbed.Store(t)
	take(t, s, header(t0, true), objects(vm("a", "h1")))
	var want []float64
	for i := range 60 { // 20 minutes over the end of a span
		want = append(want, float64(i)/100)
	}
	take(t, s, header(t0, false), readings(t0, 20, want...))
	got, starts, runs := series(t, s, t0, t0.Add(time.Hour))
	assert.Equal(t, want, got)
	assert.Equal(t, 1, runs, "neighbouring chunks are one run")
	assert.True(t, starts[59].Equal(t0.Add(59*20*time.Second)))

	// Later ones come behind, corrections replace, null replaces nothing.
	nan := math.NaN()
	take(t, s, header(t0, false), readings(t0.Add(20*time.Minute), 20, 0.9, 0.8))
	take(t, s, header(t0, false), readings(t0.Add(20*time.Second), 20, 0.5, nan))
	got, _, _ = series(t, s, t0, t0.Add(time.Hour))
	require.Len(t, got, 62)
	assert.Equal(t, []float64{0, 0.5, 0.02}, got[:3])
	assert.Equal(t, []float64{0.9, 0.8}, got[60:])
}

func TestReadingsOfOtherIntervalsStandBeside(t *testing.T) {
	s := testbed.Store(t)
	take(t, s, header(t0, true), objects(vm("a", "h1")))
	take(t, s, header(t0, false), readings(t0, 20, 0.1, 0.2))
	take(t, s, header(t0, false), readings(t0.Add(5*time.Second), 60, 0.3))
	got, starts, runs := series(t, s, t0.Add(-time.Hour), t0.Add(time.Hour))
	assert.Equal(t, 2, runs)
	assert.ElementsMatch(t, []float64{0.1, 0.2, 0.3}, got)
	assert.Contains(t, starts, t0.Add(5*time.Second))
}

func TestAFailedImportStoresNothing(t *testing.T) {
	s := testbed.Store(t)
	boom := errors.New("boom")
	_, err := s.Import(t.Context(), func(in *store.Intake) error {
		if err := in.Begin(header(t0, true)); err != nil {
			return err
		}
		if err := objects(vm("a", "h1"))(in); err != nil {
			return err
		}
		if err := readings(t0, 20, 0.1)(in); err != nil {
			return err
		}
		return boom
	})
	require.ErrorIs(t, err, boom)
	sources, err := s.Sources(t.Context())
	require.NoError(t, err)
	assert.Empty(t, sources)
	assert.Empty(t, estateAt(t, s, t0))
}

func TestIntakeRefusesWhatItCannotPlace(t *testing.T) {
	s := testbed.Store(t)
	take(t, s, header(t0, true), func(in *store.Intake) error {
		require.NoError(t, in.Object(vm("a", "h1"), 2))
		require.ErrorIs(t, in.Object(vm("a", "h1"), 3), store.ErrDuplicate)
		require.ErrorIs(t, in.Reading(&feed.Reading{Of: "vm:none", From: t0, Step: 20, Values: map[string]feed.Values{"busy_share": {1}}}), store.ErrUnknown)
		require.ErrorIs(t, in.Event(&feed.Event{Of: "vm:none", Time: t0, What: "x"}), store.ErrUnknown)
		require.ErrorIs(t, in.Gone(estate.Ref{Kind: estate.VM, ID: "none"}), store.ErrUnknown)
		return nil
	})
	assert.Len(t, estateAt(t, s, t0), 1, "the rest of it is good")
}

func TestEventsAndHistograms(t *testing.T) {
	s := testbed.Store(t)
	take(t, s, header(t0, true), func(in *store.Intake) error {
		if err := in.Object(vm("a", "h1"), 2); err != nil {
			return err
		}
		if err := in.Histogram(&feed.Histogram{Of: "vm:a", Metric: "read_latency_us", Bounds: []float64{1, 2}, From: t0, Step: 60, Counts: []feed.Values{{1, 2, 3}, {4, 5, 6}}}); err != nil {
			return err
		}
		return in.Event(&feed.Event{Of: "vm:a", Time: t0, What: "migrated", Detail: "d"})
	})
	id := estateAt(t, s, t0)["vm:a"].Store
	h, err := s.Histograms(t.Context(), id, "read_latency_us", t0, t0.Add(time.Hour))
	require.NoError(t, err)
	require.Len(t, h, 1)
	assert.Equal(t, []float64{1, 2, 3, 4, 5, 6}, h[0].Counts)
	ev, err := s.Events(t.Context(), []int64{id}, t0, t0.Add(time.Hour), 10)
	require.NoError(t, err)
	require.Len(t, ev, 1)
	assert.Equal(t, "migrated", ev[0].What)
}

func TestTwoFeedsAtOnce(t *testing.T) {
	s := testbed.Store(t)
	done := make(chan error, 2)
	for k := range 2 {
		go func() {
			_, err := s.Import(context.Background(), func(in *store.Intake) error {
				if err := in.Begin(header(t0, false)); err != nil {
					return err
				}
				if err := in.Object(vm("a", "h1"), 2); err != nil {
					return err
				}
				return readings(t0.Add(time.Duration(k)*time.Hour), 20, 0.1, 0.2, 0.3)(in)
			})
			done <- err
		}()
	}
	require.NoError(t, <-done)
	require.NoError(t, <-done)
	got, _, _ := series(t, s, t0, t0.Add(2*time.Hour))
	known := 0
	for _, v := range got {
		if !math.IsNaN(v) {
			known++
		}
	}
	assert.Equal(t, 6, known)
}

func TestCredentials(t *testing.T) {
	s := testbed.Store(t)
	ctx := t.Context()
	require.NoError(t, s.AddAccount(ctx, "ops", "admin", ""))
	require.ErrorIs(t, s.AddAccount(ctx, "ops", "viewer", ""), store.ErrTaken)
	a, err := s.Account(ctx, "ops")
	require.NoError(t, err)
	require.NoError(t, s.AddCredential(ctx, a.ID, store.TokenCredential, "x", "secret", time.Hour))
	require.NoError(t, s.AddCredential(ctx, a.ID, store.LinkCredential, "", "once", time.Hour))
	require.NoError(t, s.AddCredential(ctx, a.ID, store.SessionCredential, "", "old", -time.Second))
	_, err = s.Holder(ctx, store.TokenCredential, "secret")
	require.NoError(t, err)
	_, err = s.Holder(ctx, store.SessionCredential, "secret")
	require.ErrorIs(t, err, store.ErrNotFound, "a token is no session")
	_, err = s.Holder(ctx, store.SessionCredential, "old")
	require.ErrorIs(t, err, store.ErrNotFound, "it has expired")
	_, err = s.Redeem(ctx, "once")
	require.NoError(t, err)
	_, err = s.Redeem(ctx, "once")
	require.ErrorIs(t, err, store.ErrNotFound, "a link works once")
	tokens, err := s.Tokens(ctx, 0)
	require.NoError(t, err)
	require.Len(t, tokens, 1)
	assert.NotNil(t, tokens[0].Used)
	require.NoError(t, s.RemoveAccount(ctx, "ops"))
	_, err = s.Holder(ctx, store.TokenCredential, "secret")
	require.ErrorIs(t, err, store.ErrNotFound, "a token goes with its account")
	require.ErrorIs(t, s.RemoveAccount(ctx, "ops"), store.ErrNotFound)
}

func TestSecretsAreNotInTheDatabase(t *testing.T) {
	address := testbed.Database(t)
	s, err := store.Open(t.Context(), address)
	require.NoError(t, err)
	t.Cleanup(s.Close)
	require.NoError(t, s.AddAccount(t.Context(), "ops", "admin", ""))
	a, err := s.Account(t.Context(), "ops")
	require.NoError(t, err)
	require.NoError(t, s.AddCredential(t.Context(), a.ID, store.TokenCredential, "x", "plain-secret", time.Hour))
	conn, err := pgx.Connect(t.Context(), address)
	require.NoError(t, err)
	defer conn.Close(t.Context())
	var n int
	require.NoError(t, conn.QueryRow(t.Context(), `select count(*) from credential where credential::text like '%plain-secret%' or encode(hash,'escape') like '%plain%'`).Scan(&n))
	assert.Zero(t, n)
}

func TestOpenTwiceMigratesOnce(t *testing.T) {
	address := testbed.Database(t)
	for range 2 {
		s, err := store.Open(t.Context(), address)
		require.NoError(t, err)
		s.Close()
	}
	_, err := store.Open(t.Context(), "postgres://dowse:x@127.0.0.1:1/postgres")
	require.ErrorIs(t, err, store.ErrUnavailable)
	_, err = store.Open(t.Context(), "not an address")
	require.Error(t, err)
}

func TestADatabaseThatGoesAwayAndComesBack(t *testing.T) {
	dir, err := os.MkdirTemp("", "dowse-test-*")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755))
	pg, err := postgres.Start(t.Context(), postgres.Options{Dir: dir, Throwaway: true})
	require.NoError(t, err)
	s, err := store.Open(t.Context(), pg.URL)
	require.NoError(t, err)
	defer s.Close()
	take(t, s, header(t0, true), objects(vm("a", "h1")))
	pg.Stop()
	for range 3 { // first the broken connection, then none
		_, err = s.Sources(t.Context())
		require.ErrorIs(t, err, store.ErrUnavailable)
	}
	_, err = s.Import(t.Context(), func(in *store.Intake) error { return in.Begin(header(t0, true)) })
	require.ErrorIs(t, err, store.ErrUnavailable)
	again, err := postgres.Start(t.Context(), postgres.Options{Dir: dir, Throwaway: true})
	require.NoError(t, err)
	defer again.Stop()
	s2, err := store.Open(t.Context(), again.URL)
	require.NoError(t, err)
	defer s2.Close()
	assert.Len(t, estateAt(t, s2, t0), 1, "what was acknowledged is there")
}
