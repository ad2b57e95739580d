// Package verdict explains why an object is slow, or that its storage is not the reason: which layer, which component, what class
// of cause, who did it or that nobody did, who suffers, what was cleared, what could not be seen, and how sure all that is.
//
// It goes in two steps, because whom to compare depends on where it arises: [Locate] reads the latency by layer and the evidence at
// every component below, [Conclude] adds the comparison of the component's tenants. Between them the caller fetches what
// [suspect.Needs] asks for.
package verdict

import (
	"time"

	"dowsingrod/core/estate"
	"dowsingrod/core/normal"
	"dowsingrod/core/phrase"
	"dowsingrod/core/reading"
	"dowsingrod/core/suspect"
)

// Class is a class of cause.
type Class string

// Classes of cause.
const (
	NoisyNeighbour Class = "noisy_neighbour" // one tenant, or a few, ask for so much of what is shared that the others wait
	OwnDemand      Class = "own_demand"      // it asks for more than what it has to itself lets through
	Crowd          Class = "crowd"           // many ask for much more at the same time
	Growth         Class = "growth"          // everybody has come to ask for a little more
	Degraded       Class = "degraded"        // a component is slower by itself
	SlowReceiver   Class = "slow_receiver"   // a port takes its frames slowly and holds up what shares a link with it
	Path           Class = "path"            // ways are gone, or used unevenly
	HostQueue      Class = "host_queue"      // I/Os wait in the host for a place in a queue
	Limit          Class = "limit"           // a limit that was set is reached
	SiteLink       Class = "site_link"       // the way between two sites takes longer
	Cleared        Class = "cleared"         // the storage is not the cause
	Unknown        Class = "unknown"         // too little is known to say
)

// Classes lists all classes.
var Classes = []Class{NoisyNeighbour, OwnDemand, Crowd, Growth, Degraded, SlowReceiver, Path, HostQueue, Limit, SiteLink, Cleared, Unknown}

// Words returns the class as one says it.
func (c Class) Words() string {
	switch c {
	case NoisyNeighbour:
		return "noisy neighbour"
	case OwnDemand:
		return "its own demand"
	case SlowReceiver:
		return "slow receiver"
	case HostQueue:
		return "queue in the host"
	case SiteLink:
		return "site link"
	case Limit:
		return "limit reached"
	case Path:
		return "paths"
	case Cleared:
		return "not the storage"
	}
	return string(c)
}

// Component is where delay arises.
type Component struct {
	Ref  string      `json:"ref" doc:"kind:id@source"`
	Name string      `json:"name" doc:"Its name, with that of what it is part of"`
	Kind estate.Kind `json:"kind" doc:"Its kind"`
}

// Verdict is what was found.
type Verdict struct {
	Class      Class          `json:"class" doc:"Class of cause" enum:"noisy_neighbour,own_demand,crowd,growth,degraded,slow_receiver,path,host_queue,limit,site_link,cleared,unknown"`
	Component  *Component     `json:"component" doc:"Where the delay arises; null for nowhere in the storage, and where that is not known"`
	Confidence reading.Figure `json:"confidence" doc:"How often a verdict as sure as this one was right on incidents with known causes, 0–1"`
	Summary    string         `json:"summary" doc:"In one sentence"`
}

// LayerTimes is what a layer takes of an I/O.
type LayerTimes struct {
	Layer estate.Layer   `json:"layer" doc:"The layer; 'above the array', 'in the array' or 'not told apart' for several that no source tells apart"`
	Read  reading.Figure `json:"read_us" doc:"µs per read while it hurt, or over the window where nothing did"`
	Write reading.Figure `json:"write_us" doc:"µs per write"`
	Added reading.Figure `json:"added_us" doc:"µs per I/O more than before, reads and writes together"`
}

// Accused is a tenant of the component.
type Accused struct {
	Ref         string         `json:"ref" doc:"The VM, kind:id@source"`
	Name        string         `json:"name" doc:"Its name"`
	Tier        string         `json:"tier,omitempty" doc:"Its service tier"`
	Application string         `json:"application,omitempty" doc:"The application it belongs to"`
	Accused     bool           `json:"accused" doc:"Whether it is held to have caused it"`
	Score       reading.Figure `json:"score" doc:"Its part in the added demand, 0–1"`
	Onset       reading.Figure `json:"onset_s" doc:"When its demand rose, s after the component slowed; null where it did not"`
	Evidence    string         `json:"evidence" doc:"The figures, in words"`
	Trace       reading.Row    `json:"trace,omitempty" doc:"Bytes per second that its disks move, per cell of the window; only of the first few"`
}

// Sufferer is a machine that waits because of it.
type Sufferer struct {
	Ref         string         `json:"ref" doc:"The VM, kind:id@source"`
	Name        string         `json:"name" doc:"Its name"`
	Tier        string         `json:"tier,omitempty" doc:"Its service tier"`
	Application string         `json:"application,omitempty" doc:"The application it belongs to"`
	Added       reading.Figure `json:"added_us" doc:"µs per I/O more than before"`
	LostIOPS    reading.Figure `json:"lost_iops" doc:"I/Os per second fewer than before; below 0 for more"`
}

// Evidence is a reading of a component that speaks for it or against it as the cause.
type Evidence struct {
	Of     string         `json:"of" doc:"The object, kind:id@source"`
	Name   string         `json:"name" doc:"Its name"`
	Kind   estate.Kind    `json:"kind" doc:"Its kind"`
	Metric string         `json:"metric,omitempty" doc:"The metric; empty for a state or a change of configuration"`
	Before reading.Figure `json:"before" doc:"Before it hurt, in the metric's unit"`
	During reading.Figure `json:"during" doc:"While it hurt"`
	Weight reading.Figure `json:"weight" doc:"How much of the added latency it can account for, 0–1"`
	Words  string         `json:"words" doc:"In words"`
	Unit   reading.Unit   `json:"unit,omitempty" doc:"Unit of before, during and trace; empty for a state or a change of configuration"`
	Trace  reading.Row    `json:"trace,omitempty" doc:"The metric per cell of the window; only of the strongest evidence"`
	Usual  *normal.Usual  `json:"usual,omitempty" doc:"What is usual for it at that hour, where it is traced and that was learned"`
}

// Ground is something that was cleared, and why.
type Ground struct {
	Layer estate.Layer `json:"layer,omitempty" doc:"The layer that was cleared"`
	Ref   string       `json:"ref,omitempty" doc:"Or the object, kind:id@source"`
	Words string       `json:"words" doc:"On what ground"`
}

// Explanation is what is told of an object that is slow.
type Explanation struct {
	Subject   string          `json:"subject" doc:"The object asked about, kind:id@source"`
	Name      string          `json:"name" doc:"Its name"`
	Kind      estate.Kind     `json:"kind" doc:"Its kind"`
	From      time.Time       `json:"from" doc:"The window looked at begins here"`
	To        time.Time       `json:"to" doc:"And ends here"`
	Step      float64         `json:"step_s" doc:"Length of a cell of the traces in s; the first begins where the window does"`
	Onset     *time.Time      `json:"onset" doc:"When it began to hurt; null where it did not"`
	Until     *time.Time      `json:"until" doc:"When it was over; null where it lasts, or never began"`
	Direction string          `json:"direction" doc:"Reads or writes, whichever gained more in flight; empty where nothing hurt" enum:",read,write"`
	Usual     reading.Figure  `json:"usual_us" doc:"µs per I/O in that direction before; null where nothing hurt"`
	During    reading.Figure  `json:"during_us" doc:"µs per I/O in that direction while it hurt"`
	Verdict   Verdict         `json:"verdict" doc:"What was found"`
	Layers    []LayerTimes    `json:"layers" doc:"Latency by layer, from the guest down"`
	Evidence  []Evidence      `json:"evidence" doc:"What speaks for the component, strongest first, and for its rivals"`
	Suspects  []Accused       `json:"suspects" doc:"Tenants of the component by their part in the added demand; those accused first"`
	Outcome   suspect.Outcome `json:"outcome,omitempty" doc:"What comparing the tenants came to" enum:",culprit,several,everybody,itself,no change,unknown"`
	Sufferers []Sufferer      `json:"sufferers" doc:"Who waits because of it, by tier, then by what is added"`
	Cleared   []Ground        `json:"cleared" doc:"What is not the cause, and on what ground"`
	Unseen    []string        `json:"unseen" doc:"What could not be seen"`
	Settle    []string        `json:"settle" doc:"What would make it surer"`
	Helps     []string        `json:"helps" doc:"What usually helps"`
	Statement []phrase.Phrase `json:"statement" doc:"What one would say on the phone, with its evidence"`
}
