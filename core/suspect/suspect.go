// Package suspect asks who loads a shared component and who suffers from it: all its tenants side by
// side, before and after the moment it became slow.
//
// The busiest tenant is not the culprit for being busy; a culprit's demand rose when the component
// slowed, while that of the sufferers did not. Often there is none: everybody grew, many grew a
// little, or the component itself became slower. Then nobody is accused.
package suspect

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"dowsingrod/core/estate"
	"dowsingrod/core/internal/crew"
	"dowsingrod/core/onset"
	"dowsingrod/core/phrase"
	"dowsingrod/core/reading"
	"dowsingrod/core/route"
)

// Outcome is what the comparison came to.
type Outcome string

// Outcomes.
const (
	Culprit   Outcome = "culprit"   // one tenant brought most of the added demand
	Several   Outcome = "several"   // a few did together
	Everybody Outcome = "everybody" // demand rose, but no few tenants brought it
	Itself    Outcome = "itself"    // slower without more demand
	NoChange  Outcome = "no change" // it did not become slow in this window
	Elsewhere Outcome = "elsewhere" // it slowed because its tenants wait for something else
	Unknown   Outcome = "unknown"   // too little is known
)

// Role is a tenant's part in it.
type Role string

// Roles.
const (
	Suspect   Role = "suspect"
	Sufferer  Role = "sufferer"
	Bystander Role = "bystander"
	NotSeen   Role = "not seen"
)

// Margins for an accusation.
const (
	culpritShare = 0.50 // of the added demand, at least
	runnerUp     = 2.0  // times the next tenant's part, at least
	severalShare = 0.70 // of the added demand by at most three
	demandRise   = 1.12 // demand during against before, at least, for demand to be the reason
	severalRise  = 2.00 // of each of several: what all do a little more of, a few do by chance more than others
	ownRise      = 1.30 // of an accused tenant's own demand, at least
	slowerBy     = 1.30 // time per I/O during against before makes a sufferer
)

// Pair is a figure before and during the change.
type Pair struct {
	Before reading.Figure `json:"before" doc:"Mean before"`
	During reading.Figure `json:"during" doc:"Mean during"`
}

// Trace is load and its cost in time, per cell.
type Trace struct {
	BytesS    reading.Row `json:"bytes_s" doc:"Bytes per second, reads and writes"`
	IOPS      reading.Row `json:"iops" doc:"I/O per second, reads and writes"`
	InFlight  reading.Row `json:"in_flight" doc:"Mean I/Os in flight"`
	Time      reading.Row `json:"time_us" doc:"µs per I/O, in the direction that slowed"`
	BytesPair Pair        `json:"bytes_s_pair" doc:"Bytes per second"`
	IOPSPair  Pair        `json:"iops_pair" doc:"I/O per second"`
	InPair    Pair        `json:"in_flight_pair" doc:"I/Os in flight"`
	TimePair  Pair        `json:"time_us_pair" doc:"µs per I/O"`
	SizePair  Pair        `json:"size_pair" doc:"Bytes per I/O"`
}

// Tenant is a VM that uses the component.
type Tenant struct {
	Ref         string         `json:"ref" doc:"The VM, kind:id@source"`
	Name        string         `json:"name" doc:"Its name"`
	Tier        string         `json:"tier,omitempty" doc:"Its service tier"`
	Application string         `json:"application,omitempty" doc:"The application it belongs to"`
	Role        Role           `json:"role" doc:"Its part" enum:"suspect,sufferer,bystander,not seen"`
	Why         string         `json:"why" doc:"The figures that say so, in words"`
	Demand      Pair           `json:"demand" doc:"Cost units per second asked of the component"`
	Share       reading.Figure `json:"share" doc:"Part of the added demand it brought, 0–1"`
	Seen        string         `json:"seen_by" doc:"Who counted its I/O: the hypervisor, or the fabric where that tags frames by VM" enum:"hypervisor,fabric"`
	Flows       Pair           `json:"flows_bytes_s" doc:"What the fabric's flows of it carried, bytes per second; null where frames are not tagged"`
	Onset       reading.Figure `json:"onset_s" doc:"When its demand rose, s after the component slowed; null where it did not"`
	Trace
}

// Suspects compares the tenants of a component.
type Suspects struct {
	Of         string          `json:"of" doc:"The component, kind:id@source"`
	Name       string          `json:"name" doc:"Its name"`
	Kind       estate.Kind     `json:"kind" doc:"Its kind"`
	From       time.Time       `json:"from" doc:"Start of the first cell"`
	Step       float64         `json:"step_s" doc:"Length of a cell in s"`
	N          int             `json:"n" doc:"Number of cells"`
	Measured   string          `json:"measured" doc:"Where the component's time per I/O is taken"`
	Direction  string          `json:"direction" doc:"The direction compared" enum:"read,write"`
	Onset      *time.Time      `json:"onset,omitempty" doc:"When it became slow; absent where it did not"`
	Until      *time.Time      `json:"until,omitempty" doc:"When that ended, or the readings did"`
	UsualFrom  *time.Time      `json:"usual_from,omitempty" doc:"'Before' is from here to the onset"`
	Outcome    Outcome         `json:"outcome" doc:"What the comparison came to" enum:"culprit,several,everybody,itself,no change,elsewhere,unknown"`
	Where      *Where          `json:"where,omitempty" doc:"Of outcome 'elsewhere': what its tenants wait for instead"`
	Confidence reading.Figure  `json:"confidence" doc:"How often accusations like it were right on incidents with known causes, 0–1; null where nobody is accused"`
	Grounds    []string        `json:"grounds" doc:"What the accusation rests on"`
	Statement  []phrase.Phrase `json:"statement" doc:"What one would say on the phone"`
	Component  Trace           `json:"component" doc:"The component itself"`
	Demand     Pair            `json:"demand" doc:"Cost units per second, all tenants"`
	Busy       Pair            `json:"busy" doc:"How busy the component was, 0–1; null where it does not say"`
	Unit       string          `json:"cost_unit" doc:"What a cost unit is"`
	Tenants    []Tenant        `json:"tenants" doc:"Ranked by part in the added demand, then by harm"`
	Coverage   reading.Figure  `json:"coverage" doc:"Part of the tenants' cells that is known, 0–1"`
	Notes      []string        `json:"notes" doc:"What limits it"`
}

// Input is what Compute needs.
type Input struct {
	Grid    reading.Grid
	First   int            // the window shown begins at this cell; those before make "before"
	Moments []route.Moment // in order, covering the grid
	Of      estate.Key
	From    route.Readings
	Cost    Cost     // what an I/O costs; the zero value is what it costs the component by its kind
	Episode *Episode // when it was slow, where that is known already; nil to find out
	Capped  bool     // it lets only so much through, so that who asks for more shows in who gets less

	AtTenants bool // its time per I/O is taken at its tenants' virtual disks, even where it times I/O itself
}

// Cost is what to count a tenant's demand in.
type Cost string

// Costs other than a component's own.
const (
	CostIO      Cost = "io"      // every I/O alike
	CostWritten Cost = "written" // bytes written
)

// Episode is a stretch of cells in which the component was slow: [Begin, End), and what is usual rests on [UsualFrom, Begin).
type Episode struct {
	UsualFrom, Begin, End int
	Direction             string
}

// Compute compares the tenants of a component over the grid. The component must be in the last moment.
func Compute(in Input) (Suspects, error) {
	latest := in.Moments[len(in.Moments)-1].Map
	at, ok := latest.Estate().Position(in.Of)
	if !ok {
		return Suspects{}, fmt.Errorf("%s is not in the estate at %s", in.Of, in.Grid.End().Format(time.RFC3339))
	}
	in, onsetAt, until := in.coarse(at)
	o := latest.Estate().At(at)
	s := Suspects{Of: in.Of.String(), Name: title(latest.Estate(), at), Kind: o.Key.Ref.Kind, From: in.Grid.At(in.First), Step: in.Grid.Step.Seconds(),
		N: in.Grid.N - in.First, Outcome: Unknown, Confidence: reading.Missing, Busy: Pair{reading.Missing, reading.Missing}, Notes: []string{}, Grounds: []string{}, Tenants: []Tenant{}}
	price := priceOf(latest.Estate(), at)
	switch in.Cost {
	case CostIO:
		price = perIO
	case CostWritten:
		price = written
	}
	s.Unit = price.words
	loads := tenants(in)
	whole := component(in, o, loads, &s)
	episode, found := s.findOnset(in, whole)
	if onsetAt != nil {
		s.Onset, s.Until = onsetAt, until
	}
	if found {
		price.set(in, loads, episode.UsualFrom, episode.Begin)
	} else {
		price.set(in, loads, 0, in.Grid.N)
	}
	s.Tenants = append(s.Tenants, make([]Tenant, len(loads))...)
	crew.Each(len(loads), func(k int) { s.Tenants[k] = loads[k].tenant(in, s.Direction, episode, found) })
	s.Component = whole.trace(in.First, s.Direction, episode, found)
	s.Coverage = coverage(loads, in.First)
	switch {
	case len(loads) == 0 || s.Coverage < 0.3:
	case !found:
		s.Outcome = NoChange
	default:
		s.compare(in, loads, episode, price)
	}
	s.rank()
	s.Statement = s.statement()
	return s, nil
}

// manyCells bounds disks × cells: beyond, cells are made longer. So many are compared within a hundredth of a second, and
// who asks for more shows in cells of some minutes as well.
const manyCells = 20_000

// manyReadings bounds disks × readings of each: beyond, as much is looked at before a known episode began as after, but no less than that of
// twenty minutes and twenty cells. Who began to ask for more with it shows there, and reading hours of thousands of disks takes longer than
// comparing them.
const manyReadings = 40_000

// near shortens a known episode, and what is usual before it, where many disks would have to be read.
func (in *Input) near(disks int) {
	e := in.Episode
	if e == nil || disks*(e.End-e.UsualFrom) <= manyReadings {
		return
	}
	side := max(manyReadings/disks/2, 20, int(20*time.Minute/in.Grid.Step))
	in.Episode = &Episode{UsualFrom: max(e.UsualFrom, e.Begin-side), Begin: e.Begin, End: min(e.End, e.Begin+side), Direction: e.Direction}
}

// coarse leaves out what an episode that is known does not need, and makes cells longer where a component has many tenants. An episode
// keeps what lies wholly before and wholly within it; its exact begin and end are returned. Where too few cells would be left of either,
// they stay as long as they are.
func (in Input) coarse(at int32) (out Input, begin, end *time.Time) {
	m := in.Moments[len(in.Moments)-1].Map
	disks := len(m.VDisks(at))
	if e := in.Episode; e != nil {
		from, to := in.Grid.At(e.Begin), in.Grid.At(e.End)
		begin, end = &from, &to
		in.near(disks)
		e = in.Episode
		if lo := max(0, e.UsualFrom-1); lo < e.Begin && e.End <= in.Grid.N {
			in.Grid = reading.Grid{From: in.Grid.At(lo), Step: in.Grid.Step, N: e.End - lo}
			in.Episode = &Episode{UsualFrom: e.UsualFrom - lo, Begin: e.Begin - lo, End: e.End - lo, Direction: e.Direction}
			in.First = 0
		}
	}
	for f := min(10, disks*in.Grid.N/manyCells+1); f > 1; f-- {
		out = in
		skip := 0 // so that a cell begins where the episode does, and none is both before and within
		if in.Episode != nil {
			skip = in.Episode.Begin % f
		}
		out.Grid = reading.Grid{From: in.Grid.At(skip), Step: in.Grid.Step * time.Duration(f), N: (in.Grid.N - skip) / f}
		out.First = max(0, in.First-skip) / f
		e := in.Episode
		if e == nil {
			return out, begin, end
		}
		c := Episode{UsualFrom: max(0, e.UsualFrom-skip+f-1) / f, Begin: (e.Begin - skip) / f, End: min((e.End-skip)/f, out.Grid.N), Direction: e.Direction}
		if c.Begin-c.UsualFrom < 3 || c.End-c.Begin < 3 {
			continue
		}
		out.Episode = &c
		return out, begin, end
	}
	return in, begin, end
}

func title(e *estate.Estate, i int32) string {
	for _, k := range []estate.Kind{estate.Array, estate.Switch, estate.Host} {
		if owner, ok := e.Owner(i, k); ok {
			return e.At(owner).Title() + " " + e.At(i).Title()
		}
	}
	return e.At(i).Title()
}

func (s *Suspects) findOnset(in Input, whole *load) (onset.Episode, bool) {
	if known := in.Episode; known != nil {
		e := onset.Episode{Begin: known.Begin, End: known.End, UsualFrom: known.UsualFrom, Probability: 1, Persists: known.End == in.Grid.N}
		from, to, usual := in.Grid.At(e.Begin), in.Grid.At(e.End), in.Grid.At(e.UsualFrom)
		s.Direction, s.Onset, s.Until, s.UsualFrom = known.Direction, &from, &to, &usual
		return e, true
	}
	var best onset.Episode
	var gained float64
	s.Direction = "read"
	for _, dir := range []string{"read", "write"} {
		d := whole.side(dir)
		e, ok := onset.Shown(d.latency(), in.First, onset.Rules{Floor: 200})
		if !ok {
			continue
		}
		if gain := reading.MeanOver(d.rate, e.Begin, e.End) * (e.During - e.Usual); gain > gained {
			best, gained, s.Direction = e, gain, dir
		}
	}
	if gained == 0 {
		return onset.Episode{}, false
	}
	from, to, usual := in.Grid.At(best.Begin), in.Grid.At(best.End), in.Grid.At(best.UsualFrom)
	s.Onset, s.Until, s.UsualFrom = &from, &to, &usual
	return best, true
}

// compare attributes the added demand and decides whether anybody is to be accused.
func (s *Suspects) compare(in Input, loads []*load, e onset.Episode, price price) {
	var before, during, added float64
	rise := make([]float64, len(loads))
	for k, l := range loads {
		b, d := reading.MeanOver(l.demand, e.UsualFrom, e.Begin), reading.MeanOver(l.demand, e.Begin, e.End)
		if math.IsNaN(b) || math.IsNaN(d) {
			continue
		}
		before, during = before+b, during+d
		rise[k] = math.Max(0, d-b)
		added += rise[k]
	}
	s.Demand = Pair{reading.Figure(before), reading.Figure(during)}
	busy := reading.Align(in.Grid, in.From.Runs(in.Of, "busy_share")).Value
	s.Busy = Pair{reading.Figure(reading.MeanOver(busy, e.UsualFrom, e.Begin)), reading.Figure(reading.MeanOver(busy, e.Begin, e.End))}
	grew := during >= demandRise*before || in.Capped && added >= (demandRise-1)*before
	crew.Each(len(s.Tenants), func(k int) {
		t := &s.Tenants[k]
		if added > 0 && grew {
			t.Share = reading.Figure(rise[k] / added)
		}
		if !(t.Share > 0.02) {
			t.judge(grew)
			return
		}
		if own, ok := onset.Find(loads[k].demand, max(0, e.UsualFrom-1), onset.Rules{Factor: 1.3}); ok {
			t.Onset = reading.Figure(float64(own.Begin-e.Begin) * in.Grid.Step.Seconds())
		}
		t.judge(grew)
	})
	order := make([]int, len(loads))
	for k := range order {
		order[k] = k
	}
	slices.SortFunc(order, func(a, b int) int { return cmp.Compare(rise[b], rise[a]) })
	part := func(n int) float64 { // of the added demand, by the n-th
		if n >= len(order) || added == 0 {
			return 0
		}
		return rise[order[n]] / added
	}
	rose := func(n int) bool { // whether the n-th asks for clearly more than before
		return n < len(order) && float64(s.Tenants[order[n]].Demand.During) >= ownRise*float64(s.Tenants[order[n]].Demand.Before)
	}
	few := 0 // two or three that stand apart from the next; without a gap there is nobody to draw the line before
	for _, n := range []int{2, 3} {
		if part(n-1) < 0.15 || part(n-1) < runnerUp*part(n) {
			continue
		}
		few = n
		for k := range n { // each of them clearly does something else than before
			if t := s.Tenants[order[k]].Demand; t.During < severalRise*t.Before {
				few = 0
			}
		}
	}
	switch top3 := part(0) + part(1) + part(2); {
	case !grew, !s.asked():
		s.Outcome = Itself
	case !rose(0):
		s.Outcome = Everybody
	case part(0) >= culpritShare && part(0) >= runnerUp*part(1):
		s.Outcome = Culprit
		s.accuse(order[:1])
		s.confide(part(0), part(1), e, s.Tenants[order[0]])
	case top3 >= severalShare && len(loads) > 4 && few > 0 && rose(few-1):
		s.Outcome = Several
		s.accuse(order[:few])
		s.confide(top3, part(3), e, s.Tenants[order[0]])
	default:
		s.Outcome = Everybody
	}
}

// asked reports whether the component is busier because it is asked for more, and not because each I/O holds it longer. By the utilization
// law busy = demand × service, so what it became busier by is the product of what both became more by; the larger factor is the reason.
// Where it does not say how busy it is, nothing says otherwise.
func (s *Suspects) asked() bool {
	busy := float64(s.Busy.During / s.Busy.Before)
	demand := float64(s.Demand.During / s.Demand.Before)
	if !(busy > 0) || math.IsInf(busy, 0) || math.IsNaN(demand) {
		return true
	}
	return demand*demand >= busy
}

func (s *Suspects) accuse(at []int) {
	for _, k := range at {
		s.Tenants[k].Role = Suspect
	}
}

// rightly is how often accusations were right that stood so firmly or more: of 185 and of 1,269 on incidents of the lab with seeds for tuning, as
// sources report, with gaps, and with next to nothing to see. Where it is known what those who wait wait for, [Suspects.Agree] knows more.
var rightly = []struct{ firm, right float64 }{{0, 0.88}, {0.8, 0.94}}

// confide makes the confidence. How firmly an accusation stands is half the part of the added demand, three tenths the margin to
// the next, two tenths whether it began with the slowness or just before, by how clearly the slow stretch stands apart.
func (s *Suspects) confide(part, next float64, e onset.Episode, t Tenant) {
	margin := 1.0
	if part > 0 {
		margin = (part - next) / part
	}
	timing, when := 0.3, "its own rise could not be dated"
	if t.Onset.Known() {
		if lag := float64(t.Onset); lag <= 2*s.Step && lag >= -15*s.Step {
			timing, when = 1, "it began with the slowness"
			if lag < 0 {
				when = "it began " + phrase.Span(time.Duration(-lag)*time.Second) + " before the slowness"
			}
		} else {
			timing, when = 0, "it began "+phrase.Span(time.Duration(math.Abs(lag))*time.Second)+" off the slowness"
		}
	}
	firm := (0.5*part + 0.3*margin + 0.2*timing) * e.Probability
	for _, r := range rightly {
		if firm >= r.firm {
			s.Confidence = reading.Figure(r.right)
		}
	}
	if f := t.Flows; f.Before.Known() && f.During.Known() {
		s.Grounds = append(s.Grounds, fmt.Sprintf("the fabric's own count of its frames went from %s/s to %s/s", phrase.Bytes(float64(f.Before)), phrase.Bytes(float64(f.During))))
	}
	s.Grounds = append(s.Grounds,
		fmt.Sprintf("%s of the added demand; the next brought %s less", phrase.Percent(part), phrase.Percent(margin)),
		when,
		fmt.Sprintf("slow cells exceed usual ones in %s of comparisons", phrase.Percent(e.Probability)))
}

func (s *Suspects) rank() {
	roles := map[Role]int{Suspect: 0, Sufferer: 1, Bystander: 2, NotSeen: 3}
	order := make([]int, len(s.Tenants)) // tenants are large: they are moved once, and weighed once
	weights, places := make([]float64, len(s.Tenants)), make([]int, len(s.Tenants))
	for k := range order {
		order[k], weights[k], places[k] = k, s.Tenants[k].weight(), roles[s.Tenants[k].Role]
	}
	slices.SortFunc(order, func(i, j int) int {
		if c := cmp.Or(cmp.Compare(places[i], places[j]), -cmp.Compare(weights[i], weights[j])); c != 0 {
			return c
		}
		return cmp.Or(strings.Compare(s.Tenants[i].Name, s.Tenants[j].Name), cmp.Compare(i, j))
	})
	ranked := make([]Tenant, len(order))
	for k, i := range order {
		ranked[k] = s.Tenants[i]
	}
	s.Tenants = ranked
}

// weight ranks a tenant by what it brought, then by what it holds in flight.
func (t *Tenant) weight() float64 {
	w := 0.0
	if t.Share.Known() && t.Role == Suspect {
		w = 1e9 * float64(t.Share)
	}
	if t.InPair.During.Known() {
		w += float64(t.InPair.During)
	} else {
		w += reading.MeanOver(t.InFlight, 0, len(t.InFlight))
	}
	if math.IsNaN(w) {
		return -1
	}
	return w
}

func coverage(loads []*load, first int) reading.Figure {
	known, all := 0, 0
	for _, l := range loads {
		for _, v := range l.demand[first:] {
			all++
			if !math.IsNaN(v) {
				known++
			}
		}
	}
	if all == 0 {
		return 0
	}
	return reading.Figure(float64(known) / float64(all))
}

// Needs lists the readings that Compute will ask for.
func Needs(moments []route.Moment, of estate.Key) []route.Need {
	io := []string{"read_iops", "write_iops", "read_bytes_s", "write_bytes_s", "read_latency_us", "write_latency_us"}
	needs := []route.Need{{Key: of, Metrics: append(slices.Clone(io), "busy_share")}}
	seen := map[estate.Key]bool{of: true}
	for _, m := range moments {
		e := m.Map.Estate()
		i, ok := e.Position(of)
		if !ok {
			continue
		}
		for _, d := range m.Map.VDisks(i) {
			if k := e.At(d.At).Key; !seen[k] {
				seen[k] = true
				needs = append(needs, route.Need{Key: k, Metrics: io})
			}
			for _, f := range flowsOf(m.Map, d.At) {
				if k := e.At(f).Key; !seen[k] {
					seen[k] = true
					needs = append(needs, route.Need{Key: k, Metrics: io})
				}
			}
			for _, v := range m.Map.Volumes(d.At) {
				if k := e.At(v).Key; !seen[k] {
					seen[k] = true
					needs = append(needs, route.Need{Key: k, Metrics: []string{"cache_hit_share"}})
				}
			}
		}
	}
	return needs
}
