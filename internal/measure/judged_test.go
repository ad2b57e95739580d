package main

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/internal/lab"
)

// Every kind of fault of the lab, read through the feed reader: its class and its component are told, and no innocent is accused.
func TestEveryKindOfFaultIsTold(t *testing.T) {
	results, err := round{each: 1, looks: []look{whole}}.judge(tuningSeed, nil)
	require.NoError(t, err)
	require.GreaterOrEqual(t, len(results), len(lab.Kinds())-2, "some hurt nobody")
	wrong := 0
	for _, r := range results {
		assert.Zero(t, r.innocent, "%s: %s", r.kind, r.note)
		if r.right() < 1 {
			wrong++
			t.Logf("%s: %s", r.kind, r.note)
		}
	}
	assert.LessOrEqual(t, wrong, 1)
}

func TestAQuietDayIsQuiet(t *testing.T) {
	f, err := lab.Grow(lab.Options{VMs: 60, Seed: tuningSeed, From: labNoon.Add(-4 * 3600e9), To: labNoon, Fault: "quiet"})
	require.NoError(t, err)
	seen, err := take(f)
	require.NoError(t, err)
	n, err := declared(seen.without(loss{}), f.From, f.To)
	require.NoError(t, err)
	assert.Zero(t, n)
}
