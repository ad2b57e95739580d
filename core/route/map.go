// Package route finds the ways of an I/O: down from a virtual disk through host, fabric, front end
// and back end to the drives, and up from any component to every VM that depends on it.
package route

import (
	"cmp"
	"slices"
	"sync"
	"sync/atomic"

	"dowsingrod/core/estate"
)

// State is the state of a way, as the host sees its path.
type State string

// States of a way, from best to worst.
const (
	Active   State = "active"
	Standby  State = "standby"
	Disabled State = "disabled"
	Dead     State = "dead"
)

// NotZoned is a way that the cables allow and the zones do not. It is drawn, and nothing depends on it.
const NotZoned State = "not zoned"

var states = []State{Active, Standby, Disabled, Dead}

func rank(s State) int {
	switch s {
	case Active:
		return 0
	case Standby:
		return 1
	case Disabled:
		return 2
	case Dead:
		return 3
	}
	return 4
}

// Map tells who depends on whom in an estate. It derives what it is asked for from the estate's links, so making one costs
// nothing. It is safe for concurrent use.
type Map struct {
	e    *estate.Estate
	once sync.Once
	f    *fabrics

	spare sync.Pool // of *[]int32 as long as the estate, all zero
	ranks sync.Pool // of *[]uint8 as long as the estate, all unseen by a walk

	standing sync.Mutex // of stands
	stands   *trial     // how the estate stands as it is

	disks atomic.Pointer[disksOf] // those of the component that was asked about last: an explanation asks for them again and again

	memories sync.Pool // of *memory, empty
	queues   sync.Pool // of *[4][]int32, empty
}

// NewMap returns the map of e.
func NewMap(e *estate.Estate) *Map { return &Map{e: e} }

// Estate returns the estate the map is of.
func (m *Map) Estate() *estate.Estate { return m.e }

// fabric returns the switches and what joins them, found at the first question that needs it.
func (m *Map) fabric() *fabrics {
	m.once.Do(func() { m.f = newFabrics(m.e) })
	return m.f
}

// needs lists the links along which an object of a kind depends on what they lead to.
var needs = map[estate.Kind][]estate.LinkKind{
	estate.VM:          {estate.Uses, estate.RunsOn},
	estate.VDisk:       {estate.StoredOn},
	estate.Datastore:   {estate.Extent, estate.Exports},
	estate.Device:      {estate.Opens, estate.PartOf},
	estate.HBAPort:     {estate.PartOf},
	estate.SwitchPort:  {estate.PartOf},
	estate.TargetPort:  {estate.PartOf},
	estate.Controller:  {estate.PartOf, estate.MemberOf},
	estate.Pool:        {estate.MadeOf, estate.PartOf},
	estate.RAIDGroup:   {estate.MadeOf, estate.PartOf},
	estate.ISL:         {estate.Joins},
	estate.Switch:      {estate.MemberOf, estate.PartOf},
	estate.Host:        {estate.MemberOf},
	estate.Cluster:     {estate.MemberOf},
	estate.Volume:      {estate.ServedBy, estate.CarvedFrom, estate.BackedBy, estate.PartOf},
	estate.Share:       {estate.ServedBy, estate.CarvedFrom, estate.BackedBy, estate.PartOf},
	estate.Drive:       {estate.PartOf},
	estate.Enclosure:   {estate.PartOf, estate.MemberOf},
	estate.Array:       {estate.MemberOf},
	estate.Fabric:      {estate.MemberOf},
	estate.Fan:         {},
	estate.PowerSupply: {},
}

// down calls f with everything i depends on directly, and by ways of which state.
func (m *Map) down(i int32, f func(to int32, s State)) {
	kind := m.e.Kind(i)
	along := needs[kind]
	served := 0
	m.e.EachOut(i, func(link estate.LinkKind, to int32) {
		if !slices.Contains(along, link) || link == estate.PartOf && m.whole(i, kind, to) {
			return
		}
		state := Active
		if link == estate.ServedBy {
			if served > 0 {
				state = Standby // the preferred controller comes first
			}
			served++
		}
		f(to, state)
	})
	switch kind {
	case estate.VDisk:
		for _, d := range m.Devices(i) {
			f(d, Active)
		}
	case estate.Device:
		m.eachPath(i, func(p int32) { f(p, Active) })
	case estate.Path:
		w := m.way(i)
		for _, to := range w.stops() {
			f(to, w.state)
		}
	}
}

// whole reports whether a part is what its whole is made of: then the whole depends on the part, and not it on the whole.
func (m *Map) whole(part int32, kind estate.Kind, whole int32) bool {
	return (kind == estate.Pool || kind == estate.RAIDGroup) && slices.Contains(m.e.To(whole, estate.MadeOf), part)
}

// up calls f with everything that depends on i directly, and by ways of which state: the reverse of down.
func (m *Map) up(i int32, f func(from int32, s State)) {
	kind := m.e.Kind(i)
	m.e.EachIn(i, func(link estate.LinkKind, from int32) {
		k := m.e.Kind(from)
		if !slices.Contains(needs[k], link) || link == estate.PartOf && m.whole(from, k, i) {
			return
		}
		state := Active
		if link == estate.ServedBy && m.e.First(from, estate.ServedBy) != i {
			state = Standby
		}
		f(from, state)
	})
	switch kind {
	case estate.Device:
		for _, d := range m.Disks(i) {
			f(d, Active)
		}
	case estate.Path:
		m.e.EachOut(i, func(link estate.LinkKind, to int32) {
			if link == estate.PartOf && m.e.Kind(to) == estate.Device {
				f(to, Active)
			}
		})
	case estate.HBAPort, estate.TargetPort:
		m.pathsOf(i, func(p int32) { f(p, m.pathState(p)) })
	case estate.SwitchPort:
		m.e.EachIn(i, func(link estate.LinkKind, from int32) {
			if link == estate.Attached && m.e.First(from, estate.Attached) == i {
				m.pathsOf(from, func(p int32) { f(p, m.pathState(p)) })
			}
		})
	case estate.ISL:
		for _, p := range m.pathsOver(i) {
			f(p, m.pathState(p))
		}
	}
}

// pathsOf calls f with the paths that begin or end at a port.
func (m *Map) pathsOf(port int32, f func(path int32)) {
	m.e.EachIn(port, func(link estate.LinkKind, from int32) {
		if m.e.Kind(from) != estate.Path {
			return
		}
		if (link == estate.Initiator || link == estate.Target) && m.e.First(from, link) == port {
			f(from)
		}
	})
}

// eachPath calls f with the paths of a device: those that say they are part of it.
func (m *Map) eachPath(device int32, f func(path int32)) {
	m.e.EachIn(device, func(link estate.LinkKind, from int32) {
		if link == estate.PartOf && m.e.Kind(from) == estate.Path {
			f(from)
		}
	})
}

func (m *Map) paths(device int32) []int32 {
	var at []int32
	m.eachPath(device, func(p int32) { at = append(at, p) })
	return at
}

// volumes calls f with the volumes of a vdisk: those its datastores extend over, or the raw one.
func (m *Map) volumes(vdisk int32, f func(volume int32)) {
	m.e.EachOut(vdisk, func(link estate.LinkKind, on int32) {
		if link != estate.StoredOn {
			return
		}
		switch m.e.Kind(on) {
		case estate.Datastore:
			m.e.EachOut(on, func(link estate.LinkKind, v int32) {
				if link == estate.Extent {
					f(v)
				}
			})
		case estate.Volume:
			f(on)
		}
	})
}

// hostsOf lists the hosts that run the VMs of a vdisk.
func (m *Map) hostsOf(vdisk int32) []int32 {
	var hosts []int32
	m.e.EachIn(vdisk, func(link estate.LinkKind, vm int32) {
		if link == estate.Uses {
			m.e.EachOut(vm, func(link estate.LinkKind, host int32) {
				if link == estate.RunsOn {
					hosts = append(hosts, host)
				}
			})
		}
	})
	return hosts
}

// Devices returns the devices through which the host that runs the disk's VM now reaches its volumes.
func (m *Map) Devices(vdisk int32) []int32 {
	hosts := m.hostsOf(vdisk)
	if len(hosts) == 0 {
		return nil
	}
	var at []int32
	seen := func(d int32) {
		host, ok := m.e.Owner(d, estate.Host)
		if ok && slices.Contains(hosts, host) && !slices.Contains(at, d) {
			at = append(at, d)
		}
	}
	m.volumes(vdisk, func(v int32) {
		m.e.EachIn(v, func(link estate.LinkKind, d int32) {
			if link == estate.Opens {
				seen(d)
			}
		})
	})
	if len(at) > 0 {
		return at
	}
	// The array is not watched, but the host's devices are: join by the datastore's extents.
	for _, on := range m.e.To(vdisk, estate.StoredOn) {
		for _, id := range estate.Identities(m.e.At(on)) {
			if id.Scheme != estate.NAA && id.Scheme != estate.EUI && id.Scheme != estate.LUN {
				continue
			}
			for _, d := range m.e.Lookup(id) {
				if m.e.Kind(d) == estate.Device {
					seen(d)
				}
			}
		}
	}
	return at
}

// Disks returns the virtual disks that a host device carries: the reverse of Devices.
func (m *Map) Disks(device int32) []int32 {
	host, ok := m.e.Owner(device, estate.Host)
	if !ok {
		return nil
	}
	var at []int32
	stored := func(on int32, sure bool) {
		m.e.EachIn(on, func(link estate.LinkKind, disk int32) {
			if link != estate.StoredOn || m.e.Kind(disk) != estate.VDisk || slices.Contains(at, disk) {
				return
			}
			if sure && slices.Contains(m.hostsOf(disk), host) || !sure && slices.Contains(m.Devices(disk), device) {
				at = append(at, disk)
			}
		})
	}
	opened := m.e.To(device, estate.Opens)
	for _, v := range opened {
		stored(v, true)
		for _, ds := range m.e.From(v, estate.Extent) {
			stored(ds, true)
		}
	}
	if len(opened) == 0 {
		for _, id := range estate.Identities(m.e.At(device)) {
			for _, ds := range m.e.Lookup(id) {
				if m.e.Kind(ds) == estate.Datastore {
					stored(ds, false)
				}
			}
		}
	}
	return at
}

// Reached is an object that depends on another, by its best way.
type Reached struct {
	At    int32
	State State
}

// Reach returns all that depends on i, nearest first, with the best state by which it does: an
// object that depends on i only by standby paths is Standby.
func (m *Map) Reach(i int32) []Reached { return m.walk([]int32{i}, true) }

// Below returns all that i depends on, nearest first; of several, all that any of them depends on, themselves left out.
func (m *Map) Below(i ...int32) []Reached { return m.walk(i, false) }

// walk follows steps from where it starts. What can be reached in a better state is reached so: states are taken one after another,
// best first.
func (m *Map) walk(starts []int32, upward bool) []Reached {
	const unseen = 9
	kept, ok := m.ranks.Get().(*[]uint8) // all unseen
	if !ok {
		fresh := make([]uint8, m.e.Len())
		for i := range fresh {
			fresh[i] = unseen
		}
		kept = &fresh
	}
	best := *kept
	queues, ok := m.queues.Get().(*[4][]int32)
	if !ok {
		queues = new([4][]int32)
	}
	from := make(map[int32]bool, len(starts))
	for _, start := range starts {
		if !from[start] {
			from[start], best[start] = true, 0
			queues[0] = append(queues[0], start)
		}
	}
	total := 0
	for r := range queues {
		reached := 0 // those that stay lie at the front of the queue
		follow := func(to int32, s State) {
			if state := max(r, rank(s)); int(best[to]) > state {
				best[to] = uint8(state)
				queues[state] = append(queues[state], to)
			}
		}
		for n := 0; n < len(queues[r]); n++ {
			at := queues[r][n]
			if int(best[at]) != r {
				continue // reached in a better state since
			}
			if !from[at] {
				queues[r][reached] = at
				reached++
			}
			switch {
			case !upward:
				m.down(at, follow)
			case m.e.Kind(at) != estate.Device || from[at] || !m.covered(at, best, uint8(r)):
				m.up(at, follow)
			}
		}
		queues[r] = queues[r][:reached]
		total += reached
	}
	out := make([]Reached, 0, total)
	for r := range queues {
		for _, at := range queues[r] {
			out = append(out, Reached{at, states[r]})
		}
	}
	for _, start := range starts {
		best[start] = unseen
	}
	for _, r := range out {
		best[r.At] = unseen
	}
	m.ranks.Put(kept)
	for r := range queues {
		queues[r] = queues[r][:0]
	}
	m.queues.Put(queues)
	return out
}

// covered reports whether all a device opens has been reached as well as the device: then so have been the disks it
// carries.
func (m *Map) covered(device int32, best []uint8, r uint8) bool {
	any, all := false, true
	m.e.EachOut(device, func(link estate.LinkKind, v int32) {
		if link == estate.Opens {
			any = true
			all = all && best[v] <= r
		}
	})
	return any && all && m.e.First(device, estate.PartOf) >= 0 && m.e.Kind(m.e.First(device, estate.PartOf)) == estate.Host
}

// VMs returns the VMs that depend on i, by name.
func (m *Map) VMs(i int32) []Reached {
	if m.e.Kind(i) == estate.VM {
		return []Reached{{i, Active}}
	}
	var out []Reached
	for _, r := range m.Reach(i) {
		if m.e.Kind(r.At) == estate.VM {
			out = append(out, r)
		}
	}
	slices.SortFunc(out, func(a, b Reached) int { return cmp.Compare(m.e.At(a.At).Title(), m.e.At(b.At).Title()) })
	return out
}

// disksOf are the virtual disks that depend on an object.
type disksOf struct {
	of    int32
	disks []Reached
}

// VDisks returns the virtual disks that depend on i (those of a VM, or itself for a vdisk). They must not be changed.
func (m *Map) VDisks(i int32) []Reached {
	var out []Reached
	switch m.e.Kind(i) {
	case estate.VDisk:
		return []Reached{{i, Active}}
	case estate.VM:
		for _, d := range m.e.To(i, estate.Uses) {
			out = append(out, Reached{d, Active})
		}
		return out
	}
	if kept := m.disks.Load(); kept != nil && kept.of == i {
		return kept.disks
	}
	for _, r := range m.Reach(i) {
		if m.e.Kind(r.At) == estate.VDisk {
			out = append(out, r)
		}
	}
	out = slices.Clip(out) // who appends gets a copy
	m.disks.Store(&disksOf{i, out})
	return out
}

// Volumes returns the volumes or shares on which a virtual disk lies.
func (m *Map) Volumes(vdisk int32) []int32 {
	var at []int32
	m.volumes(vdisk, func(v int32) { at = append(at, v) })
	for _, on := range m.e.To(vdisk, estate.StoredOn) {
		switch m.e.Kind(on) {
		case estate.Datastore:
			at = append(at, m.e.To(on, estate.Exports)...)
		case estate.Share:
			at = append(at, on)
		}
	}
	return at
}
