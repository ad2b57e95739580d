package suspect_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/estate"
	"dowsingrod/core/internal/tiny"
	. "dowsingrod/core/suspect"
)

// many is a pool with so many quiet tenants and one that begins to ask for much more.
func many(tenants int) Input {
	e := tiny.New(720)
	const begins = 480
	before, after := 0.0, 0.0
	for k := range tenants {
		name := fmt.Sprintf("quiet-%03d", k)
		e.AddVM(name, k%2)
		rate := 20 + float64(k%7)
		before, after = before+rate, after+0.9*rate
		e.IO(tiny.Key("hyp", "vdisk:"+name), tiny.From(begins, rate, 0.9*rate), tiny.Always(8192), tiny.From(begins, 2000, 9000))
	}
	e.AddVM("loud", 0)
	e.IO(tiny.Key("hyp", "vdisk:loud"), tiny.From(begins, 20, 20+before), tiny.Always(8192), tiny.From(begins, 2000, 9000))
	pool := tiny.Key("array", "pool:p")
	e.IO(pool, tiny.From(begins, before+20, after+20+before), tiny.Always(8192), tiny.From(begins, 3000, 12_000))
	return Input{Grid: e.Grid(), First: 240, Moments: e.Moments(), Of: pool, From: e}
}

// Of a component with many tenants cells are made longer, and the answer stays the same: who did it, and when it began, to the cell.
func TestManyTenantsAreComparedInLongerCells(t *testing.T) {
	few, err := Compute(many(20))
	require.NoError(t, err)
	assert.Equal(t, 60.0, few.Step, "few need no longer ones")
	in := many(400)
	all, err := Compute(in)
	require.NoError(t, err)
	assert.Greater(t, all.Step, 60.0)
	for name, s := range map[string]Suspects{"few": few, "many": all} {
		require.Equal(t, Culprit, s.Outcome, name)
		assert.Equal(t, []string{"loud"}, accused(s), name)
		assert.Equal(t, len(s.Tenants[0].BytesS), s.N, name)
	}
	require.Len(t, all.Tenants, 401)
	assert.InDelta(t, 0, all.Onset.Sub(in.Grid.At(480)).Seconds(), all.Step)

	// Where the episode is known its begin and end are kept exactly.
	in.Episode = &Episode{UsualFrom: 420, Begin: 480, End: 720, Direction: "read"}
	known, err := Compute(in)
	require.NoError(t, err)
	assert.Equal(t, in.Grid.At(480), *known.Onset)
	assert.Equal(t, in.Grid.At(720), *known.Until)
	assert.Equal(t, []string{"loud"}, accused(known))
	assert.Greater(t, float64(known.Tenants[0].Share), 0.95)

	// A short one is looked at in cells as they are.
	in.Episode = &Episode{UsualFrom: 474, Begin: 480, End: 486, Direction: "read"}
	short, err := Compute(in)
	require.NoError(t, err)
	assert.Equal(t, []string{"loud"}, accused(short))
	assert.LessOrEqual(t, short.Step, 120.0)
}

// Of very many tenants what lies near the begin of a known episode is read: who asks for more with it is found, and not who does hours later.
func TestOfVeryManyTenantsWhatIsNearIsRead(t *testing.T) {
	for tenants, counts := range map[int]bool{20: true, 600: false} {
		in := many(tenants)
		e := in.From.(*tiny.Estate)
		e.Set(tiny.Key("hyp", "vdisk:quiet-001"), "read_iops", tiny.From(600, 21, 2001))
		in.Episode = &Episode{UsualFrom: 420, Begin: 480, End: 720, Direction: "read"}
		s, err := Compute(in)
		require.NoError(t, err)
		for _, x := range s.Tenants {
			if x.Name == "quiet-001" {
				assert.Equal(t, counts, x.Demand.During > 2*x.Demand.Before, "of %d", tenants)
			}
		}
		assert.Equal(t, in.Grid.At(720), *s.Until, "when it ended is told all the same")
	}
	in := many(600)
	in.Episode = &Episode{UsualFrom: 420, Begin: 480, End: 720, Direction: "read"}
	s, err := Compute(in)
	require.NoError(t, err)
	assert.Equal(t, []string{"loud"}, accused(s))
	assert.Equal(t, in.Grid.At(480), *s.Onset)
}

// A seek costs a drive that turns as much as moving half a megabyte; of flash 64 KiB count as one more.
func TestWhatAnIOCostsDependsOnTheMedia(t *testing.T) {
	for media, unit := range map[string]string{"hdd": "512 KiB", "flash": "64.0 KiB"} {
		in := many(10)
		e := tiny.New(720)
		for k := range 10 {
			e.AddVM(fmt.Sprintf("quiet-%03d", k), k%2)
		}
		for k := range e.Objects {
			switch e.Objects[k].Key {
			case tiny.Key("array", "pool:p"):
				delete(e.Objects[k].Facts, "media")
			case tiny.Key("array", "drive:d1"):
				e.Objects[k].Facts = estate.Facts{"media": media}
			}
		}
		in.Moments = e.Moments()
		s, err := Compute(in)
		require.NoError(t, err)
		assert.Contains(t, s.Unit, unit, "a pool that states no media is of what its drives are")
	}
}

func TestWhatIsNotThere(t *testing.T) {
	in := many(3)
	in.Of = tiny.Key("array", "pool:nowhere")
	_, err := Compute(in)
	assert.ErrorContains(t, err, "is not in the estate")
}
