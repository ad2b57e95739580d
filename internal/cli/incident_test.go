package cli_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/internal/service"
	"dowsingrod/internal/testbed"
)

func TestExplainOnTheCommandLine(t *testing.T) {
	c := demo(t)
	d := testbed.LoadDemo(t)
	to := d.Anchor.UTC().Format("2006-01-02T15:04:05Z")
	out, complaint, status := c.run("explain", "manifest-db-02", "--to", to)
	require.Zero(t, status, complaint)
	for _, part := range []string{"sonar-tiles-05 did it", "noisy neighbour", "% sure", "Who suffers", "Cleared", "What usually helps", "On one time axis", "heron pool 2 busy", "sonar-tiles-05 data rate"} {
		assert.Contains(t, out, part)
	}
	for _, line := range strings.Split(out, "\n") {
		assert.LessOrEqual(t, utf8.RuneCountInString(line), 100, line)
	}
	out, _, status = c.run("explain", "berth-plan-01", "--to", to)
	require.Zero(t, status)
	for _, part := range []string{"The storage is not the cause", "What else it could be", "99 % within", "berth-plan-01 steal"} {
		assert.Contains(t, strings.Join(strings.Fields(out), " "), part)
	}
	assert.NotContains(t, out, "NaN")
	text, _, status := c.run("explain", "manifest-db-02", "--to", to, "--json")
	require.Zero(t, status)
	var x map[string]any
	require.NoError(t, json.Unmarshal([]byte(text), &x))
	for _, field := range []string{"subject", "from", "to", "onset", "verdict", "layers", "suspects", "sufferers", "cleared", "unseen"} {
		assert.Contains(t, x, field)
	}
	v := x["verdict"].(map[string]any)
	assert.Equal(t, "noisy_neighbour", v["class"])
	assert.Equal(t, "pool:p2@heron", v["component"].(map[string]any)["ref"])
	layer := x["layers"].([]any)[0].(map[string]any)
	for _, field := range []string{"layer", "read_us", "write_us", "added_us"} {
		assert.Contains(t, layer, field)
	}
	first := x["suspects"].([]any)[0].(map[string]any)
	assert.Equal(t, true, first["accused"])
	for _, field := range []string{"ref", "name", "score", "evidence"} {
		assert.Contains(t, first, field)
	}
	_, complaint, status = c.run("explain", "nobody-here")
	assert.Equal(t, 3, status)
	assert.Contains(t, complaint, "nobody-here")
}

func TestCompareOnTheCommandLine(t *testing.T) {
	c := demo(t)
	at := func(minutes int) string {
		return testbed.LoadDemo(t).Anchor.Add(time.Duration(minutes) * time.Minute).UTC().Format("2006-01-02T15:04:05Z")
	}
	out, complaint, status := c.run("compare", "manifest-db-02", "--from", at(-40), "--to", at(0), "--with-from", at(-120), "--with-to", at(-80))
	require.Zero(t, status, complaint)
	assert.Contains(t, strings.Join(strings.Fields(out), " "), "What differs most")
	assert.Contains(t, out, "heron pool 2")
	out, complaint, status = c.run("compare", "manifest-db-02", "berth-plan-01", "--from", at(-40), "--to", at(0), "--json")
	require.Zero(t, status, complaint)
	var x service.SideBySide
	require.NoError(t, json.Unmarshal([]byte(out), &x))
	assert.Equal(t, "berth-plan-01", x.Second.Name)
	assert.True(t, x.First.From.Equal(x.Second.From), "two objects over the same window")
	_, complaint, status = c.run("compare")
	assert.Equal(t, 2, status)
	assert.Contains(t, complaint, "one object, or two")
	_, complaint, status = c.run("compare", "manifest-db-02", "--with-from", "yesterday")
	assert.NotZero(t, status)
	assert.Contains(t, complaint, "is not a time")
}

func TestIncidentsOnTheCommandLine(t *testing.T) {
	d := testbed.LoadWatched(t)
	c := demo(t)
	out, complaint, status := c.run("incidents", "--json")
	require.Zero(t, status, complaint)
	var list service.IncidentList
	require.NoError(t, json.Unmarshal([]byte(out), &list))
	require.NotEmpty(t, list.Incidents)
	no := fmt.Sprint(list.Incidents[0].ID)
	out, _, status = c.run("incidents")
	require.Zero(t, status)
	assert.Contains(t, out, "noisy neighbour")
	out, _, status = c.run("incidents", "show", no)
	require.Zero(t, status)
	assert.Contains(t, out, "sonar-tiles-05 did it")
	assert.Contains(t, out, "I/O-seconds waited")
	out, _, status = c.run("incidents", "take", no)
	require.Zero(t, status)
	assert.Contains(t, out, "has been on it")
	out, _, status = c.run("incidents", "comment", no, "limited", "it")
	require.Zero(t, status)
	assert.Contains(t, out, "limited it")
	_, _, status = c.run("incidents", "release", no)
	require.Zero(t, status)
	for args, says := range map[string]string{"incidents show": "by its number", "incidents show x": "by its number", "incidents show 1 2": "too much",
		"incidents comment 1": "write something", "incidents x": "no part", "survey heron": "whole estate"} {
		_, complaint, status := c.run(strings.Fields(args)...)
		assert.Equal(t, 2, status, args)
		assert.Contains(t, complaint, says)
	}
	_, complaint, status = c.run("incidents", "show", "987654321")
	assert.Equal(t, 3, status)
	assert.Contains(t, complaint, "no incident 987654321")

	out, _, status = c.run("survey", "--from", d.Anchor.Add(-2*3600e9).UTC().Format("2006-01-02T15:04:05Z"), "--to", d.Anchor.UTC().Format("2006-01-02T15:04:05Z"))
	require.Zero(t, status)
	for _, part := range []string{"heron", "past its limits", "of tier 1", "within its limits", "█"} {
		assert.Contains(t, out, part)
	}
}
