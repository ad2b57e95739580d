package service_test

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/normal"
	"dowsingrod/core/strata"
	"dowsingrod/internal/testbed"
)

// What is usual at that hour stands beside latency and evidence once it was learned.
func TestWhatIsUsualStandsBesideLatencyAndEvidence(t *testing.T) {
	d := testbed.LoadDemo(t)
	ctx := t.Context()
	w, err := d.Service.Window(d.Anchor.Add(-2*time.Hour), d.Anchor)
	require.NoError(t, err)
	require.NoError(t, d.Service.LearnUntil(ctx, d.Anchor))

	for _, of := range []string{"vm:manifest-db-02", "application:manifests", "vdisk:manifest-db-02-0@hyp-northmole", "datastore:ds-3@hyp-northmole"} {
		s, err := d.Service.Strata(ctx, of, w)
		require.NoError(t, err, of)
		for name, dir := range map[string]strata.Direction{"reads": s.Read, "writes": s.Write} {
			u := dir.Ordinary
			require.NotNil(t, u, "%s of %s", name, of)
			require.Len(t, u.Mid, s.N)
			for k := range u.Mid {
				if !math.IsNaN(u.Mid[k]) {
					assert.LessOrEqual(t, u.Low[k], u.Mid[k])
					assert.LessOrEqual(t, u.Mid[k], u.High[k])
				}
			}
			assert.Equal(t, normal.All, u.Basis, "a day was seen")
		}
	}
	s, err := d.Service.Strata(ctx, "vm:manifest-db-02", w)
	require.NoError(t, err)
	require.NotNil(t, s.Change)
	last := s.N - 1
	assert.Greater(t, s.Read.Total[last], 2*s.Read.Ordinary.High[last], "it hurts")
	assert.InDelta(t, float64(s.Read.Usual), s.Read.Ordinary.Mid[last], 0.5*float64(s.Read.Usual), "and is otherwise as it is before it does")

	x, err := d.Service.Explain(ctx, "vm:manifest-db-02", w)
	require.NoError(t, err)
	held := 0
	for _, e := range x.Evidence {
		if e.Usual == nil {
			continue
		}
		held++
		require.Len(t, e.Usual.High, len(e.Trace), "%s of %s", e.Metric, e.Name)
		if e.Of == x.Verdict.Component.Ref && e.Metric == "busy_share" {
			assert.Greater(t, e.Trace[len(e.Trace)-1], e.Usual.High[len(e.Trace)-1])
		}
	}
	assert.Positive(t, held)
}
