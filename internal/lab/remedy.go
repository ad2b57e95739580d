package lab

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"dowsingrod/core/estate"
	"dowsingrod/internal/feed"
)

// Remedy is a change that people make to the estate, to see whether it helps.
type Remedy struct {
	Kind  string  `json:"kind" doc:"limit, move, paths or depth"`
	Of    string  `json:"of" doc:"The object that is changed, kind:id@source: a virtual disk for limit and move, a host for paths and depth"`
	To    string  `json:"to,omitempty" doc:"Where a disk moves to: a datastore, kind:id@source"`
	Value float64 `json:"value,omitempty" doc:"I/Os per second for limit, 0 to lift it; places for depth"`
}

// Begin lays out a fault in a part of the estate from a moment on, until it is ended.
func (f *Fleet) Begin(kind string, part int, seed uint64, from time.Time, ramp time.Duration, force float64) (*Fault, error) {
	if part < 0 || part >= len(f.Parts) {
		return nil, fmt.Errorf("the estate has parts 0 to %d, not %d", len(f.Parts)-1, part)
	}
	if force == 0 {
		force = 1
	}
	if force < 0.1 || force > 5 {
		return nil, fmt.Errorf("a force is from 0.1 to 5, not %g", force)
	}
	l := f.Parts[part]
	before := len(l.effects)
	x, err := l.Begin(kind, seed, from, from.Add(50*365*24*time.Hour), ramp, force)
	if err != nil {
		return nil, err
	}
	x.ground = slices.Clone(l.effects[before:])
	if l.judge == nil {
		l.judge = &judge{}
	}
	return x, nil
}

// End ends a fault, and what was laid out for it.
func (f *Fleet) End(x *Fault, at time.Time) {
	for _, l := range f.Parts {
		if !slices.Contains(l.faults, x) {
			continue
		}
		for k := range l.turns {
			if l.turns[k].after == x.To.Sub(l.anchor) {
				l.turns[k].after = at.Sub(l.anchor)
			}
		}
		l.sortTurns()
		x.To = at
		for _, undo := range x.undo {
			undo()
		}
		x.undo, l.calm = nil, nil
		l.effects = slices.DeleteFunc(l.effects, func(e effect) bool {
			return slices.ContainsFunc(x.ground, func(g effect) bool { return same(g, e) })
		})
		l.effects = append(l.effects, x)
	}
}

// same reports whether two effects are one; functions cannot be compared and are held by pointers.
func same(a, b effect) bool {
	switch a := a.(type) {
	case *Fault:
		b, ok := b.(*Fault)
		return ok && a == b
	case *always:
		b, ok := b.(*always)
		return ok && a == b
	}
	return false
}

// Apply makes a change from a moment on, and returns what it did in words.
func (f *Fleet) Apply(r Remedy, at time.Time) (string, error) {
	ref, source, _ := strings.Cut(r.Of, "@")
	for _, l := range f.Parts {
		if _, ours := l.objects[source]; !ours {
			continue
		}
		switch r.Kind {
		case "limit":
			return l.limitDisk(ref, source, r.Value, at)
		case "move":
			return l.moveTo(ref, source, r.To, at)
		case "paths":
			return l.evenPaths(ref, source, at)
		case "depth":
			return l.setDepth(ref, source, r.Value, at)
		}
		return "", fmt.Errorf("a remedy is limit, move, paths or depth, not %q", r.Kind)
	}
	return "", fmt.Errorf("no source of the lab is called %q: an object is given as kind:id@source", source)
}

func (l *Lab) diskOf(ref, source string) (*vdisk, error) {
	for _, d := range l.disks {
		if !d.hidden && "vdisk:"+d.id == ref && d.vm.source == source {
			return d, nil
		}
	}
	return nil, fmt.Errorf("%s has no virtual disk %s", source, ref)
}

func (l *Lab) hostOf(ref, source string) (*host, error) {
	for _, h := range l.hosts {
		if "host:"+h.id == ref && h.source == source {
			return h, nil
		}
	}
	return nil, fmt.Errorf("%s has no host %s", source, ref)
}

func (l *Lab) limitDisk(ref, source string, limit float64, at time.Time) (string, error) {
	d, err := l.diskOf(ref, source)
	if err != nil {
		return "", err
	}
	if limit < 0 {
		return "", fmt.Errorf("a limit is a number of I/Os per second, or 0 for none, not %g", limit)
	}
	l.effects = append(l.effects, lasting(func(x *effects, t time.Time) {
		if !t.Before(at) {
			x.limit[d.at] = limit
		}
	}))
	var fact any
	if limit > 0 {
		fact = limit
	}
	detail := fmt.Sprintf("to %g I/Os per second", limit)
	l.turns = append(l.turns, factTurn(at.Sub(l.anchor), source, ref, func(facts map[string]any) { facts["iops_limit"] = fact }, "limited", detail))
	l.sortTurns()
	return d.id + " is limited " + detail, nil
}

func (l *Lab) moveTo(ref, source, to string, at time.Time) (string, error) {
	d, err := l.diskOf(ref, source)
	if err != nil {
		return "", err
	}
	var store *datastore
	for _, s := range l.stores {
		if to == "datastore:"+s.id || to == "datastore:"+s.id+"@"+source || to == s.name {
			store = s
		}
	}
	switch {
	case store == nil:
		return "", fmt.Errorf("there is no datastore %q beside the disk", to)
	case d.vm.host.devices[store.volume] == nil:
		return "", fmt.Errorf("the host of %s does not reach %s", d.id, store.name)
	case d.direct || len(store.volume.legs) > 0 || len(d.volume.legs) > 0 || d.volume.share != "":
		return "", fmt.Errorf("the lab moves disks between datastores on plain LUNs only")
	case store.volume == d.volume:
		return "", fmt.Errorf("%s lies on %s already", d.id, store.name)
	}
	l.turns = append(l.turns, turn{at.Sub(l.anchor), source, ref, func(o *feed.Object) {
		o.Links["stored_on"] = []string{"datastore:" + store.id}
		d.volume = store.volume
		l.repoint(d.vm)
	}, "moved", "to " + store.name})
	l.sortTurns()
	return d.id + " moves to " + store.name, nil
}

func (l *Lab) evenPaths(ref, source string, at time.Time) (string, error) {
	h, err := l.hostOf(ref, source)
	if err != nil {
		return "", err
	}
	l.effects = append(l.effects, lasting(func(x *effects, t time.Time) {
		if !t.Before(at) {
			x.weights[h.at], x.bent = [2]float64{0.5, 0.5}, true
		}
	}))
	for _, o := range l.objects[source] {
		initiator, _ := o.Facts["initiator"].(string)
		if o.Kind == estate.Path && o.Facts["state"] == "dead" && (initiator == h.ports[0].wwpn || initiator == h.ports[1].wwpn) {
			l.turns = append(l.turns, factTurn(at.Sub(l.anchor), source, o.Ref().String(), func(facts map[string]any) { facts["state"] = "active" }, "path_up", "answers again"))
		}
	}
	l.sortTurns()
	return h.name + " uses both of its fabrics evenly", nil
}

func (l *Lab) setDepth(ref, source string, depth float64, at time.Time) (string, error) {
	h, err := l.hostOf(ref, source)
	if err != nil {
		return "", err
	}
	if depth < 1 || depth > 4096 {
		return "", fmt.Errorf("a queue depth is from 1 to 4096, not %g", depth)
	}
	l.effects = append(l.effects, lasting(func(x *effects, t time.Time) {
		if !t.Before(at) {
			x.depth[h.at], x.bent = depth/l.depth(), true
		}
	}))
	for _, d := range l.devices {
		if d.host == h {
			l.turns = append(l.turns, factTurn(at.Sub(l.anchor), source, "device:"+d.id, func(facts map[string]any) { facts["queue_depth"] = depth }, "queue_depth", fmt.Sprintf("to %g", depth)))
		}
	}
	l.sortTurns()
	return fmt.Sprintf("the LUNs of %s have %g places each", h.name, depth), nil
}

// Sources lists all sources of the estate, in order.
func (f *Fleet) Sources() []Source {
	var out []Source
	for _, l := range f.Parts {
		out = append(out, l.sources...)
	}
	return out
}

// Inventory returns what a source lists now.
func (f *Fleet) Inventory(source string) []*feed.Object {
	for _, l := range f.Parts {
		if list, ok := l.objects[source]; ok {
			return list
		}
	}
	return nil
}
