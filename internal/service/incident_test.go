package service_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/phrase"
	"dowsingrod/core/verdict"
	"dowsingrod/internal/service"
	"dowsingrod/internal/testbed"
)

func day(t *testing.T, d testbed.Demo) service.Window {
	w, err := d.Service.Window(d.Anchor.Add(-22*time.Hour), d.Anchor)
	require.NoError(t, err)
	return w
}

// The two incidents of the demo's last day are found without being asked, each with its verdict and those it hurt.
func TestIncidentsOfTheDemo(t *testing.T) {
	d := testbed.LoadWatched(t)
	list, err := d.Service.Incidents(t.Context(), day(t, d), 0)
	require.NoError(t, err)
	require.NotNil(t, list.Until)
	by := map[string]service.IncidentInfo{}
	for _, i := range list.Incidents {
		require.NotNil(t, i.Component, i.Summary)
		by[i.Component.Ref] = i
	}
	require.Len(t, by, 2, "%+v", list.Incidents)
	noisy, slow := by["pool:p2@heron"], by["controller:c1@gannet"]
	assert.Equal(t, verdict.NoisyNeighbour, noisy.Class)
	assert.Nil(t, noisy.Ended, "it lasts")
	assert.Contains(t, noisy.Summary, "sonar-tiles-05 did it")
	assert.Greater(t, noisy.Sufferers, 10)
	assert.Equal(t, noisy.ID, list.Incidents[0].ID, "those that last come first")
	assert.Equal(t, verdict.Degraded, slow.Class)
	require.NotNil(t, slow.Ended)

	truth := d.Anchor.Add(-46 * time.Minute)
	assert.InDelta(t, 0, noisy.Onset.Sub(truth).Seconds(), 60, "%s, truly %s", noisy.Onset, truth)

	x, err := d.Service.Incident(t.Context(), noisy.ID)
	require.NoError(t, err)
	assert.Len(t, x.Suffered, noisy.Sufferers)
	for k := 1; k < len(x.Suffered); k++ {
		assert.GreaterOrEqual(t, x.Suffered[k-1].Harm, x.Suffered[k].Harm)
	}
	assert.True(t, x.Explanation.Suspects[0].Accused)

	// Looked for again, nothing is found twice.
	require.NoError(t, d.Service.Advance(t.Context(), d.Anchor))
	again, err := d.Service.Incidents(t.Context(), day(t, d), 0)
	require.NoError(t, err)
	assert.Len(t, again.Incidents, len(list.Incidents))
}

func TestPeopleAndIncidents(t *testing.T) {
	d := testbed.LoadWatched(t)
	list, err := d.Service.Incidents(t.Context(), day(t, d), 0)
	require.NoError(t, err)
	id := list.Incidents[len(list.Incidents)-1].ID
	x, err := d.Service.AcknowledgeIncident(t.Context(), id, "wren", true)
	require.NoError(t, err)
	assert.Equal(t, "wren", x.AcknowledgedBy)
	x, err = d.Service.CommentIncident(t.Context(), id, "wren", "  firmware of the controller  ")
	require.NoError(t, err)
	require.Len(t, x.Comments, 1)
	assert.Equal(t, "firmware of the controller", x.Comments[0].Words)
	x, err = d.Service.AcknowledgeIncident(t.Context(), id, "wren", false)
	require.NoError(t, err)
	assert.Nil(t, x.Acknowledged)
	assert.Empty(t, x.AcknowledgedBy)

	var asked *service.QueryError
	for _, words := range []string{"", "   ", strings.Repeat("x", 8001)} {
		_, err = d.Service.CommentIncident(t.Context(), id, "wren", words)
		assert.ErrorAs(t, err, &asked)
	}
	var none *service.NumberError
	_, err = d.Service.Incident(t.Context(), 1<<40)
	assert.ErrorAs(t, err, &none)
	_, err = d.Service.CommentIncident(t.Context(), 1<<40, "wren", "x")
	assert.ErrorAs(t, err, &none)
	_, err = d.Service.AcknowledgeIncident(t.Context(), 1<<40, "wren", true)
	assert.ErrorAs(t, err, &none)
}

func TestSurveyOfTheDemo(t *testing.T) {
	d := testbed.LoadWatched(t)
	w, err := d.Service.Window(d.Anchor.Add(-2*time.Hour), d.Anchor)
	require.NoError(t, err)
	s, err := d.Service.Survey(t.Context(), w)
	require.NoError(t, err)
	assert.LessOrEqual(t, s.N, 144)
	require.Len(t, s.Systems, 9)
	assert.Equal(t, "heron", s.Systems[0].Name, "what did most harm comes first")
	assert.InDelta(t, 46*60, s.Systems[0].Past, 4*60)
	assert.Contains(t, s.Systems[0].Hurts, "of tier 1")
	marks := 0
	for _, sys := range s.Systems {
		require.Len(t, sys.Load, s.N, sys.Name)
		for _, row := range sys.Rows {
			for _, m := range row.Marks {
				marks++
				assert.Less(t, m.From, m.To)
				assert.LessOrEqual(t, m.To, s.N)
				assert.NotEmpty(t, m.Words)
				if m.Ref == "pool:p2@heron" {
					assert.NotZero(t, m.Incident, "a mark leads to what explains it")
				}
			}
		}
	}
	assert.Positive(t, marks)
	assert.Contains(t, phrase.Text(s.Statement, time.UTC), "sonar-tiles-05 did it")
}

func TestExplainTheDemo(t *testing.T) {
	d := testbed.LoadDemo(t)
	w, err := d.Service.Window(d.Anchor.Add(-2*time.Hour), d.Anchor)
	require.NoError(t, err)
	x, err := d.Service.Explain(t.Context(), "vm:manifest-db-02", w)
	require.NoError(t, err)
	assert.Equal(t, verdict.NoisyNeighbour, x.Verdict.Class)
	assert.Equal(t, "pool:p2@heron", x.Verdict.Component.Ref)
	assert.Equal(t, "sonar-tiles-05", x.Suspects[0].Name)
	assert.Greater(t, len(x.Sufferers), 10)
	x, err = d.Service.Explain(t.Context(), "vm:berth-plan-01", w)
	require.NoError(t, err)
	assert.Equal(t, verdict.Cleared, x.Verdict.Class)
	assert.Contains(t, phrase.Text(x.Statement, time.UTC), "The storage is not the cause")
}
