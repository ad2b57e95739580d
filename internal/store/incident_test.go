package store_test

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/incident"
	"dowsingrod/core/reading"
	"dowsingrod/core/verdict"
	"dowsingrod/internal/store"
	"dowsingrod/internal/testbed"
)

var began = time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC)

// hurting is an incident at a component, so many minutes after the first, of a class.
func hurting(component string, minutes int, class verdict.Class) *incident.Incident {
	at := began.Add(time.Duration(minutes) * time.Minute)
	x := &incident.Incident{Component: component, Onset: at, Last: at.Add(10 * time.Minute), Judged: at.Add(11 * time.Minute), Harm: 42,
		Sufferers: map[string]incident.Suffered{"vm:a@hyp": {Added: 1500, Harm: 40}, "vm:b@hyp": {Added: 300, Harm: 2}}}
	x.Verdict = verdict.Explanation{Subject: "vm:a@hyp", Name: "a", From: at.Add(-time.Hour), To: at.Add(time.Hour), Step: 20, Onset: &at,
		Verdict:  verdict.Verdict{Class: class, Confidence: 0.9, Component: &verdict.Component{Ref: component, Name: "heron pool 2", Kind: "pool"}},
		Evidence: []verdict.Evidence{{Of: component, Metric: "busy_share", Unit: reading.SharePart, Before: reading.Missing, During: 0.97, Weight: 0.8, Trace: reading.Row{0.3, math.NaN(), 0.97}}},
		Suspects: []verdict.Accused{{Ref: "vm:c@hyp", Accused: true, Score: 0.9, Onset: reading.Missing, Trace: reading.Row{1e6, 2e6, math.NaN()}}}}
	return x
}

// What is kept of an incident comes back as it was: what was missing is missing, not zero.
func TestAnIncidentComesBackAsItWas(t *testing.T) {
	s := testbed.Store(t)
	x := hurting("pool:p@array", 0, verdict.NoisyNeighbour)
	require.NoError(t, s.KeepIncidents(t.Context(), []*incident.Incident{x}))
	require.NotZero(t, x.ID, "it has a number from now on")
	open, err := s.OpenIncidents(t.Context())
	require.NoError(t, err)
	require.Len(t, open, 1)
	got := open[0]
	assert.Equal(t, x.ID, got.ID)
	assert.True(t, x.Onset.Equal(got.Onset))
	assert.Nil(t, got.Ended)
	assert.Equal(t, x.Sufferers, got.Sufferers)
	assert.Equal(t, verdict.NoisyNeighbour, got.Verdict.Verdict.Class)
	e := got.Verdict.Evidence[0]
	assert.False(t, e.Before.Known())
	require.Len(t, e.Trace, 3)
	assert.Equal(t, 0.3, e.Trace[0])
	assert.True(t, math.IsNaN(e.Trace[1]))
	assert.True(t, math.IsNaN(got.Verdict.Suspects[0].Trace[2]))
	assert.Equal(t, 20.0, got.Verdict.Step)

	// It goes on, and ends: the same number, once.
	ended := began.Add(30 * time.Minute)
	x.Last, x.Ended, x.Harm = ended, &ended, 100
	require.NoError(t, s.KeepIncidents(t.Context(), []*incident.Incident{x}))
	open, err = s.OpenIncidents(t.Context())
	require.NoError(t, err)
	assert.Empty(t, open)
	all, err := s.Incidents(t.Context(), began, began.Add(time.Hour), 10)
	require.NoError(t, err)
	require.Len(t, all, 1)
	assert.Equal(t, 100.0, all[0].Harm)
	none, err := s.Incidents(t.Context(), began.Add(time.Hour), began.Add(2*time.Hour), 10)
	require.NoError(t, err)
	assert.Empty(t, none, "it was over")
}

// Similar ones are earlier ones of the same component first, then those of the same class at the same kind of component.
func TestSimilarIncidents(t *testing.T) {
	s := testbed.Store(t)
	for k, x := range []*incident.Incident{hurting("pool:p@array", 0, verdict.Degraded), hurting("pool:q@array", 60, verdict.NoisyNeighbour), hurting("controller:c@array", 90, verdict.NoisyNeighbour), hurting("pool:p@array", 120, verdict.NoisyNeighbour)} {
		ended := x.Last
		x.Ended = &ended
		require.NoError(t, s.KeepIncidents(t.Context(), []*incident.Incident{x}), k)
	}
	all, err := s.Incidents(t.Context(), began, began.Add(4*time.Hour), 10)
	require.NoError(t, err)
	require.Len(t, all, 4)
	var last store.Incident
	for _, x := range all {
		if x.Onset.Equal(began.Add(2 * time.Hour)) {
			last = x
		}
	}
	similar, err := s.Similar(t.Context(), last, 8)
	require.NoError(t, err)
	var of []string
	for _, x := range similar {
		assert.NotEqual(t, last.ID, x.ID)
		of = append(of, x.Component)
	}
	require.NotEmpty(t, of)
	assert.Equal(t, "pool:p@array", of[0])
	assert.Contains(t, of, "pool:q@array")
}

// Forgetting what was found of a source takes its incidents with their comments, and no other's.
func TestFindingsOfASourceAreForgotten(t *testing.T) {
	s := testbed.Store(t)
	ctx := t.Context()
	mine, other := hurting("pool:p@array", 0, verdict.Degraded), hurting("pool:p@elsewhere", 0, verdict.Degraded)
	nowhere := hurting("", 0, verdict.Unknown) // told by its subject, of the source hyp
	require.NoError(t, s.KeepIncidents(ctx, []*incident.Incident{mine, other, nowhere}))
	require.NoError(t, s.Say(ctx, mine.ID, "keeper", "looked at"))
	require.NoError(t, s.SetSetting(ctx, "until", "x"))
	require.NoError(t, s.DropFindings(ctx, []string{"array", "hyp"}, "until"))
	left, err := s.Incidents(ctx, began, began.Add(time.Hour), 10)
	require.NoError(t, err)
	require.Len(t, left, 1)
	assert.Equal(t, other.ID, left[0].ID)
	comments, err := s.Comments(ctx, mine.ID)
	require.NoError(t, err)
	assert.Empty(t, comments)
	mark, err := s.Setting(ctx, "until")
	require.NoError(t, err)
	assert.Empty(t, mark)
	_, err = s.IncidentOf(ctx, mine.ID)
	assert.ErrorIs(t, err, store.ErrNotFound)
}

// Of several services one at a time moves on how far was looked.
func TestOneServiceClaimsAMoment(t *testing.T) {
	s := testbed.Store(t)
	ctx := t.Context()
	for _, c := range []struct {
		from, to string
		mine     bool
	}{{"", "1", true}, {"", "1", false}, {"1", "2", true}, {"1", "3", false}, {"2", "3", true}} {
		got, err := s.Claim(ctx, "looked until", c.from, c.to)
		require.NoError(t, err)
		assert.Equal(t, c.mine, got, "%s to %s", c.from, c.to)
	}
	mark, err := s.Setting(ctx, "looked until")
	require.NoError(t, err)
	assert.Equal(t, "3", mark)
}
