package cli_test

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/internal/testbed"
)

// Whatever is asked, the answer fits its lines, holds no figure that is none and no name that a program uses for itself, and can be had as JSON.
func TestEveryAnswerIsForPeople(t *testing.T) {
	c := demo(t)
	d := testbed.LoadDemo(t)
	require.NoError(t, d.Service.LearnUntil(t.Context(), d.Anchor))
	window := []string{"--from", at(t, 2*time.Hour), "--to", at(t, 0)}
	earlier := []string{"--from", at(t, 10*time.Hour), "--to", at(t, 7*time.Hour)}
	long := []string{"--from", at(t, 20*time.Hour), "--to", at(t, 0)}
	for _, x := range []struct {
		ask   string
		when  [][]string
		names bool // it tells metrics by their names in the feed, for that is how they are given back to it
	}{
		{ask: "survey", when: [][]string{window, earlier, long}},
		{ask: "incidents", when: [][]string{window, long}},
		{ask: "explain manifest-db-02", when: [][]string{window, earlier, long}},
		{ask: "explain berth-plan-01", when: [][]string{window, earlier}},
		{ask: "explain application:manifests", when: [][]string{window, long}},
		{ask: "suspects", when: [][]string{window, earlier, long}},
		{ask: "suspects pool:p2@heron", when: [][]string{window, earlier, long}},
		{ask: "suspects array:heron", when: [][]string{window}},
		{ask: "suspects controller:c1@gannet", when: [][]string{earlier}},
		{ask: "strata manifest-db-02", when: [][]string{window, earlier, long}},
		{ask: "strata host:h-01@hyp-northmole", when: [][]string{window}},
		{ask: "compare manifest-db-02", when: [][]string{window, earlier}},
		{ask: "compare pool:p1@heron pool:p2@heron", when: [][]string{window}},
		{ask: "readings pool:p2@heron", when: [][]string{window, long}, names: true},
		{ask: "readings manifest-db-02", when: [][]string{window}, names: true},
		{ask: "limits", when: [][]string{nil}, names: true},
		{ask: "limits pool:p2@heron", when: [][]string{nil}, names: true},
		{ask: "limits passed", when: [][]string{window, long}, names: true},
		{ask: "why heron", when: [][]string{window}},
		{ask: "show manifest-db-02", when: [][]string{window}, names: true},
		{ask: "route manifest-db-02", when: [][]string{window}},
		{ask: "reach pool:p2@heron", when: [][]string{nil}},
	} {
		for _, when := range x.when {
			command := append(strings.Fields(x.ask), when...)
			out, complaint, status := c.run(command...)
			if !assert.Zero(t, status, "%s: %s", x.ask, complaint) {
				continue
			}
			assert.NotEmpty(t, strings.TrimSpace(out), x.ask)
			narrow(t, out)
			for _, wrong := range []string{"%!", "<nil>", "+Inf", "-Inf", "&{", "map[", "in the in ", " , ", "  .\n", "0001-01-01"} {
				assert.NotContains(t, out, wrong, x.ask)
			}
			if !x.names {
				for _, name := range []string{"_share", "_us", "_iops", "_bytes_s"} {
					assert.NotContains(t, out, name, x.ask)
				}
			}
			text, _, status := c.run(append(command, "--json")...)
			assert.Zero(t, status, x.ask)
			assert.True(t, json.Valid([]byte(text)), x.ask)
			assert.NotContains(t, text, "NaN", x.ask)
		}
	}
}

// What is usual at that hour is told with strata, and what it rests on.
func TestStrataSayWhatIsUsualThen(t *testing.T) {
	c := demo(t)
	d := testbed.LoadDemo(t)
	require.NoError(t, d.Service.LearnUntil(t.Context(), d.Anchor))
	out, complaint, status := c.run("strata", "manifest-db-02", "--from", at(t, 2*time.Hour), "--to", at(t, 0))
	require.Zero(t, status, complaint)
	said := strings.Join(strings.Fields(out), " ")
	assert.Regexp(t, `Usual then: [\d.]+ to [\d.]+ ms\. It rests on all of \d+ hours seen`, said)
	assert.Equal(t, 2, strings.Count(said, "Usual then:"), "of reads and of writes")
}
