package service

import (
	"context"
	"slices"
	"time"

	"dowsingrod/core/estate"
	"dowsingrod/core/route"
	"dowsingrod/internal/store"
)

// Changed is what happened to one object at one moment.
type Changed struct {
	At time.Time `json:"at" doc:"When"`
	Brief
	What []estate.Difference `json:"what" doc:"What changed about it"`
}

// Changes are the changes of the estate over a window.
type Changes struct {
	Of      string              `json:"of,omitempty" doc:"The object whose routes they are about, kind:id@source; absent for the whole estate"`
	Name    string              `json:"name,omitempty" doc:"Its name"`
	From    time.Time           `json:"from" doc:"Start of the window"`
	To      time.Time           `json:"to" doc:"End of the window"`
	Changes []Changed           `json:"changes" doc:"Latest first, at most as many as asked for"`
	Total   int                 `json:"total" doc:"How many there were"`
	Moments []store.MomentCount `json:"moments" doc:"How many objects changed at each moment of the window, at most 500"`
}

// mostMomentsListed bounds the moments of one answer: a ruler is some 1,000 pixels wide.
const mostMomentsListed = 500

// Changes lists what changed over a window: in the whole estate, or, for an object, of itself, of all it depends on and, for
// what lies above the paths, of what belongs to it.
func (s *Service) Changes(ctx context.Context, query string, w Window, limit int) (Changes, error) {
	p, err := s.refresh(ctx)
	if err != nil {
		return Changes{}, err
	}
	out := Changes{From: w.From, To: w.To, Changes: []Changed{}, Moments: []store.MomentCount{}}
	var objects []int64
	if query != "" {
		moments, err := s.moments(ctx, w.From, w.To)
		if err != nil {
			return Changes{}, err
		}
		if _, _, err := resolve(moments, query); err != nil {
			return Changes{}, err
		}
		seen := map[int64]bool{}
		for _, m := range moments { // what lay on its routes at any time
			i, err := m.Map.Estate().Resolve(query)
			if err != nil {
				continue
			}
			out.Of, out.Name = m.Map.Estate().At(i).Key.String(), m.Map.Estate().At(i).Title()
			for _, at := range concerned(m.Map, i) {
				if id := m.Map.Estate().At(at).Store; !seen[id] {
					seen[id] = true
					objects = append(objects, id)
				}
			}
		}
		if objects == nil {
			objects = []int64{}
		}
	}
	found, total, err := s.store.Transitions(ctx, w.From, w.To, objects, limit)
	if err != nil {
		return Changes{}, err
	}
	out.Total = total
	moments, err := s.store.ChangeTimes(ctx, w.From, w.To, objects)
	if err != nil {
		return Changes{}, err
	}
	out.Moments = append(out.Moments, thin(moments)...)
	for _, t := range found {
		o := t.After
		if o == nil {
			o = t.Before
		}
		when := t.At
		if t.After == nil {
			when = when.Add(-time.Nanosecond) // as it was before it went
		}
		m, err := s.mapAt(ctx, p, when)
		if err != nil {
			return Changes{}, err
		}
		e := m.Estate()
		b := Brief{Ref: o.Key.String(), Kind: o.Key.Ref.Kind, Label: o.Key.Ref.Kind.Label(), Layer: o.Key.Ref.Kind.Layer(), Name: o.Title(), Source: o.Key.Source}
		if i, ok := e.Position(o.Key); ok {
			b = brief(e, i)
			if b.Kind == estate.Path {
				b.Name = pathName(m, i)
			}
		}
		what := estate.Differ(t.Before, t.After, func(ref estate.Ref) string { return s.nameOf(ctx, p, o.Key.Source, ref, t.At) })
		out.Changes = append(out.Changes, Changed{t.At, b, what})
	}
	return out, nil
}

// thin joins neighbouring moments where there are too many.
func thin(all []store.MomentCount) []store.MomentCount {
	for len(all) > mostMomentsListed {
		var half []store.MomentCount
		for pair := range slices.Chunk(all, 2) {
			m := pair[0]
			if len(pair) == 2 {
				m.Count += pair[1].Count
			}
			half = append(half, m)
		}
		all = half
	}
	return all
}

// nameOf finds the name a reference had at a moment, or just before it.
func (s *Service) nameOf(ctx context.Context, p pictures, source string, ref estate.Ref, at time.Time) string {
	for _, t := range []time.Time{at, at.Add(-time.Nanosecond)} {
		if m, err := s.mapAt(ctx, p, t); err == nil {
			if i, ok := m.Estate().Position(estate.Key{Source: source, Ref: ref}); ok {
				return m.Estate().At(i).Title()
			}
		}
	}
	return ref.String()
}

// pathName calls a path by its ends: paths have no names.
func pathName(m *route.Map, i int32) string {
	e := m.Estate()
	name := ""
	if from := e.First(i, estate.Initiator); from >= 0 {
		name = m.OwnerName(from) + " " + e.At(from).Title()
	}
	if to := e.First(i, estate.Target); to >= 0 {
		name += " → " + m.OwnerName(to) + " " + e.At(to).Title()
	}
	if name == "" {
		return e.At(i).Title()
	}
	if lun := e.At(i).Facts.Text("lun"); lun != "" {
		name += ", LUN " + lun
	}
	return name
}

// concerned lists what changes about an object can lie in: itself, what it depends on, its disks and devices.
func concerned(m *route.Map, i int32) []int32 {
	at := []int32{i}
	for _, r := range m.Below(i) {
		at = append(at, r.At)
	}
	switch m.Estate().Kind(i) {
	case estate.VM, estate.VDisk, estate.Host:
	default: // of a component what is part of it too, and the disks that lie on it
		at = append(at, m.Estate().From(i, estate.PartOf, estate.MemberOf, estate.CarvedFrom, estate.MadeOf, estate.Extent, estate.Exports, estate.StoredOn)...)
	}
	return at
}

// Topology is the section of an object as it was for a stretch of time.
type Topology struct {
	From time.Time `json:"from" doc:"Since when it was so"`
	To   time.Time `json:"to" doc:"Until when"`
	route.Section
}

// mostTopologies bounds how many different topologies one answer holds.
const mostTopologies = 50

// History returns every topology that held on an object's routes within a window, in order.
func (s *Service) History(ctx context.Context, query string, w Window, f route.Folding) ([]Topology, error) {
	p, err := s.refresh(ctx)
	if err != nil {
		return nil, err
	}
	changes, err := s.Changes(ctx, query, w, 1)
	if err != nil {
		return nil, err
	}
	cuts := make([]time.Time, 0, len(changes.Moments))
	for _, m := range changes.Moments {
		cuts = append(cuts, m.At)
	}
	if n := len(cuts) - (mostTopologies - 1); n > 0 {
		cuts = cuts[n:]
	}
	var out []Topology
	from := w.From
	for k := 0; k <= len(cuts); k++ {
		end := w.To
		if k < len(cuts) {
			end = cuts[k]
		}
		if !end.After(from) {
			continue
		}
		m, err := s.mapAt(ctx, p, end.Add(-time.Nanosecond))
		if err != nil {
			return nil, err
		}
		if i, err := m.Estate().Resolve(query); err == nil {
			section := m.Cut(i, f)
			if n := len(out); n > 0 && out[n-1].To.Equal(from) && sameRoutes(&out[n-1].Section, &section) {
				out[n-1].To, out[n-1].Section = end, section
			} else {
				out = append(out, Topology{from, end, section})
			}
		}
		from = end
	}
	if out == nil {
		return nil, &estate.NotFoundError{Query: query}
	}
	return out, nil
}

// sameRoutes reports whether two sections show the same objects joined in the same way.
func sameRoutes(a, b *route.Section) bool {
	return slices.EqualFunc(a.Nodes, b.Nodes, func(x, y route.Node) bool { return x.Ref == y.Ref && x.Count == y.Count }) && slices.Equal(a.Links, b.Links)
}
