package meter_test

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	. "dowsingrod/internal/source/meter"
)

var start = time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC)

const interval = 20 * time.Second

func at(s float64) time.Time { return start.Add(time.Duration(s * float64(time.Second))) }

func TestIntervalsAreCompletedByTheReadingBeyondThem(t *testing.T) {
	m := New(interval, 0)
	assert.Empty(t, m.Observe("d", at(0.5), "", []uint64{1000}), "one reading is no rate")
	got := m.Observe("d", at(20.5), "", []uint64{1400})
	require.Len(t, got, 1)
	assert.Equal(t, start, got[0].From)
	assert.InDelta(t, 400, got[0].Grown[0], 1, "20 a second, also for the half second nobody saw")
	got = m.Observe("d", at(40.5), "", []uint64{1400})
	require.Len(t, got, 1)
	assert.InDelta(t, 400.0/40, got[0].Grown[0], 1e-9, "the half second before the border belongs to the earlier rate")
}

func TestFirstIntervalMustBeSeenAlmostWhole(t *testing.T) {
	m := New(interval, 0)
	m.Observe("d", at(5), "", []uint64{0})
	assert.Empty(t, m.Observe("d", at(21), "", []uint64{160}), "a quarter of it was not seen")
	assert.Len(t, m.Observe("d", at(41), "", []uint64{360}), 1)
}

func TestPhaseMovesTheBorders(t *testing.T) {
	m := New(interval, 7*time.Second)
	m.Observe("d", at(7), "", []uint64{0})
	got := m.Observe("d", at(27), "", []uint64{200})
	require.Len(t, got, 1)
	assert.Equal(t, at(7), got[0].From)
}

func TestWhatIsLost(t *testing.T) {
	const top = uint64(1) << 32
	for name, c := range map[string]struct {
		before, now  []uint64
		later        float64
		life         string
		lost         bool
		grown        float64
		resets, gaps int
	}{
		"grows":                  {before: []uint64{100}, now: []uint64{300}, later: 20, grown: 200},
		"stands still":           {before: []uint64{100}, now: []uint64{100}, later: 20, grown: 0},
		"wraps at 32 bits":       {before: []uint64{top - 50}, now: []uint64{150}, later: 20, grown: 200},
		"wraps at 64 bits":       {before: []uint64{1<<64 - 50}, now: []uint64{150}, later: 20, grown: 200},
		"reset":                  {before: []uint64{1000}, now: []uint64{10}, later: 20, lost: true, resets: 1},
		"one of two reset":       {before: []uint64{1000, 5}, now: []uint64{1200, 3}, later: 20, lost: true, resets: 1},
		"restarted and busier":   {before: []uint64{100}, now: []uint64{9000}, later: 20, life: "second", lost: true, resets: 1},
		"another set of metrics": {before: []uint64{100}, now: []uint64{100, 7}, later: 20, lost: true, resets: 1},
		"half a minute silent":   {before: []uint64{100}, now: []uint64{700}, later: 60, lost: true, gaps: 1},
		"a little late":          {before: []uint64{100}, now: []uint64{380}, later: 28, grown: 200},
	} {
		t.Run(name, func(t *testing.T) {
			m := New(interval, 0)
			m.Observe("d", at(0), "", c.before)
			got := m.Observe("d", at(c.later), c.life, c.now)
			resets, gaps, steps := m.Lost()
			assert.Equal(t, []int{c.resets, c.gaps, 0}, []int{resets, gaps, steps})
			if c.lost {
				assert.Empty(t, got)
				return
			}
			require.Len(t, got, 1)
			assert.InDelta(t, c.grown, got[0].Grown[0], 1e-6)
		})
	}
}

// After anything lost, the next whole interval is right again.
func TestItRecoversByItself(t *testing.T) {
	m := New(interval, 0)
	m.Observe("d", at(0), "", []uint64{5000})
	m.Observe("d", at(20), "", []uint64{100})
	got := m.Observe("d", at(40), "", []uint64{300})
	require.Len(t, got, 1)
	assert.InDelta(t, 200, got[0].Grown[0], 1e-9)
}

func TestAClockThatIsSetGivesAGap(t *testing.T) {
	m := New(interval, 0)
	base := time.Now() // with a monotonic reading
	m.Observe("d", base, "", []uint64{0})
	// The wall clock an hour on, the monotonic one 20 s: as when NTP sets the clock.
	stepped := base.Add(20 * time.Second)
	wall := time.Unix(0, stepped.Add(time.Hour).UnixNano())
	assert.Empty(t, m.Observe("d", wall, "", []uint64{200}), "without a monotonic reading it is an hour's silence")
	_, gaps, _ := m.Lost()
	assert.Equal(t, 1, gaps)
}

func TestWhatIsGoneIsForgotten(t *testing.T) {
	m := New(interval, 0)
	m.Observe("d", at(0), "", []uint64{100})
	m.EndRound()
	m.EndRound() // not observed in between
	assert.Empty(t, m.Observe("d", at(20), "", []uint64{300}), "it begins anew")
}

// Whatever the moments of reading, what is given out sums to what the counter grew by, and nothing is negative.
func TestTotalsAreConserved(t *testing.T) {
	for seed := range uint64(200) {
		r := rand.New(rand.NewPCG(seed, 1))
		m := New(interval, time.Duration(r.IntN(20))*time.Second)
		now, counter := 0.0, uint64(0)
		type reading struct {
			at    float64
			value uint64
		}
		var seen []reading
		var sum float64
		var first, last time.Time
		for range 50 {
			seen = append(seen, reading{now, counter})
			for _, in := range m.Observe("d", at(now), "", []uint64{counter}) {
				require.GreaterOrEqual(t, in.Grown[0], 0.0)
				if !first.IsZero() {
					require.Equal(t, last, in.From, "intervals follow one another")
				}
				if first.IsZero() {
					first = in.From
				}
				if in.From.After(first) {
					sum += in.Grown[0]
				}
				last = in.From.Add(interval)
			}
			now += 14 + 14*r.Float64()
			counter += uint64(r.IntN(5000))
		}
		value := func(x time.Time) float64 { // the counter between readings
			s := x.Sub(start).Seconds()
			for k := 1; k < len(seen); k++ {
				if seen[k].at >= s {
					a, b := seen[k-1], seen[k]
					return float64(a.value) + float64(b.value-a.value)*(s-a.at)/(b.at-a.at)
				}
			}
			return 0
		}
		assert.InDelta(t, value(last)-value(first.Add(interval)), sum, 1e-3, "seed %d", seed)
	}
}
