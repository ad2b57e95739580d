package cli_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/internal/service"
	"dowsingrod/internal/testbed"
)

func TestLimitsOnTheCommandLine(t *testing.T) {
	c := demo(t)
	out, complaint, status := c.run("limits")
	require.Zero(t, status, complaint)
	for _, part := range []string{"starved of credits", "nearly full", "busy_share", "80 %"} {
		assert.Contains(t, out, part)
	}
	set := []string{"limits", "set", "busy_share", "--of", "raid_group:g20@heron", "--strained", "42%", "--failing", "never", "--why", "tried out"}
	text, _, status := c.run("limits", "raid_group:g20@heron", "--json")
	if status == 3 { // whatever RAID groups are called
		inventory, _, _ := c.run("inventory", "raid_group", "--json")
		var list struct {
			Rows []struct{ Ref string }
		}
		require.NoError(t, json.Unmarshal([]byte(inventory), &list))
		require.NotEmpty(t, list.Rows)
		set[4] = list.Rows[0].Ref
		text, _, status = c.run("limits", set[4], "--json")
	}
	require.Zero(t, status, text)
	out, complaint, status = c.run(set...)
	require.Zero(t, status, complaint)
	assert.Contains(t, out, "42 %")
	assert.Contains(t, out, "never")
	assert.Contains(t, out, "tried out")
	_, complaint, status = c.run("limits", "restore", "busy_share", "--of", set[4])
	require.Zero(t, status, complaint)
	out, _, _ = c.run("limits", set[4])
	assert.NotContains(t, out, "tried out")
	out, _, _ = c.run("limits", set[4], "--history")
	assert.Contains(t, out, "tried out")

	for _, bad := range [][]string{{"limits", "set", "busy_share", "--strained", "80%", "--failing", "90%", "--why", "x"},
		{"limits", "set", "busy_share", "--kind", "pool", "--strained", "lots", "--failing", "90%", "--why", "x"}, {"limits", "a", "b"}} {
		_, complaint, status = c.run(bad...)
		assert.Equal(t, 2, status, complaint)
	}
	_, complaint, status = c.run("limits", "set", "busy_share", "--kind", "pool", "--strained", "90%", "--failing", "50%", "--why", "x")
	assert.Equal(t, 2, status)
	assert.Contains(t, complaint, "swap")
}

func TestWhatWasPassedOnTheCommandLine(t *testing.T) {
	d := testbed.LoadWatched(t)
	c := demo(t)
	to := d.Anchor.UTC().Format("2006-01-02T15:04:05Z")
	from := d.Anchor.Add(-20 * 60 * 60 * 1e9).UTC().Format("2006-01-02T15:04:05Z")
	out, complaint, status := c.run("limits", "passed", "--from", from, "--to", to)
	require.Zero(t, status, complaint)
	assert.Contains(t, out, "heron pool 2")
	assert.Contains(t, out, "lasts")
	out, _, status = c.run("limits", "passed", "pool:p2@heron", "--from", from, "--to", to, "--json")
	require.Zero(t, status)
	var list service.StretchList
	require.NoError(t, json.Unmarshal([]byte(out), &list))
	require.NotEmpty(t, list.Stretches)
	for _, x := range list.Stretches {
		assert.Equal(t, "pool:p2@heron", x.Ref)
	}
}

func TestReadingsOnTheCommandLine(t *testing.T) {
	d := testbed.LoadDemo(t)
	c := demo(t)
	require.NoError(t, d.Service.LearnUntil(t.Context(), d.Anchor))
	to := d.Anchor.UTC().Format("2006-01-02T15:04:05Z")
	out, complaint, status := c.run("readings", "pool:p2@heron", "--to", to)
	require.Zero(t, status, complaint)
	for _, part := range []string{"not as usual", "busy_share", "above, ", "What is usual rests on all of"} {
		assert.Contains(t, out, part)
	}
	out, complaint, status = c.run("readings", "manifest-db-02", "--to", to, "--metric", "latency")
	require.Zero(t, status, complaint)
	assert.Contains(t, out, "read_latency_us")
	assert.NotContains(t, out, "busy_share")
	_, _, status = c.run("readings")
	assert.Equal(t, 2, status)
}
