// Package lab is a simulated estate with known truth. Its demo is Tidewrack Ferries: two harbours, twelve hosts, 120 VMs, three
// arrays. It is described and measured the way real sources would, as feeds.
//
// The readings come from a closed queueing network (core/queueing) solved step by step, so that latency, queues, busy shares and
// throughput follow from load and service times everywhere, and agree with one another; faults change only what is asked, how
// long service takes and which ways there are. The same seed and anchor always give the same estate. Nothing here knows how
// diagnosis works, and diagnosis knows nothing of what is here: it sees feeds.
package lab

import (
	"math"
	"time"

	"dowsingrod/core/estate"
	"dowsingrod/core/queueing"
	"dowsingrod/internal/feed"
)

// Step is the model's step. Intervals of all sources are multiples of it.
const Step = 20 * time.Second

// Seed of the demo estate.
const Seed = 7465

// Day is how far back the demo's readings reach at the intervals of their sources.
const Day = 24 * time.Hour

// Week is how far back its history reaches, in means of five minutes as managers keep them.
const Week = 7 * Day

// coarse is the interval of readings older than a day.
const coarse = 5 * time.Minute

// window is how much is solved before it is handed on: memory stays bounded.
const window = 4 * time.Hour

// Source is who reports a part of the estate, and how.
type Source struct {
	Name     string
	Interval time.Duration
	Ahead    time.Duration // by which its clock is ahead of the truth
	Gaps     float64       // share of its intervals that it misses
	Restarts float64       // times a day it starts anew, and loses the interval in which it did
}

// Lab is a simulated estate. It is for one goroutine.
type Lab struct {
	seed    uint64
	anchor  time.Time
	n       int // which of several that make an estate together
	demo    bool
	size    size
	src     names
	sources []Source

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
	drifts   []drift
	cpu      []float64
	siteLink *entity

	heron, gannet, petrel *array
	roundTrip, islSpeed   float64
	warm                  bool
	turns                 []turn // still to come, in order

	controllers []*controller
	pools       []*pool
	trunks      map[string]*trunk
	order       []string // fabrics
	legs        map[ends][2]int32
	fronts      []frontLeg
	ports       int
	site        int32

	main    side
	calm    *side // without its faults, while there are any and somebody judges
	judge   *judge
	effects []effect
	faults  []*Fault
	decoys  []*vm

	objects  map[string][]*feed.Object
	entities map[string][]*entity
	specs    map[string][]spec
	pace     time.Duration // of the model's steps: Step, or longer for what is long past
}

// size is how large a part of the estate is.
type size struct {
	vms, north, south      int
	scale                  float64 // of drives, processors and caches, against 120 machines
	vmsBefore, hostsBefore int     // of the parts before this one
	ports, isl             float64 // line rates of host ports and of inter-switch links, bytes per second
	targets                float64 // of array ports
}

// names are those of the sources.
type names struct{ hypNorth, hypSouth, fabricNorth, fabricSouth, heron, gannet, petrel string }

// demoSize is that of Tidewrack Ferries.
var demoSize = size{vms: 120, north: 8, south: 4, scale: 1, ports: 1.6e9, isl: 3.2e9, targets: 3.2e9}

// Anchor rounds a moment down to one at which the intervals of all sources begin.
func Anchor(now time.Time) time.Time { return now.UTC().Truncate(2 * time.Minute) }

// New builds the demo estate. The scenario is laid out around the anchor, which is "now": see Truths.
func New(seed uint64, anchor time.Time) *Lab {
	l := build(seed, Anchor(anchor), 0, demoSize, names{HypNorth, HypSouth, FabricNorth, FabricSouth, Heron, Gannet, Petrel}, true)
	l.sources = Sources
	l.open()
	l.buildHistory()
	l.buildProgramme()
	return l
}

// build makes the objects of a part of an estate.
func build(seed uint64, anchor time.Time, n int, sz size, src names, demo bool) *Lab {
	return &Lab{seed: seed, anchor: anchor, n: n, demo: demo, size: sz, src: src, roundTrip: 900e-6, islSpeed: sz.isl, pace: Step,
		objects: make(map[string][]*feed.Object), entities: make(map[string][]*entity), specs: map[string][]spec{}, trunks: map[string]*trunk{}, legs: map[ends][2]int32{}, main: side{net: &queueing.Network{}}}
}

// open builds what is reported and what is solved.
func (l *Lab) open() {
	l.buildFabrics()
	l.buildHosts()
	l.buildArrays()
	l.buildDatastores()
	l.buildGuests()
	l.buildZones()
	for _, s := range l.switches {
		if len(l.order) == 0 || l.order[len(l.order)-1] != s.fabric {
			l.order = append(l.order, s.fabric)
		}
	}
	l.offers, l.drifts, l.cpu = make([]offer, len(l.vms)), make([]drift, len(l.vms)), make([]float64, len(l.hosts))
	l.wire()
}

func (l *Lab) scaled(n int) int { return int(math.Ceil(float64(n) * l.size.scale)) }

// tag makes an id unique among the parts of an estate.
func (l *Lab) tag(id string) string {
	if l.n == 0 {
		return id
	}
	return id + "-" + string(rune('0'+l.n/100%10)) + string(rune('0'+l.n/10%10)) + string(rune('0'+l.n%10))
}

// Write writes feeds of all sources with the readings of [from, to), both multiples of two minutes.
// The first feed of each source lists its whole inventory where inventory is set.
func (l *Lab) Write(from, to time.Time, inventory bool, write func(feed.Record) error) error {
	l.pace = Step
	return l.write(Anchor(from), to, window, inventory, write)
}

// WritePast is Write for what is long past: means of five minutes, whatever the sources' intervals. Both ends are multiples of
// ten minutes.
func (l *Lab) WritePast(from, to time.Time, inventory bool, write func(feed.Record) error) error {
	l.pace = coarse
	return l.write(from.UTC().Truncate(2*coarse), to, window, inventory, write)
}

// WriteWeek writes the demo's inventory and its week up to a moment: the last day at the intervals of its sources, what is before
// it in means of five minutes.
func (l *Lab) WriteWeek(to time.Time, write func(feed.Record) error) error {
	day := to.UTC().Add(-Day).Truncate(2 * coarse)
	if err := l.WritePast(to.Add(-Week), day, true, write); err != nil {
		return err
	}
	return l.Write(day, to, false, write)
}

func (l *Lab) write(from, to time.Time, span time.Duration, inventory bool, write func(feed.Record) error) error {
	for at := from; at.Before(to); at = at.Add(span) {
		end := at.Add(span)
		if end.After(to) {
			end = to
		}
		moves := l.solve(at, end)
		for _, s := range l.sources {
			if err := l.writeSource(s, at, end, inventory, moves[s.Name], write); err != nil {
				return err
			}
		}
		inventory = false
	}
	return nil
}

// solve runs the model over a stretch and returns what changed in the inventory.
func (l *Lab) solve(from, to time.Time) map[string][]feed.Record {
	for name, of := range l.entities {
		every := int(l.interval(name) / l.pace)
		for _, e := range of {
			if e.every != every {
				e.every, e.steps = every, 0
			}
			e.seconds = l.interval(name).Seconds()
		}
	}
	moves := map[string][]feed.Record{}
	for t := from; t.Before(to); t = t.Add(l.pace) {
		l.takeTurns(t, moves)
		l.step(t, l.pace)
		l.report(t)
	}
	return moves
}

func (l *Lab) interval(source string) time.Duration {
	for _, s := range l.sources {
		if s.Name == source {
			return max(s.Interval, l.pace)
		}
	}
	panic("lab: unknown source " + source)
}

func (l *Lab) writeSource(s Source, from, to time.Time, inventory bool, moves []feed.Record, write func(feed.Record) error) error {
	as := to
	if inventory {
		as = from // what is listed was so from the start
	}
	err := write(feed.Record{Header: &feed.Header{Version: feed.Version, Source: s.Name, Time: as, Full: inventory}})
	if err != nil {
		return err
	}
	if inventory {
		for _, o := range l.objects[s.Name] {
			if err := write(feed.Record{Object: o}); err != nil {
				return err
			}
		}
	}
	interval := l.interval(s.Name)
	first := from.Truncate(interval) // an interval may have begun before this stretch
	silent := make([]bool, to.Truncate(interval).Sub(first)/interval)
	for i := range silent {
		silent[i] = l.silent(s, first.Add(time.Duration(i)*interval), interval)
	}
	for _, e := range l.entities[s.Name] {
		r := e.take(first.Add(s.Ahead), interval, silent)
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

// silent reports whether a source has no readings of an interval.
func (l *Lab) silent(s Source, t time.Time, interval time.Duration) bool {
	if l.demo && s.Name == l.src.petrel && l.within(t, silentBegins, silentLasts) {
		return true
	}
	if s.Gaps == 0 && s.Restarts == 0 {
		return false
	}
	cell, salt := uint64(t.UnixNano()/int64(interval)), nameSalt(s.Name)
	return noise(l.seed, salt, cell, 51) < s.Gaps || noise(l.seed, salt, cell, 52) < s.Restarts*interval.Hours()/24
}

func nameSalt(name string) uint64 {
	h := uint64(14695981039346656037) // FNV-1a
	for k := range len(name) {
		h = (h ^ uint64(name[k])) * 1099511628211
	}
	return h
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
	for _, s := range l.sources {
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
