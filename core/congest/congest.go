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

// Limit is a rule: the share of time a metric may stand above a level.
type Limit struct {
	Metric   string  `json:"metric" doc:"The metric, or utilization for the busier direction of a port against its speed"`
	Strained float64 `json:"strained" doc:"Strained above this, in the metric's unit"`
	Failing  float64 `json:"failing" doc:"Failing above this"`
	Words    string  `json:"words" doc:"What it means"`
}

// Utilization is the derived metric of a port: the busier direction against its speed, 0–1.
const Utilization = "utilization"

var busy = Limit{"busy_share", 0.80, 0.95, "busy"}

// limits by kind. Response time rises with 1/(1−busy) in any single-queue model, so a component above
// 80 % answers in five service times and more, and above 95 % in twenty.
var limits = map[estate.Kind][]Limit{
	estate.Pool: {busy}, estate.RAIDGroup: {busy}, estate.Drive: {busy},
	estate.Controller: {{"busy_share", 0.70, 0.90, "busy"}, {"write_pending_share", 0.50, 0.75, "of its write cache pending"}},
	estate.Host:       {{"busy_share", 0.85, 0.95, "processors busy"}},
	estate.VM:         {{"busy_share", 0.90, 0.98, "processors busy"}, {"steal_share", 0.05, 0.20, "kept waiting for a processor"}},
	estate.HBAPort:    port, estate.SwitchPort: port, estate.TargetPort: port,
}

var port = []Limit{
	{Utilization, 0.70, 0.90, "of line rate"}, {"credit_zero_share", 0.05, 0.20, "of the time without a credit"},
	{"crc_errors_s", 0.01, 1, "damaged frames a second"}, {"discards_s", 0.01, 1, "dropped frames a second"},
	{"link_resets_s", 0.001, 0.05, "link resets a second"},
}

// Limits returns the limits in force for a kind.
func Limits(k estate.Kind) []Limit { return limits[k] }

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

// Metrics lists what Assess asks of objects of a kind.
func Metrics(k estate.Kind) []string {
	var names []string
	for _, l := range limits[k] {
		if l.Metric == Utilization {
			names = append(names, "tx_bytes_s", "rx_bytes_s")
		} else {
			names = append(names, l.Metric)
		}
	}
	return names
}

// Cells returns the figures that a limit judges, on a grid.
func Cells(g reading.Grid, o *estate.Node, metric string, r route.Readings) reading.Cells {
	switch metric {
	case Utilization:
	case AllowedShare:
		return allowed(g, o, r)
	default:
		return reading.Align(g, r.Runs(o.Key, metric))
	}
	speed, ok := o.Facts.Number("speed_bytes_s")
	if !ok || speed <= 0 {
		return reading.NewCells(g.N)
	}
	tx, rx := reading.Align(g, r.Runs(o.Key, "tx_bytes_s")), reading.Align(g, r.Runs(o.Key, "rx_bytes_s"))
	for i := range tx.Value {
		if v := rx.Value[i]; math.IsNaN(tx.Value[i]) || v > tx.Value[i] {
			tx.Value[i], tx.Cover[i] = v, rx.Cover[i]
		}
		tx.Value[i] /= speed
	}
	return tx
}

// allowed is what an object does against the I/Os per second it is allowed.
func allowed(g reading.Grid, o *estate.Node, r route.Readings) reading.Cells {
	most, ok := o.Facts.Number("iops_limit")
	if !ok || most <= 0 {
		return reading.NewCells(g.N)
	}
	reads, writes := reading.Align(g, r.Runs(o.Key, "read_iops")), reading.Align(g, r.Runs(o.Key, "write_iops"))
	for i := range reads.Value {
		reads.Value[i] = (reads.Value[i] + writes.Value[i]) / most
	}
	return reads
}

// Assess judges an object over a window by its kind's limits. It is silent where it has readings but
// none in the last fifth of the window.
func Assess(g reading.Grid, o *estate.Node, r route.Readings) Assessment {
	a := stated(o)
	last, any := -1, false
	for _, l := range limits[o.Key.Ref.Kind] {
		c := Cells(g, o, l.Metric, r)
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
			if v > l.Strained {
				strained++
			}
			if v > l.Failing {
				failing++
			}
		}
		level, limit, over := Steady, 0.0, 0
		switch need := overShare * float64(known); {
		case failing > 0 && float64(failing) >= need:
			level, limit, over = Failing, l.Failing, failing
		case strained > 0 && float64(strained) >= need:
			level, limit, over = Strained, l.Strained, strained
		}
		if level == Steady {
			continue
		}
		share := float64(over) / float64(known)
		a.Reasons = append(a.Reasons, Reason{l.Metric, limit, reading.Figure(worst), reading.Figure(share),
			fmt.Sprintf("up to %s %s; above %s for %s of the time", show(l, worst), l.Words, show(l, limit), phrase.Percent(share))})
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

// Show writes a figure as its limit is written.
func Show(l Limit, v float64) string { return show(l, v) + " " + l.Words }

func show(l Limit, v float64) string {
	if l.Metric == "crc_errors_s" || l.Metric == "discards_s" || l.Metric == "link_resets_s" {
		return fmt.Sprintf("%.3g", v)
	}
	if l.Metric == "queue_latency_us" {
		return phrase.Micros(v)
	}
	return phrase.Percent(v)
}
