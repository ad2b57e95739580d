package service_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/estate"
	"dowsingrod/core/normal"
	"dowsingrod/internal/testbed"
)

// A day of readings teaches what is usual in any hour, honestly: three days are needed for the hour of the day.
func TestWhatIsUsualIsLearned(t *testing.T) {
	d := testbed.LoadDemo(t)
	ctx := t.Context()
	w, err := d.Service.Window(d.Anchor.Add(-2*time.Hour), d.Anchor)
	require.NoError(t, err)
	require.NoError(t, d.Service.LearnUntil(ctx, d.Anchor))
	require.NoError(t, d.Service.LearnUntil(ctx, d.Anchor), "nothing is left to learn")
	m, err := d.Service.Measured(ctx, "pool:p2@heron", w)
	require.NoError(t, err)
	require.NotEmpty(t, m.Metrics)
	assert.Equal(t, 1, m.Weeks)
	var busy bool
	for _, x := range m.Metrics {
		assert.Equal(t, normal.All, x.Usual.Basis, x.Metric)
		assert.Len(t, x.Usual.Mid, m.N)
		assert.LessOrEqual(t, x.Usual.Low[0], x.Usual.Mid[0])
		assert.LessOrEqual(t, x.Usual.Mid[0], x.Usual.High[0])
		if x.Metric == "busy_share" {
			busy = true
			require.NotNil(t, x.Limit)
			assert.InDelta(t, 46.0/120, float64(x.Above), 0.05, "since it was hammered")
			assert.Contains(t, x.Unusual, "more than is usual")
		}
	}
	assert.True(t, busy)
	assert.Contains(t, m.Says, "not as usual")

	// Of a long window it is a small part, and yet that is how it is now.
	long, err := d.Service.Window(d.Anchor.Add(-12*time.Hour), d.Anchor)
	require.NoError(t, err)
	m, err = d.Service.Measured(ctx, "pool:p2@heron", long)
	require.NoError(t, err)
	for _, x := range m.Metrics {
		if x.Metric == "busy_share" {
			assert.Less(t, float64(x.Above), 0.10)
			assert.Contains(t, x.Unusual, "for the last 4")
		}
	}
	assert.Contains(t, m.Says, "not as usual")

	vm, err := d.Service.Measured(ctx, "manifest-db-02", w)
	require.NoError(t, err)
	of := map[string]bool{}
	for _, x := range vm.Metrics {
		of[x.Of] = true
	}
	assert.Len(t, of, 3, "its own and those of its disks")
	var gone *estate.NotFoundError
	_, err = d.Service.Measured(ctx, "nobody", w)
	assert.ErrorAs(t, err, &gone)
}
