package reading

import (
	"bytes"
	"math"
	"strconv"
)

// Figure is a number that may be missing: NaN in memory, null in JSON, and rounded there to five
// significant digits, more than any of our sources measures.
type Figure float64

// Missing is the figure that is not there.
var Missing = Figure(math.NaN())

// Known reports whether the figure is there.
func (f Figure) Known() bool { return !math.IsNaN(float64(f)) && !math.IsInf(float64(f), 0) }

// MarshalJSON writes the figure, or null.
func (f Figure) MarshalJSON() ([]byte, error) { return appendFigure(nil, float64(f)), nil }

// UnmarshalJSON reads a number or null.
func (f *Figure) UnmarshalJSON(b []byte) error {
	v, err := parseFigure(b)
	*f = Figure(v)
	return err
}

// Row is a row of figures, one per cell of a grid.
type Row []float64

// MarshalJSON writes the row with null for what is missing.
func (r Row) MarshalJSON() ([]byte, error) {
	out := make([]byte, 0, 8*len(r)+2)
	out = append(out, '[')
	for i, v := range r {
		if i > 0 {
			out = append(out, ',')
		}
		out = appendFigure(out, v)
	}
	return append(out, ']'), nil
}

// UnmarshalJSON reads a row.
func (r *Row) UnmarshalJSON(b []byte) error {
	b = bytes.TrimSpace(b)
	if string(b) == "null" {
		*r = nil
		return nil
	}
	b = bytes.TrimSpace(bytes.TrimSuffix(bytes.TrimPrefix(b, []byte{'['}), []byte{']'}))
	out := Row{}
	for len(b) > 0 {
		field, rest, _ := bytes.Cut(b, []byte{','})
		v, err := parseFigure(bytes.TrimSpace(field))
		if err != nil {
			return err
		}
		out, b = append(out, v), rest
	}
	*r = out
	return nil
}

func appendFigure(out []byte, v float64) []byte {
	if math.IsNaN(v) || math.IsInf(v, 0) {
		return append(out, "null"...)
	}
	if v == math.Trunc(v) && math.Abs(v) < 1e5 {
		return strconv.AppendInt(out, int64(v), 10)
	}
	return strconv.AppendFloat(out, v, 'g', 5, 64)
}

func parseFigure(b []byte) (float64, error) {
	if string(b) == "null" {
		return math.NaN(), nil
	}
	return strconv.ParseFloat(string(b), 64)
}
