package reading

import (
	"fmt"
	"math"
	"time"
)

// Grid is a row of equal cells of time: cell i covers [From + i·Step, From + (i+1)·Step).
type Grid struct {
	From time.Time
	Step time.Duration
	N    int
}

// NewGrid returns the grid of whole steps that covers [from, to). It refuses an empty or reversed
// window, a step that is not positive, and more than a million cells.
func NewGrid(from, to time.Time, step time.Duration) (Grid, error) {
	switch {
	case step <= 0:
		return Grid{}, fmt.Errorf("a grid needs a step above zero, not %v", step)
	case !to.After(from):
		return Grid{}, fmt.Errorf("the window is reversed or empty: it starts %s and ends %s", from.Format(time.RFC3339), to.Format(time.RFC3339))
	}
	start := from.Truncate(step)
	n := int((to.Sub(start) + step - 1) / step)
	if n > 1_000_000 {
		return Grid{}, fmt.Errorf("%d cells of %v: choose a longer step or a shorter window", n, step)
	}
	return Grid{From: start, Step: step, N: n}, nil
}

// At returns the start of cell i.
func (g Grid) At(i int) time.Time { return g.From.Add(time.Duration(i) * g.Step) }

// End returns the end of the last cell.
func (g Grid) End() time.Time { return g.At(g.N) }

// Cell returns the cell that holds t, clamped to [0, N].
func (g Grid) Cell(t time.Time) int {
	return max(0, min(g.N, int(t.Sub(g.From)/g.Step)))
}

// Series is a run of readings: Values[i] covers [From + i·Step, From + (i+1)·Step), NaN is none.
type Series struct {
	From   time.Time
	Step   time.Duration
	Values []float64
}

// Cells are figures on a grid: the mean in each cell and the part of the cell that readings cover.
type Cells struct {
	Value []float64 // NaN where nothing covers the cell
	Cover []float64 // 0–1
}

// NewCells returns n cells with nothing in them.
func NewCells(n int) Cells {
	c := Cells{Value: make([]float64, n), Cover: make([]float64, n)}
	for i := range c.Value {
		c.Value[i] = math.NaN()
	}
	return c
}

// sums accumulates value × time and time per cell; the division comes last.
type sums struct{ area, time []float64 }

func newSums(n int) sums { return sums{make([]float64, n), make([]float64, n)} }

func (s sums) add(g Grid, series Series, value func(i int) float64) {
	if series.Step <= 0 {
		return
	}
	step, cell := series.Step.Seconds(), g.Step.Seconds()
	first := 0
	if d := g.From.Sub(series.From); d > 0 {
		first = int(d / series.Step)
	}
	origin := series.From.Sub(g.From).Seconds()
	for i := first; i < len(series.Values); i++ {
		lo := origin + float64(i)*step
		if lo >= cell*float64(g.N) {
			return
		}
		v := value(i)
		if math.IsNaN(v) {
			continue
		}
		hi := lo + step
		for k := max(0, int(lo/cell)); k < g.N && float64(k)*cell < hi; k++ {
			overlap := math.Min(hi, float64(k+1)*cell) - math.Max(lo, float64(k)*cell)
			if overlap > 0 {
				s.area[k] += v * overlap
				s.time[k] += overlap
			}
		}
	}
}

func (s sums) cells(g Grid) Cells {
	c := NewCells(g.N)
	for k := range c.Value {
		if s.time[k] > 0 {
			c.Value[k] = s.area[k] / s.time[k]
			c.Cover[k] = math.Min(1, s.time[k]/g.Step.Seconds())
		}
	}
	return c
}

// Align puts runs of one metric on a grid: each cell is the mean of the readings that overlap it,
// weighted by the time of overlap. It holds for rates, shares and gauges; for latencies see
// [Occupancy]. Runs may overlap each other and come in any order.
func Align(g Grid, runs []Series) Cells {
	if k, from, ok := lies(g, runs); ok {
		return laid(g, runs[0].Values, nil, from, k)
	}
	s := newSums(g.N)
	for _, r := range runs {
		s.add(g, r, func(i int) float64 { return r.Values[i] })
	}
	return s.cells(g)
}

// laid are readings of which k make a cell, times others where there are some: then of a zero it counts, and of what is missing beside it
// it does not.
func laid(g Grid, values, times []float64, from, k int) Cells {
	both := make([]float64, 2*g.N)
	c := Cells{Value: both[:g.N:g.N], Cover: both[g.N:]}
	for i := range c.Value {
		sum, known := 0.0, 0
		for n := max(0, from+i*k); n < min(len(values), from+(i+1)*k); n++ {
			v := values[n]
			if times != nil && v != 0 {
				if n >= len(times) {
					continue
				}
				v *= times[n] / 1e6
			}
			if v == v {
				sum += v
				known++
			}
		}
		c.Value[i] = sum / float64(known) // 0/0 is NaN: nothing known
		c.Cover[i] = float64(known) / float64(k)
	}
	return c
}

// Occupancy returns on a grid the mean number of I/Os in flight, rate × latency by Little's law
// (J. D. C. Little, 1961), from runs of a rate in 1/s and of its latency in µs. The product is taken
// at the sources' own interval, where the two belong together. An interval with no I/O has none in
// flight although its latency is missing; one with I/O and no latency is missing. Readings whose
// intervals differ are paired by the rate in force in the middle of the latency's interval.
func Occupancy(g Grid, rate, latency []Series) Cells {
	if k, from, ok := lies(g, rate); ok {
		if _, same, also := lies(g, latency); also && same == from && latency[0].Step == rate[0].Step {
			return laid(g, rate[0].Values, latency[0].Values, from, k)
		}
	}
	s := newSums(g.N)
	for _, r := range rate {
		l := partner(r, latency)
		s.add(g, r, func(i int) float64 {
			switch v := r.Values[i]; {
			case math.IsNaN(v):
				return v
			case v == 0:
				return 0
			default:
				return v * l.at(r.From.Add(time.Duration(i)*r.Step+r.Step/2)) / 1e6
			}
		})
	}
	return s.cells(g)
}

type lookup struct{ runs []Series }

func partner(r Series, runs []Series) lookup {
	end := r.From.Add(time.Duration(len(r.Values)) * r.Step)
	var near []Series
	for _, c := range runs {
		if c.Step > 0 && c.From.Before(end) && c.From.Add(time.Duration(len(c.Values))*c.Step).After(r.From) {
			near = append(near, c)
		}
	}
	return lookup{near}
}

func (l lookup) at(t time.Time) float64 {
	for _, r := range l.runs {
		if d := t.Sub(r.From); d >= 0 {
			if i := int(d / r.Step); i < len(r.Values) {
				return r.Values[i]
			}
		}
	}
	return math.NaN()
}

// Covered returns the mean coverage of all cells, 0–1; 0 for no cells.
func (c Cells) Covered() float64 {
	if len(c.Cover) == 0 {
		return 0
	}
	var s float64
	for _, v := range c.Cover {
		s += v
	}
	return s / float64(len(c.Cover))
}

// MeanOver returns the mean of the known cells in [i, j), NaN where there are none.
func MeanOver(values []float64, i, j int) float64 {
	var s float64
	var n int
	for _, v := range values[max(0, i):min(len(values), j)] {
		if !math.IsNaN(v) {
			s += v
			n++
		}
	}
	if n == 0 {
		return math.NaN()
	}
	return s / float64(n)
}

// PairMeans returns the means of a and of b over the cells in [i, j) where both are known, so that
// their quotient compares like with like. Both are NaN where no cell has both.
func PairMeans(a, b []float64, i, j int) (ma, mb float64) {
	var n int
	for k := max(0, i); k < min(len(a), len(b), j); k++ {
		if !math.IsNaN(a[k]) && !math.IsNaN(b[k]) {
			ma += a[k]
			mb += b[k]
			n++
		}
	}
	if n == 0 {
		return math.NaN(), math.NaN()
	}
	return ma / float64(n), mb / float64(n)
}
