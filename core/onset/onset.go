// Package onset finds when something began to hurt: the stretch of a series in which it stands
// clearly above its usual level.
package onset

import (
	"math"
	"slices"
)

// Episode is a stretch of cells [Begin, End) in which a series stood above its usual level.
type Episode struct {
	Begin, End  int
	Usual       float64 // the mean just before, in the series' unit
	During      float64 // the mean within
	UsualFrom   int     // the cells [UsualFrom, Begin) that Usual rests on
	Persists    bool    // it reaches the last known cell
	Probability float64 // that a stretch of the usual level would not look so, 0–1
}

// Rules say what counts as an episode. The zero value of a field takes the default named.
type Rules struct {
	Factor   float64 // During must be at least Factor × Usual; 1.5
	Floor    float64 // and above it by at least Floor in the series' unit; 0
	Cells    int     // for at least so many cells; 3
	Lookback int     // cells before Begin that make Usual; 60
	Sigmas   float64 // During must lie so many standard errors above Usual, by the spread of both; 6
}

func (r Rules) filled() Rules {
	if r.Factor == 0 {
		r.Factor = 1.5
	}
	if r.Cells == 0 {
		r.Cells = 3
	}
	if r.Lookback == 0 {
		r.Lookback = 60
	}
	if r.Sigmas == 0 {
		r.Sigmas = 6
	}
	return r
}

// levels are the parts of the known values that are taken to be usual at least, one after the other: where the middle value is usual, the
// usual ones are told apart best; where trouble lasted for most of the window, the middle value is trouble. Of what they find, what took
// most time counts.
var levels = []float64{0.5, 0.25, 0.125}

// Find returns the episode that weighs most in [from, len(values)): the stretch with the greatest
// sum of ln(value/threshold), by Kadane's algorithm (Bentley, "Programming pearls", 1984), where the
// threshold lies between the usual level of the known values and Factor times it. The values before from
// only help to know what is usual. It reports false where nothing stands out by the rules; then the
// series is steady, or too little of it is known to say. NaN and values ≤ 0 are not known.
func Find(values []float64, from int, rules Rules) (Episode, bool) {
	rules = rules.filled()
	known := make([]float64, 0, len(values))
	for _, v := range values {
		if v > 0 && !math.IsInf(v, 0) {
			known = append(known, v)
		}
	}
	if len(known) < 2*rules.Cells+2 {
		return Episode{}, false
	}
	slices.Sort(known)
	best, most := Episode{}, 0.0
	for _, part := range levels {
		e, ok := above(values, from, known[int(part*float64(len(known)-1))], rules)
		if gain := (e.During - e.Usual) * float64(e.End-e.Begin); ok && gain > most {
			best, most = e, gain
		}
	}
	return best, most > 0
}

// Shown is Find for a window that shows the cells from first on: what stands out from its very begin is followed back to where it began
// before it.
func Shown(values []float64, first int, rules Rules) (Episode, bool) {
	e, ok := Find(values, first, rules)
	if ok && e.Begin <= first+1 {
		if whole, ok := Find(values, 0, rules); ok && whole.Begin < first && whole.End >= e.End {
			return whole, true
		}
	}
	return e, ok
}

// above finds the stretch that stands above a level. Where it begins and ends is then looked for anew, at a quarter of the way (in
// logarithms) from what is usual to what it is: a low bar takes in what happened to be a little higher just before. What was taken in
// lowered what it is, and with it the bar, so it is looked for until it no longer moves; each time it can only become shorter.
func above(values []float64, from int, level float64, rules Rules) (Episode, bool) {
	bar := math.Log(math.Max(level*math.Sqrt(rules.Factor), level+rules.Floor/2))
	e, ok := stretch(values, from, bar, rules)
	for ok {
		high := math.Log(e.Usual) + (math.Log(e.During)-math.Log(e.Usual))/4
		if high <= bar {
			break
		}
		sharper, still := stretch(values, from, high, rules)
		if !still || sharper.Begin < e.Begin || sharper.End > e.End {
			break
		}
		moved := sharper.Begin > e.Begin || sharper.End < e.End
		if bar, e = high, sharper; !moved {
			break
		}
	}
	return e, ok
}

// stretch finds the stretch that stands most above a threshold, a logarithm, and holds it against the rules.
func stretch(values []float64, from int, threshold float64, rules Rules) (Episode, bool) {
	best, sum, begin := Episode{}, 0.0, from
	var top float64
	for i := from; i < len(values); i++ {
		v := values[i]
		if !(v > 0) || math.IsInf(v, 0) {
			continue
		}
		if sum <= 0 {
			sum, begin = 0, i
		}
		sum += math.Log(v) - threshold
		if sum > top {
			top, best.Begin, best.End = sum, begin, i+1
		}
	}
	if top <= 0 || best.End-best.Begin < rules.Cells {
		return Episode{}, false
	}
	best.UsualFrom = max(0, best.Begin-rules.Lookback)
	before := within(values, best.UsualFrom, best.Begin)
	if len(before) < rules.Cells {
		return Episode{}, false // it was there from the start: what is usual is not known
	}
	for !(values[best.UsualFrom] > 0) { // what lies before the first known value is no part of what is usual
		best.UsualFrom++
	}
	during := within(values, best.Begin, best.End)
	best.Usual, best.During = mean(before), mean(during)
	rise := best.During - best.Usual
	if best.During < rules.Factor*best.Usual || rise < rules.Floor {
		return Episode{}, false
	}
	// A difference of means has the standard error σ·√(1/n + 1/m). Few or restless readings must differ by more, and a
	// spread that rests on few readings is itself uncertain.
	n, m := float64(len(before)), float64(len(during))
	sigma := math.Sqrt((n*square(spread(before)) + m*square(spread(during))) / (n + m))
	if rise < rules.Sigmas*(1+4/n)*sigma*math.Sqrt(1/n+1/m) {
		return Episode{}, false
	}
	best.Probability = distinct(before, during)
	best.Persists = len(within(values, best.End, len(values))) == 0
	return best, true
}

// distinct is the probability that a value of during exceeds one of before, the common language
// effect size (McGraw and Wong, 1992), counted over all pairs.
func distinct(before, during []float64) float64 {
	slices.Sort(before)
	var wins float64
	for _, v := range during {
		k, _ := slices.BinarySearch(before, v)
		wins += float64(k)
	}
	return wins / float64(len(before)*len(during))
}

// spread is the standard deviation, estimated from the median absolute deviation so that single outliers do not
// count: 1.4826 · MAD for a normal distribution (Hampel, 1974). values are put in order.
func spread(values []float64) float64 {
	slices.Sort(values)
	m := median(values)
	off := make([]float64, len(values))
	for i, v := range values {
		off[i] = math.Abs(v - m)
	}
	slices.Sort(off)
	return 1.4826 * median(off)
}

func square(x float64) float64 { return x * x }

func within(values []float64, i, j int) []float64 {
	var out []float64
	for _, v := range values[i:j] {
		if v > 0 && !math.IsInf(v, 0) {
			out = append(out, v)
		}
	}
	return out
}

func mean(values []float64) float64 {
	var s float64
	for _, v := range values {
		s += v
	}
	return s / float64(len(values))
}

// median of sorted values; the lower middle one, so that half a window of trouble does not move it.
func median(sorted []float64) float64 { return sorted[(len(sorted)-1)/2] }
