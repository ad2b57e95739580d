package incident_test

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/estate"
	. "dowsingrod/core/incident"
	"dowsingrod/core/internal/tiny"
	"dowsingrod/core/verdict"
)

// latency in noise, which triples and more from one minute to another.
func latency(r *rand.Rand, from, to int) func(string, int) float64 {
	return func(_ string, i int) float64 {
		us := 1000 * math.Exp(0.1*r.NormFloat64())
		if i >= from && i < to {
			us *= 4
		}
		return us
	}
}

// When it began is told to within a minute, however long it lasted and whatever else scatters, and it is over soon after it is.
func TestOnsetAndEndAreToldToWithinMinutes(t *testing.T) {
	r := rand.New(rand.NewPCG(41, 42))
	for range 40 {
		from := 70 + r.IntN(60)
		to := from + 5 + r.IntN(120)
		d := NewDetector(time.Minute)
		f := latency(r, from, to)
		feed(d, 0, from, f, "a")
		assert.Empty(t, d.Hurts(), "nothing yet")
		feed(d, from, to, f, "a")
		hurts := d.Hurts()
		require.Len(t, hurts, 1, "%d to %d", from, to)
		assert.LessOrEqual(t, hurts[0].Since.Sub(at(from)).Abs(), time.Minute)
		assert.InDelta(t, 1000, hurts[0].Usual, 150, "what is usual is what it was before")
		feed(d, to, to+6, f, "a")
		assert.Empty(t, d.Hurts())
	}
}

// Readings that come in late or not at all shift nothing: what is known is judged, and gaps neither begin nor end anything.
func TestGapsNeitherBeginNorEndAnything(t *testing.T) {
	r := rand.New(rand.NewPCG(43, 44))
	for range 20 {
		d := NewDetector(time.Minute)
		f := latency(r, 90, 150)
		gappy := func(disk string, i int) float64 {
			if us := f(disk, i); r.IntN(5) > 0 {
				return us
			}
			return math.NaN()
		}
		feed(d, 0, 90, gappy, "a")
		assert.Empty(t, d.Hurts())
		feed(d, 90, 140, gappy, "a")
		require.Len(t, d.Hurts(), 1)
		since := d.Hurts()[0].Since
		assert.False(t, since.Before(at(89)))
		assert.True(t, since.Before(at(100)))
		feed(d, 140, 142, func(string, int) float64 { return math.NaN() }, "a")
		require.Len(t, d.Hurts(), 1, "two minutes of silence are no end")
		assert.Equal(t, since, d.Hurts()[0].Since)
	}
}

// Through any day, of incidents that were folded: one cause is one open incident at most, which ends after it began; its harm is
// that of its sufferers and only grows; and what is over is never taken up again.
func TestIncidentsAreFoldedOnceAndEndOnce(t *testing.T) {
	for seed := range uint64(15) {
		r := rand.New(rand.NewPCG(seed, 45))
		e := tiny.New(10)
		names := []string{"a", "b", "c", "d", "e", "f"}
		type spell struct{ from, to int }
		hurts := map[string][]spell{}
		for k, n := range names {
			e.AddVM(n, k%2)
			for at := 65 + r.IntN(60); at < 300; at += 40 + r.IntN(120) {
				hurts[n] = append(hurts[n], spell{at, at + 4 + r.IntN(50)})
			}
		}
		slow := func(disk string, i int) float64 {
			us := 1000 * math.Exp(0.05*r.NormFloat64())
			for _, s := range hurts[disk] {
				if i >= s.from && i < s.to {
					us *= 5
				}
			}
			return us
		}
		m := e.Moments()[0].Map
		d := NewDetector(time.Minute)
		var open, over []*Incident
		harm := map[*Incident]float64{}
		ended := map[*Incident]time.Time{}
		for i := range 370 {
			feed(d, i, i+1, slow, names...)
			now := at(i + 1)
			changed, err := Fold(m, d.Hurts(), open, now, time.Minute, func(vm estate.Key) (verdict.Explanation, error) {
				x := verdict.Explanation{Subject: vm.String(), Onset: new(now.Add(-3 * time.Minute))}
				x.Verdict = verdict.Verdict{Class: verdict.Degraded, Confidence: 0.9, Component: &verdict.Component{Ref: "pool:p@array", Name: "pool 1", Kind: estate.Pool}}
				return x, nil
			})
			require.NoError(t, err)
			for _, x := range changed {
				if !slices.Contains(open, x) {
					open = append(open, x)
				}
			}
			kept := open[:0]
			for _, x := range open {
				assert.GreaterOrEqual(t, x.Harm, harm[x], "harm only grows")
				harm[x] = x.Harm
				if x.Ended != nil {
					assert.True(t, x.Onset.Before(*x.Ended))
					assert.False(t, x.Ended.After(now))
					over, ended[x] = append(over, x), *x.Ended
					continue
				}
				kept = append(kept, x)
				sum := 0.0
				for _, s := range x.Sufferers {
					sum += s.Harm
				}
				assert.InDelta(t, x.Harm, sum, 1e-6*math.Max(1, x.Harm), "harm is the sum of what each suffered")
			}
			open = kept
			assert.LessOrEqual(t, len(open), 1, "one cause is one incident")
		}
		assert.NotEmpty(t, over, "seed %d", seed)
		for _, x := range over {
			assert.Equal(t, ended[x], *x.Ended, "what is over stays so")
			assert.NotEmpty(t, x.Sufferers)
		}
	}
}
