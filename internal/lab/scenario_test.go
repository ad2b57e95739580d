package lab_test

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/estate"
	"dowsingrod/internal/feed"
	"dowsingrod/internal/lab"
)

// The demo is brought in by the minute while it runs: pieces must join up with what one run gives.
func TestPiecesJoinUp(t *testing.T) {
	whole := write(t, lab.New(lab.Seed, anchor), -time.Hour, 0)
	l := lab.New(lab.Seed, anchor)
	write(t, l, -time.Hour, -30*time.Minute)
	second := write(t, l, -30*time.Minute, 0)
	for _, of := range []string{"pool:p2@heron", "vdisk:manifest-db-02-0@hyp-northmole"} {
		a, b := whole[of], second[of]
		n := len(b.Values["read_iops"])
		require.Positive(t, n)
		tail := a.Values["read_iops"][len(a.Values["read_iops"])-n:]
		for i := range n {
			assert.InDelta(t, tail[i], b.Values["read_iops"][i], 0.03*tail[i]+0.5, "%s %d", of, i)
		}
	}
}

func TestASilentSourceSendsNull(t *testing.T) {
	r := write(t, lab.New(lab.Seed, anchor), -4*time.Hour, -3*time.Hour)["controller:c0@petrel"]
	gaps := 0
	for _, v := range r.Values["busy_share"] {
		if math.IsNaN(v) {
			gaps++
		}
	}
	assert.Equal(t, 6, gaps, "twelve minutes at two minutes each")
}

func TestEachSourceHasItsOwnInterval(t *testing.T) {
	steps := map[string]float64{}
	for of, r := range write(t, lab.New(lab.Seed, anchor), -time.Hour, 0) {
		for _, s := range lab.Sources {
			if len(of) > len(s.Name) && of[len(of)-len(s.Name)-1:] == "@"+s.Name {
				steps[s.Name] = r.Step
				n := 0
				for _, v := range r.Values {
					n = len(v)
				}
				assert.Equal(t, int(time.Hour.Seconds()/r.Step), n, of)
			}
		}
	}
	require.Len(t, steps, len(lab.Sources))
	for _, s := range lab.Sources {
		assert.InDelta(t, s.Interval.Seconds(), steps[s.Name], 0)
	}
}

func TestTheDayRisesAndFalls(t *testing.T) {
	l := lab.New(lab.Seed, anchor)
	total := func(from, to time.Duration) float64 {
		var sum float64
		for of, r := range write(t, l, from, to) {
			if r.Values["read_iops"] != nil && of[:6] == "vdisk:" {
				sum += mean(r.Values["read_iops"])
			}
		}
		return sum
	}
	night, morning := total(-17*time.Hour, -16*time.Hour), total(-7*time.Hour, -6*time.Hour)
	assert.Greater(t, morning, 1.2*night)
}

func TestAMigrationIsSaidOnce(t *testing.T) {
	l := lab.New(lab.Seed, anchor)
	moves, events := 0, 0
	require.NoError(t, l.Write(anchor.Add(-6*time.Hour), anchor.Add(-4*time.Hour), false, func(r feed.Record) error {
		if r.Object != nil && r.Object.Kind == estate.VM {
			moves++
		}
		if r.Event != nil && r.Event.What == "migrated" {
			events++
		}
		return nil
	}))
	assert.Equal(t, 1, moves)
	assert.Equal(t, 1, events)
	// An inventory made after the move lists the VM where it is.
	later := lab.New(lab.Seed, anchor)
	again := 0
	require.NoError(t, later.Write(anchor.Add(-time.Hour), anchor, true, func(r feed.Record) error {
		if r.Event != nil {
			again++
		}
		return nil
	}))
	assert.Zero(t, again)
}

func TestTheAnchorSuitsEveryInterval(t *testing.T) {
	for _, s := range lab.Sources {
		assert.Zero(t, int64(2*time.Minute)%int64(s.Interval))
		assert.Zero(t, int64(s.Interval)%int64(lab.Step))
	}
	assert.Equal(t, anchor, lab.Anchor(anchor.Add(119*time.Second)))
	assert.Len(t, lab.Names(), len(lab.Sources))
}
