package lab

import (
	"cmp"
	"maps"
	"slices"
	"strings"
	"time"

	"dowsingrod/core/estate"
	"dowsingrod/internal/feed"
)

// turn is a change of the inventory at its moment of the scenario.
type turn struct {
	after  time.Duration // from the anchor
	source string
	of     string // kind:id
	change func(o *feed.Object)
	what   string
	detail string
}

// Moments of the demo's history, from the anchor.
const (
	diskMovesAt  = -11 * time.Hour
	legLostAt    = -9 * time.Hour
	legBackAt    = -8*time.Hour - 10*time.Minute
	firmwareAt   = -7 * time.Hour
	pathDiesAt   = -5*time.Hour - 30*time.Minute
	pathBackAt   = -4*time.Hour - 40*time.Minute
	volumeGrowth = -3*time.Hour - 10*time.Minute
)

// buildHistory lays out what happens to the estate itself: a stretched volume loses a leg and gets it back, a disk moves, a
// path dies and comes back, firmware changes, a volume grows.
func (l *Lab) buildHistory() {
	stretched := l.petrel.volumes[1]
	leg := stretched.legs[1]
	state := func(s string) func(*feed.Object) {
		return func(o *feed.Object) { o.Facts["state"] = s }
	}
	l.turns = append(l.turns,
		turn{legLostAt, l.src.petrel, "device:" + leg.deviceID, state("lost"), "leg_lost", "the leg of " + stretched.name + " on " + leg.array.name + " no longer answers"},
		turn{legBackAt, l.src.petrel, "device:" + leg.deviceID, state("active"), "leg_back", "the leg of " + stretched.name + " on " + leg.array.name + " is in step again"},
		turn{firmwareAt, l.src.gannet, "array:" + l.src.gannet, func(o *feed.Object) { o.Facts["firmware"] = "7.3.1" }, "firmware_changed", "from 7.3.0 to 7.3.1"})
	for _, h := range l.hosts {
		if h.name != "lighthouse-07" {
			continue
		}
		for _, p := range l.objects[h.source] {
			if p.Kind == estate.Path && strings.HasPrefix(p.ID, h.id+"-heron-v5-") && p.Facts["state"] == "active" {
				l.turns = append(l.turns, turn{pathDiesAt, h.source, "path:" + p.ID, state("dead"), "path_down", "no answer from the target"},
					turn{pathBackAt, h.source, "path:" + p.ID, state("active"), "path_up", "answers again"})
				break
			}
		}
	}
	grown := l.heron.volumes[6]
	l.turns = append(l.turns, turn{volumeGrowth, l.src.heron, "volume:" + grown.id, func(o *feed.Object) { o.Facts["bytes"] = 5.0 * tib }, "resized", "from 4 TiB to 5 TiB"})
	l.moveDisk("lamp-telemetry-04")
	for _, v := range l.vms {
		if v.name == movingVM {
			l.migrateAt(l.anchor.Add(movesAt), v, l.hosts[(v.host.at+3)%l.size.north])
		}
	}
	l.sortTurns()
}

func (l *Lab) sortTurns() {
	slices.SortStableFunc(l.turns, func(a, b turn) int { return cmp.Compare(a.after, b.after) })
}

// factTurn is a turn that changes facts.
func factTurn(after time.Duration, source, of string, set func(map[string]any), what, detail string) turn {
	return turn{after, source, of, func(o *feed.Object) { set(o.Facts) }, what, detail}
}

// linkTurn is a turn that changes where a link leads.
func linkTurn(after time.Duration, source, of, link string, to []string, what, detail string) turn {
	return turn{after, source, of, func(o *feed.Object) { o.Links[link] = to }, what, detail}
}

// eventTurn is something that happens to an object and leaves it as it is.
func eventTurn(after time.Duration, source, of, what, detail string) turn {
	return turn{after, source, of, func(*feed.Object) {}, what, detail}
}

// repoint leads the loads of a machine's disks to where it runs and they lie now.
func (l *Lab) repoint(v *vm) {
	for _, d := range l.disks {
		if d.vm != v {
			continue
		}
		for _, tenant := range d.tenant {
			l.point(l.main.net, tenant, d)
		}
	}
	l.calm = nil // it is taken anew from the estate as it is
}

// moveDisk lets the first disk of a machine move to another datastore of the same pool.
func (l *Lab) moveDisk(name string) {
	for _, v := range l.vms {
		if v.name != name {
			continue
		}
		d := v.disks[0]
		var from, to *datastore
		for _, s := range l.stores {
			switch {
			case s.volume == d.volume:
				from = s
			case s.volume.pool == d.volume.pool && s.north == v.host.north && v.host.devices[s.volume] != nil && to == nil:
				to = s
			}
		}
		if from == nil || to == nil {
			return
		}
		l.turns = append(l.turns, turn{diskMovesAt, v.source, "vdisk:" + d.id, func(o *feed.Object) {
			o.Links["stored_on"] = []string{"datastore:" + to.id}
			d.volume = to.volume
			l.repoint(v)
		}, "moved", "from " + from.name + " to " + to.name})
	}
}

// takeTurns makes the changes whose time has come, and records what their sources would say.
func (l *Lab) takeTurns(t time.Time, moves map[string][]feed.Record) {
	for len(l.turns) > 0 && !t.Before(l.anchor.Add(l.turns[0].after)) {
		turn := l.turns[0]
		l.turns = l.turns[1:]
		for k, old := range l.objects[turn.source] {
			if old.Ref().String() != turn.of {
				continue
			}
			o := *old
			o.Facts, o.Links = maps.Clone(old.Facts), maps.Clone(old.Links)
			if o.Facts == nil {
				o.Facts = estate.Facts{}
			}
			turn.change(&o)
			l.objects[turn.source][k] = &o // a later inventory lists it as it is
			if !l.warm {
				break // it was so before the readings begin
			}
			moves[turn.source] = append(moves[turn.source],
				feed.Record{Header: &feed.Header{Version: feed.Version, Source: turn.source, Time: t}},
				feed.Record{Object: &o},
				feed.Record{Event: &feed.Event{Of: turn.of, Time: t, What: turn.what, Detail: turn.detail}})
			break
		}
	}
}
