package service

import (
	"context"
	"fmt"
	"slices"
	"time"

	"dowsingrod/core/estate"
	"dowsingrod/core/phrase"
	"dowsingrod/core/reading"
	"dowsingrod/core/route"
	"dowsingrod/core/suspect"
	"dowsingrod/core/sweep"
)

// Neighbour is a machine that uses a component that slowed.
type Neighbour struct {
	Brief
	Share       reading.Figure `json:"share" doc:"Part of the added demand it brought, 0–1"`
	Rise        reading.Figure `json:"rise" doc:"Its demand during against before"`
	Correlation reading.Figure `json:"correlation" doc:"Of its demand with the component's time per I/O, −1 to 1; null where not known"`
}

// Slowed is a shared component that slowed.
type Slowed struct {
	Brief
	Outcome  sweep.Outcome  `json:"outcome" doc:"What the comparison of its tenants came to" enum:"culprit,everybody,itself,elsewhere"`
	Where    *suspect.Where `json:"where,omitempty" doc:"Of outcome 'elsewhere': what its tenants wait for instead"`
	From     time.Time      `json:"from" doc:"Since when"`
	To       *time.Time     `json:"to" doc:"Until when; null where it lasts"`
	Before   reading.Figure `json:"before_us" doc:"Its tenants' time per I/O before"`
	During   reading.Figure `json:"during_us" doc:"And during"`
	Waits    reading.Figure `json:"waits" doc:"I/Os in flight more than usual: what waits because of it"`
	Tenants  int            `json:"tenants" doc:"Machines that use it"`
	Slower   int            `json:"slower" doc:"How many of them became slower"`
	First    []Neighbour    `json:"first" doc:"Those that brought most of the added demand, at most three"`
	Also     []Brief        `json:"also" doc:"Components that slowed at the same time for the same machine"`
	Sentence string         `json:"says" doc:"What one would say on the phone"`
}

// NeighbourList is what a sweep of the whole estate found.
type NeighbourList struct {
	From     time.Time `json:"from" doc:"Start of the window"`
	To       time.Time `json:"to" doc:"End of the window"`
	Machines int       `json:"machines" doc:"Machines looked at"`
	Slowed   []Slowed  `json:"slowed" doc:"Shared components that slowed; those for which most waits first"`
	Says     string    `json:"says" doc:"What one would say on the phone"`
}

// sweepCells is how many cells a sweep's window is cut into at most.
const sweepCells = 240

// Neighbours sweeps the whole estate for noisy neighbours: every LUN, pool and controller that machines share.
func (s *Service) Neighbours(ctx context.Context, w Window) (NeighbourList, error) {
	step := time.Minute
	for _, d := range steps {
		if d >= time.Minute && w.To.Sub(w.From) <= sweepCells*d {
			step = d
			break
		}
	}
	back := min(max(w.To.Sub(w.From), time.Hour), 24*time.Hour).Truncate(step)
	g, err := reading.NewGrid(w.From.Truncate(step).Add(-back), w.To.Truncate(step), step)
	if err != nil {
		return NeighbourList{}, &WindowError{err.Error()}
	}
	m, err := s.at(ctx, w.To)
	if err != nil {
		return NeighbourList{}, err
	}
	e := m.Estate()
	var needs []route.Need
	for _, d := range e.OfKind(estate.VDisk) {
		needs = append(needs, route.Need{Key: e.At(d).Key, Metrics: sweep.Metrics})
	}
	moment := []route.Moment{{From: g.From, To: g.End(), Map: m}}
	r, err := s.fetch(ctx, moment, needs, g.From, g.End())
	if err != nil {
		return NeighbourList{}, err
	}
	out := NeighbourList{From: w.From, To: w.To, Machines: len(e.OfKind(estate.VM)), Slowed: []Slowed{}}
	named := 0
	first := g.Cell(w.From.Truncate(step))
	found := sweep.Compute(sweep.Input{Grid: g, First: first, Map: m, From: r})
	more, err := s.fetch(ctx, moment, comparing(m, found), g.From, g.End())
	if err != nil {
		return NeighbourList{}, err
	}
	for k, f := range found {
		x := slowed(m, g, f)
		if k < compared {
			if err := s.compareSlowed(ctx, &x, f, suspect.Input{Grid: g, First: first, Moments: moment, Of: e.At(f.At).Key, From: either{r, more}}); err != nil {
				return NeighbourList{}, err
			}
		}
		if same := slices.IndexFunc(out.Slowed, func(o Slowed) bool { return o.Ref == x.Ref }); same >= 0 {
			out.Slowed[same].Also = append(out.Slowed[same].Also, x.Also...)
			continue
		}
		x.say()
		out.Slowed = append(out.Slowed, x)
		if x.Outcome == sweep.Culprit {
			named++
		}
	}
	switch {
	case len(out.Slowed) == 0:
		out.Says = fmt.Sprintf("Nothing that %s share slowed in this window.", phrase.Count(out.Machines, "machine", "machines"))
	case named == 0:
		out.Says = fmt.Sprintf("%s slowed, and no single machine stands out at any of them.", phrase.Count(len(out.Slowed), "shared component", "shared components"))
	default:
		out.Says = fmt.Sprintf("%s slowed. At %s one machine brought most of what was asked for more.", phrase.Count(len(out.Slowed), "shared component", "shared components"), phrase.Count(named, "of them", "of them"))
	}
	return out, nil
}

// compared is how many of what a sweep finds are compared as package suspect does, which knows what a cache keeps from a pool: those for
// which most waits.
const compared = 24

// elsewhere is said of a component whose tenants wait for something else.
const elsewhere = sweep.Outcome(suspect.Elsewhere)

// usualCells is how many cells before something slowed tell what was usual.
const usualCells = 60

// comparing lists what suspects asks for beside the disks' readings.
func comparing(m *route.Map, found []sweep.Finding) (needs []route.Need) {
	e := m.Estate()
	moment := []route.Moment{{Map: m}}
	for k, f := range found {
		if k == compared {
			break
		}
		for _, n := range suspect.Needs(moment, e.At(f.At).Key) {
			if n.Key.Ref.Kind != estate.VDisk {
				needs = append(needs, n)
			}
		}
	}
	return needs
}

// either are readings from two fetches.
type either struct{ first, second route.Readings }

// Runs returns the runs of the first that has any.
func (b either) Runs(k estate.Key, metric string) []reading.Series {
	if runs := b.first.Runs(k, metric); len(runs) > 0 {
		return runs
	}
	return b.second.Runs(k, metric)
}

// compareSlowed compares the tenants of a component that slowed. Where they wait for another component, that is compared and told instead, and
// the first is one of those that slowed with it.
func (s *Service) compareSlowed(ctx context.Context, x *Slowed, f sweep.Finding, in suspect.Input) error {
	e := in.Moments[0].Map.Estate()
	tenants, err := suspect.Compute(in)
	if err != nil {
		return err
	}
	// Where the component itself times no slower I/O, its machines wait before it: they are looked at while they did.
	for _, dir := range []string{"read", "write"} {
		if tenants.Outcome != suspect.NoChange {
			break
		}
		in := in
		in.Episode = &suspect.Episode{UsualFrom: max(0, f.Begin-usualCells), Begin: f.Begin, End: f.End, Direction: dir}
		waiting, err := suspect.Compute(in)
		if err != nil {
			return err
		}
		if len(waiting.Waiting(1)) > 0 {
			tenants = waiting
		}
	}
	where, told, err := s.elsewhere(ctx, in.Grid, in.First, in.Moments, tenants)
	if err != nil {
		return err
	}
	if where == nil {
		if told != nil {
			tenants.Agree(*told)
		}
		x.settle(e, tenants)
		return nil
	}
	x.Outcome, x.Where, x.First = elsewhere, where, []Neighbour{}
	there, ok := refAt(e, where.Ref)
	if !ok {
		return nil
	}
	in.Of = e.At(there).Key
	if in.From, err = s.fetch(ctx, in.Moments, suspect.Needs(in.Moments, in.Of), in.Grid.From, in.Grid.End()); err != nil {
		return err
	}
	if tenants, err = suspect.Compute(in); err != nil {
		return err
	}
	if tenants.Onset == nil { // most of its own tenants do not wait: it is told as what the others wait for
		return nil
	}
	if told != nil {
		tenants.Agree(*told)
	}
	also := append([]Brief{x.Brief}, slices.DeleteFunc(x.Also, func(b Brief) bool { return b.Ref == where.Ref })...)
	x.Brief, x.Also, x.Where, x.Outcome = brief(e, there), also, nil, sweep.Everybody
	x.From, x.Before, x.During = *tenants.Onset, tenants.Component.TimePair.Before, tenants.Component.TimePair.During
	x.Tenants, x.Slower = len(tenants.Tenants), tenants.Slower()
	x.settle(e, tenants)
	return nil
}

// settle takes over what the comparison of all tenants came to, where it came to something.
func (x *Slowed) settle(e *estate.Estate, tenants suspect.Suspects) {
	switch tenants.Outcome {
	case suspect.Culprit, suspect.Several:
		x.Outcome = sweep.Culprit
	case suspect.Everybody:
		x.Outcome = sweep.Everybody
	case suspect.Itself:
		x.Outcome = sweep.Itself
	default:
		return
	}
	if x.Outcome != sweep.Culprit {
		return
	}
	was := map[string]Neighbour{}
	for _, n := range x.First {
		was[n.Ref] = n
	}
	x.First = x.First[:0]
	for _, t := range tenants.Tenants {
		if i, ok := refAt(e, t.Ref); ok && t.Role == suspect.Suspect {
			n, known := was[t.Ref]
			if !known {
				n = Neighbour{Brief: brief(e, i), Correlation: reading.Missing}
			}
			n.Share, n.Rise = t.Share, t.Demand.During/t.Demand.Before
			x.First = append(x.First, n)
		}
	}
}

func slowed(m *route.Map, g reading.Grid, f sweep.Finding) Slowed {
	e := m.Estate()
	from, to := f.Window(g)
	x := Slowed{Brief: brief(e, f.At), Outcome: f.Outcome, From: from, Before: reading.Figure(f.Before), During: reading.Figure(f.During), Waits: reading.Figure(f.Waits),
		Tenants: f.Tenants, Slower: f.Slower, First: []Neighbour{}, Also: []Brief{}}
	if !f.Persists {
		x.To = &to
	}
	for _, t := range f.First {
		x.First = append(x.First, Neighbour{brief(e, t.At), reading.Figure(t.Share), reading.Figure(t.Rise), reading.Figure(t.Correlation)})
	}
	for _, at := range f.Also {
		x.Also = append(x.Also, brief(e, at))
	}
	return x
}

// say puts it in words.
func (x *Slowed) say() {
	x.Sentence = fmt.Sprintf("An I/O of its %s takes %s, before %s", phrase.Count(x.Tenants, "machine", "machines"), phrase.Micros(float64(x.During)), phrase.Micros(float64(x.Before)))
	switch {
	case x.Outcome == sweep.Culprit && len(x.First) > 0:
		x.Sentence += fmt.Sprintf("; %s brought %s of what is asked for more", x.First[0].Name, phrase.Percent(float64(x.First[0].Share)))
	case x.Where != nil:
		x.Sentence += fmt.Sprintf("; they wait for %s: %s", x.Where.Name, x.Where.Why)
	case x.Outcome == sweep.Itself:
		x.Sentence += "; no more is asked for than before"
	default:
		x.Sentence += "; more is asked for, by no one machine"
	}
}
