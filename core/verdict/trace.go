package verdict

import (
	"math"

	"dowsingrod/core/congest"
	"dowsingrod/core/estate"
	"dowsingrod/core/reading"
)

// So many pieces of evidence, and of those who are accused or brought most, are traced: what fits on one time axis below a chart.
const (
	tracedEvidence = 5
	tracedTenants  = 3
)

// trace puts the readings that a verdict rests on beside each other, cell by cell over the window.
func (l *Located) trace(out *Explanation) {
	traced := 0
	for k := range out.Evidence {
		e := &out.Evidence[k]
		e.Unit = unitOf(e.Metric)
		if e.Unit == "" || traced == tracedEvidence {
			continue
		}
		if row := l.row(e.Of, e.Metric); row != nil {
			e.Trace = row
			traced++
		}
	}
	for k := range min(tracedTenants, len(out.Suspects)) {
		out.Suspects[k].Trace = l.moves(out.Suspects[k].Ref)
	}
}

// unitOf is the unit of a metric, of the catalogue or derived from it.
func unitOf(metric string) reading.Unit {
	switch metric {
	case congest.Utilization, congest.AllowedShare, congest.UsedShare, congest.UnevenShare:
		return reading.SharePart
	}
	m, _ := reading.Lookup(metric)
	return m.Unit
}

// row is a metric of an object over the window; nil where nothing of it is known.
func (l *Located) row(of, metric string) reading.Row {
	i, ok := l.place(of)
	if !ok {
		return nil
	}
	c := congest.Cells(l.in.Grid, l.estate(), i, metric, l.in.From)
	if c.Covered() == 0 {
		return nil
	}
	return c.Value[l.in.First:]
}

// moves is what the disks of a VM read and write together over the window, bytes per second; nil where nothing of it is known.
func (l *Located) moves(vm string) reading.Row {
	i, ok := l.place(vm)
	if !ok {
		return nil
	}
	e := l.estate()
	out := make(reading.Row, l.in.Grid.N)
	known := false
	for k := range out {
		out[k] = math.NaN()
	}
	for _, d := range e.To(i, estate.Uses) {
		for _, metric := range moved {
			for k, v := range reading.Align(l.in.Grid, l.in.From.Runs(e.At(d).Key, metric)).Value {
				switch {
				case math.IsNaN(v):
				case math.IsNaN(out[k]):
					out[k], known = v, true
				default:
					out[k] += v
				}
			}
		}
	}
	if !known {
		return nil
	}
	return out[l.in.First:]
}

// estate is the estate while it hurt; where nothing did, as it was last.
func (l *Located) estate() *estate.Estate {
	if l.scene != nil {
		return l.scene.m.Estate()
	}
	return l.in.Moments[len(l.in.Moments)-1].Map.Estate()
}

func (l *Located) place(ref string) (int32, bool) {
	key, err := estate.ParseKey(ref)
	if err != nil {
		return 0, false
	}
	return l.estate().Position(key)
}
