package service

import (
	"context"
	"encoding/base64"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"dowsingrod/core/congest"
	"dowsingrod/core/estate"
	"dowsingrod/core/phrase"
	"dowsingrod/core/reading"
	"dowsingrod/core/route"
	"dowsingrod/internal/store"
)

// Brief is an object in a list.
type Brief struct {
	Ref     string       `json:"ref" doc:"Address, kind:id@source"`
	Kind    estate.Kind  `json:"kind" doc:"Kind of object"`
	Label   string       `json:"label" doc:"The kind in words"`
	Layer   estate.Layer `json:"layer" doc:"Its layer"`
	Name    string       `json:"name" doc:"Its name"`
	Owner   string       `json:"owner,omitempty" doc:"Name of the host, switch or array that it is part of"`
	Source  string       `json:"source" doc:"Who lists it"`
	Tier    string       `json:"tier,omitempty" doc:"Service tier of a VM"`
	Matched string       `json:"matched,omitempty" doc:"By what it was found"`
}

func brief(e *estate.Estate, i int32) Brief {
	o := e.At(i)
	k := o.Key.Ref.Kind
	b := Brief{Ref: o.Key.String(), Kind: k, Label: k.Label(), Layer: k.Layer(), Name: o.Title(), Source: o.Key.Source, Tier: o.Tier()}
	for _, kind := range []estate.Kind{estate.Host, estate.Switch, estate.Array} {
		if owner, ok := e.Owner(i, kind); ok {
			b.Owner = e.At(owner).Title()
			break
		}
	}
	return b
}

// Found is a page of objects.
type Found struct {
	Objects []Brief `json:"objects" doc:"Best first, or by name"`
	Total   int     `json:"total" doc:"How many there are in all"`
	More    bool    `json:"more,omitempty" doc:"There are more than that: they were not all looked for"`
	Next    string  `json:"next,omitempty" doc:"Cursor of the next page"`
}

// Find returns objects by any name or identifier as of a moment, best first.
func (s *Service) Find(ctx context.Context, query string, kind estate.Kind, limit int, at time.Time) (Found, error) {
	m, err := s.at(ctx, at)
	if err != nil {
		return Found{}, err
	}
	found := m.Estate().Find(query, kind, limit)
	f := Found{Objects: []Brief{}, Total: found.Total, More: found.More}
	for _, match := range found.Matches {
		b := brief(m.Estate(), match.At)
		b.Matched = match.By
		f.Objects = append(f.Objects, b)
	}
	return f, nil
}

// List returns the objects of a kind by name, from after the cursor.
func (s *Service) List(ctx context.Context, kind estate.Kind, cursor string, limit int) (Found, error) {
	m, err := s.current(ctx)
	if err != nil {
		return Found{}, err
	}
	e := m.Estate()
	all := e.OfKind(kind)
	f := Found{Objects: []Brief{}, Total: len(all)}
	from := 0
	if cursor != "" {
		after, err := base64.RawURLEncoding.DecodeString(cursor)
		if err != nil {
			return Found{}, &WindowError{"the cursor is not one that this service gave"}
		}
		from, _ = slices.BinarySearchFunc(all, string(after), func(i int32, key string) int { return strings.Compare(sortKey(e, i), key) })
		if from < len(all) && sortKey(e, all[from]) == string(after) {
			from++
		}
	}
	for _, i := range all[from:min(len(all), from+limit)] {
		f.Objects = append(f.Objects, brief(e, i))
	}
	if end := from + limit; end < len(all) {
		f.Next = base64.RawURLEncoding.EncodeToString([]byte(sortKey(e, all[end-1])))
	}
	return f, nil
}

func sortKey(e *estate.Estate, i int32) string {
	return e.At(i).Title() + "\x00" + e.At(i).Key.String()
}

// Linked is an object that another is joined to.
type Linked struct {
	Link string `json:"link" doc:"Kind of link"`
	Down bool   `json:"down" doc:"Whether it points down, from the object shown"`
	By   string `json:"by" doc:"Who says so: its source, or an identity" enum:"source,identity"`
	Brief
}

// Latest is the newest reading of a metric.
type Latest struct {
	Metric string         `json:"metric" doc:"Name of the metric"`
	Unit   reading.Unit   `json:"unit" doc:"Its unit"`
	Doc    string         `json:"doc" doc:"What it includes"`
	Value  reading.Figure `json:"value" doc:"Newest reading"`
	Step   float64        `json:"interval_s" doc:"The source's interval in s"`
	Age    float64        `json:"age_s" doc:"Age of the reading at the end of the window in s"`
	Mean   reading.Figure `json:"mean" doc:"Over the window"`
	Row    reading.Row    `json:"row" doc:"Over the window, 60 cells"`
}

// Detail is all that is known of one object.
type Detail struct {
	Brief
	Facts      estate.Facts       `json:"facts" doc:"As its source says"`
	Identities []string           `json:"identities" doc:"Identifiers, in display notation"`
	Names      []string           `json:"names" doc:"What others call it: its datastore, its hosts, the switch it is logged in to"`
	Protection string             `json:"protection,omitempty" doc:"Whether its data is kept a second time, where, and of a copy whose it is; in words"`
	Links      []Linked           `json:"links" doc:"What it is joined to"`
	Reach      int                `json:"vms" doc:"VMs that depend on it"`
	ByTier     map[string]int     `json:"vms_by_tier" doc:"Those VMs by service tier; '' for none"`
	Condition  congest.Assessment `json:"condition" doc:"By its own readings over the window"`
	Latest     []Latest           `json:"latest" doc:"Its metrics"`
	Spread     []Distribution     `json:"distributions" doc:"How its metrics spread over the window, where its source says"`
	Findings   []estate.Finding   `json:"findings" doc:"What could not be joined"`
	From       time.Time          `json:"from" doc:"Start of the window"`
	To         time.Time          `json:"to" doc:"End of the window"`
}

// Show returns all that is known of an object over a window.
func (s *Service) Show(ctx context.Context, query string, w Window) (Detail, error) {
	moments, err := s.moments(ctx, w.From, w.To)
	if err != nil {
		return Detail{}, err
	}
	moments, i, err := resolve(moments, query)
	if err != nil {
		return Detail{}, err
	}
	m := moments[len(moments)-1].Map
	e := m.Estate()
	o := e.At(i)
	d := Detail{Brief: brief(e, i), Facts: o.Facts.Facts(), Identities: []string{}, Links: []Linked{}, ByTier: map[string]int{}, Latest: []Latest{}, Findings: []estate.Finding{}, From: w.From, To: w.To}
	for _, id := range estate.Identities(o) {
		d.Identities = append(d.Identities, id.String())
	}
	d.Names = append([]string{}, m.OtherNames(i)...)
	d.Protection = protectionWords(m, i)
	d.links(e, i)
	for _, r := range m.VMs(i) {
		if r.At != i {
			d.Reach++
			d.ByTier[e.At(r.At).Tier()]++
		}
	}
	d.Findings = append(d.Findings, e.FindingsOf(i)...)
	var names []string
	for _, metric := range reading.Catalogue {
		if metric.On(o.Key.Ref.Kind) {
			names = append(names, metric.Name)
		}
	}
	book, err := s.book(ctx)
	if err != nil {
		return Detail{}, err
	}
	r, err := s.fetch(ctx, moments, congest.Needs([]route.Need{{Key: o.Key, Metrics: names}}, e, i), w.From, w.To)
	if err != nil {
		return Detail{}, err
	}
	step := (w.To.Sub(w.From) / 60).Truncate(time.Second)
	g, err := reading.NewGrid(w.From, w.To, max(step, time.Second))
	if err != nil {
		return Detail{}, &WindowError{err.Error()}
	}
	d.Condition = book.Assess(g, e, i, r)
	for _, name := range names {
		if l, ok := latest(g, r.Runs(o.Key, name), name); ok {
			d.Latest = append(d.Latest, l)
		}
	}
	d.Spread, err = s.distributions(ctx, o.Store, names, w)
	return d, err
}

// protectionWords says where the data of an object is kept a second time, and of a copy whose data it is.
func protectionWords(m *route.Map, i int32) string {
	e := m.Estate()
	place := func(v int32) string {
		name := strings.TrimSpace(m.OwnerName(v) + " " + e.At(v).Title())
		if site, ok := e.Site(v); ok {
			name += " at " + e.At(site).Title()
		}
		return name
	}
	out, of := m.Copies(i)
	var to []string
	disks := map[int32]bool{}
	mirror := false
	for _, c := range out {
		disks[c.Disk] = true
		mirror = mirror || c.Mirror
		if p := place(c.To); !slices.Contains(to, p) {
			to = append(to, p)
		}
	}
	var words []string
	how := "replicated to "
	if mirror {
		how = "mirrored on "
	}
	switch n := len(m.VDisks(i)); {
	case len(to) == 0 && (e.Kind(i) == estate.VM || e.Kind(i) == estate.VDisk) && n > 0:
		words = append(words, "not replicated")
	case len(to) == 0:
	case e.Kind(i) == estate.VM && len(disks) < n:
		words = append(words, fmt.Sprintf("%d of its %d disks are %s%s; the others are not", len(disks), n, how, phrase.List(to)))
	case e.Kind(i) == estate.VM:
		words = append(words, "wholly "+how+phrase.List(to))
	default:
		words = append(words, how+phrase.List(to))
	}
	for _, c := range of {
		kind := "replica"
		if e.Kind(i) == estate.Volume && slices.Contains(e.To(i, estate.SnapshotOf), c.Volume) {
			kind = "snapshot"
		}
		vms := m.VMs(c.Volume)
		var names []string
		for _, v := range vms[:min(3, len(vms))] {
			names = append(names, e.At(v.At).Title())
		}
		whose := "no virtual machine"
		if len(vms) > 3 {
			whose = fmt.Sprintf("%s and %d more", strings.Join(names, ", "), len(vms)-3)
		} else if len(vms) > 0 {
			whose = phrase.List(names)
		}
		words = append(words, fmt.Sprintf("a %s of %s, which belongs to %s", kind, place(c.Volume), whose))
	}
	return strings.Join(words, "; ")
}

func (d *Detail) links(e *estate.Estate, i int32) {
	const most = 200
	by := func(edge estate.Edge) string {
		if edge.Derived {
			return "identity"
		}
		return "source"
	}
	for _, edge := range e.Out(i) {
		d.Links = append(d.Links, Linked{string(edge.Kind), true, by(edge), brief(e, edge.To)})
	}
	for _, edge := range e.In(i)[:min(most, len(e.In(i)))] {
		d.Links = append(d.Links, Linked{string(edge.Kind), false, by(edge), brief(e, edge.From)})
	}
}

func latest(g reading.Grid, runs []reading.Series, name string) (Latest, bool) {
	metric, _ := reading.Lookup(name)
	l := Latest{Metric: name, Unit: metric.Unit, Doc: metric.Doc, Value: reading.Missing, Age: -1}
	for _, run := range runs {
		for k := len(run.Values) - 1; k >= 0; k-- {
			end := run.From.Add(time.Duration(k+1) * run.Step)
			if end.After(g.End()) || math.IsNaN(run.Values[k]) {
				continue
			}
			if age := g.End().Sub(end).Seconds(); l.Age < 0 || age < l.Age {
				l.Value, l.Age, l.Step = reading.Figure(run.Values[k]), age, run.Step.Seconds()
			}
			break
		}
	}
	cells := reading.Align(g, runs)
	l.Row, l.Mean = cells.Value, reading.Figure(reading.MeanOver(cells.Value, 0, g.N))
	return l, l.Age >= 0
}

// SourceState is a source and how fresh it is.
type SourceState struct {
	store.Source
	Age    float64 `json:"age_s" doc:"Since the end of its newest reading in s; -1 where it sent none"`
	Silent bool    `json:"silent" doc:"Whether nothing new came for ten minutes"`
}

// silentAfter is when a source that used to report counts as silent.
const silentAfter = 10 * time.Minute

func (s *Service) state(src store.Source) SourceState {
	st := SourceState{Source: src, Age: -1}
	if !src.LastEnd.IsZero() {
		age := s.now().Sub(src.LastEnd)
		st.Age, st.Silent = math.Max(0, age.Seconds()), age > silentAfter
	}
	return st
}

// Overview is the estate in a few figures.
type Overview struct {
	Sources  []SourceState    `json:"sources" doc:"By name"`
	Counts   []KindCount      `json:"counts" doc:"Objects by kind"`
	Objects  int              `json:"objects" doc:"Objects in all"`
	Findings []estate.Finding `json:"findings" doc:"What could not be joined, at most 200"`
	Found    int              `json:"finding_count" doc:"How many findings there are"`
	From     *time.Time       `json:"readings_from,omitempty" doc:"Oldest reading, to within four hours"`
	To       *time.Time       `json:"readings_to,omitempty" doc:"Newest reading"`
	Now      time.Time        `json:"now" doc:"The service's clock"`
}

// Overview returns the estate in a few figures.
func (s *Service) Overview(ctx context.Context) (Overview, error) {
	m, err := s.current(ctx)
	if err != nil {
		return Overview{}, err
	}
	sources, err := s.store.Sources(ctx)
	if err != nil {
		return Overview{}, err
	}
	o := Overview{Sources: []SourceState{}, Counts: []KindCount{}, Objects: m.Estate().Count(), Now: s.now()}
	for _, src := range sources {
		o.Sources = append(o.Sources, s.state(src))
	}
	for k, n := range m.Estate().Kinds() {
		o.Counts = append(o.Counts, KindCount{k, n})
	}
	slices.SortFunc(o.Counts, func(a, b KindCount) int { return strings.Compare(string(a.Kind), string(b.Kind)) })
	findings := m.Estate().Findings()
	o.Found = len(findings)
	o.Findings = append([]estate.Finding{}, findings[:min(200, len(findings))]...)
	from, to, err := s.store.Extent(ctx)
	if err != nil {
		return Overview{}, err
	}
	if !from.IsZero() {
		o.From = &from
	}
	if !to.IsZero() {
		o.To = &to
	}
	return o, nil
}
