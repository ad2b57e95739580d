// Package lab is a simulated estate with known truth: Tidewrack Ferries, two harbours, twelve hosts,
// 120 VMs, three arrays. It is described and measured the way real sources would, as feeds.
//
// The readings come from a closed queueing model solved step by step, so latency follows from load and
// service times everywhere; the faults of the scenario change only what is asked and how long service
// takes. The same seed and anchor always give the same estate.
package lab

import (
	"time"

	"dowsingrod/core/estate"
	"dowsingrod/internal/feed"
)

// Step is the model's step. Intervals of all sources are multiples of it.
const Step = 20 * time.Second

// Seed of the demo estate.
const Seed = 7465

// Day is how far back the demo's readings go.
const Day = 24 * time.Hour

// window is how much is solved before it is handed on: memory stays bounded.
const window = 4 * time.Hour

// Lab is a simulated estate. It is for one goroutine.
type Lab struct {
	seed   uint64
	anchor time.Time

	hosts    []*host
	switches []*swtch
	isls     []*islink
	arrays   []*array
	volumes  []*volume
	devices  []*device
	stores   []*datastore
	vms      []*vm
	disks    []*vdisk
	offers   []offer
	bursts   []float64
	siteLink *entity

	heron, gannet, petrel *array
	roundTrip, moving     float64
	warm, moved           bool
	turns                 []turn // still to come, in order

	objects  map[string][]*feed.Object
	entities map[string][]*entity
}

// Anchor rounds a moment down to one at which the intervals of all sources begin.
func Anchor(now time.Time) time.Time { return now.UTC().Truncate(2 * time.Minute) }

// New builds the estate. The scenario is laid out around the anchor, which is "now": see Truths.
func New(seed uint64, anchor time.Time) *Lab {
	l := &Lab{seed: seed, anchor: Anchor(anchor), roundTrip: 900e-6, objects: make(map[string][]*feed.Object), entities: make(map[string][]*entity)}
	l.buildFabrics()
	l.buildHosts()
	l.buildArrays()
	l.buildDatastores()
	l.buildGuests()
	l.buildZones()
	l.buildHistory()
	l.offers, l.bursts = make([]offer, len(l.vms)), make([]float64, len(l.vms))
	return l
}

// Write writes feeds of all sources with the readings of [from, to), both multiples of two minutes.
// The first feed of each source lists its whole inventory where inventory is set.
func (l *Lab) Write(from, to time.Time, inventory bool, write func(feed.Record) error) error {
	for at := Anchor(from); at.Before(to); at = at.Add(window) {
		end := at.Add(window)
		if end.After(to) {
			end = to
		}
		moves := l.solve(at, end)
		for _, s := range Sources {
			if err := l.writeSource(s.Name, s.Interval, at, end, inventory, moves[s.Name], write); err != nil {
				return err
			}
		}
		inventory = false
	}
	return nil
}

// solve runs the model over a stretch and returns what changed in the inventory.
func (l *Lab) solve(from, to time.Time) map[string][]feed.Record {
	moves := map[string][]feed.Record{}
	for t := from; t.Before(to); t = t.Add(Step) {
		l.migrate(t, moves)
		l.takeTurns(t, moves)
		l.step(t)
	}
	return moves
}

func (l *Lab) writeSource(name string, interval time.Duration, from, to time.Time, inventory bool, moves []feed.Record, write func(feed.Record) error) error {
	as := to
	if inventory {
		as = from // what is listed was so from the start
	}
	err := write(feed.Record{Header: &feed.Header{Version: feed.Version, Source: name, Time: as, Full: inventory}})
	if err != nil {
		return err
	}
	if inventory {
		for _, o := range l.objects[name] {
			if err := write(feed.Record{Object: o}); err != nil {
				return err
			}
		}
	}
	silent := func(i int) bool { return l.silent(name, from.Add(time.Duration(i)*interval)) }
	for _, e := range l.entities[name] {
		r := e.take(from, silent)
		if r == nil {
			continue
		}
		if err := write(feed.Record{Reading: r}); err != nil {
			return err
		}
	}
	for _, m := range moves {
		if err := write(m); err != nil {
			return err
		}
	}
	return nil
}

// Objects returns how many objects all sources list.
func (l *Lab) Objects() int {
	n := 0
	for _, list := range l.objects {
		n += len(list)
	}
	return n
}

// Keys returns the keys of all objects of a kind.
func (l *Lab) Keys(kind estate.Kind) []estate.Key {
	var out []estate.Key
	for _, s := range Sources {
		for _, o := range l.objects[s.Name] {
			if o.Kind == kind {
				out = append(out, estate.Key{Source: s.Name, Ref: o.Ref()})
			}
		}
	}
	return out
}

// Names lists the sources of the demo estate.
func Names() []string {
	var names []string
	for _, s := range Sources {
		names = append(names, s.Name)
	}
	return names
}
