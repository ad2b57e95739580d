package store_test

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/congest"
	"dowsingrod/core/estate"
	"dowsingrod/core/normal"
	"dowsingrod/core/reading"
	"dowsingrod/internal/store"
	"dowsingrod/internal/testbed"
)

// A change holds until the next for exactly the same; what held before stays in the history, with who ended it.
func TestLimitsKeepTheirHistory(t *testing.T) {
	s := testbed.Store(t)
	ctx := t.Context()
	rule := func(within string, strained, failing reading.Figure) congest.Rule {
		return congest.Rule{Kind: estate.Pool, Within: within, Metric: "busy_share", Strained: strained, Failing: failing}
	}
	require.NoError(t, s.ChangeLimit(ctx, rule("", 0.7, 0.9), "our pools are of discs", "ada"))
	require.NoError(t, s.ChangeLimit(ctx, rule("array:heron", 0.6, reading.Missing), "it is to be spared", "ada"))
	require.NoError(t, s.ChangeLimit(ctx, rule("", 0.75, 0.95), "that was too early", "bea"))
	held, err := s.LimitChanges(ctx, false)
	require.NoError(t, err)
	require.Len(t, held, 2, "what holds: one for all, one for heron")
	assert.Equal(t, reading.Figure(0.75), held[0].Strained, "the latest first")
	assert.Equal(t, "that was too early", held[0].Why)
	assert.Nil(t, held[0].Until)
	assert.Equal(t, "array:heron", held[1].Within)
	assert.False(t, held[1].Failing.Known(), "never is kept as never")
	all, err := s.LimitChanges(ctx, true)
	require.NoError(t, err)
	require.Len(t, all, 3)
	assert.Equal(t, "bea", all[2].UntilBy, "who replaced it")
	require.NotNil(t, all[2].Until)
	assert.False(t, all[2].Until.Before(all[2].At))

	require.NoError(t, s.RestoreLimit(ctx, estate.Pool, "array:heron", "busy_share", "cas"))
	assert.ErrorIs(t, s.RestoreLimit(ctx, estate.Pool, "array:heron", "busy_share", "cas"), store.ErrNotFound, "it is ended already")
	assert.ErrorIs(t, s.RestoreLimit(ctx, estate.Pool, "", "read_latency_us", "cas"), store.ErrNotFound)
	held, err = s.LimitChanges(ctx, false)
	require.NoError(t, err)
	assert.Len(t, held, 1)
	all, err = s.LimitChanges(ctx, true)
	require.NoError(t, err)
	assert.Len(t, all, 3, "nothing is forgotten")
}

// A stretch grows while it lasts, under one row, and is found by any window it overlaps.
func TestStretchesAreKeptOnceAndFoundByTheirTime(t *testing.T) {
	s := testbed.Store(t)
	ctx := t.Context()
	at := time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC)
	of := estate.Key{Source: "heron", Ref: estate.Ref{Kind: estate.Pool, ID: "p2"}}
	x := congest.Stretch{Of: of, Limit: congest.Limit{Metric: "busy_share", Strained: 0.8, Failing: 0.95, Reason: "one queue"}, From: at, To: at.Add(5 * time.Minute), Level: congest.Strained, Worst: 0.91}
	other := x
	other.Of.Ref.ID, other.From, other.To, other.Ended = "p1", at.Add(-3*time.Hour), at.Add(-2*time.Hour), true
	require.NoError(t, s.KeepStretches(ctx, []congest.Stretch{x, other}))
	require.NoError(t, s.KeepStretches(ctx, nil))
	x.To, x.Level, x.Worst = at.Add(20*time.Minute), congest.Failing, 0.99
	require.NoError(t, s.KeepStretches(ctx, []congest.Stretch{x}))
	open, err := s.OpenStretches(ctx)
	require.NoError(t, err)
	require.Len(t, open, 1)
	assert.Equal(t, of, open[0].Of)
	assert.Equal(t, congest.Failing, open[0].Level)
	assert.Equal(t, 0.99, open[0].Worst)
	assert.Equal(t, "one queue", open[0].Limit.Reason, "the limit as it was then")
	assert.Equal(t, at, open[0].From)
	for name, c := range map[string]struct {
		object   string
		from, to time.Duration
		want     int
	}{
		"both":                          {"", -4 * time.Hour, time.Hour, 2},
		"one by its object":             {of.String(), -4 * time.Hour, time.Hour, 1},
		"before either":                 {"", -9 * time.Hour, -4 * time.Hour, 0},
		"only the one that is over":     {"", -4 * time.Hour, -time.Hour, 1},
		"what lasts overlaps any later": {"", 30 * time.Minute, time.Hour, 1},
		"nobody's":                      {"pool:p9@heron", -4 * time.Hour, time.Hour, 0},
	} {
		found, err := s.Stretches(ctx, c.object, at.Add(c.from), at.Add(c.to), 10)
		require.NoError(t, err)
		assert.Len(t, found, c.want, name)
	}
	found, err := s.Stretches(ctx, "", at.Add(-4*time.Hour), at.Add(time.Hour), 1)
	require.NoError(t, err)
	require.Len(t, found, 1)
	assert.False(t, found[0].Ended, "what lasts comes first")
	x.Ended = true
	require.NoError(t, s.KeepStretches(ctx, []congest.Stretch{x}))
	open, err = s.OpenStretches(ctx)
	require.NoError(t, err)
	assert.Empty(t, open)
}

// What was learned of series comes back for the objects and metrics asked for, and for no other.
func TestWhatWasLearnedComesBack(t *testing.T) {
	ctx := t.Context()
	s, err := store.Open(ctx, testbed.LoadDemo(t).URL)
	require.NoError(t, err)
	defer s.Close()
	first, err := s.SeriesAfter(ctx, 0, 40)
	require.NoError(t, err)
	require.Len(t, first, 40)
	next, err := s.SeriesAfter(ctx, first[39].Series, 3)
	require.NoError(t, err)
	assert.Greater(t, next[0].Series, first[39].Series, "each once, in order")
	hour := time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC)
	cells := make([]float64, 60)
	for i := range cells {
		cells[i] = 100 + float64(i)
	}
	cells[7] = math.NaN()
	for k := range first {
		for day := range 3 {
			first[k].Profile.Learn(hour.Add(time.Duration(day)*24*time.Hour), cells)
		}
	}
	require.NoError(t, s.KeepProfiles(ctx, first, hour))
	require.NoError(t, s.KeepProfiles(ctx, nil, hour))
	want := first[0].Want
	of, err := s.Profiles(ctx, want.Object)
	require.NoError(t, err)
	require.NotEmpty(t, of)
	for _, l := range of {
		assert.Equal(t, want.Object, l.Want.Object)
	}
	some, err := s.ProfilesOf(ctx, []int64{want.Object, -1}, []string{want.Metric, "nobody_reports"})
	require.NoError(t, err)
	require.Len(t, some, 1)
	assert.Equal(t, want, some[0].Want)
	band := some[0].Profile.Band(hour.Add(72 * time.Hour))
	assert.Equal(t, normal.HourOfDay, band.Basis)
	assert.InDelta(t, 130, band.Mid, 2)
	none, err := s.ProfilesOf(ctx, nil, []string{want.Metric})
	require.NoError(t, err)
	assert.Empty(t, none)
}
