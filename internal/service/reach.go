package service

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"time"

	"dowsingrod/core/estate"
	"dowsingrod/core/reading"
	"dowsingrod/core/route"
)

// Reach is what depends on an object.
type Reach struct {
	Brief
	At           time.Time      `json:"at" doc:"As of this moment"`
	VMs          []ReachedVM    `json:"vms" doc:"Virtual machines, by tier, then name; at most the limit asked for"`
	Total        int            `json:"total" doc:"How many virtual machines depend on it"`
	Outcomes     []OutcomeCount `json:"outcomes" doc:"How many would suffer what if it were lost, worst first"`
	Tiers        []NameCount    `json:"tiers" doc:"How many of each service tier; '' for none"`
	Applications []NameCount    `json:"applications" doc:"How many of each application, most first; '' for none"`
	Counts       []KindCount    `json:"counts" doc:"How many objects of each kind depend on it"`
	Objects      []Dependent    `json:"objects" doc:"What depends on it besides virtual machines and their disks, nearest first; at most the limit asked for"`
}

// ReachedVM is a virtual machine that depends on an object.
type ReachedVM struct {
	Ref         string         `json:"ref" doc:"Address, kind:id@source"`
	Name        string         `json:"name" doc:"Its name"`
	Tier        string         `json:"tier,omitempty" doc:"Its service tier"`
	Application string         `json:"application,omitempty" doc:"What it is part of"`
	Host        string         `json:"host,omitempty" doc:"The host it runs on"`
	Outcome     route.Outcome  `json:"outcome" doc:"What the loss of the object would mean for it" enum:"is cut off already,would stop,would lose a mirror leg,would lose a path,would lose RAID protection,would not notice"`
	State       route.State    `json:"state" doc:"Best state of the ways by which it depends" enum:"active,standby,disabled,dead"`
	Disks       int            `json:"disks" doc:"How many of its disks depend on it"`
	OfDisks     int            `json:"of_disks" doc:"How many disks it has"`
	Share       reading.Figure `json:"share" doc:"Part of its I/O that goes through the object, by the operations of its disks over the hour before; null where no readings tell"`
}

// OutcomeCount counts virtual machines by what they would suffer.
type OutcomeCount struct {
	Outcome route.Outcome `json:"outcome" doc:"What the loss of the object would mean"`
	Count   int           `json:"count" doc:"For how many virtual machines"`
}

// NameCount counts by name.
type NameCount struct {
	Name  string `json:"name" doc:"The name; '' for none"`
	Count int    `json:"count" doc:"How many"`
}

// Dependent is an object that depends on another.
type Dependent struct {
	Brief
	State route.State `json:"state" doc:"Best state of the ways by which it depends" enum:"active,standby,disabled,dead"`
}

// KindCount counts objects of a kind.
type KindCount struct {
	Kind  estate.Kind `json:"kind" doc:"Kind of object"`
	Count int         `json:"count" doc:"How many"`
}

// mostShares bounds for how many virtual machines the share of I/O is worked out: it needs the readings of all their disks.
const mostShares = 500

// Reach returns all that depends on an object at a moment, VMs of the most important tier first, and what its loss would
// mean for each.
func (s *Service) Reach(ctx context.Context, query string, at time.Time, limit int) (Reach, error) {
	m, err := s.at(ctx, at)
	if err != nil {
		return Reach{}, err
	}
	if at.IsZero() {
		at = s.now()
	}
	e := m.Estate()
	i, err := e.Resolve(query)
	if err != nil {
		return Reach{}, err
	}
	out := Reach{Brief: brief(e, i), At: at, VMs: []ReachedVM{}, Objects: []Dependent{}, Counts: []KindCount{}, Outcomes: []OutcomeCount{}, Tiers: []NameCount{}, Applications: []NameCount{}}
	counts := map[estate.Kind]int{}
	reach := m.Reach(i)
	for _, r := range reach {
		k := e.Kind(r.At)
		counts[k]++
		if k != estate.VM && k != estate.VDisk && len(out.Objects) < limit {
			out.Objects = append(out.Objects, Dependent{brief(e, r.At), r.State})
		}
	}
	for k, n := range counts {
		out.Counts = append(out.Counts, KindCount{k, n})
	}
	slices.SortFunc(out.Counts, func(a, b KindCount) int { return strings.Compare(string(a.Kind), string(b.Kind)) })
	losses := m.LoseWithin(i, reach, limit)
	out.Total = len(losses)
	outcomes, tiers, applications := map[route.Outcome]int{}, map[string]int{}, map[string]int{}
	for _, l := range losses {
		outcomes[l.Outcome]++
		tiers[l.Tier]++
		applications[l.Application]++
		if len(out.VMs) == limit {
			continue
		}
		o := e.At(l.VM)
		v := ReachedVM{Ref: o.Key.String(), Name: o.Title(), Tier: l.Tier, Application: l.Application, Outcome: l.Outcome, State: l.State, Disks: len(l.Disks), Share: reading.Missing}
		if host := e.First(l.VM, estate.RunsOn); host >= 0 {
			v.Host = e.At(host).Title()
		}
		e.EachOut(l.VM, func(link estate.LinkKind, _ int32) {
			if link == estate.Uses {
				v.OfDisks++
			}
		})
		out.VMs = append(out.VMs, v)
	}
	for _, o := range route.Outcomes {
		if outcomes[o] > 0 {
			out.Outcomes = append(out.Outcomes, OutcomeCount{o, outcomes[o]})
		}
	}
	out.Tiers, out.Applications = tally(tiers), tally(applications)
	slices.SortFunc(out.Tiers, func(a, b NameCount) int {
		if (a.Name == "") != (b.Name == "") {
			return len(b.Name) - len(a.Name)
		}
		return strings.Compare(a.Name, b.Name)
	})
	return out, s.shares(ctx, m, i, losses[:min(len(losses), len(out.VMs), mostShares)], at, out.VMs)
}

func tally(of map[string]int) []NameCount {
	out := make([]NameCount, 0, len(of))
	for name, n := range of {
		out = append(out, NameCount{name, n})
	}
	slices.SortFunc(out, func(a, b NameCount) int { return cmp.Or(cmp.Compare(b.Count, a.Count), cmp.Compare(a.Name, b.Name)) })
	return out
}

// shares works out which part of each machine's operations goes through an object: that of its disks which lie on it,
// times the part of their active paths that lead over it.
func (s *Service) shares(ctx context.Context, m *route.Map, object int32, losses []route.Loss, at time.Time, into []ReachedVM) error {
	e := m.Estate()
	g, err := reading.NewGrid(at.Add(-time.Hour).Truncate(time.Minute), at.Truncate(time.Minute), 10*time.Minute)
	if err != nil {
		return err
	}
	var needs []route.Need
	for _, l := range losses {
		if disks := e.To(l.VM, estate.Uses); len(disks) > 1 {
			for _, d := range disks {
				needs = append(needs, route.Need{Key: e.At(d).Key, Metrics: []string{"read_iops", "write_iops"}})
			}
		}
	}
	var r runs
	if len(needs) > 0 {
		if r, err = s.fetch(ctx, []route.Moment{{From: g.From, To: g.End(), Map: m}}, needs, g.From, g.End()); err != nil {
			return err
		}
	}
	for k, l := range losses {
		disks := e.To(l.VM, estate.Uses)
		if len(disks) == 1 && len(l.Disks) == 1 { // whatever its load
			into[k].Share = reading.Figure(m.Through(disks[0], object))
			continue
		}
		all, through := 0.0, 0.0
		for _, d := range disks {
			rate := 0.0
			for _, metric := range []string{"read_iops", "write_iops"} {
				rate += reading.MeanOver(reading.Align(g, r.Runs(e.At(d).Key, metric)).Value, 0, g.N)
			}
			all += rate
			if slices.Contains(l.Disks, d) {
				through += rate * m.Through(d, object)
			}
		}
		if all > 0 {
			into[k].Share = reading.Figure(through / all)
		}
	}
	return nil
}
