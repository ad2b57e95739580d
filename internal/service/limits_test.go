package service_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/congest"
	"dowsingrod/core/estate"
	"dowsingrod/core/reading"
	"dowsingrod/internal/service"
	"dowsingrod/internal/testbed"
)

func TestLimitsAreListedChangedAndRestored(t *testing.T) {
	d := testbed.LoadDemo(t)
	ctx := t.Context()
	all, err := d.Service.Limits(ctx, "")
	require.NoError(t, err)
	media := map[reading.Figure]int{}
	for _, l := range all.Limits {
		assert.NotEmpty(t, l.Reason, "%s %s", l.Kind, l.Metric)
		assert.NotZero(t, l.Objects)
		if l.Kind == estate.Pool && l.Metric == "busy_share" {
			media[l.Strained] = l.Objects
		}
	}
	assert.Len(t, media, 2, "flash and disks: %v", media)

	one := func(of string) congest.Limit {
		list, err := d.Service.Limits(ctx, of)
		require.NoError(t, err)
		return list.Limits[0].Limit
	}
	rule := congest.Rule{Kind: estate.Controller, Within: "heron", Metric: "busy_share", Strained: 0.01, Failing: reading.Missing}
	list, err := d.Service.ChangeLimit(ctx, rule, "tried in a test", "wren")
	require.NoError(t, err)
	require.NotEmpty(t, list.Of)
	assert.EqualValues(t, 0.01, one("controller:c0@heron").Strained)
	assert.Contains(t, one("controller:c0@heron").Reason, "all controllers in heron")
	assert.NotEqual(t, 0.01, float64(one("controller:c0@gannet").Strained))
	w, err := d.Service.Window(d.Anchor.Add(-2*60*60*1e9), d.Anchor)
	require.NoError(t, err)
	shown, err := d.Service.Show(ctx, "controller:c0@heron", w)
	require.NoError(t, err)
	assert.Equal(t, congest.Strained, shown.Condition.Condition, "never failing, whatever it does")

	own := rule
	own.Kind, own.Within, own.Strained = "", "controller:c0@heron", 0.99
	_, err = d.Service.ChangeLimit(ctx, own, "its own", "wren")
	require.NoError(t, err)
	assert.EqualValues(t, 0.99, one("controller:c0@heron").Strained, "the nearest holds")
	assert.EqualValues(t, 0.01, one("controller:c1@heron").Strained)
	_, err = d.Service.RestoreLimit(ctx, own, "tern")
	require.NoError(t, err)
	assert.EqualValues(t, 0.01, one("controller:c0@heron").Strained)
	_, err = d.Service.RestoreLimit(ctx, rule, "tern")
	require.NoError(t, err)
	all, err = d.Service.Limits(ctx, "controller:c0@heron")
	require.NoError(t, err)
	require.Len(t, all.Changes, 2, "history stays")
	for _, c := range all.Changes {
		require.NotNil(t, c.Until)
		assert.Equal(t, "tern", c.UntilBy)
	}

	var limited *service.LimitError
	for _, bad := range []congest.Rule{{Kind: estate.Zone, Metric: "busy_share"}, {Kind: estate.Pool, Metric: "steal_share"}, {Kind: estate.Pool, Metric: "busy_share", Strained: 2, Failing: 1}} {
		_, err = d.Service.ChangeLimit(ctx, bad, "why", "wren")
		assert.ErrorAs(t, err, &limited)
	}
	_, err = d.Service.RestoreLimit(ctx, rule, "wren")
	assert.ErrorAs(t, err, &limited, "it is not changed any more")
	var gone *estate.NotFoundError
	_, err = d.Service.Limits(ctx, "pool:nowhere")
	assert.ErrorAs(t, err, &gone)
}

// The demo's pool is past its limits while it is hammered, and is one finding with its parts.
func TestWhatWasPastItsLimits(t *testing.T) {
	d := testbed.LoadWatched(t)
	list, err := d.Service.Stretches(t.Context(), "", day(t, d), 100)
	require.NoError(t, err)
	require.NotNil(t, list.Until)
	var pool *service.StretchInfo
	for k, x := range list.Stretches {
		assert.NotEqual(t, estate.Drive, x.Kind, "%s is part of its pool", x.Name)
		if x.Ref == "pool:p2@heron" && x.Aspect == congest.Busy {
			pool = &list.Stretches[k]
		}
	}
	require.NotNil(t, pool)
	assert.True(t, pool.Lasts)
	assert.Equal(t, "failing", pool.Level)
	assert.Greater(t, pool.Parts, 10)
	assert.Greater(t, pool.VMs, 10)
	assert.InDelta(t, 0, pool.From.Sub(d.Anchor.Add(-46*60*1e9)).Seconds(), 180)
	one, err := d.Service.Stretches(t.Context(), "gannet controller 1", day(t, d), 100)
	if err != nil { // by its address, where the name is not its own
		one, err = d.Service.Stretches(t.Context(), "controller:c1@gannet", day(t, d), 100)
	}
	require.NoError(t, err)
	require.NotEmpty(t, one.Stretches)
	assert.False(t, one.Stretches[0].Lasts)
}
