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

var anchor = time.Date(2026, 3, 2, 16, 20, 0, 0, time.UTC)

func write(t *testing.T, l *lab.Lab, from, to time.Duration) map[string]feed.Reading {
	out := map[string]feed.Reading{}
	source := ""
	require.NoError(t, l.Write(anchor.Add(from), anchor.Add(to), false, func(r feed.Record) error {
		if r.Header != nil {
			source = r.Header.Source
		}
		if r.Reading != nil {
			out[r.Reading.Of+"@"+source] = *r.Reading
		}
		return nil
	}))
	return out
}

func mean(v feed.Values) float64 {
	var s float64
	for _, x := range v {
		s += x
	}
	return s / float64(len(v))
}

func TestTheSameSeedGivesTheSameEstate(t *testing.T) {
	a, b := write(t, lab.New(1, anchor), -time.Hour, 0), write(t, lab.New(1, anchor), -time.Hour, 0)
	assert.Equal(t, a["pool:p2@heron"], b["pool:p2@heron"])
	c := write(t, lab.New(2, anchor), -time.Hour, 0)
	assert.NotEqual(t, a["pool:p2@heron"].Values["read_iops"], c["pool:p2@heron"].Values["read_iops"])
}

func TestLittlesLawHoldsInEveryReading(t *testing.T) {
	for of, r := range write(t, lab.New(lab.Seed, anchor), -time.Hour, 0) {
		out, ok := r.Values["outstanding"]
		if !ok {
			continue
		}
		for i := range out {
			var n float64
			for _, dir := range []string{"read", "write"} {
				if x := r.Values[dir+"_iops"][i]; x > 0 {
					n += x * r.Values[dir+"_latency_us"][i] / 1e6
				}
			}
			if math.Abs(n-out[i]) > 0.06*n+0.05 {
				t.Fatalf("%s: %v in flight, rate × time is %v", of, out[i], n)
			}
		}
	}
}

func TestLatencyFollowsLoad(t *testing.T) {
	l := lab.New(lab.Seed, anchor)
	before := write(t, l, -90*time.Minute, -50*time.Minute)
	during := write(t, l, -40*time.Minute, 0)
	busy := func(m map[string]feed.Reading) float64 { return mean(m["pool:p2@heron"].Values["busy_share"]) }
	assert.Less(t, busy(before), 0.6)
	assert.Greater(t, busy(during), 0.95)
	latency := func(m map[string]feed.Reading, of string) float64 { return mean(m[of].Values["read_latency_us"]) }
	assert.Greater(t, latency(during, "vdisk:manifest-db-02-0@hyp-northmole"), 2.8*latency(before, "vdisk:manifest-db-02-0@hyp-northmole"))
	assert.InDelta(t, 1, latency(during, "vdisk:berth-plan-01-0@hyp-northmole")/latency(before, "vdisk:berth-plan-01-0@hyp-northmole"), 0.2, "another pool is not touched")
	rate := func(m map[string]feed.Reading, of string) float64 { return mean(m[of].Values["read_iops"]) }
	assert.Less(t, rate(during, "vdisk:radar-replay-02-0@hyp-northmole"), 0.9*rate(before, "vdisk:radar-replay-02-0@hyp-northmole"), "who waits does less")
	assert.Greater(t, rate(before, "vdisk:radar-replay-02-0@hyp-northmole"), 5*rate(before, "vdisk:sonar-tiles-05-0@hyp-northmole"))
}

func TestFeedsAreWellFormed(t *testing.T) {
	l := lab.New(lab.Seed, anchor)
	listed := map[string]bool{}
	source := ""
	require.NoError(t, l.Write(anchor.Add(-6*time.Hour), anchor.Add(-4*time.Hour), true, func(r feed.Record) error {
		switch {
		case r.Header != nil:
			source = r.Header.Source
		case r.Object != nil:
			assert.True(t, r.Object.Kind.Known())
			listed[source+r.Object.Ref().String()] = true
		case r.Reading != nil:
			assert.True(t, listed[source+r.Reading.Of], r.Reading.Of)
			for m, v := range r.Reading.Values {
				for _, x := range v {
					if x < 0 || math.IsInf(x, 0) {
						t.Fatalf("%s %s: %v", r.Reading.Of, m, x)
					}
				}
			}
		}
		return nil
	}))
	assert.Len(t, l.Keys(estate.VM), 120)
	assert.Len(t, l.Truths(), 3)
}
