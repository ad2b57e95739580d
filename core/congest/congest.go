// Package congest says in what condition a component is, from its own readings alone.
package congest

import (
	"cmp"
	"fmt"
	"math"
	"slices"

	"dowsingrod/core/estate"
	"dowsingrod/core/phrase"
	"dowsingrod/core/reading"
	"dowsingrod/core/route"
)

// Condition is the state of an object by its own readings.
type Condition string

// Conditions. NotMeasured is for objects that report nothing we judge them by.
const (
	Steady      Condition = "steady"
	Strained    Condition = "strained"
	Failing     Condition = "failing"
	Silent      Condition = "silent"
	NotMeasured Condition = "not measured"
)

// overShare is the part of the covered window that must lie past a limit before the condition says
// so: a single bad minute in two hours is not yet a condition.
const overShare = 0.10

// Reason is a limit that was passed.
type Reason struct {
	Metric string         `json:"metric" doc:"What passed its limit"`
	Limit  float64        `json:"limit" doc:"The limit passed"`
	Worst  reading.Figure `json:"worst" doc:"Worst cell of the window"`
	Over   reading.Figure `json:"over_share" doc:"Part of the covered window past the limit, 0–1"`
	Words  string         `json:"words" doc:"In words"`
}

// Assessment is an object's condition over a window, and why.
type Assessment struct {
	Condition Condition `json:"condition" doc:"By its own readings" enum:"steady,strained,failing,silent,not measured"`
	Reasons   []Reason  `json:"reasons,omitempty" doc:"Limits passed, worst first"`
}

// Assess judges an object over a window by the limits in force for it. It is silent where it has readings but none in the last
// fifth of the window.
func (b *Book) Assess(g reading.Grid, e *estate.Estate, i int32, r route.Readings) Assessment {
	a := stated(e.At(i))
	last, any := -1, false
	for _, l := range b.Of(e, i) {
		c := Cells(g, e, i, l.Metric, r)
		var known, strained, failing int
		worst := math.NaN()
		for i, v := range c.Value {
			if math.IsNaN(v) {
				continue
			}
			known++
			last, any = max(last, i), true
			if math.IsNaN(worst) || v > worst {
				worst = v
			}
			if v > float64(l.Strained) {
				strained++
			}
			if v > float64(l.Failing) {
				failing++
			}
		}
		level, limit, over := Steady, 0.0, 0
		switch need := overShare * float64(known); {
		case failing > 0 && float64(failing) >= need:
			level, limit, over = Failing, float64(l.Failing), failing
		case strained > 0 && float64(strained) >= need:
			level, limit, over = Strained, float64(l.Strained), strained
		}
		if level == Steady {
			continue
		}
		share := float64(over) / float64(known)
		a.Reasons = append(a.Reasons, Reason{l.Metric, limit, reading.Figure(worst), reading.Figure(share),
			fmt.Sprintf("up to %s; above %s for %s of the time", l.Show(worst), l.Figure(limit), phrase.Percent(share))})
		if level == Failing || a.Condition != Failing {
			a.Condition = level
		}
	}
	switch {
	case !any:
		return a
	case last < g.N-max(1, g.N/5) && a.Condition != Failing:
		a.Condition = Silent
	case a.Condition == NotMeasured:
		a.Condition = Steady
	}
	slices.SortStableFunc(a.Reasons, func(x, y Reason) int {
		return cmp.Compare(y.Worst/reading.Figure(y.Limit), x.Worst/reading.Figure(x.Limit))
	})
	return a
}

// stated is the condition that an object's source states outright, in the fact "state". Of paths and machines a state is
// part of their configuration and no trouble by itself.
func stated(o *estate.Node) Assessment {
	a := Assessment{Condition: NotMeasured}
	switch o.Key.Ref.Kind {
	case estate.Path, estate.VM, estate.VDisk:
		return a
	}
	switch state := o.Facts.Text("state"); state {
	case "failed", "dead", "lost", "offline", "missing":
		a.Condition = Failing
	case "degraded", "rebuilding", "predicted", "warning", "removed":
		a.Condition = Strained
	}
	if a.Condition != NotMeasured {
		a.Reasons = append(a.Reasons, Reason{Metric: "state", Worst: reading.Missing, Over: 1, Words: "its source says it is " + o.Facts.Text("state")})
	}
	return a
}

// OnlyWaits reports whether all that is wrong with an object is that I/Os wait in it. Places in a queue are held for as long as an I/O is
// below, so where something below is in trouble too, that is the reason.
func (a Assessment) OnlyWaits() bool {
	for _, r := range a.Reasons {
		if r.Metric != "queue_latency_us" {
			return false
		}
	}
	return len(a.Reasons) > 0
}
