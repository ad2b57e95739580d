package service_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/internal/feed"
	"dowsingrod/internal/lab"
	"dowsingrod/internal/service"
	"dowsingrod/internal/testbed"
)

// A service that ends in the middle of trouble is followed by another that goes on with what was open: the same incidents, none twice, each
// with its onset, and the same stretches past limits.
func TestIncidentsOutliveTheService(t *testing.T) {
	anchor := lab.Anchor(time.Now())
	found := func(stops ...time.Duration) (service.IncidentList, service.StretchList) {
		st := testbed.Store(t)
		now := anchor
		svc := service.New(st, func() time.Time { return now })
		l := lab.New(lab.Seed, anchor)
		_, err := svc.ImportRecords(t.Context(), func(write func(feed.Record) error) error {
			return l.Write(anchor.Add(-5*time.Hour), anchor, true, write)
		})
		require.NoError(t, err)
		for _, back := range append(stops, 0) {
			require.NoError(t, service.New(st, func() time.Time { return now }).Advance(t.Context(), anchor.Add(-back)))
		}
		w, err := svc.Window(anchor.Add(-5*time.Hour), anchor)
		require.NoError(t, err)
		list, err := svc.Incidents(t.Context(), w, 0)
		require.NoError(t, err)
		past, err := svc.Stretches(t.Context(), "", w, 100)
		require.NoError(t, err)
		return list, past
	}
	whole, stretches := found()
	parts, others := found(40*time.Minute, 25*time.Minute, 10*time.Minute)
	require.Len(t, whole.Incidents, 1)
	require.Len(t, parts.Incidents, 1)
	a, b := whole.Incidents[0], parts.Incidents[0]
	assert.Equal(t, a.Component.Ref, b.Component.Ref)
	assert.Equal(t, a.Class, b.Class)
	assert.WithinDuration(t, a.Onset, b.Onset, time.Minute)
	assert.Equal(t, a.Sufferers, b.Sufferers)
	assert.InEpsilon(t, float64(a.Harm), float64(b.Harm), 0.15, "what was waited is added up across services")
	assert.Nil(t, b.Ended)

	refs := func(of service.StretchList) map[string]time.Time {
		out := map[string]time.Time{}
		for _, s := range of.Stretches {
			out[s.Ref+" "+s.Metric] = s.From
		}
		return out
	}
	one, many := refs(stretches), refs(others)
	require.NotEmpty(t, one)
	require.Len(t, many, len(one))
	for key, from := range one {
		assert.WithinDuration(t, from, many[key], time.Minute, key)
	}
}
