package cli_test

import (
	"encoding/json"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/internal/service"
	"dowsingrod/internal/testbed"
)

// at is a moment of the demo, so long before its end.
func at(t *testing.T, back time.Duration) string {
	return testbed.LoadDemo(t).Anchor.Add(-back).UTC().Format(time.RFC3339)
}

func narrow(t *testing.T, out string) {
	t.Helper()
	for _, line := range strings.Split(out, "\n") {
		assert.LessOrEqual(t, utf8.RuneCountInString(line), 100, line)
		assert.NotContains(t, line, "NaN")
	}
}

// Without a component, suspects are those of the whole estate, each cause once.
func TestSuspectsOfTheWholeEstate(t *testing.T) {
	c := demo(t)
	out, complaint, status := c.run("suspects", "--from", at(t, 2*time.Hour), "--to", at(t, 0))
	require.Zero(t, status, complaint)
	for _, part := range []string{"heron pool 2", "sonar-tiles-05", "25 of 25", "one machine brought most", "dowse suspects COMPONENT"} {
		assert.Contains(t, out, part)
	}
	assert.Equal(t, 1, strings.Count(out, "heron pool 2"))
	narrow(t, out)

	text, _, status := c.run("suspects", "--from", at(t, 2*time.Hour), "--to", at(t, 0), "--json")
	require.Zero(t, status)
	var list service.NeighbourList
	require.NoError(t, json.Unmarshal([]byte(text), &list))
	require.NotEmpty(t, list.Slowed)
	assert.Equal(t, 120, list.Machines)
	assert.Equal(t, "pool:p2@heron", list.Slowed[0].Ref)

	out, _, status = c.run("suspects", "--from", at(t, 7*time.Hour), "--to", at(t, 6*time.Hour))
	require.Zero(t, status)
	assert.Contains(t, out, "slowed in this window")
	_, complaint, status = c.run("suspects", "--from", "tomorrow")
	assert.NotZero(t, status)
	assert.Contains(t, complaint, "is not a time")
}

// A component that slowed because of a part of it accuses nobody.
func TestSuspectsOfAnArrayWhosePoolIsFull(t *testing.T) {
	c := demo(t)
	out, complaint, status := c.run("suspects", "array:heron", "--from", at(t, 2*time.Hour), "--to", at(t, 0))
	require.Zero(t, status, complaint)
	words := strings.Join(strings.Fields(out), " ")
	assert.Contains(t, words, "heron slowed because its tenants wait for heron pool 2")
	assert.Contains(t, words, "nobody is accused")
	assert.NotContains(t, out, "◆")
	narrow(t, out)
}

func TestTheSurveyOnTheCommandLine(t *testing.T) {
	testbed.LoadWatched(t)
	c := demo(t)
	out, complaint, status := c.run("survey", "--from", at(t, 2*time.Hour), "--to", at(t, 0))
	require.Zero(t, status, complaint)
	for _, part := range []string{"Survey", "heron", "pools", "█", "of tier 1", "sonar-tiles-05 did it", "Incidents", "strained"} {
		assert.Contains(t, out, part)
	}
	narrow(t, out)
	assert.Less(t, strings.Index(out, "\nheron  "), strings.Index(out, "\ngannet  "), "by harm")

	few, _, status := c.run("survey", "--from", at(t, 2*time.Hour), "--to", at(t, 0), "--limit", "2")
	require.Zero(t, status)
	assert.Contains(t, few, "and 7 more systems")
	assert.Less(t, len(few), len(out))

	text, _, status := c.run("survey", "--from", at(t, 2*time.Hour), "--to", at(t, 0), "--json")
	require.Zero(t, status)
	var s service.Survey
	require.NoError(t, json.Unmarshal([]byte(text), &s))
	require.Len(t, s.Systems, 9)
	for _, x := range s.Systems {
		require.NotNil(t, x.Seen, x.Name)
		assert.False(t, x.Quiet, x.Name)
	}
	_, complaint, status = c.run("survey", "--from", at(t, 0), "--to", at(t, time.Hour))
	assert.NotZero(t, status)
	assert.NotEmpty(t, complaint)
}

func TestAnApplicationThatNobodyStates(t *testing.T) {
	c := demo(t)
	_, complaint, status := c.run("strata", "application:chess")
	assert.Equal(t, 3, status)
	assert.Contains(t, complaint, "there are berth plans")
	for _, command := range []string{"suspects", "compare", "route", "readings", "why"} { // they are about one object
		_, complaint, status = c.run(command, "application:manifests")
		assert.Equal(t, 3, status, command)
		assert.Contains(t, complaint, "strata and explain take", command)
		assert.Contains(t, complaint, "find manifests", command)
	}
}

// Strata, suspects and explanations of everything one can start from.
func TestEveryStartIsAnswered(t *testing.T) {
	c := demo(t)
	window := []string{"--from", at(t, 2*time.Hour), "--to", at(t, 0)}
	for _, of := range []string{"vm:manifest-db-02", "vdisk:manifest-db-02-0@hyp-northmole", "datastore:ds-3@hyp-northmole", "volume:v1@heron", "host:h-01@hyp-northmole", "pool:p2@heron", "application:manifests"} {
		for _, command := range []string{"strata", "explain"} {
			out, complaint, status := c.run(append([]string{command, of}, window...)...)
			require.Zero(t, status, "%s %s: %s", command, of, complaint)
			assert.NotEmpty(t, out)
			narrow(t, out)
		}
	}
}
