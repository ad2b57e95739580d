package service_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/phrase"
	"dowsingrod/core/suspect"
	"dowsingrod/core/sweep"
	"dowsingrod/internal/testbed"
)

// An array whose pool is full slowed because of that: nobody is accused of the array's slowness by comparing those who do not share the pool.
func TestWhatSlowedBecauseOfAPartAccusesNobody(t *testing.T) {
	d := testbed.LoadDemo(t)
	tr := truth(d, "noisy")
	s, err := d.Service.Suspects(t.Context(), "array:heron", window(t, d, -2*time.Hour, 0))
	require.NoError(t, err)
	require.Equal(t, suspect.Elsewhere, s.Outcome, phrase.Text(s.Statement, time.UTC))
	require.NotNil(t, s.Where)
	assert.Equal(t, tr.Component, s.Where.Ref)
	for _, x := range s.Tenants {
		assert.NotEqual(t, suspect.Suspect, x.Role, x.Name)
	}
}

// The whole estate is told by its causes: each once, with who did it.
func TestTheWholeEstateIsToldByItsCauses(t *testing.T) {
	d := testbed.LoadDemo(t)
	tr := truth(d, "noisy")
	list, err := d.Service.Neighbours(t.Context(), window(t, d, -2*time.Hour, 0))
	require.NoError(t, err)
	require.NotEmpty(t, list.Slowed)
	first := list.Slowed[0]
	assert.Equal(t, tr.Component, first.Ref)
	assert.Equal(t, sweep.Culprit, first.Outcome)
	require.Len(t, first.First, 1)
	assert.Equal(t, tr.Culprit, first.First[0].Ref)
	assert.WithinDuration(t, tr.From, first.From, 2*time.Minute)
	seen := map[string]bool{}
	for _, x := range list.Slowed {
		assert.False(t, seen[x.Ref], "%s is told twice", x.Ref)
		seen[x.Ref] = true
		if x.Ref != tr.Component {
			assert.NotEqual(t, sweep.Culprit, x.Outcome, x.Sentence)
		}
		assert.NotContains(t, x.Sentence, "NaN")
	}
	assert.Contains(t, list.Says, "one machine brought most")
}

func TestAControllerThatSlowedByItselfIsToldSo(t *testing.T) {
	d := testbed.LoadDemo(t)
	tr := truth(d, "slow")
	list, err := d.Service.Neighbours(t.Context(), window(t, d, -10*time.Hour, -7*time.Hour))
	require.NoError(t, err)
	for _, x := range list.Slowed {
		if x.Ref == tr.Component {
			assert.Equal(t, sweep.Itself, x.Outcome, x.Sentence)
			assert.Empty(t, x.Where)
			return
		}
		assert.NotEqual(t, sweep.Culprit, x.Outcome, x.Sentence)
	}
	t.Fatalf("%s is not told", tr.Component)
}
