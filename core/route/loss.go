package route

import (
	"container/heap"
	"slices"
	"strings"

	"dowsingrod/core/estate"
)

// Outcome is what the loss of an object would mean for a virtual machine that depends on it.
type Outcome string

// Outcomes, from worst to least.
const (
	WouldStop           Outcome = "would stop"
	WouldLoseLeg        Outcome = "would lose a mirror leg"
	WouldLosePath       Outcome = "would lose a path"
	WouldLoseProtection Outcome = "would lose RAID protection"
	WouldNotNotice      Outcome = "would not notice"
	CutOff              Outcome = "is cut off already"
)

// Outcomes lists them from worst to least.
var Outcomes = []Outcome{CutOff, WouldStop, WouldLoseLeg, WouldLosePath, WouldLoseProtection, WouldNotNotice}

// Loss is what a virtual machine would suffer.
type Loss struct {
	VM          int32
	Outcome     Outcome
	State       State   // best state of the ways by which it depends on the object
	Disks       []int32 // its disks that depend on the object
	Tier        string  // its service tier, "" for none
	Application string  // what it is part of, "" for none
}

// Lose tells for every virtual machine in the reach of an object what the loss of that object would mean for it: whether it
// still reached all its disks if the object, and all that cannot be without it, were gone. Ordered by tier, then name.
func (m *Map) Lose(i int32) []Loss { return m.LoseWithin(i, m.Reach(i), 0) }

// LoseWithin is Lose where the reach of the object is known already, and only so many of the machines are wanted in order: they
// come first, the others follow in any order. Zero or less orders all.
func (m *Map) LoseWithin(i int32, reach []Reached, most int) []Loss {
	mine := m.lease()
	defer m.spare.Put(mine)
	marks := *mine // by object: 1 for a disk that depends on it
	machines, disks := 0, 0
	for _, r := range reach {
		switch m.e.Kind(r.At) {
		case estate.VM:
			machines++
		case estate.VDisk:
			marks[r.At] = 1
			disks++
		}
	}
	reach = slices.Clip(reach)
	switch m.e.Kind(i) {
	case estate.VM: // it depends on all its disks
		reach = append(reach, Reached{i, Active})
		for _, d := range m.e.To(i, estate.Uses) {
			marks[d] = 1
			reach = append(reach, Reached{d, Active}) // to be unmarked again
		}
	case estate.VDisk:
		marks[i] = 1
		reach = append(reach, Reached{i, Active})
	}
	after := m.trial(i)
	defer after.end()
	// How the estate stands without a loss is found once and kept: every question about a loss compares with it.
	m.standing.Lock()
	defer m.standing.Unlock()
	if m.stands == nil {
		m.stands = m.trial(-1)
	}
	before := m.stands
	after.openers = before.openers
	// What lies below the paths takes none of them with it: they are looked at once, without the loss.
	switch m.e.Kind(i) {
	case estate.Pool, estate.RAIDGroup, estate.Drive, estate.Enclosure, estate.Fan, estate.PowerSupply:
		after.paths = before
	}
	out, used := make([]Loss, 0, machines+1), make([]int32, 0, disks+8)
	for _, r := range reach {
		if m.e.Kind(r.At) != estate.VM {
			continue
		}
		l := Loss{VM: r.At, Outcome: outcome(before, after, r.At), State: r.State}
		l.Tier, l.Application = m.e.At(r.At).Facts.Pair("tier", "application")
		from := len(used)
		m.e.EachOut(r.At, func(link estate.LinkKind, d int32) {
			if link == estate.Uses && marks[d] == 1 {
				used = append(used, d)
			}
		})
		l.Disks = used[from:len(used):len(used)]
		out = append(out, l)
	}
	for _, r := range reach {
		marks[r.At] = 0
	}
	m.foremost(out, most)
	return out
}

// foremost orders the first losses, by tier, those without one last, then by name; the others follow in any order. Zero or less
// orders all.
func (m *Map) foremost(all []Loss, most int) {
	compare := func(a, b Loss) int {
		if a.Tier != b.Tier {
			switch {
			case a.Tier == "":
				return 1
			case b.Tier == "":
				return -1
			}
			return strings.Compare(a.Tier, b.Tier)
		}
		return strings.Compare(m.e.At(a.VM).Title(), m.e.At(b.VM).Title())
	}
	if most > 0 && most < len(all) {
		// A heap of the first so far, its last on top, spares ordering thousands of which hundreds are shown.
		h := &lastFirst{all[:most], compare}
		heap.Init(h)
		for k := most; k < len(all); k++ {
			if compare(all[k], all[0]) < 0 {
				all[0], all[k] = all[k], all[0]
				heap.Fix(h, 0)
			}
		}
		all = all[:most]
	}
	slices.SortFunc(all, compare)
}

// lastFirst is a heap of losses with the one that comes last on top.
type lastFirst struct {
	of      []Loss
	compare func(a, b Loss) int
}

func (h *lastFirst) Len() int           { return len(h.of) }
func (h *lastFirst) Less(a, b int) bool { return h.compare(h.of[a], h.of[b]) > 0 }
func (h *lastFirst) Swap(a, b int)      { h.of[a], h.of[b] = h.of[b], h.of[a] }
func (h *lastFirst) Push(any)           {}
func (h *lastFirst) Pop() any           { return nil }

func outcome(before, after *trial, vm int32) Outcome {
	a := after.vm(vm)
	if !a.up {
		if !before.vm(vm).up {
			return CutOff
		}
		return WouldStop
	}
	b := before.vm(vm)
	switch {
	case a.legs < b.legs:
		return WouldLoseLeg
	case a.paths < b.paths:
		return WouldLosePath
	case a.spares < b.spares:
		return WouldLoseProtection
	}
	return WouldNotNotice
}

// health is how well something stands: whether it works, and how many legs, paths and drives it could still lose.
type health struct {
	up     bool
	legs   int // mirror legs that work, below it
	paths  int // paths that work
	spares int // drives its RAID groups could lose and go on
}

// and is the health of what needs both.
func (h health) and(o health) health {
	return health{h.up && o.up, h.legs + o.legs, h.paths + o.paths, h.spares + o.spares}
}

var well = health{up: true}

// trial asks how an estate stands without one object. Answers are kept: most of an estate's machines share what is below.
type trial struct {
	*Map
	gone int32
	f    *fabrics
	// by object one more than its place in known, once asked; marked first so that what depends on itself ends
	asked *[]int32
	*memory

	stores map[int32][][]int32 // LUNs of a datastore
	stored map[[2]int32]health // of what lies on a datastore, by it and the host that uses it
	hosts  []int32             // of the disk that is looked at

	openers map[int32][]opener // by volume
	ends    map[int32]ending   // by port
	ways    map[[2]int32]bool  // whether frames get from one switch to another
	paths   *trial             // who to ask for the health of hosts' devices instead
}

// memory is what a trial has found so far. It is lent from one to the next: large estates fill megabytes of it.
type memory struct {
	known []health
	keys  []int32 // of known
}

// opener is a host's device for a volume.
type opener struct{ host, device int32 }

func (m *Map) trial(gone int32) *trial {
	t := &trial{Map: m, gone: gone, f: m.fabric(), stores: make(map[int32][][]int32), stored: make(map[[2]int32]health), openers: make(map[int32][]opener), ends: make(map[int32]ending), ways: make(map[[2]int32]bool)}
	if kept, ok := m.memories.Get().(*memory); ok {
		t.memory = kept
	} else {
		t.memory = new(memory)
	}
	t.asked = m.lease()
	if gone >= 0 {
		switch m.e.Kind(gone) {
		case estate.ISL, estate.Switch, estate.SwitchPort:
			t.f = without(m.e, gone)
		case estate.Fabric, estate.Site: // its switches go with it: their ports are asked for one by one
		}
	}
	return t
}

// lease returns a number for every object, all zero. Who borrows it puts it back into spare so.
func (m *Map) lease() *[]int32 {
	if kept, ok := m.spare.Get().(*[]int32); ok {
		return kept
	}
	fresh := make([]int32, m.e.Len())
	return &fresh
}

func (t *trial) ask(i int32, f func() health) health {
	if i == t.gone {
		return health{}
	}
	if n := (*t.asked)[i]; n > 0 {
		return t.known[n-1]
	}
	t.known, t.keys = append(t.known, well), append(t.keys, i)
	n := len(t.known)
	(*t.asked)[i] = int32(n)
	h := f()
	t.known[n-1] = h
	return h
}

// end gives back what the trial borrowed.
func (t *trial) end() {
	for _, i := range t.keys {
		(*t.asked)[i] = 0
	}
	t.spare.Put(t.asked)
	t.known, t.keys = t.known[:0], t.keys[:0]
	t.memories.Put(t.memory)
}

// of returns the devices by which hosts open a volume.
func (t *trial) of(volume int32) []opener {
	list, ok := t.openers[volume]
	if !ok {
		t.e.EachIn(volume, func(link estate.LinkKind, d int32) {
			if link == estate.Opens {
				if host, owned := t.e.Owner(d, estate.Host); owned {
					list = append(list, opener{host, d})
				}
			}
		})
		t.openers[volume] = list
	}
	return list
}

func (t *trial) vm(i int32) health {
	return t.ask(i, func() health {
		h := well
		t.e.EachOut(i, func(link estate.LinkKind, to int32) {
			switch link {
			case estate.RunsOn:
				h = h.and(t.whole(to))
			case estate.Uses:
				h = h.and(t.disk(to))
			}
		})
		return h
	})
}

// whole is the health of what stands as long as what it is part of does: a host of a cluster, a port of a controller.
func (t *trial) whole(i int32) health { return t.ask(i, func() health { return t.stands(i) }) }

// stands reports, as a health without spares, whether all that an object is part of stands.
func (t *trial) stands(i int32) health {
	h := well
	kind := t.e.Kind(i)
	t.e.EachOut(i, func(link estate.LinkKind, to int32) {
		if (link == estate.PartOf || link == estate.MemberOf) && slices.Contains(needs[kind], link) && !(link == estate.PartOf && t.Map.whole(i, kind, to)) {
			h.up = h.up && t.whole(to).up
		}
	})
	return h
}

func (t *trial) disk(i int32) health {
	return t.ask(i, func() health {
		h := well
		t.hosts = t.hosts[:0]
		t.e.EachIn(i, func(link estate.LinkKind, vm int32) {
			if link == estate.Uses {
				if host := t.e.First(vm, estate.RunsOn); host >= 0 {
					t.hosts = append(t.hosts, host)
				}
			}
		})
		hosts := t.hosts // nothing below looks at another disk
		stored, volumes := false, 0
		t.e.EachOut(i, func(link estate.LinkKind, on int32) {
			if link != estate.StoredOn {
				return
			}
			stored = true
			if on == t.gone {
				h.up = false
				return
			}
			if t.e.Kind(on) != estate.Datastore {
				volumes++
				h = h.and(t.lun([]int32{on}, hosts))
				return
			}
			n, of := t.datastore(on, hosts)
			volumes += n
			h = h.and(of)
		})
		if stored && volumes == 0 { // the array is not watched: the paths are what is known
			for _, d := range t.Devices(i) {
				h = h.and(t.hostDevice(d))
			}
		}
		return h
	})
}

// datastore returns how many LUNs a datastore lies on, and their health for these hosts.
func (t *trial) datastore(on int32, hosts []int32) (int, health) {
	luns, ok := t.stores[on]
	if !ok {
		luns = t.sameLUN(t.e.To(on, estate.Extent, estate.Exports))
		t.stores[on] = luns
	}
	alone := len(hosts) == 1 // as of nearly all disks: what one of a host's disks finds holds for its others
	if alone {
		if h, known := t.stored[[2]int32{on, hosts[0]}]; known {
			return len(luns), h
		}
	}
	h := well
	for _, legs := range luns {
		if h = h.and(t.lun(legs, hosts)); !h.up {
			break
		}
	}
	if alone {
		t.stored[[2]int32{on, hosts[0]}] = h
	}
	return len(luns), h
}

// hostDevice is the health of a host's device.
func (t *trial) hostDevice(d int32) health {
	if t.paths != nil {
		return t.paths.device(d)
	}
	return t.device(d)
}

// sameLUN groups volumes that hosts see as one: the legs of a mirror that share an identifier.
func (t *trial) sameLUN(volumes []int32) [][]int32 {
	var out [][]int32
next:
	for _, v := range volumes {
		for k, of := range out {
			if t.mirrored(of[0], v) {
				out[k] = append(of, v)
				continue next
			}
		}
		out = append(out, []int32{v})
	}
	return out
}

// lun is the health of what hosts see as one LUN: of its legs one is enough, and all devices by which these hosts open it
// must reach it. Paths lead to the leg whose array their port is part of.
func (t *trial) lun(legs, hosts []int32) health {
	var h health
	for _, v := range legs {
		leg := t.volume(v)
		if !leg.up && len(legs) == 1 {
			return leg // whatever its paths
		}
		for _, o := range t.of(v) {
			if !slices.Contains(hosts, o.host) {
				continue
			}
			if len(legs) > 1 {
				leg = leg.and(t.deviceTo(o.device, v))
			} else {
				leg = leg.and(t.hostDevice(o.device))
			}
		}
		if len(legs) > 1 && leg.up {
			leg.legs++
		}
		h = health{h.up || leg.up, h.legs + leg.legs, h.paths + leg.paths, h.spares + leg.spares}
	}
	return h
}

// device is the health of a host's, or a virtualizer's, view of a LUN: without listed paths it counts as reached.
func (t *trial) device(i int32) health {
	return t.ask(i, func() health {
		h := health{}
		listed := false
		t.eachPath(i, func(p int32) {
			listed = true
			if t.path(p) {
				h.paths++
			}
		})
		h.up = (!listed || h.paths > 0) && t.stands(i).up
		return h
	})
}

// deviceTo counts only the paths that lead to the array of a volume.
func (t *trial) deviceTo(i, volume int32) health {
	array, _ := t.e.Owner(volume, estate.Array)
	h := health{}
	listed := false
	t.eachPath(i, func(p int32) {
		target := t.e.First(p, estate.Target)
		if target < 0 {
			return
		}
		if of, ok := t.e.Owner(target, estate.Array); !ok || of != array {
			return
		}
		listed = true
		if t.path(p) {
			h.paths++
		}
	})
	h.up = i != t.gone && (!listed || h.paths > 0)
	return h
}

// path reports whether I/O can go along a path.
func (t *trial) path(p int32) bool {
	if p == t.gone {
		return false
	}
	if s := t.pathState(p); s != Active && s != Standby {
		return false
	}
	from, to := t.ending(t.e.First(p, estate.Initiator)), t.ending(t.e.First(p, estate.Target))
	if !from.up || !to.up {
		return false
	}
	return from.sw < 0 || to.sw < 0 || from.sw == to.sw || t.joined(from.sw, to.sw)
}

// ending is one end of a path: whether its port and what that is logged in to stand, and the switch, -1 where it is not known.
type ending struct {
	up bool
	sw int32
}

func (t *trial) ending(port int32) ending {
	if port < 0 {
		return ending{true, -1} // not known: nothing speaks against it
	}
	x, ok := t.ends[port]
	if !ok {
		x = ending{t.whole(port).up, -1}
		if sp := t.e.First(port, estate.Attached); sp >= 0 {
			x.up = x.up && t.whole(sp).up
			if sw, owned := t.e.Owner(sp, estate.Switch); owned {
				x.sw = sw
			}
		}
		t.ends[port] = x
	}
	return x
}

func (t *trial) joined(from, to int32) bool {
	way := [2]int32{from, to}
	joined, ok := t.ways[way]
	if !ok {
		joined = t.f.joined(from, to)
		t.ways[way] = joined
	}
	return joined
}

func (t *trial) volume(i int32) health {
	return t.ask(i, func() health {
		if lost(t.e.At(i)) {
			return health{}
		}
		h := t.stands(i)
		controllers, served := 0, t.e.To(i, estate.ServedBy)
		for _, c := range served {
			if t.whole(c).up {
				controllers++
			}
		}
		h.up = h.up && (len(served) == 0 || controllers > 0)
		h.paths += controllers // one that fails takes the ways over it
		for _, p := range t.e.To(i, estate.CarvedFrom) {
			h = h.and(t.medium(p))
		}
		legs := t.Backing(i)
		mirror := health{}
		mirrors := 0
		for _, l := range legs {
			leg := well
			if l.Device >= 0 {
				leg = t.device(l.Device)
			}
			if l.Volume >= 0 {
				leg = leg.and(t.volume(l.Volume))
			}
			leg.up = leg.up && l.State == Active
			if !l.Mirror {
				h = h.and(leg)
				continue
			}
			mirrors++
			if leg.up {
				leg.legs++
			}
			mirror = health{mirror.up || leg.up, mirror.legs + leg.legs, mirror.paths + leg.paths, mirror.spares + leg.spares}
		}
		if mirrors > 0 {
			h = h.and(mirror)
		}
		return h
	})
}

// medium is the health of a pool, a RAID group or a drive. A group stands as long as it lost no more drives than its level
// allows.
func (t *trial) medium(i int32) health {
	return t.ask(i, func() health {
		h := t.stands(i)
		if lost(t.e.At(i)) {
			h.up = false
		}
		of := t.e.To(i, estate.MadeOf)
		if len(of) == 0 {
			return h
		}
		if t.e.Kind(i) != estate.RAIDGroup {
			for _, part := range of {
				h = h.and(t.medium(part))
			}
			return h
		}
		working := 0
		for _, d := range of {
			if t.medium(d).up {
				working++
			}
		}
		spares := Tolerates(t.e.At(i).Facts.Text("raid"), len(of)) - (len(of) - working)
		h.up = h.up && spares >= 0
		h.spares += max(0, spares)
		return h
	})
}

// Tolerates returns how many drives a RAID group of n may lose for certain, by the level its source states: a number or
// "RAID 5", or data and parity drives as "6+2". One of two or more drives whose level is not stated is taken to survive the
// loss of one.
func Tolerates(raid string, n int) int {
	text := strings.ToLower(strings.NewReplacer("raid", "", "-", "", "_", "", " ", "").Replace(strings.ToLower(raid)))
	if data, parity, ok := strings.Cut(text, "+"); ok && data != "1" {
		count := 0
		for _, c := range parity {
			if c < '0' || c > '9' {
				break
			}
			count = count*10 + int(c-'0')
		}
		return min(count, max(0, n-1))
	}
	switch text {
	case "0", "jbod", "none":
		return 0
	case "6", "60", "dp":
		return min(2, max(0, n-1))
	case "tp", "7":
		return min(3, max(0, n-1))
	}
	return min(1, max(0, n-1))
}
