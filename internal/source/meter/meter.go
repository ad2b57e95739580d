// Package meter turns cumulative counters, read at irregular moments, into what they grew by over fixed intervals.
//
// Between two readings a counter is taken to have grown evenly, so the growth over an interval is the sum of the
// parts of the growths that overlap it: totals are conserved. An interval is given out only where readings cover
// all of it without a reset and without a silence; otherwise it is simply not given out.
package meter

import "time"

// slack is the part of an interval that may be missing at its start, right after a first reading, and the longest
// time between two readings in intervals before that time counts as a silence.
const (
	slack   = 0.1
	silence = 1.5
)

// Meter follows the counters of many things. It is for one goroutine.
type Meter struct {
	interval time.Duration
	phase    time.Duration
	tracks   map[string]*track
	round    int64
	resets   int
	silences int
	steps    int
}

type track struct {
	at     time.Time
	life   string
	values []uint64
	grown  []float64 // since border, or since the first reading
	whole  float64   // part of the running interval that is covered, 0–1; negative where it is lost
	border time.Time
	round  int64
}

// Interval is one interval of one thing: what each counter grew by from From until From plus the interval.
type Interval struct {
	From  time.Time
	Grown []float64
}

// New makes a meter of intervals that begin at multiples of interval since the epoch, plus phase.
func New(interval, phase time.Duration) *Meter {
	return &Meter{interval: interval, phase: phase, tracks: make(map[string]*track)}
}

func (m *Meter) borderBefore(t time.Time) time.Time {
	return time.Unix(0, t.UnixNano()-int64(m.phase)).UTC().Truncate(m.interval).Add(m.phase)
}

// Observe takes the counters of a thing as they were at a moment and returns the intervals that this completes, in
// order. life tells one run of the thing's counters from another: where it differs from before, or a counter went
// back without having wrapped, they began anew. All values of a thing must come in the same order each time.
func (m *Meter) Observe(key string, at time.Time, life string, values []uint64) []Interval {
	t := m.tracks[key]
	if t == nil {
		m.begin(key, at, life, values)
		return nil
	}
	t.round = m.round
	elapsed := at.Sub(t.at) // by the monotonic clock where both have one
	wall := at.Round(0).Sub(t.at.Round(0))
	if d := wall - elapsed; d > time.Second || d < -time.Second {
		m.steps++ // the clock was set: these readings lie on another time axis
		m.begin(key, at, life, values)
		return nil
	}
	if elapsed <= 0 {
		return nil
	}
	diffs := make([]float64, len(values))
	reset := life != t.life || len(values) != len(t.values)
	for i := 0; i < len(values) && !reset; i++ {
		d, ok := growth(t.values[i], values[i])
		diffs[i] = d
		reset = !ok
	}
	if reset {
		m.resets++
		m.begin(key, at, life, values)
		return nil
	}
	if elapsed.Seconds() > silence*m.interval.Seconds() {
		m.silences++
		m.begin(key, at, life, values)
		return nil
	}
	var out []Interval
	from := t.at
	for next := t.border.Add(m.interval); !next.After(at.Round(0)); next = next.Add(m.interval) {
		part := next.Sub(from.Round(0)).Seconds() / elapsed.Seconds()
		for i, d := range diffs {
			t.grown[i] += d * part
		}
		t.whole += next.Sub(from.Round(0)).Seconds() / m.interval.Seconds()
		if t.whole >= 1-slack {
			whole := Interval{From: t.border, Grown: make([]float64, len(values))}
			for i, g := range t.grown {
				whole.Grown[i] = g / t.whole // a little may be missing at the start
			}
			out = append(out, whole)
		}
		clear(t.grown)
		t.whole, t.border, from = 0, next, next
	}
	part := at.Round(0).Sub(from.Round(0)).Seconds()
	for i, d := range diffs {
		t.grown[i] += d * part / elapsed.Seconds()
	}
	t.whole += part / m.interval.Seconds()
	t.at = at
	copy(t.values, values)
	return out
}

func (m *Meter) begin(key string, at time.Time, life string, values []uint64) {
	m.tracks[key] = &track{at: at, life: life, values: append([]uint64(nil), values...), grown: make([]float64, len(values)),
		border: m.borderBefore(at), round: m.round}
}

// growth is by how much a counter grew, and whether it did: one that went back wrapped at 32 or 64 bits where it was
// in the last quarter of its range and is in the first one now, and was reset otherwise.
func growth(before, now uint64) (float64, bool) {
	if now >= before {
		return float64(now - before), true
	}
	for _, top := range []uint64{1<<32 - 1, 1<<64 - 1} {
		if before <= top && before > top/4*3 && now < top/4 {
			return float64(now + (top - before) + 1), true
		}
	}
	return 0, false
}

// EndRound forgets what was not observed since the last call: it is gone.
func (m *Meter) EndRound() {
	for key, t := range m.tracks {
		if t.round != m.round {
			delete(m.tracks, key)
		}
	}
	m.round++
}

// Lost returns how many things' counters were reset, were not read for too long, and were read across a step of our
// clock, since the last call.
func (m *Meter) Lost() (resets, silences, steps int) {
	resets, silences, steps = m.resets, m.silences, m.steps
	m.resets, m.silences, m.steps = 0, 0, 0
	return resets, silences, steps
}
