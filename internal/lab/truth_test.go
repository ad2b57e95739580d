package lab_test

import (
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/estate"
	"dowsingrod/core/reading"
	"dowsingrod/core/verdict"
	"dowsingrod/internal/feed"
	"dowsingrod/internal/lab"
)

// told is what the feeds of a fleet say: objects by source and reference, and readings of disks.
type told struct {
	objects map[string]*feed.Object
	rows    map[string][]*feed.Reading
	events  map[string]int
}

func listen(t *testing.T, f *lab.Fleet) told {
	t.Helper()
	out := told{map[string]*feed.Object{}, map[string][]*feed.Reading{}, map[string]int{}}
	var mu sync.Mutex
	require.NoError(t, f.Write(func(source string, r feed.Record) error {
		mu.Lock()
		defer mu.Unlock()
		switch {
		case r.Object != nil:
			out.objects[r.Object.Ref().String()+"@"+source] = r.Object
		case r.Reading != nil:
			out.rows[r.Reading.Of+"@"+source] = append(out.rows[r.Reading.Of+"@"+source], r.Reading)
		case r.Event != nil:
			out.events[r.Event.What]++
		}
		return nil
	}))
	return out
}

// latency is the mean time of a machine's reads and writes together within [from, to), weighted by I/O; 0 where it did none.
func (o told) latency(vm string, from, to time.Time) float64 {
	key, err := estate.ParseKey(vm)
	if err != nil {
		return 0
	}
	var flight, rate float64
	for _, disk := range o.objects[vm].Links["uses"] {
		for _, r := range o.rows[disk+"@"+key.Source] {
			for dir := range map[string]bool{"read": true, "write": true} {
				x, us := r.Values[dir+"_iops"], r.Values[dir+"_latency_us"]
				for i := range x {
					at := r.From.Add(time.Duration(float64(i) * r.Step * float64(time.Second)))
					if at.Before(from) || !at.Before(to) || !(x[i] > 0) || !(us[i] > 0) {
						continue
					}
					flight, rate = flight+x[i]*us[i], rate+x[i]
				}
			}
		}
	}
	if rate == 0 {
		return 0
	}
	return flight / rate
}

// What the lab says is true of a fault shows in what it reports: a component that there is, machines that waited from then on and not before,
// and culprits that there are where somebody did it.
func TestTheTruthOfEveryFaultShowsInTheFeeds(t *testing.T) {
	from := time.Date(2026, 3, 2, 10, 0, 0, 0, time.UTC)
	for _, kind := range lab.Kinds() {
		t.Run(kind.Name, func(t *testing.T) {
			t.Parallel()
			f, err := lab.Grow(lab.Options{VMs: 120, Seed: 11, From: from, To: from.Add(2 * time.Hour), Fault: kind.Name, Onset: from.Add(50 * time.Minute), Lasts: 50 * time.Minute, Clean: true})
			require.NoError(t, err)
			said := listen(t, f)
			truth := f.Truth()
			if kind.Name == "quiet" {
				assert.Empty(t, truth.Causes)
				return
			}
			require.NotEmpty(t, truth.Causes)
			c := truth.Causes[0]
			assert.True(t, slices.Contains(verdict.Classes, verdict.Class(c.Class)), c.Class)
			assert.Equal(t, kind.Class, c.Class)
			if c.Component != "" {
				assert.NotNil(t, said.objects[c.Component], "%s is in no feed", c.Component)
			}
			for _, vm := range slices.Concat(c.Culprits, truth.Decoys) {
				assert.NotNil(t, said.objects[vm], "%s is in no feed", vm)
			}
			switch verdict.Class(c.Class) {
			case verdict.NoisyNeighbour, verdict.OwnDemand:
				assert.NotEmpty(t, c.Culprits)
			default:
				assert.Empty(t, c.Culprits, "nobody did it")
			}
			if verdict.Class(c.Class) == verdict.Cleared {
				assert.Empty(t, c.Component)
				return
			}
			for k, s := range c.Sufferers {
				assert.NotNil(t, said.objects[s.VM])
				assert.Greater(t, s.Added, 250.0, "what people notice")
				if k > 2 {
					continue
				}
				before, during := said.latency(s.VM, from, c.Onset), said.latency(s.VM, c.Full.Add(2*time.Minute), c.End)
				assert.Greater(t, during, before+0.5*s.Added, "%s waits", s.VM)
				if after := said.latency(s.VM, c.End.Add(6*time.Minute), f.To); after > 0 {
					assert.Less(t, after, during, "%s recovers", s.VM)
				}
			}
			assert.True(t, slices.IsSortedFunc(c.Sufferers, func(a, b lab.Sufferer) int {
				if a.Added > b.Added {
					return -1
				}
				return 0
			}), "worst first")
		})
	}
}

// A machine that looks guilty asks for more at about the same time and is no culprit.
func TestDecoysLookGuilty(t *testing.T) {
	from := time.Date(2026, 3, 2, 10, 0, 0, 0, time.UTC)
	f, err := lab.Grow(lab.Options{VMs: 200, Seed: 4, From: from, To: from.Add(2 * time.Hour), Fault: "neighbour-pool", Onset: from.Add(50 * time.Minute)})
	require.NoError(t, err)
	said := listen(t, f)
	truth := f.Truth()
	require.NotEmpty(t, truth.Decoys)
	c := truth.Causes[0]
	grew := 0
	for _, vm := range truth.Decoys {
		assert.NotContains(t, c.Culprits, vm)
		key, err := estate.ParseKey(vm)
		require.NoError(t, err)
		var before, during float64
		for _, disk := range said.objects[vm].Links["uses"] {
			for _, r := range said.rows[disk+"@"+key.Source] {
				n := len(r.Values["read_iops"])
				cut := min(n, max(0, int(c.Onset.Add(5*time.Minute).Sub(r.From).Seconds()/r.Step)))
				before += reading.MeanOver(r.Values["read_iops"], 0, cut)
				during += reading.MeanOver(r.Values["read_iops"], cut, n)
			}
		}
		if during > 1.3*before {
			grew++
		}
	}
	assert.GreaterOrEqual(t, grew, 3)
}

// The same options give the same bytes, whatever runs beside.
func TestTheSameOptionsGiveTheSameIncident(t *testing.T) {
	o := lab.Options{VMs: 80, Seed: 21, From: anchor.Add(-time.Hour), To: anchor, Fault: "controller-slow"}
	one, err := lab.Grow(o)
	require.NoError(t, err)
	two, err := lab.Grow(o)
	require.NoError(t, err)
	a, b := listen(t, one), listen(t, two)
	require.Equal(t, len(a.rows), len(b.rows))
	for of, rows := range a.rows {
		require.Len(t, b.rows[of], len(rows), of)
		for k := range rows {
			for metric, v := range rows[k].Values {
				require.InDeltaSlice(t, []float64(v), []float64(b.rows[of][k].Values[metric]), 0, "%s %s", of, metric)
			}
		}
	}
	assert.Equal(t, one.Truth(), two.Truth())
	assert.Equal(t, a.events, b.events)
}
