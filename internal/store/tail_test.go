package store_test

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/estate"
	"dowsingrod/core/reading"
	"dowsingrod/internal/feed"
	. "dowsingrod/internal/store"
	"dowsingrod/internal/testbed"
)

var begun = time.Date(2026, 3, 2, 7, 58, 0, 0, time.UTC) // so that a border of spans is passed soon

func disk(n int) feed.Object {
	return feed.Object{Kind: estate.VDisk, ID: fmt.Sprint("d", n), Name: fmt.Sprint("disk ", n), Facts: estate.Facts{"bytes": 1e9}}
}

// pass is what the collector does every interval.
func pass(t *testing.T, s *Store, m *Memory, at time.Time, objects []feed.Object, full bool, value func(n int) float64) Totals {
	t.Helper()
	totals, err := s.ImportWith(t.Context(), m, func(in *Intake) error {
		if err := in.Begin(feed.Header{Version: 1, Source: "hyp", Time: at, Full: full}); err != nil {
			return err
		}
		for i := range objects {
			if err := in.Object(&objects[i], 0); err != nil {
				return err
			}
		}
		for n := range 3 {
			if value == nil {
				break
			}
			r := feed.Reading{Of: fmt.Sprint("vdisk:d", n), From: at, Step: 20, Values: map[string]feed.Values{"read_iops": {value(n)}, "write_iops": {2 * value(n)}}}
			if err := in.Reading(&r); err != nil {
				return err
			}
		}
		return nil
	})
	require.NoError(t, err)
	return totals
}

func runsOf(t *testing.T, s *Store, n int, from, to time.Time) []reading.Series {
	t.Helper()
	objects, err := s.Estate(t.Context(), to.Add(time.Hour))
	require.NoError(t, err)
	for _, o := range objects {
		if o.Key.Ref.ID == fmt.Sprint("d", n) {
			r, err := s.Readings(t.Context(), []Want{{Object: o.Store, Metric: "read_iops"}}, from, to)
			require.NoError(t, err)
			return r[Want{Object: o.Store, Metric: "read_iops"}]
		}
	}
	return nil
}

func flat(runs []reading.Series) map[time.Time]float64 {
	out := map[time.Time]float64{}
	for _, r := range runs {
		for i, v := range r.Values {
			if !math.IsNaN(v) {
				out[r.From.Add(time.Duration(i)*r.Step)] = v
			}
		}
	}
	return out
}

// What is read is the same before it is packed, halfway, and after: whatever was packed when.
func TestReadingsAreTheSamePackedOrNot(t *testing.T) {
	s := testbed.Store(t)
	m := NewMemory()
	objects := []feed.Object{disk(0), disk(1), disk(2)}
	r := rand.New(rand.NewPCG(7, 7))
	want := map[time.Time]float64{}
	check := func(when string) {
		t.Helper()
		for _, from := range []time.Time{begun.Add(-time.Hour), begun.Add(3 * time.Minute)} {
			got := flat(runsOf(t, s, 1, from, begun.Add(time.Hour)))
			for at, v := range want {
				if !at.Before(from) {
					assert.Equal(t, v, got[at], "%s: %s", when, at)
				}
			}
		}
		assert.Len(t, flat(runsOf(t, s, 1, begun, begun.Add(time.Hour))), len(want), when)
	}
	for k := range 24 {
		at := begun.Add(time.Duration(k) * 20 * time.Second)
		v := math.Round(r.Float64()*1e4) / 10
		if k%5 == 3 {
			v = math.NaN() // no reading
		} else {
			want[at] = v
		}
		pass(t, s, m, at, objects, true, func(int) float64 { return v })
		if k == 10 || k == 17 {
			check("before packing")
			n, err := s.Pack(t.Context(), at)
			require.NoError(t, err)
			assert.Positive(t, n)
			check("after packing")
		}
	}
	check("at the end")
	n, err := s.Pack(t.Context(), begun.Add(-time.Hour))
	require.NoError(t, err)
	assert.Zero(t, n, "what is fresh stays where it is")
	from, to, err := s.Extent(t.Context())
	require.NoError(t, err)
	assert.False(t, from.After(begun))
	assert.WithinDuration(t, begun.Add(24*20*time.Second), to, 0)
}

func TestALateReadingReplacesNothingByNothing(t *testing.T) {
	s := testbed.Store(t)
	m := NewMemory()
	objects := []feed.Object{disk(0), disk(1), disk(2)}
	pass(t, s, m, begun, objects, true, func(int) float64 { return 5 })
	pass(t, s, m, begun, nil, false, func(int) float64 { return math.NaN() })
	assert.Equal(t, map[time.Time]float64{begun: 5}, flat(runsOf(t, s, 0, begun, begun.Add(time.Minute))))
	pass(t, s, m, begun, nil, false, func(int) float64 { return 7 })
	assert.Equal(t, map[time.Time]float64{begun: 7}, flat(runsOf(t, s, 0, begun, begun.Add(time.Minute))))
	_, err := s.Pack(t.Context(), begun.Add(time.Hour))
	require.NoError(t, err)
	assert.Equal(t, map[time.Time]float64{begun: 7}, flat(runsOf(t, s, 0, begun, begun.Add(time.Minute))))
}

// A memory changes what is asked of the database, not what comes of it.
func TestAMemoryKeepsHistoryAsWithoutIt(t *testing.T) {
	story := func(s *Store, m func() *Memory) {
		grown := disk(1)
		grown.Facts = estate.Facts{"bytes": 2e9}
		at := func(k int) time.Time { return begun.Add(time.Duration(k) * 20 * time.Second) }
		pass(t, s, m(), at(0), []feed.Object{disk(0), disk(1)}, true, nil)
		pass(t, s, m(), at(1), []feed.Object{disk(0), disk(1)}, true, nil)
		pass(t, s, m(), at(2), []feed.Object{disk(0), grown, disk(2)}, true, nil)
		pass(t, s, m(), at(3), nil, false, nil)
		pass(t, s, m(), at(4), []feed.Object{grown}, true, nil)
		pass(t, s, m(), at(5), []feed.Object{disk(0), grown}, true, nil)
		pass(t, s, m(), at(6), []feed.Object{disk(0), disk(1)}, true, nil)
	}
	with, without := testbed.Store(t), testbed.Store(t)
	one := NewMemory()
	story(with, func() *Memory { return one })
	story(without, NewMemory)
	for k := range 9 {
		at := begun.Add(time.Duration(k)*20*time.Second - time.Second)
		a, err := with.Estate(t.Context(), at)
		require.NoError(t, err)
		b, err := without.Estate(t.Context(), at)
		require.NoError(t, err)
		for i := range a {
			a[i].Store = 0
		}
		for i := range b {
			b[i].Store = 0
		}
		assert.ElementsMatch(t, b, a, "as of %s", at)
	}
}

func TestAMemoryThatIsWrongIsDropped(t *testing.T) {
	s := testbed.Store(t)
	m := NewMemory()
	objects := []feed.Object{disk(0), disk(1), disk(2)}
	pass(t, s, m, begun, objects, true, func(int) float64 { return 1 })
	// Somebody else lists less for the same source: what the memory says no longer holds.
	pass(t, s, NewMemory(), begun.Add(20*time.Second), objects[:1], true, nil)
	totals := pass(t, s, m, begun.Add(40*time.Second), objects, true, nil)
	assert.Equal(t, 2, totals.Changed, "the two are listed anew")
	require.NoError(t, s.DropSources(t.Context(), []string{"hyp"}))
	totals = pass(t, s, m, begun.Add(60*time.Second), objects, true, func(int) float64 { return 1 })
	assert.Equal(t, 3, totals.Changed)
}

func TestForgettingASourceForgetsItsFreshReadings(t *testing.T) {
	s := testbed.Store(t)
	pass(t, s, NewMemory(), begun, []feed.Object{disk(0), disk(1), disk(2)}, true, func(int) float64 { return 1 })
	require.NoError(t, s.DropSources(t.Context(), []string{"hyp"}))
	from, _, err := s.Extent(t.Context())
	require.NoError(t, err)
	assert.True(t, from.IsZero(), "nothing is left: %s", from)
}
