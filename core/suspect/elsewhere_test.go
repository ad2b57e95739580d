package suspect_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/phrase"
	. "dowsingrod/core/suspect"
)

func noisy(t *testing.T) Suspects {
	t.Helper()
	s := compare(t, map[string]vm{"big": steady(5000), "loud": {20, 900, 32 << 10, 256 << 10}, "small": steady(300)}, 5)
	require.Equal(t, []string{"loud"}, accused(s))
	return s
}

// Whoever waits most is asked first; whoever is accused waits for itself and is asked last.
func TestWhoIsAskedWhatItWaitsFor(t *testing.T) {
	s := noisy(t)
	assert.Equal(t, []string{"vm:big@hyp", "vm:small@hyp", "vm:loud@hyp"}, s.Waiting(5))
	assert.Equal(t, []string{"vm:big@hyp"}, s.Waiting(1))
	assert.Equal(t, 3, s.Slower())
	well := compare(t, map[string]vm{"a": steady(500), "b": steady(700)}, 1)
	assert.Empty(t, well.Waiting(5))
	assert.Zero(t, well.Slower())
}

// What waits for something else accuses nobody.
func TestNobodyIsAccusedOfWhatArisesElsewhere(t *testing.T) {
	s := noisy(t)
	s.Yield(Where{Ref: "pool:q@array", Name: "heron pool 9", Why: "99 % busy"})
	assert.Equal(t, Elsewhere, s.Outcome)
	assert.Empty(t, accused(s))
	assert.False(t, s.Confidence.Known())
	assert.Empty(t, s.Grounds)
	assert.Equal(t, Sufferer, roles(s)["loud"], "it waits as well")
	says := phrase.Text(s.Statement, time.UTC)
	assert.Contains(t, says, "its tenants wait for heron pool 9 (99 % busy)")
	assert.Contains(t, says, "nobody is accused")
	assert.NotContains(t, says, "did it")
	var linked bool
	for _, p := range s.Statement {
		linked = linked || p.Ref == "pool:q@array" && p.Page == "suspects"
	}
	assert.True(t, linked, "the reader can go there")
}
