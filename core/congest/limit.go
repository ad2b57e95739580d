package congest

import (
	"fmt"
	"math"
	"strings"

	"dowsingrod/core/estate"
	"dowsingrod/core/phrase"
	"dowsingrod/core/reading"
)

// Aspect is what kind of trouble a limit is about.
type Aspect string

// Aspects.
const (
	Busy     Aspect = "busy"
	Queueing Aspect = "queueing"
	Starved  Aspect = "starved of credits"
	Erring   Aspect = "erroring"
	Cache    Aspect = "cache"
	Reached  Aspect = "limit reached"
	Uneven   Aspect = "uneven peers"
	Full     Aspect = "nearly full"
)

// Limit is a rule: a level that a figure of an object may not stand above for a tenth of the time.
type Limit struct {
	Metric   string         `json:"metric" doc:"A metric of the catalogue, or one derived from it: utilization, allowed_share, uneven_share, used_share"`
	Aspect   Aspect         `json:"aspect" doc:"What it is about"`
	Strained reading.Figure `json:"strained" doc:"Strained above this, in the metric's unit; null for never"`
	Failing  reading.Figure `json:"failing" doc:"Failing above this; null for never"`
	Words    string         `json:"words" doc:"What the figure is, after the number"`
	Reason   string         `json:"reason" doc:"Why the level is where it is"`
}

// Figures derived from several readings or facts.
const (
	Utilization  = "utilization"   // a port's busier direction against its speed, 0–1
	AllowedShare = "allowed_share" // I/Os per second against what is allowed, 0–1
	UnevenShare  = "uneven_share"  // a port's utilization above the mean of its host's other ports, 0–1
	UsedShare    = "used_share"    // bytes in use against bytes there are, 0–1
)

// never is a level nothing is above.
var never = reading.Missing

// Why levels are where they are. Response time in a single queue rises with 1/(1−busy) (M/M/1, see core/queueing); several servers
// behind one queue wait for less until nearly all are taken (M/M/c, Erlang C).
const (
	whySingle  = "one queue answers in 1/(1−busy) service times: five at 80 %, twenty at 95 %"
	whyFlash   = "busy means that one command at least is in flight; flash works on many at once, so waiting begins later than in a single queue"
	whyPair    = "each of a pair of controllers must be able to take over from the other, and background work comes on top"
	whyAlone   = "one queue answers in 1/(1−busy) service times, and background work comes on top"
	whyPort    = "frames are sent one by one: at 70 % each waits for two others, at 90 % for nine"
	whyCredit  = "a sender without credits stops altogether, and what it holds up is not only the traffic of the slow receiver"
	whyPending = "cache writes down in the background; past half, bursts no longer fit, past three quarters writes wait for drives"
	whyErrors  = "the standard allows one wrong bit in 10¹², so many a second at this speed; each damaged frame is sent again after a timeout"
	whyLost    = "a lost frame is only missed after a timeout of many round trips"
	whyReset   = "a reset stops all traffic of the link"
	whyHost    = "schedulers keep cores in reserve for bursts; beyond, machines wait for each other"
	whyVM      = "a machine whose processors are always in use answers late whatever its storage does"
	whySteal   = "while a machine waits for a processor nothing it asked for is taken in"
	whyQueue   = "an I/O that waits for a place is not yet on its way; below a third of a millisecond nobody feels it"
	whyAborts  = "a command is given up after tens of seconds"
	whyAllowed = "what reaches its limit waits in line for it; readings are rounded, so from 95 % on it binds"
	whyUneven  = "round robin gives each port the same; a third of the line more than the others is no chance"
	whyThin    = "more is promised than there is: it fills without warning, and all that is on it stops"
	whyFull    = "writes stop when it is full; log-structured layouts slow down before"
)

// defaults returns the limits of an object before anybody changed them: by its kind, speed, media and configuration.
func defaults(e *estate.Estate, i int32) []Limit {
	o := e.At(i)
	switch kind := o.Key.Ref.Kind; kind {
	case estate.Pool, estate.RAIDGroup, estate.Drive:
		out := []Limit{{"busy_share", Busy, 0.80, 0.95, "busy", whySingle}}
		if flash(o) {
			out[0] = Limit{"busy_share", Busy, 0.90, 0.98, "busy", whyFlash}
		}
		if kind == estate.Pool {
			out = append(out, filling(o))
		}
		return out
	case estate.Controller:
		busy := Limit{"busy_share", Busy, 0.80, 0.95, "busy", whyAlone}
		if paired(e, i) {
			busy = Limit{"busy_share", Busy, 0.70, 0.90, "busy", whyPair}
		}
		return []Limit{busy, {"write_pending_share", Cache, 0.50, 0.75, "of its write cache pending", whyPending}}
	case estate.Host:
		return []Limit{{"busy_share", Busy, 0.85, 0.95, "processors busy", whyHost}}
	case estate.VM:
		return []Limit{{"busy_share", Busy, 0.90, 0.98, "processors busy", whyVM}, {"steal_share", Queueing, 0.05, 0.20, "kept waiting for a processor", whySteal}}
	case estate.HBAPort, estate.SwitchPort, estate.TargetPort:
		errors := wrongFrames(o)
		out := []Limit{
			{Utilization, Busy, 0.70, 0.90, "of line rate", whyPort}, {"credit_zero_share", Starved, 0.05, 0.20, "of the time without a credit", whyCredit},
			{"crc_errors_s", Erring, reading.Figure(errors), reading.Figure(max(1, 10*errors)), "damaged frames a second", whyErrors},
			{"discards_s", Erring, 0.01, 1, "dropped frames a second", whyLost},
			{"link_resets_s", Erring, 0.001, 0.05, "link resets a second", whyReset},
		}
		if kind == estate.HBAPort {
			out = append(out, Limit{UnevenShare, Uneven, 0.33, 0.66, "of line rate more than its host's other ports", whyUneven})
		}
		return out
	case estate.Device:
		return []Limit{{"queue_latency_us", Queueing, 1000, 10_000, "for a place in its queue", whyQueue}, {"aborts_s", Erring, 0.001, 0.05, "commands given up a second", whyAborts}}
	case estate.Volume, estate.VDisk:
		return []Limit{{AllowedShare, Reached, 0.95, never, "of the I/Os per second it is allowed", whyAllowed}}
	case estate.Datastore:
		return []Limit{filling(o)}
	}
	return nil
}

// flash reports whether what an object is made of answers many commands at once.
func flash(o *estate.Node) bool {
	switch strings.ToLower(o.Facts.Text("media")) {
	case "ssd", "flash", "nvme", "scm":
		return true
	}
	return false
}

// paired reports whether a controller has another beside it that it takes over from.
func paired(e *estate.Estate, i int32) bool {
	whole := e.First(i, estate.PartOf)
	if whole < 0 {
		return false
	}
	for _, k := range e.From(whole, estate.PartOf) {
		if k != i && e.Kind(k) == estate.Controller {
			return true
		}
	}
	return false
}

func filling(o *estate.Node) Limit {
	have, _ := o.Facts.Number("bytes")
	if promised, ok := o.Facts.Number("promised_bytes"); ok && promised > have {
		return Limit{UsedShare, Full, 0.80, 0.90, "full", whyThin}
	}
	return Limit{UsedShare, Full, 0.90, 0.97, "full", whyFull}
}

// wrongFrames is how many frames a second may be damaged at a port's speed: one wrong bit in 10¹² is what standards for serial links
// allow, and one in a hundred seconds is not worth a word at any speed.
func wrongFrames(o *estate.Node) float64 {
	speed, _ := o.Facts.Number("speed_bytes_s")
	return math.Max(0.01, speed*10/1e12) // ten bits a byte on the line
}

// Figure writes a figure as a limit of it is written.
func (l Limit) Figure(v float64) string {
	m, ok := reading.Lookup(l.Metric)
	switch {
	case ok && m.Unit == reading.Microseconds:
		return phrase.Micros(v)
	case ok && m.Unit == reading.PerSecond:
		return fmt.Sprintf("%.3g", v)
	}
	return phrase.Percent(v)
}

// Show writes a figure with what it is.
func (l Limit) Show(v float64) string { return l.Figure(v) + " " + l.Words }
