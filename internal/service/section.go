package service

import (
	"context"
	"fmt"
	"math"
	"time"

	"dowsingrod/core/congest"
	"dowsingrod/core/estate"
	"dowsingrod/core/phrase"
	"dowsingrod/core/reading"
	"dowsingrod/core/route"
	"dowsingrod/core/strata"
)

// NodeFigures are what is known of a node of a section over a window.
type NodeFigures struct {
	congest.Assessment
	Affected []string       `json:"affected_by,omitempty" doc:"Failing objects that it depends on, kind:id@source"`
	Within   string         `json:"within,omitempty" doc:"The object whose condition this one shares as a part of it: the mark belongs there"`
	Headline string         `json:"headline" doc:"What to know of it, in a few words"`
	IOPS     reading.Figure `json:"iops" doc:"I/O per second, mean"`
	BytesS   reading.Figure `json:"bytes_s" doc:"Bytes per second, mean; the busier direction of a port"`
	Read     reading.Figure `json:"read_latency_us" doc:"µs per read, weighted by reads"`
	Write    reading.Figure `json:"write_latency_us" doc:"µs per write, weighted by writes"`
	InFlight reading.Figure `json:"in_flight" doc:"I/Os in flight, mean"`
	Busy     reading.Figure `json:"busy_share" doc:"Busy share, or a port's part of its line rate, mean"`
	Source   string         `json:"source" doc:"Who says so"`
	Interval float64        `json:"interval_s" doc:"The source's interval in s; 0 where it reported nothing"`
	Age      float64        `json:"age_s" doc:"Age of its newest reading at the end of the window in s; -1 where there is none"`
	Coverage reading.Figure `json:"coverage" doc:"Part of the time that readings cover, 0–1"`
}

// EventNote is something that happened on the routes.
type EventNote struct {
	Ref    string    `json:"ref" doc:"The object, kind:id@source"`
	Name   string    `json:"name" doc:"Its name"`
	At     time.Time `json:"at" doc:"When"`
	What   string    `json:"what" doc:"What, in a word"`
	Detail string    `json:"detail" doc:"More"`
}

// SectionView is a section with the figures of its nodes and the strata of its focus.
type SectionView struct {
	Section route.Section `json:"section" doc:"The routes"`
	Figures []NodeFigures `json:"figures" doc:"One per node, in the same order"`
	From    time.Time     `json:"figures_from" doc:"The figures are means from here: when it hurt, or the whole window"`
	To      time.Time     `json:"figures_to" doc:"To here"`
	Strata  strata.Strata `json:"strata" doc:"The latency of the focus by layer"`
	Events  []EventNote   `json:"events" doc:"What happened on the routes within the window"`

	Causes   int `json:"causes" doc:"Objects past their limits by themselves: each cause is counted once"`
	Affected int `json:"affected" doc:"Objects that are well themselves but depend on a failing one"`
}

// Route returns the section of an object without figures, as of a moment.
func (s *Service) Route(ctx context.Context, query string, at time.Time, f route.Folding) (route.Section, error) {
	m, err := s.at(ctx, at)
	if err != nil {
		return route.Section{}, err
	}
	i, err := m.Estate().Resolve(query)
	if err != nil {
		return route.Section{}, err
	}
	return m.Cut(i, f), nil
}

// Sections of more objects than this are folded, into at most so many groups a row: all that can be read at once.
const (
	foldAbove = 400
	foldMost  = 6
)

var ioMetrics = []string{"read_iops", "write_iops", "read_bytes_s", "write_bytes_s", "read_latency_us", "write_latency_us"}

// Section returns the routes of an object with what is known of each node. Its figures are means over
// the stretch in which the focus hurt, where it did within the window.
func (s *Service) Section(ctx context.Context, query string, w Window, unfold []string) (SectionView, error) {
	q, err := s.ask(ctx, query, w)
	if err != nil {
		return SectionView{}, err
	}
	v := SectionView{From: q.grid.At(q.first), To: q.grid.End(), Events: []EventNote{}}
	m := q.latest()
	cut := make(chan route.Section, 1)
	go func() { // at the same time: neither needs the other
		cut <- m.Cut(q.at, route.Folding{Most: foldMost, Above: foldAbove, Unfold: unfold})
	}()
	v.Strata, err = s.strata(ctx, q)
	v.Section = <-cut
	if err != nil {
		return SectionView{}, err
	}
	if c := v.Strata.Change; c != nil {
		v.From, v.To = c.From, c.To
	}
	g, err := reading.NewGrid(v.From, v.To, q.grid.Step)
	if err != nil {
		return SectionView{}, err
	}
	e := m.Estate()
	at := make([]int32, len(v.Section.Nodes))
	var needs []route.Need
	for k, n := range v.Section.Nodes {
		if at[k] = -1; n.Count > 0 {
			continue
		}
		at[k], _ = position(e, n.Ref)
		key := e.At(at[k]).Key
		needs = append(congest.Needs(needs, e, at[k]), route.Need{Key: key, Metrics: ioMetrics})
		if n.Kind == estate.VM {
			for _, d := range e.To(at[k], estate.Uses) {
				needs = append(needs, route.Need{Key: e.At(d).Key, Metrics: ioMetrics})
			}
		}
	}
	r, err := s.fetch(ctx, q.moments, needs, g.From, g.End())
	if err != nil {
		return SectionView{}, err
	}
	book, err := s.book(ctx)
	if err != nil {
		return SectionView{}, err
	}
	v.Figures = make([]NodeFigures, len(at))
	for k, i := range at {
		if i < 0 {
			n := v.Section.Nodes[k]
			v.Figures[k] = NodeFigures{Age: -1, Source: "several", Busy: reading.Missing, BytesS: reading.Missing, IOPS: reading.Missing, InFlight: reading.Missing, Read: reading.Missing, Write: reading.Missing,
				Headline: phrase.Count(n.Count, n.Kind.Label(), n.Kind.Plural()), Assessment: congest.Assessment{Reasons: []congest.Reason{}}}
			continue
		}
		v.Figures[k] = figures(g, m, book, i, r)
		v.Figures[k].Headline = headline(m, i, v.Figures[k])
	}
	mark(m, at, v.Figures)
	for _, f := range v.Figures {
		if (f.Condition == congest.Failing || f.Condition == congest.Strained) && f.Within == "" {
			v.Causes++
		}
		if len(f.Affected) > 0 {
			v.Affected++
		}
	}
	v.Events, err = s.events(ctx, m, at, q)
	return v, err
}

func position(e *estate.Estate, address string) (int32, bool) {
	i, err := e.Resolve(address)
	return i, err == nil
}

// figures are the means of an object's own readings over a grid; a VM's are those of its disks.
func figures(g reading.Grid, m *route.Map, b *congest.Book, i int32, r route.Readings) NodeFigures {
	e := m.Estate()
	o := e.At(i)
	f := NodeFigures{Assessment: b.Assess(g, e, i, r), Source: o.Key.Source, Age: -1, Busy: reading.Missing, BytesS: reading.Missing}
	of := []int32{i}
	if o.Key.Ref.Kind == estate.VM {
		of = e.To(i, estate.Uses)
	}
	dirs := [2]struct{ rate, occupancy, bytes float64 }{}
	for _, k := range of {
		key := e.At(k).Key
		for d, dir := range []string{"read", "write"} {
			rate := reading.Align(g, r.Runs(key, dir+"_iops"))
			occupancy := reading.Occupancy(g, r.Runs(key, dir+"_iops"), r.Runs(key, dir+"_latency_us"))
			n, x := reading.PairMeans(occupancy.Value, rate.Value, 0, g.N)
			dirs[d].rate += x
			dirs[d].occupancy += n
			dirs[d].bytes += reading.MeanOver(reading.Align(g, r.Runs(key, dir+"_bytes_s")).Value, 0, g.N)
			f.Coverage = max(f.Coverage, reading.Figure(rate.Covered()))
		}
		f.seen(g, r.Runs(key, "read_iops"))
	}
	f.IOPS, f.InFlight = reading.Figure(dirs[0].rate+dirs[1].rate), reading.Figure(dirs[0].occupancy+dirs[1].occupancy)
	f.BytesS = reading.Figure(dirs[0].bytes + dirs[1].bytes)
	f.Read, f.Write = reading.Figure(dirs[0].occupancy/dirs[0].rate*1e6), reading.Figure(dirs[1].occupancy/dirs[1].rate*1e6)
	if l := b.Of(e, i); len(l) > 0 && l[0].Aspect == congest.Busy {
		c := congest.Cells(g, e, i, l[0].Metric, r)
		f.Busy = reading.Figure(reading.MeanOver(c.Value, 0, g.N))
		f.Coverage = max(f.Coverage, reading.Figure(c.Covered()))
		name := l[0].Metric
		if name == congest.Utilization {
			name = "tx_bytes_s"
			tx, rx := reading.MeanOver(reading.Align(g, r.Runs(o.Key, "tx_bytes_s")).Value, 0, g.N), reading.MeanOver(reading.Align(g, r.Runs(o.Key, "rx_bytes_s")).Value, 0, g.N)
			f.BytesS = reading.Figure(math.Max(tx, rx))
		}
		f.seen(g, r.Runs(o.Key, name))
	}
	return f
}

// seen notes the interval and the age of readings.
func (f *NodeFigures) seen(g reading.Grid, runs []reading.Series) {
	for _, run := range runs {
		f.Interval = math.Max(f.Interval, run.Step.Seconds())
		for k := len(run.Values) - 1; k >= 0; k-- {
			end := run.From.Add(time.Duration(k+1) * run.Step)
			if !math.IsNaN(run.Values[k]) {
				if age := math.Max(0, g.End().Sub(end).Seconds()); f.Age < 0 || age < f.Age {
					f.Age = age
				}
				break
			}
		}
	}
}

// mark moves marks to their cause: a part that is past its limits because the whole is, or that waits for what
// lies below, carries none of its own, and what is well itself but depends on a failing object is affected.
func mark(m *route.Map, at []int32, f []NodeFigures) {
	e := m.Estate()
	index := make(map[int32]int, len(at))
	for k, i := range at {
		if i >= 0 {
			index[i] = k
		}
	}
	bad := func(k int) bool {
		return f[k].Condition == congest.Failing || f[k].Condition == congest.Strained
	}
	for k, i := range at {
		if !bad(k) {
			continue
		}
		for _, whole := range e.From(i, estate.MadeOf) {
			if w, ok := index[whole]; ok && bad(w) {
				f[k].Within = e.At(whole).Key.String()
			}
		}
		if f[k].OnlyWaits() {
			for _, below := range m.Below(i) {
				if w, ok := index[below.At]; ok && below.State == route.Active && bad(w) {
					f[k].Within = e.At(below.At).Key.String()
					break
				}
			}
		}
	}
	for k, i := range at {
		if f[k].Condition == congest.Failing && f[k].Within == "" && e.At(i).Key.Ref.Kind != estate.VM {
			for _, r := range m.Reach(i) {
				if u, ok := index[r.At]; ok && r.State == route.Active && !bad(u) {
					f[u].Affected = append(f[u].Affected, e.At(i).Key.String())
				}
			}
		}
	}
}

func headline(m *route.Map, i int32, f NodeFigures) string {
	e := m.Estate()
	o := e.At(i)
	iops := func() string {
		if !f.IOPS.Known() {
			return "no readings"
		}
		return phrase.Rate(float64(f.IOPS)) + " IOPS"
	}
	busy := func(words string) string {
		if !f.Busy.Known() {
			return iops() // it does not say how busy it is, but perhaps what it does
		}
		return phrase.Percent(float64(f.Busy)) + words
	}
	switch o.Key.Ref.Kind {
	case estate.VM:
		if t := o.Tier(); t != "" {
			return "tier " + t + " · " + iops()
		}
		return iops()
	case estate.VDisk:
		return iops()
	case estate.Host:
		return busy(" of processors busy")
	case estate.Datastore:
		n := 0
		for _, r := range m.Reach(i) {
			if e.At(r.At).Key.Ref.Kind == estate.VM {
				n++
			}
		}
		lun := ""
		for _, v := range e.To(i, estate.Extent) {
			if number := e.At(v).Facts.Text("number"); number != "" {
				lun = "LUN " + number + " · "
			}
		}
		return lun + phrase.Count(n, "VM", "VMs")
	case estate.HBAPort, estate.SwitchPort, estate.TargetPort:
		return busy(" of line rate")
	case estate.ISL:
		return "inter-switch link"
	case estate.Controller, estate.RAIDGroup, estate.Drive:
		return busy(" busy")
	case estate.Pool:
		if f.InFlight.Known() {
			return busy(" busy") + fmt.Sprintf(" · %.0f in flight", float64(f.InFlight))
		}
		return busy(" busy")
	case estate.Volume, estate.Share, estate.Device:
		if f.Read.Known() {
			return iops() + " · " + phrase.Micros(float64(f.Read)) + " a read"
		}
		return iops()
	}
	return o.Key.Ref.Kind.Label()
}

func (s *Service) events(ctx context.Context, m *route.Map, at []int32, q question) ([]EventNote, error) {
	ids := make([]int64, len(at))
	by := make(map[int64]*estate.Node, len(at))
	for k, i := range at {
		if i < 0 {
			continue
		}
		o := m.Estate().At(i)
		ids[k], by[o.Store] = o.Store, o
	}
	found, err := s.store.Events(ctx, ids, q.grid.At(q.first), q.grid.End(), 200)
	if err != nil {
		return nil, err
	}
	out := []EventNote{}
	for _, e := range found {
		o := by[e.Object]
		out = append(out, EventNote{o.Key.String(), o.Title(), e.At, e.What, e.Detail})
	}
	return out, nil
}
