package service

import (
	"context"
	"math"
	"time"

	"dowsingrod/core/congest"
	"dowsingrod/core/estate"
	"dowsingrod/core/phrase"
	"dowsingrod/core/reading"
	"dowsingrod/core/route"
)

// UnresolvedList is what could not be joined, by probable reason.
type UnresolvedList struct {
	At     time.Time           `json:"at" doc:"As of this moment"`
	Total  int                 `json:"total" doc:"Findings in all"`
	Groups []estate.Unresolved `json:"groups" doc:"The most certain reasons first"`
}

// Unresolved lists what could not be joined at a moment, with what to do about it.
func (s *Service) Unresolved(ctx context.Context, at time.Time) (UnresolvedList, error) {
	m, err := s.at(ctx, at)
	if err != nil {
		return UnresolvedList{}, err
	}
	if at.IsZero() {
		at = s.now()
	}
	sources, err := s.store.Sources(ctx)
	if err != nil {
		return UnresolvedList{}, err
	}
	stale := map[string]string{}
	for _, src := range sources {
		last := src.Received
		if src.LastEnd.After(last) {
			last = src.LastEnd
		}
		if age := s.now().Sub(last); age > silentAfter && !src.LastEnd.IsZero() {
			stale[src.Name] = phrase.Span(age)
		}
	}
	out := UnresolvedList{At: at, Groups: m.Estate().Unresolve(stale)}
	if out.Groups == nil {
		out.Groups = []estate.Unresolved{}
	}
	for _, g := range out.Groups {
		out.Total += g.Count
	}
	return out, nil
}

// HardwarePart is an object and what is built into it.
type HardwarePart struct {
	Ref       string            `json:"ref" doc:"Address, kind:id@source"`
	Kind      estate.Kind       `json:"kind" doc:"Kind of object"`
	Label     string            `json:"label" doc:"The kind in words"`
	Name      string            `json:"name" doc:"Its name"`
	State     string            `json:"state,omitempty" doc:"As its source says"`
	About     string            `json:"about,omitempty" doc:"What to know of it"`
	Condition congest.Condition `json:"condition" doc:"By its own readings and state" enum:"steady,strained,failing,silent,not measured"`
	Why       string            `json:"why,omitempty" doc:"Why it is in that condition"`
	Below     int               `json:"failing_below" doc:"How many of its parts are failing or strained"`
	Parts     []HardwarePart    `json:"parts,omitempty" doc:"What is built into it"`
}

// Hardware returns what an object is built of, with the condition of every part over a window.
func (s *Service) Hardware(ctx context.Context, query string, w Window) (HardwarePart, error) {
	moments, err := s.moments(ctx, w.From, w.To)
	if err != nil {
		return HardwarePart{}, err
	}
	moments, i, err := resolve(moments, query)
	if err != nil {
		return HardwarePart{}, err
	}
	m := moments[len(moments)-1].Map
	tree := m.Hardware(i)
	var needs []route.Need
	var gather func(p route.Part)
	gather = func(p route.Part) {
		needs = congest.Needs(needs, m.Estate(), p.At)
		for _, x := range p.Parts {
			gather(x)
		}
	}
	gather(tree)
	r, err := s.fetch(ctx, moments, needs, w.From, w.To)
	if err != nil {
		return HardwarePart{}, err
	}
	g, err := reading.NewGrid(w.From, w.To, max((w.To.Sub(w.From)/60).Truncate(time.Second), time.Second))
	if err != nil {
		return HardwarePart{}, &WindowError{err.Error()}
	}
	book, err := s.book(ctx)
	if err != nil {
		return HardwarePart{}, err
	}
	return describePart(m, book, tree, g, r), nil
}

func describePart(m *route.Map, b *congest.Book, p route.Part, g reading.Grid, r route.Readings) HardwarePart {
	o := m.Estate().At(p.At)
	a := b.Assess(g, m.Estate(), p.At, r)
	out := HardwarePart{Ref: o.Key.String(), Kind: o.Key.Ref.Kind, Label: o.Key.Ref.Kind.Label(), Name: o.Title(), State: o.Facts.Text("state"), Condition: a.Condition}
	if len(a.Reasons) > 0 {
		out.Why = a.Reasons[0].Words
	}
	if bytes, ok := o.Facts.Number("bytes"); ok {
		out.About = phrase.Bytes(bytes)
		if media := o.Facts.Text("media"); media != "" {
			out.About += " " + media
		}
	} else if raid := o.Facts.Text("raid"); raid != "" {
		out.About = "RAID " + raid
	} else if speed, ok := o.Facts.Number("speed_bytes_s"); ok {
		out.About = phrase.Bytes(speed) + "/s"
	}
	for _, x := range p.Parts {
		part := describePart(m, b, x, g, r)
		out.Below += part.Below
		if part.Condition == congest.Failing || part.Condition == congest.Strained {
			out.Below++
		}
		out.Parts = append(out.Parts, part)
	}
	return out
}

// Cause is an object in trouble by itself.
type Cause struct {
	Brief
	Condition congest.Assessment `json:"condition" doc:"Its condition and the reasons for it"`
}

// Why explains the condition of an object: its own, and the causes below it.
type Why struct {
	Brief
	Condition congest.Assessment `json:"condition" doc:"By its own readings and state over the window"`
	Causes    []Cause            `json:"causes" doc:"Objects it depends on by active ways that are failing or strained by themselves, nearest first"`
	Affected  int                `json:"affected" doc:"Objects that depend on it by active ways, where it is failing itself"`
	VMs       int                `json:"vms" doc:"Virtual machines among those"`
	Looked    int                `json:"looked_at" doc:"Objects below it that were looked at"`
	Receiver  *Brief             `json:"receiver,omitempty" doc:"Who takes frames too slowly, where a port without credits is the reason and it could be followed"`
	Says      string             `json:"says" doc:"In words"`
	From      time.Time          `json:"from" doc:"Start of the window"`
	To        time.Time          `json:"to" doc:"End of the window"`
}

// Why tells why an object is in its condition over a window.
func (s *Service) Why(ctx context.Context, query string, w Window) (Why, error) {
	moments, err := s.moments(ctx, w.From, w.To)
	if err != nil {
		return Why{}, err
	}
	moments, i, err := resolve(moments, query)
	if err != nil {
		return Why{}, err
	}
	m := moments[len(moments)-1].Map
	e := m.Estate()
	below := m.Below(i)
	needs, looked := congest.Needs(nil, e, i), 0
	for _, b := range below {
		if b.State == route.Active {
			needs, looked = congest.Needs(needs, e, b.At), looked+1
		}
	}
	book, err := s.book(ctx)
	if err != nil {
		return Why{}, err
	}
	r, err := s.fetch(ctx, moments, needs, w.From, w.To)
	if err != nil {
		return Why{}, err
	}
	g, err := reading.NewGrid(w.From, w.To, max((w.To.Sub(w.From)/60).Truncate(time.Second), time.Second))
	if err != nil {
		return Why{}, &WindowError{err.Error()}
	}
	out := Why{Brief: brief(e, i), Condition: book.Assess(g, e, i, r), Causes: []Cause{}, Looked: looked, From: w.From, To: w.To}
	bad := map[int32]bool{}
	assessed := map[int32]congest.Assessment{}
	for _, b := range below {
		if b.State == route.Active {
			a := book.Assess(g, e, b.At, r)
			assessed[b.At] = a
			bad[b.At] = a.Condition == congest.Failing || a.Condition == congest.Strained
		}
	}
	for _, b := range below {
		if !bad[b.At] {
			continue
		}
		part := false // of a whole that is marked itself, or waiting for what is
		for _, whole := range e.From(b.At, estate.MadeOf) {
			part = part || bad[whole]
		}
		if assessed[b.At].OnlyWaits() {
			for _, lower := range m.Below(b.At) {
				part = part || bad[lower.At]
			}
		}
		if !part {
			out.Causes = append(out.Causes, Cause{brief(e, b.At), assessed[b.At]})
		}
	}
	if out.Condition.Condition == congest.Failing {
		for _, up := range m.Reach(i) {
			if up.State == route.Active {
				out.Affected++
				if e.Kind(up.At) == estate.VM {
					out.VMs++
				}
			}
		}
	}
	out.Says = out.words()
	return out, s.follow(ctx, m, i, w, &out)
}

// follow says who takes frames too slowly, where the object or the first cause below it is a port without credits.
func (s *Service) follow(ctx context.Context, m *route.Map, i int32, w Window, out *Why) error {
	e := m.Estate()
	reasons := out.Condition.Reasons
	if out.Condition.Condition != congest.Failing && out.Condition.Condition != congest.Strained && len(out.Causes) > 0 {
		at, ok := refAt(e, out.Causes[0].Ref)
		if !ok {
			return nil
		}
		i, reasons = at, out.Causes[0].Condition.Reasons
	}
	if len(reasons) == 0 || reasons[0].Metric != "credit_zero_share" {
		return nil
	}
	needs := []route.Need{{Key: e.At(i).Key, Metrics: []string{"credit_zero_share"}}}
	for _, p := range congest.Downstream(e, i) {
		needs = append(needs, route.Need{Key: e.At(p).Key, Metrics: []string{"credit_zero_share"}})
	}
	r, err := s.fetch(ctx, []route.Moment{{From: w.From, To: w.To, Map: m}}, needs, w.From, w.To)
	if err != nil {
		return err
	}
	g, err := reading.NewGrid(w.From, w.To, max((w.To.Sub(w.From)/60).Truncate(time.Second), time.Second))
	if err != nil {
		return &WindowError{err.Error()}
	}
	if at, ok := congest.Receiver(g, e, i, r); ok {
		receiver := brief(e, at)
		out.Receiver = &receiver
		out.Says += " Followed downstream, it waits for " + m.FullName(at) + ", which takes its frames slowly."
	}
	return nil
}

func (y *Why) words() string {
	name := y.Name
	if y.Owner != "" {
		name = y.Owner + " " + y.Name
	}
	switch c := y.Condition.Condition; {
	case c == congest.Failing || c == congest.Strained:
		says := name + " is " + string(c) + " by itself"
		if len(y.Condition.Reasons) > 0 {
			says += ": " + y.Condition.Reasons[0].Words
		}
		if y.Affected > 0 {
			says += ". " + phrase.Count(y.Affected, "object is", "objects are") + " affected by it, " + phrase.Count(y.VMs, "VM", "VMs") + " among them"
		}
		return says + "."
	case len(y.Causes) > 0:
		cause := y.Causes[0]
		by := cause.Name
		if cause.Owner != "" {
			by = cause.Owner + " " + cause.Name
		}
		verb := "is affected by"
		if cause.Condition.Condition != congest.Failing {
			verb = "depends on"
		}
		says := name + " is well itself, but " + verb + " " + by + ", which is " + string(cause.Condition.Condition)
		if len(cause.Condition.Reasons) > 0 {
			says += ": " + cause.Condition.Reasons[0].Words
		}
		if more := len(y.Causes) - 1; more > 0 {
			says += ", and by " + phrase.Count(more, "more", "more")
		}
		return says + "."
	case c == congest.Silent:
		return name + " is silent: its source gave no recent reading."
	}
	return "Nothing below " + name + " is past its limits: " + phrase.Count(y.Looked, "object was", "objects were") + " looked at, over " + phrase.Span(time.Duration(math.Round(y.To.Sub(y.From).Seconds())*1e9)) + "."
}

// mostExported bounds the objects of one exported graph.
const mostExported = 20000

// Web returns a part of the map as a plain graph, as of a moment: the section of an object, or all that depends on it.
func (s *Service) Web(ctx context.Context, query string, at time.Time, reach bool, f route.Folding) (route.Web, error) {
	m, err := s.at(ctx, at)
	if err != nil {
		return route.Web{}, err
	}
	i, err := m.Estate().Resolve(query)
	if err != nil {
		return route.Web{}, err
	}
	if reach {
		return m.ReachWeb(i, mostExported), nil
	}
	section := m.Cut(i, f)
	return section.Web(), nil
}
