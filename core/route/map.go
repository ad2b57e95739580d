// Package route finds the ways of an I/O: down from a virtual disk through host, fabric, front end
// and back end to the drives, and up from any component to every VM that depends on it.
package route

import (
	"slices"

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

func rank(s State) int {
	return map[State]int{Active: 0, Standby: 1, Disabled: 2, Dead: 3}[s]
}

// worse returns the worse of two states: a way is as good as its worst part.
func worse(a, b State) State {
	if rank(a) >= rank(b) {
		return a
	}
	return b
}

// Step is a dependence: From needs To, by a way in that state.
type Step struct {
	From, To int32
	State    State
}

// Map is the dependence graph of an estate. It is read-only once made and safe for concurrent use.
type Map struct {
	e        *estate.Estate
	down, up [][]Step
	ways     map[int32]way     // by path
	accesses map[int32][]int32 // devices by vdisk
}

// way is what lies between the two ends of a path.
type way struct {
	initiator, target int32 // -1 where not known
	nearPort, farPort int32 // the switch ports they are logged in to, -1 where not known
	between           []int32
	state             State
	severed           bool
}

// NewMap derives who depends on whom in e.
func NewMap(e *estate.Estate) *Map {
	m := &Map{e: e, down: make([][]Step, e.Len()), up: make([][]Step, e.Len()), ways: make(map[int32]way), accesses: make(map[int32][]int32)}
	f := newFabrics(e)
	for i := range int32(e.Len()) {
		switch e.At(i).Key.Ref.Kind {
		case estate.VM:
			m.needs(i, e.To(i, estate.Uses), Active)
			m.needs(i, e.To(i, estate.RunsOn), Active)
		case estate.VDisk:
			m.needs(i, e.To(i, estate.StoredOn), Active)
			m.accesses[i] = m.access(i)
			m.needs(i, m.accesses[i], Active)
		case estate.Datastore:
			m.needs(i, e.To(i, estate.Extent, estate.Exports), Active)
		case estate.Device:
			m.needs(i, e.To(i, estate.Opens, estate.PartOf), Active)
			m.needs(i, m.paths(i), Active)
		case estate.Path:
			m.path(i, f)
		case estate.HBAPort, estate.SwitchPort, estate.TargetPort, estate.Controller:
			m.needs(i, e.To(i, estate.PartOf), Active)
		case estate.Pool, estate.RAIDGroup:
			m.needs(i, e.To(i, estate.MadeOf), Active)
			for _, whole := range e.To(i, estate.PartOf) {
				if !slices.Contains(e.To(whole, estate.MadeOf), i) { // the pool needs its groups, not they it
					m.need(i, whole, Active)
				}
			}
		case estate.ISL:
			m.needs(i, e.To(i, estate.Joins), Active)
		case estate.Switch:
			m.needs(i, e.To(i, estate.MemberOf, estate.PartOf), Active)
		case estate.Host:
			m.needs(i, e.To(i, estate.MemberOf), Active)
		case estate.Volume, estate.Share:
			m.volume(i)
		case estate.Drive:
			m.needs(i, e.To(i, estate.PartOf), Active)
		}
	}
	return m
}

// Estate returns the estate the map was made of.
func (m *Map) Estate() *estate.Estate { return m.e }

func (m *Map) need(from, to int32, s State) {
	m.down[from] = append(m.down[from], Step{from, to, s})
	m.up[to] = append(m.up[to], Step{from, to, s})
}

func (m *Map) needs(from int32, to []int32, s State) {
	for _, t := range to {
		m.need(from, t, s)
	}
}

func (m *Map) volume(i int32) {
	for n, c := range m.e.To(i, estate.ServedBy) {
		state := Active
		if n > 0 {
			state = Standby // the preferred controller comes first
		}
		m.need(i, c, state)
	}
	m.needs(i, m.e.To(i, estate.CarvedFrom, estate.BackedBy, estate.PartOf), Active)
}

// paths of a device: those that say they are part of it.
func (m *Map) paths(device int32) []int32 {
	var at []int32
	for _, p := range m.e.From(device, estate.PartOf) {
		if m.e.At(p).Key.Ref.Kind == estate.Path {
			at = append(at, p)
		}
	}
	return at
}

// volumes of a vdisk: those its datastores extend over, or the raw one.
func (m *Map) volumes(vdisk int32) []int32 {
	var at []int32
	for _, on := range m.e.To(vdisk, estate.StoredOn) {
		switch m.e.At(on).Key.Ref.Kind {
		case estate.Datastore:
			at = append(at, m.e.To(on, estate.Extent)...)
		case estate.Volume:
			at = append(at, on)
		}
	}
	return at
}

// access returns the devices through which the host that runs the disk's VM now reaches its volumes.
func (m *Map) access(vdisk int32) []int32 {
	var hosts []int32
	for _, vm := range m.e.From(vdisk, estate.Uses) {
		hosts = append(hosts, m.e.To(vm, estate.RunsOn)...)
	}
	var at []int32
	seen := func(d int32) {
		host, ok := m.e.Owner(d, estate.Host)
		if ok && slices.Contains(hosts, host) && !slices.Contains(at, d) {
			at = append(at, d)
		}
	}
	for _, v := range m.volumes(vdisk) {
		for _, d := range m.e.From(v, estate.Opens) {
			seen(d)
		}
	}
	if len(at) > 0 {
		return at
	}
	// The array is not watched, but the host's devices are: join by the datastore's extents.
	for _, on := range m.e.To(vdisk, estate.StoredOn) {
		for _, id := range estate.Identities(m.e.At(on)) {
			if id.Scheme != estate.NAA && id.Scheme != estate.LUN {
				continue
			}
			for _, d := range m.e.Lookup(id) {
				if m.e.At(d).Key.Ref.Kind == estate.Device {
					seen(d)
				}
			}
		}
	}
	return at
}

func (m *Map) path(i int32, f *fabrics) {
	w := way{initiator: -1, target: -1, nearPort: -1, farPort: -1, state: Active}
	switch State(m.e.At(i).Facts.Text("state")) {
	case Standby:
		w.state = Standby
	case Dead:
		w.state = Dead
	case Disabled:
		w.state = Disabled
	}
	first := func(at []int32) int32 {
		if len(at) == 0 {
			return -1
		}
		return at[0]
	}
	if w.initiator = first(m.e.To(i, estate.Initiator)); w.initiator >= 0 {
		w.nearPort = first(m.e.To(w.initiator, estate.Attached))
	}
	if w.target = first(m.e.To(i, estate.Target)); w.target >= 0 {
		w.farPort = first(m.e.To(w.target, estate.Attached))
	}
	if w.nearPort >= 0 && w.farPort >= 0 {
		near, okN := m.e.Owner(w.nearPort, estate.Switch)
		far, okF := m.e.Owner(w.farPort, estate.Switch)
		if okN && okF {
			var joined bool
			w.between, joined = f.between(near, far)
			w.severed = !joined
		}
	}
	m.ways[i] = w
	for _, to := range w.stops() {
		m.need(i, to, w.state)
	}
}

// stops lists the objects of a way in order.
func (w way) stops() []int32 {
	var at []int32
	add := func(i int32) {
		if i >= 0 && !slices.Contains(at, i) {
			at = append(at, i)
		}
	}
	add(w.initiator)
	add(w.nearPort)
	for _, l := range w.between {
		add(l)
	}
	add(w.farPort)
	add(w.target)
	return at
}

// Reached is an object that depends on another, by its best way.
type Reached struct {
	At    int32
	State State
}

// Reach returns all that depends on i, nearest first, with the best state by which it does: an
// object that depends on i only by standby paths is Standby.
func (m *Map) Reach(i int32) []Reached { return walk(m.up, i, func(s Step) int32 { return s.From }) }

// Below returns all that i depends on, nearest first.
func (m *Map) Below(i int32) []Reached { return walk(m.down, i, func(s Step) int32 { return s.To }) }

func walk(steps [][]Step, start int32, next func(Step) int32) []Reached {
	best := map[int32]State{start: Active}
	order := []int32{start}
	// One pass a state, best first: what is reached in an earlier pass keeps its better state.
	for _, pass := range []State{Active, Standby, Disabled, Dead} {
		queue := slices.Clone(order)
		for len(queue) > 0 {
			at := queue[0]
			queue = queue[1:]
			for _, s := range steps[at] {
				to := next(s)
				state := worse(best[at], s.State)
				if rank(state) > rank(pass) {
					continue
				}
				if _, done := best[to]; done {
					continue
				}
				best[to] = state
				order = append(order, to)
				queue = append(queue, to)
			}
		}
	}
	out := make([]Reached, 0, len(order)-1)
	for _, at := range order[1:] {
		out = append(out, Reached{at, best[at]})
	}
	return out
}

// VMs returns the VMs that depend on i, by name.
func (m *Map) VMs(i int32) []Reached {
	var out []Reached
	if m.e.At(i).Key.Ref.Kind == estate.VM {
		return []Reached{{i, Active}}
	}
	for _, r := range m.Reach(i) {
		if m.e.At(r.At).Key.Ref.Kind == estate.VM {
			out = append(out, r)
		}
	}
	slices.SortFunc(out, func(a, b Reached) int {
		return slices.Compare([]string{m.e.At(a.At).Title()}, []string{m.e.At(b.At).Title()})
	})
	return out
}

// VDisks returns the virtual disks that depend on i (those of a VM, or itself for a vdisk).
func (m *Map) VDisks(i int32) []Reached {
	switch m.e.At(i).Key.Ref.Kind {
	case estate.VDisk:
		return []Reached{{i, Active}}
	case estate.VM:
		var out []Reached
		for _, d := range m.e.To(i, estate.Uses) {
			out = append(out, Reached{d, Active})
		}
		return out
	}
	var out []Reached
	for _, r := range m.Reach(i) {
		if m.e.At(r.At).Key.Ref.Kind == estate.VDisk {
			out = append(out, r)
		}
	}
	return out
}

// Devices returns the host devices through which a virtual disk is reached.
func (m *Map) Devices(vdisk int32) []int32 { return m.accesses[vdisk] }

// Disks returns the virtual disks that a host device carries.
func (m *Map) Disks(device int32) []int32 {
	var at []int32
	for _, s := range m.up[device] {
		if m.e.At(s.From).Key.Ref.Kind == estate.VDisk {
			at = append(at, s.From)
		}
	}
	return at
}

// Volumes returns the volumes or shares on which a virtual disk lies.
func (m *Map) Volumes(vdisk int32) []int32 {
	at := m.volumes(vdisk)
	for _, on := range m.e.To(vdisk, estate.StoredOn) {
		switch m.e.At(on).Key.Ref.Kind {
		case estate.Datastore:
			at = append(at, m.e.To(on, estate.Exports)...)
		case estate.Share:
			at = append(at, on)
		}
	}
	return at
}

// Backing returns what a virtualizer's volume lies on: for each leg its back-end device, -1 where the
// source names the volume itself, and the back-end volume, -1 where that is not known.
func (m *Map) Backing(volume int32) (legs []Leg) {
	for _, b := range m.e.To(volume, estate.BackedBy) {
		leg := Leg{Device: -1, Volume: -1}
		if m.e.At(b).Key.Ref.Kind == estate.Device {
			leg.Device = b
			if opened := m.e.To(b, estate.Opens); len(opened) > 0 {
				leg.Volume = opened[0]
			}
		} else {
			leg.Volume = b
		}
		legs = append(legs, leg)
	}
	return legs
}

// Leg is one backing of a virtualizer's volume.
type Leg struct{ Device, Volume int32 }
