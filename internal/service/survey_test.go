package service_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/phrase"
	"dowsingrod/internal/feed"
	"dowsingrod/internal/lab"
	"dowsingrod/internal/service"
	"dowsingrod/internal/testbed"
)

// Missing readings are never taken for health: half an hour after the last of them nobody says that nothing hurts.
func TestASurveyOfSilenceSaysSo(t *testing.T) {
	st := testbed.Store(t)
	anchor := lab.Anchor(time.Now())
	now := anchor
	svc := service.New(st, func() time.Time { return now })
	l := lab.New(lab.Seed, anchor)
	_, err := svc.ImportRecords(t.Context(), func(write func(feed.Record) error) error {
		return l.Write(anchor.Add(-3*time.Hour), anchor.Add(-time.Hour), true, write) // before anything goes wrong
	})
	require.NoError(t, err)
	survey := func(from, to time.Duration) service.Survey {
		w, err := svc.Window(anchor.Add(from), anchor.Add(to))
		require.NoError(t, err)
		s, err := svc.Survey(t.Context(), w)
		require.NoError(t, err)
		return s
	}
	well := survey(-3*time.Hour, -time.Hour)
	require.NotEmpty(t, well.Systems)
	for _, x := range well.Systems {
		assert.False(t, x.Quiet, x.Name)
		require.NotNil(t, x.Seen, x.Name)
		assert.WithinDuration(t, anchor.Add(-time.Hour), *x.Seen, 3*time.Minute, x.Name)
	}
	assert.Contains(t, phrase.Text(well.Statement, time.UTC), "Nothing hurts now")

	now = anchor.Add(-30 * time.Minute)
	late := survey(-150*time.Minute, -30*time.Minute)
	says := phrase.Text(late.Statement, time.UTC)
	assert.Contains(t, says, "What hurts now is not known: there are no readings since ")
	assert.NotContains(t, says, "Nothing hurts")
	for _, x := range late.Systems {
		assert.True(t, x.Quiet, x.Name)
	}

	none := survey(-50*time.Minute, -30*time.Minute)
	assert.Contains(t, phrase.Text(none.Statement, time.UTC), "there are no readings in this window")
	for _, x := range none.Systems {
		assert.True(t, x.Quiet, x.Name)
		assert.Nil(t, x.Seen, x.Name)
		assert.Equal(t, "no readings", x.Says, x.Name)
	}
}

// A name that several sources use is told apart by its source, where one sees it.
func TestSystemsOfTheSameName(t *testing.T) {
	st := testbed.Store(t)
	svc := service.New(st, time.Now)
	for _, source := range []string{"hyp-east", "hyp-west"} {
		_, err := svc.ImportRecords(t.Context(), func(write func(feed.Record) error) error {
			if err := write(feed.Record{Header: &feed.Header{Version: 1, Source: source, Time: time.Now().Add(-time.Minute), Full: true}}); err != nil {
				return err
			}
			return write(feed.Record{Object: &feed.Object{Kind: "cluster", ID: "c1", Name: "cluster"}})
		})
		require.NoError(t, err)
	}
	w, err := svc.Window(time.Now().Add(-time.Hour), time.Now())
	require.NoError(t, err)
	s, err := svc.Survey(t.Context(), w)
	require.NoError(t, err)
	require.Len(t, s.Systems, 2)
	var about []string
	for _, x := range s.Systems {
		about = append(about, x.About)
	}
	assert.ElementsMatch(t, []string{"cluster · hyp-east", "cluster · hyp-west"}, about)
}
