package route

import (
	"cmp"
	"fmt"
	"slices"

	"dowsingrod/core/estate"
)

// Node is an object in a section, with the names both administrators know it by.
type Node struct {
	Ref     string       `json:"ref" doc:"Address, kind:id@source"`
	Kind    estate.Kind  `json:"kind" doc:"Kind of object"`
	Layer   estate.Layer `json:"layer" doc:"The layer it lies in here; all that backs a virtualizer lies in the back end"`
	Row     int          `json:"row" doc:"Order of depth within the section, from 0 at the surface"`
	Name    string       `json:"name" doc:"Its name"`
	Owner   string       `json:"owner,omitempty" doc:"Name of the host, switch, or array that it is part of"`
	Aliases []string     `json:"aliases,omitempty" doc:"Other identifiers it is known by: NAA, WWPN, LUN number"`
	Tier    string       `json:"tier,omitempty" doc:"Service tier of a VM"`
}

// Link joins two nodes of a section.
type Link struct {
	From  int   `json:"from" doc:"Index of the upper node"`
	To    int   `json:"to" doc:"Index of the lower node"`
	State State `json:"state" doc:"Best state of the ways that run here" enum:"active,standby,disabled,dead"`
	Ways  int   `json:"ways" doc:"Number of routes that run here"`
}

// Route is one way from a virtual disk (or host) to its volume.
type Route struct {
	State State  `json:"state" doc:"As the host sees the path" enum:"active,standby,disabled,dead"`
	Stops []int  `json:"stops" doc:"Indexes of the nodes passed, in order"`
	LUN   string `json:"lun,omitempty" doc:"LUN number of the path"`
}

// Break is a place where a route is not known.
type Break struct {
	After string `json:"after" doc:"The last object known, kind:id@source"`
	Name  string `json:"name" doc:"Its name"`
	Why   string `json:"why" doc:"Why the route ends there"`
}

// Section is the cut through the layers along all routes of an object: down to the drives and up to
// the VMs.
type Section struct {
	Focus  string  `json:"focus" doc:"The object it starts from, kind:id@source"`
	Nodes  []Node  `json:"nodes" doc:"All objects passed, ordered by row, then name"`
	Links  []Link  `json:"links" doc:"What joins them"`
	Routes []Route `json:"routes" doc:"Each single route down to the volume, at most 500"`
	More   int     `json:"more" doc:"Routes beyond those listed"`
	VMs    int     `json:"vms" doc:"VMs that depend on the focus"`
	Breaks []Break `json:"breaks" doc:"Where the map ends, and why"`
}

const listedRoutes = 500

// rows order kinds from the surface down; the back-end fabric and arrays of a virtualizer follow its
// own volume.
var rows = map[estate.Kind]int{estate.VM: 0, estate.VDisk: 1, estate.Host: 2, estate.Device: 3, estate.Datastore: 4,
	estate.HBAPort: 5, estate.TargetPort: 9, estate.Controller: 10, estate.Volume: 11, estate.Share: 11,
	estate.Pool: 20, estate.RAIDGroup: 21, estate.Drive: 22}

const (
	rowNearPort, rowISL, rowFarPort = 6, 7, 8
	rowBackDevice                   = 12
	rowBackController, rowBackArray = 16, 17
)

type cutter struct {
	*Map
	nodes  map[int32]Node
	links  map[[2]int32]*linkSum
	routes [][]int32
	states []State
	luns   []string
	more   int
	breaks []Break
}

type linkSum struct {
	state State
	ways  int
}

// Section cuts through the layers along all routes that pass i. It does not fail: where a route is
// not known it ends with a Break.
func (m *Map) Section(i int32) Section {
	c := &cutter{Map: m, nodes: make(map[int32]Node), links: make(map[[2]int32]*linkSum)}
	disks := m.VDisks(i)
	focus := m.through(i)
	if len(disks) == 0 {
		c.idle(i)
	}
	for _, d := range disks {
		c.disk(d.At, focus)
	}
	if _, drawn := c.nodes[i]; !drawn && c.kind(i) != estate.Device && c.kind(i) != estate.Path {
		c.put(i, m.e.At(i).Key.Ref.Kind.Layer(), rowOf(c.kind(i)))
	}
	return c.section(i)
}

// through returns the filter that keeps only what passes the focus. For a focus that is passed by
// every route of its disks (a VM, a pool, a volume) it keeps all.
func (m *Map) through(i int32) func(path int32) bool {
	switch m.e.At(i).Key.Ref.Kind {
	case estate.Path:
		return func(path int32) bool { return path == i }
	case estate.HBAPort, estate.SwitchPort, estate.ISL, estate.TargetPort, estate.Switch, estate.Fabric:
		passing := map[int32]bool{}
		for _, r := range m.Reach(i) {
			passing[r.At] = true
		}
		return func(path int32) bool { return passing[path] }
	}
	return func(int32) bool { return true }
}

func (c *cutter) kind(i int32) estate.Kind { return c.e.At(i).Key.Ref.Kind }

func rowOf(k estate.Kind) int {
	if r, ok := rows[k]; ok {
		return r
	}
	return rowNearPort
}

func (c *cutter) put(i int32, layer estate.Layer, row int) {
	if _, ok := c.nodes[i]; !ok {
		c.nodes[i] = c.describe(i, layer, row)
	}
}

func (c *cutter) describe(i int32, layer estate.Layer, row int) Node {
	o := c.e.At(i)
	n := Node{Ref: o.Key.String(), Kind: o.Key.Ref.Kind, Layer: layer, Row: row, Name: o.Title(), Tier: o.Tier()}
	for _, k := range []estate.Kind{estate.Host, estate.Switch, estate.Array} {
		if owner, ok := c.e.Owner(i, k); ok {
			n.Owner = c.e.At(owner).Title()
			break
		}
	}
	n.Aliases = Aliases(o)
	return n
}

// Aliases lists the other identifiers an object is known by, in display notation.
func Aliases(o *estate.Node) []string {
	var out []string
	for _, id := range estate.Identities(o) {
		out = append(out, id.Display())
	}
	if lun := o.Facts.Text("number"); lun != "" {
		out = append(out, "LUN "+lun)
	}
	return out
}

func (c *cutter) link(from, to int32, state State) {
	if from == to {
		return
	}
	l := c.links[[2]int32{from, to}]
	if l == nil {
		l = &linkSum{state: state}
		c.links[[2]int32{from, to}] = l
	}
	if rank(state) < rank(l.state) {
		l.state = state
	}
	l.ways++
}

func (c *cutter) stop(after int32, why string, args ...any) {
	b := Break{c.e.At(after).Key.String(), c.e.At(after).Title(), fmt.Sprintf(why, args...)}
	if !slices.Contains(c.breaks, b) {
		c.breaks = append(c.breaks, b)
	}
}

// disk draws all routes of one virtual disk that the filter keeps.
func (c *cutter) disk(d int32, keep func(int32) bool) {
	top := []int32{}
	for _, vm := range c.e.From(d, estate.Uses) {
		c.put(vm, estate.LayerGuest, rows[estate.VM])
		top = append(top, vm)
		for _, h := range c.e.To(vm, estate.RunsOn) {
			c.put(h, estate.LayerHost, rows[estate.Host])
			top = append(top, d, h)
		}
	}
	c.put(d, estate.LayerGuest, rows[estate.VDisk])
	if len(top) == 0 {
		top = []int32{d}
	}
	for _, on := range c.e.To(d, estate.StoredOn) {
		way := slices.Clone(top)
		if c.kind(on) == estate.Datastore {
			c.put(on, estate.LayerDatastore, rows[estate.Datastore])
			way = append(way, on)
		}
		volumes := []int32{on}
		if c.kind(on) == estate.Datastore {
			volumes = c.e.To(on, estate.Extent, estate.Exports)
			if len(volumes) == 0 {
				c.chain(way, Active, "")
				c.stop(on, "no array or filer that is watched holds its extents")
			}
		}
		for _, v := range volumes {
			c.volumeRoutes(way, d, v, keep)
		}
	}
	if len(c.e.To(d, estate.StoredOn)) == 0 {
		c.chain(top, Active, "")
		c.stop(d, "its source does not say what it is stored on")
	}
}

func (c *cutter) volumeRoutes(top []int32, d, v int32, keep func(int32) bool) {
	paths := 0
	for _, dev := range c.Devices(d) {
		if !slices.Contains(c.e.To(dev, estate.Opens), v) {
			continue
		}
		for _, p := range c.paths(dev) {
			paths++
			if keep(p) {
				c.viaPath(top, p, v)
			}
		}
	}
	if paths == 0 {
		c.put(v, estate.LayerFrontEnd, rowOf(c.kind(v)))
		c.chain(append(slices.Clone(top), v), Active, "")
		if c.kind(v) != estate.Share {
			c.stop(top[len(top)-1], "no source lists the paths of this host to %s", c.e.At(v).Title())
		}
		for n, ctl := range c.e.To(v, estate.ServedBy) {
			c.put(ctl, estate.LayerFrontEnd, rows[estate.Controller])
			c.link(ctl, v, served(n))
		}
	}
	c.below(v, estate.LayerFrontEnd)
}

func served(n int) State {
	if n == 0 {
		return Active
	}
	return Standby
}

func (c *cutter) viaPath(top []int32, p, v int32) {
	w := c.way(p)
	stops := slices.Clone(top)
	add := func(i int32, layer estate.Layer, row int) {
		if i >= 0 {
			c.put(i, layer, row)
			stops = append(stops, i)
		}
	}
	add(w.initiator, estate.LayerHost, rows[estate.HBAPort])
	add(w.nearPort, estate.LayerFabric, rowNearPort)
	for _, l := range w.between {
		if c.kind(l) == estate.ISL {
			add(l, estate.LayerFabric, rowISL)
		}
	}
	if w.farPort != w.nearPort {
		add(w.farPort, estate.LayerFabric, rowFarPort)
	}
	add(w.target, estate.LayerFrontEnd, rows[estate.TargetPort])
	switch {
	case w.initiator < 0:
		c.stop(top[len(top)-1], "the host adapter port of a path is not known")
	case w.severed:
		c.stop(w.nearPort, "no inter-switch link leads on to the array's switch")
	case w.target < 0:
		c.stop(stops[len(stops)-1], "the array port of a path is not known")
	}
	if w.target >= 0 {
		if ctl, ok := c.e.Owner(w.target, estate.Controller); ok {
			add(ctl, estate.LayerFrontEnd, rows[estate.Controller])
		}
	}
	add(v, estate.LayerFrontEnd, rowOf(c.kind(v)))
	c.chain(stops, w.state, c.e.At(p).Facts.Text("lun"))
}

// chain records one route and the links along it. Parallel ISLs fan out and in again.
func (c *cutter) chain(stops []int32, state State, lun string) {
	prev := []int32{}
	for k := 0; k < len(stops); {
		group := []int32{stops[k]}
		for k++; k < len(stops) && c.kind(stops[k]) == estate.ISL && c.kind(group[0]) == estate.ISL; k++ {
			group = append(group, stops[k])
		}
		for _, a := range prev {
			for _, b := range group {
				s := state
				if c.nodes[b].Row <= rows[estate.Datastore] {
					s = Active // above the paths there is nothing to stand by
				}
				c.link(a, b, s)
			}
		}
		prev = group
	}
	if len(c.routes) >= listedRoutes {
		c.more++
		return
	}
	c.routes, c.states, c.luns = append(c.routes, stops), append(c.states, state), append(c.luns, lun)
}

// below draws what a volume lies on. Beneath a virtualizer's volume everything is back end.
func (c *cutter) below(v int32, _ estate.Layer) {
	legs := c.Backing(v)
	for _, leg := range legs {
		at := v
		if leg.Device >= 0 {
			c.put(leg.Device, estate.LayerBackEnd, rowBackDevice)
			c.once(at, leg.Device)
			at = leg.Device
		}
		if leg.Volume < 0 {
			c.stop(at, "the array behind this virtualizer is not watched")
			continue
		}
		if own := c.e.To(leg.Volume, estate.ServedBy); len(own) > 0 {
			c.put(own[0], estate.LayerBackEnd, rowBackController)
			c.once(at, own[0])
			at = own[0]
		}
		c.put(leg.Volume, estate.LayerBackEnd, rowBackArray)
		c.once(at, leg.Volume)
		c.pools(leg.Volume)
	}
	if len(legs) == 0 {
		c.pools(v)
	}
}

func (c *cutter) pools(v int32) {
	pools := c.e.To(v, estate.CarvedFrom)
	if len(pools) == 0 {
		c.stop(v, "its array does not say which pool it is carved from")
	}
	for _, p := range pools {
		c.put(p, estate.LayerBackEnd, rows[estate.Pool])
		c.once(v, p)
		c.members(p)
	}
}

func (c *cutter) members(i int32) {
	for _, r := range c.e.To(i, estate.MadeOf) {
		c.put(r, estate.LayerBackEnd, rowOf(c.kind(r)))
		if c.once(i, r) {
			c.members(r)
		}
	}
}

// once links two nodes a single time, and reports whether it was the first.
func (c *cutter) once(from, to int32) bool {
	if c.links[[2]int32{from, to}] != nil {
		return false
	}
	c.link(from, to, Active)
	return true
}

// idle draws a component that no VM depends on: what is below it, and what it is part of.
func (c *cutter) idle(i int32) {
	k := c.kind(i)
	c.put(i, k.Layer(), rowOf(k))
	switch k {
	case estate.Volume, estate.Share:
		c.below(i, estate.LayerFrontEnd)
	case estate.Pool, estate.RAIDGroup:
		c.members(i)
	}
}

func (c *cutter) section(focus int32) Section {
	s := Section{Focus: c.e.At(focus).Key.String(), Nodes: []Node{}, Links: []Link{}, Routes: []Route{}, More: c.more, VMs: len(c.VMs(focus)), Breaks: c.breaks}
	if s.Breaks == nil {
		s.Breaks = []Break{}
	}
	order := make([]int32, 0, len(c.nodes))
	for i := range c.nodes {
		order = append(order, i)
	}
	slices.SortFunc(order, func(a, b int32) int {
		x, y := c.nodes[a], c.nodes[b]
		return cmp.Or(cmp.Compare(x.Row, y.Row), cmp.Compare(x.Owner, y.Owner), cmp.Compare(x.Name, y.Name), cmp.Compare(x.Ref, y.Ref))
	})
	index := make(map[int32]int, len(order))
	for n, i := range order {
		index[i] = n
		s.Nodes = append(s.Nodes, c.nodes[i])
	}
	for ends, l := range c.links {
		s.Links = append(s.Links, Link{index[ends[0]], index[ends[1]], l.state, l.ways})
	}
	slices.SortFunc(s.Links, func(a, b Link) int { return cmp.Or(cmp.Compare(a.From, b.From), cmp.Compare(a.To, b.To)) })
	for n, stops := range c.routes {
		r := Route{State: c.states[n], LUN: c.luns[n], Stops: []int{}}
		for _, i := range stops {
			r.Stops = append(r.Stops, index[i])
		}
		s.Routes = append(s.Routes, r)
	}
	return s
}
