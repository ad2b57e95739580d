package reading

import "math"

// Add adds runs of a rate, times a weight, to a row of a grid's cells. What is missing in a cell makes the cell missing. It is [Align] for
// many series: a single run whose readings begin with the cells, and of which a whole number makes a cell, is added as it lies.
func Add(row []float64, g Grid, runs []Series, weight float64) {
	if k, from, ok := lies(g, runs); ok {
		values := runs[0].Values
		if k == 1 {
			to, of := within(row, values, from)
			for i, v := range of {
				to[i] += weight * v
			}
			return
		}
		for i := range row {
			at := from + i*k
			if at < 0 || at+k > len(values) {
				row[i] += weight * mean(values, at, k)
				continue
			}
			sum, known := 0.0, 0
			for _, v := range values[at : at+k] {
				if v == v {
					sum += v
					known++
				}
			}
			row[i] += weight * sum / float64(known) // 0/0 is NaN: nothing known
		}
		return
	}
	for i, v := range Align(g, runs).Value {
		row[i] += weight * v
	}
}

// AddOccupancy adds the I/Os in flight that runs of a rate in 1/s and of its latency in µs make; see [Occupancy].
func AddOccupancy(row []float64, g Grid, rate, latency []Series) {
	k, from, ok := lies(g, rate)
	_, same, also := lies(g, latency)
	if !ok || !also || from != same || rate[0].Step != latency[0].Step {
		for i, v := range Occupancy(g, rate, latency).Value {
			row[i] += v
		}
		return
	}
	r, l := rate[0].Values, latency[0].Values
	if k == 1 && len(l) >= len(r) {
		to, of := within(row, r, from)
		if len(of) == 0 {
			return
		}
		times := l[max(0, from):]
		times, to = times[:len(of)], to[:len(of)]
		for i, x := range of {
			if x != 0 {
				to[i] += x * times[i] / 1e6
			}
		}
		return
	}
	for i := range row {
		sum, n := 0.0, 0
		lo, hi := min(len(r), max(0, from+i*k)), min(len(r), max(0, from+(i+1)*k))
		rates, times := r[lo:hi], l[min(len(l), lo):min(len(l), hi)]
		for c, x := range rates {
			if x == 0 {
				n++
			} else if c < len(times) {
				if y := x * times[c]; y == y {
					sum += y
					n++
				}
			}
		}
		row[i] += sum / float64(n) / 1e6 // 0/0 is NaN: nothing known
	}
}

// within cuts a row and values of which the row's first cell is at from down to the cells that both have. The row's other cells are missing from now
// on.
func within(row, values []float64, from int) (to, of []float64) {
	lo := min(len(row), max(0, -from))
	hi := max(lo, min(len(row), len(values)-from))
	for i := range lo {
		row[i] = math.NaN()
	}
	for i := hi; i < len(row); i++ {
		row[i] = math.NaN()
	}
	if lo == hi {
		return nil, nil
	}
	to, of = row[lo:hi], values[from+lo:from+hi]
	return to[:len(of)], of
}

// Mean is the mean over cells [i, j) of runs on a grid, NaN where nothing is known: [MeanOver] of [Align], for many series.
func Mean(g Grid, runs []Series, i, j int) float64 {
	k, from, ok := lies(g, runs)
	if !ok || k != 1 {
		return MeanOver(Align(g, runs).Value, i, j)
	}
	i, j = max(0, i), min(g.N, j)
	if i >= j {
		return math.NaN()
	}
	return mean(runs[0].Values, from+i, j-i)
}

// lies reports whether a single run lies on the grid: k of its readings make a cell, and the first cell begins with reading from.
func lies(g Grid, runs []Series) (k, from int, ok bool) {
	if len(runs) != 1 || runs[0].Step <= 0 || g.Step%runs[0].Step != 0 {
		return 0, 0, false
	}
	apart := g.From.Sub(runs[0].From)
	if apart%runs[0].Step != 0 {
		return 0, 0, false
	}
	return int(g.Step / runs[0].Step), int(apart / runs[0].Step), true
}

// mean of the known among n values from i on.
func mean(values []float64, i, n int) float64 {
	sum, known := 0.0, 0
	i, n = max(0, i), max(0, min(len(values), i+n))
	if i >= n {
		return math.NaN()
	}
	for _, v := range values[i:n] {
		if v == v {
			sum += v
			known++
		}
	}
	return sum / float64(known)
}

// Correlation is Pearson's between the cells of two rows in which both are known, NaN where fewer than three are, or one does not change.
func Correlation(a, b []float64) float64 {
	var n, sa, sb, saa, sbb, sab float64
	for i, x := range a {
		y := b[i]
		if x != x || y != y {
			continue
		}
		n++
		sa += x
		sb += y
		saa += x * x
		sbb += y * y
		sab += x * y
	}
	if n < 3 {
		return math.NaN()
	}
	va, vb := saa-sa*sa/n, sbb-sb*sb/n
	// What rounding leaves of a row that does not change is no change.
	if va <= 1e-12*saa || vb <= 1e-12*sbb {
		return math.NaN()
	}
	return math.Max(-1, math.Min(1, (sab-sa*sb/n)/math.Sqrt(va*vb)))
}
