package route

import (
	"fmt"
	"slices"
	"strings"

	"dowsingrod/core/estate"
)

// Node is an object in a section, with the names both administrators know it by, or a group of objects that are alike.
type Node struct {
	Ref     string       `json:"ref" doc:"Address, kind:id@source; of a group, what to ask to be unfolded"`
	Kind    estate.Kind  `json:"kind" doc:"Kind of object"`
	Layer   estate.Layer `json:"layer" doc:"The layer it lies in here; all that backs a virtualizer lies in the back end"`
	Row     int          `json:"row" doc:"Order of depth within the section, from 0 at the surface"`
	Name    string       `json:"name" doc:"Its name"`
	Owner   string       `json:"owner,omitempty" doc:"Name of the host, switch, or array that it is part of"`
	Site    string       `json:"site,omitempty" doc:"Name of the site it is at, where that is known"`
	Aliases []string     `json:"aliases,omitempty" doc:"Other identifiers it is known by: NAA, WWPN, LUN number"`
	Tier    string       `json:"tier,omitempty" doc:"Service tier of a VM"`
	Count   int          `json:"count,omitempty" doc:"How many objects a group stands for; 0 for a single object"`
}

// Link joins two nodes of a section.
type Link struct {
	From  int   `json:"from" doc:"Index of the upper node"`
	To    int   `json:"to" doc:"Index of the lower node"`
	State State `json:"state" doc:"Best state of the ways that run here" enum:"active,standby,disabled,dead,not zoned"`
	Ways  int   `json:"ways" doc:"Number of routes that run here"`
}

// Route is one way from a virtual disk (or host) to its volume.
type Route struct {
	State State  `json:"state" doc:"As the host sees the path" enum:"active,standby,disabled,dead,not zoned"`
	Stops []int  `json:"stops" doc:"Indexes of the nodes passed, in order"`
	LUN   string `json:"lun,omitempty" doc:"LUN number of the path"`
}

// Break is a place where a route is not known.
type Break struct {
	After string `json:"after" doc:"The last object known, kind:id@source"`
	Name  string `json:"name" doc:"Its name"`
	Why   string `json:"why" doc:"Why the route ends there"`
}

// Remark is something about the ways drawn that a person should see: a host that depends on one fabric, a leg that is lost.
type Remark struct {
	Code string `json:"code" doc:"Stable word for what it is" enum:"single_path,single_fabric,not_zoned,leg_lost,preferred_site"`
	Of   string `json:"of" doc:"The object it is about, kind:id@source"`
	Name string `json:"name" doc:"Its name"`
	Says string `json:"says" doc:"In words"`
}

// Section is the cut through the layers along all routes of an object: down to the drives and up to
// the VMs.
type Section struct {
	Focus   string   `json:"focus" doc:"The object it starts from, kind:id@source"`
	Nodes   []Node   `json:"nodes" doc:"All objects passed, ordered by row, then name"`
	Links   []Link   `json:"links" doc:"What joins them"`
	Routes  []Route  `json:"routes" doc:"Each single route down to the volume, at most 500"`
	More    int      `json:"more" doc:"Routes beyond those listed"`
	VMs     int      `json:"vms" doc:"VMs that depend on the focus"`
	Breaks  []Break  `json:"breaks" doc:"Where the map ends, and why"`
	Remarks []Remark `json:"remarks" doc:"What to know of the ways, at most 50"`
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
	places  []place
	of      []int32 // by object: one more than its place, 0 where it has none
	links   []linkSum
	routes  [][]int32
	states  []State
	luns    []string
	more    int
	breaks  []Break
	remarks []Remark
	vms     int
	folding Folding
	all     bool // drives one by one: the focus is one, or groups of them are unfolded
}

// place is where a node is drawn, and the links that lead down from it.
type place struct {
	at    int32
	layer estate.Layer
	kind  estate.Kind
	row   int
	links []int32
	more  []int32 // others that lie here too, where they are folded from the start
}

type linkSum struct {
	from, to int32 // places
	state    State
	ways     int
}

// Section cuts through the layers along all routes that pass i. It does not fail: where a route is
// not known it ends with a Break.
func (m *Map) Section(i int32) Section { return m.Cut(i, Folding{}) }

// Cut is Section, with rows of many objects folded.
func (m *Map) Cut(i int32, f Folding) Section {
	c := &cutter{Map: m, folding: f, places: make([]place, 0, 128), links: make([]linkSum, 0, 128)}
	c.of = *m.lease()
	defer func() {
		for _, p := range c.places {
			c.of[p.at] = 0
		}
		m.spare.Put(&c.of)
	}()
	c.all = m.e.Kind(i) == estate.Drive || f.Above > 0 || slices.ContainsFunc(f.Unfold, func(ref string) bool { return strings.HasPrefix(ref, "group:"+string(estate.Drive)) })
	disks := m.VDisks(i)
	focus := m.through(i)
	if len(disks) == 0 {
		c.idle(i)
	}
	seen := make(map[int32]bool, len(disks))
	for _, d := range disks {
		c.disk(d.At, focus)
		for _, vm := range m.e.From(d.At, estate.Uses) {
			seen[vm] = true
		}
	}
	switch m.e.Kind(i) {
	case estate.VM:
		c.vms = 1
	case estate.Host, estate.Cluster, estate.Site:
		c.vms = len(m.VMs(i)) // some may have no disks
	default:
		c.vms = len(seen)
	}
	if c.of[i] == 0 && c.kind(i) != estate.Device && c.kind(i) != estate.Path {
		c.put(i, m.e.Kind(i).Layer(), rowOf(c.kind(i)))
	}
	c.remark(i)
	return c.section(i, f)
}

// through returns the filter that keeps only the paths to a volume that pass the focus. For a focus that is passed by every
// route of its disks (a VM, a pool, a volume) it keeps all, and so for one that lies behind the volume.
func (m *Map) through(i int32) func(path, volume int32) bool {
	switch m.e.Kind(i) {
	case estate.Path, estate.HBAPort, estate.SwitchPort, estate.ISL, estate.TargetPort, estate.Switch, estate.Fabric:
		passing := map[int32]bool{i: true}
		for _, r := range m.Reach(i) {
			passing[r.At] = true
		}
		return func(path, volume int32) bool { return passing[path] || passing[volume] }
	}
	return func(int32, int32) bool { return true }
}

func (c *cutter) kind(i int32) estate.Kind { return c.e.Kind(i) }

func rowOf(k estate.Kind) int {
	if r, ok := rows[k]; ok {
		return r
	}
	return rowNearPort
}

func (c *cutter) put(i int32, layer estate.Layer, row int) {
	if c.of[i] == 0 {
		c.places = append(c.places, place{at: i, layer: layer, kind: c.kind(i), row: row})
		c.of[i] = int32(len(c.places))
	}
}

func (c *cutter) place(i int32) *place { return &c.places[c.of[i]-1] }

// between returns the link from one object to another, nil where there is none.
func (c *cutter) between(from, to int32) *linkSum {
	if c.of[from] == 0 || c.of[to] == 0 {
		return nil
	}
	for _, k := range c.place(from).links {
		if c.links[k].to == c.of[to]-1 {
			return &c.links[k]
		}
	}
	return nil
}

func (c *cutter) describe(i int32) Node {
	o, p := c.e.At(i), c.place(i)
	n := Node{Ref: o.Key.String(), Kind: o.Key.Ref.Kind, Layer: p.layer, Row: p.row, Name: o.Title(), Owner: c.OwnerName(i), Aliases: Aliases(o)}
	if n.Kind == estate.VM {
		n.Tier = o.Tier()
	}
	if site, ok := c.e.Site(i); ok {
		n.Site = c.e.At(site).Title()
	}
	n.Aliases = append(n.Aliases, c.OtherNames(i)...)
	return n
}

// OtherNames tells what an object is called by those who look at it from elsewhere: a volume by its datastore and its hosts, a
// port by the switch it is logged in to.
func (m *Map) OtherNames(i int32) (names []string) {
	switch m.e.Kind(i) {
	case estate.Volume, estate.Share:
		for _, link := range []estate.LinkKind{estate.Extent, estate.Exports} {
			if ds := m.e.FirstFrom(i, link); ds >= 0 {
				names = append(names, "datastore "+m.e.At(ds).Title())
			}
		}
		if d := m.e.FirstFrom(i, estate.Opens); d >= 0 {
			if name := m.e.At(d).Name; name != "" && !slices.ContainsFunc(estate.Identities(m.e.At(d)), func(id estate.Identity) bool { return id.Display() == name }) {
				names = append(names, "to "+m.OwnerName(d)+" "+name)
			}
		}
	case estate.HBAPort, estate.TargetPort:
		if p := m.e.First(i, estate.Attached); p >= 0 {
			o := m.e.At(p)
			name := "at " + m.OwnerName(p) + " port " + o.Title()
			if index := o.Facts.Text("index"); index != "" {
				name += ", index " + index
			}
			names = append(names, name)
		}
	}
	return names
}

// OwnerName returns the name of the host, switch or array an object is part of, "" where it is part of none.
func (m *Map) OwnerName(i int32) string {
	for range 8 {
		if i = m.e.First(i, estate.PartOf); i < 0 {
			return ""
		}
		switch m.e.Kind(i) {
		case estate.Host, estate.Switch, estate.Array:
			return m.e.At(i).Title()
		}
	}
	return ""
}

// FullName returns the name of an object after that of the host, switch or array it is part of.
func (m *Map) FullName(i int32) string {
	name := m.e.At(i).Title()
	if m.e.Kind(i) == estate.SwitchPort { // its name is a number
		name = "port " + name
	}
	if owner := m.OwnerName(i); owner != "" {
		name = owner + " " + name
	}
	return name
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
	l := c.between(from, to)
	if l == nil {
		p := c.place(from)
		p.links = append(p.links, int32(len(c.links)))
		c.links = append(c.links, linkSum{from: c.of[from] - 1, to: c.of[to] - 1, state: state})
		l = &c.links[len(c.links)-1]
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
func (c *cutter) disk(d int32, keep func(path, volume int32) bool) {
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

func (c *cutter) volumeRoutes(top []int32, d, v int32, keep func(path, volume int32) bool) {
	paths := 0
	for _, dev := range c.Devices(d) {
		if !slices.Contains(c.e.To(dev, estate.Opens), v) {
			continue
		}
		for _, p := range c.paths(dev) {
			paths++
			if keep(p, v) {
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
	if c.of[v] > 0 {
		c.below(v, estate.LayerFrontEnd)
	}
}

func served(n int) State {
	if n == 0 {
		return Active
	}
	return Standby
}

func (c *cutter) viaPath(top []int32, p, v int32) {
	w := c.way(p)
	stops := append(make([]int32, 0, len(top)+10), top...)
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
				if c.place(b).row <= rows[estate.Datastore] {
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
	c.routes, c.states, c.luns = append(c.routes, slices.Clone(stops)), append(c.states, state), append(c.luns, lun)
}

// below draws what a volume lies on. Beneath a virtualizer's volume everything is back end.
func (c *cutter) below(v int32, _ estate.Layer) {
	legs := c.Backing(v)
	if site := c.e.At(v).Facts.Text("preferred_site"); site != "" && len(legs) > 1 && legs[0].Mirror {
		c.note("preferred_site", v, "%s prefers %s: hosts there keep it where the sites lose sight of one another", c.e.At(v).Title(), site)
	}
	for _, leg := range legs {
		at := v
		if leg.State != Active {
			c.note("leg_lost", v, "the leg of %s on %s is lost: it lives on the other alone", c.e.At(v).Title(), c.legName(leg))
		}
		if leg.Device >= 0 {
			c.put(leg.Device, estate.LayerBackEnd, rowBackDevice)
			if c.between(at, leg.Device) == nil {
				c.link(at, leg.Device, leg.State)
			}
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
		if !c.once(i, r) {
			continue
		}
		if drives := c.manyDrives(i, r); drives != nil {
			c.put(drives[0], estate.LayerBackEnd, rowOf(estate.Drive))
			if p := c.place(drives[0]); p.more == nil {
				p.more = drives[1:]
			}
			c.once(r, drives[0])
			continue
		}
		c.members(r)
	}
}

// manyDrives returns the drives of a RAID group that will be folded anyway, because those of its pool are many; nil where
// they are drawn one by one. Most of what lies under a virtual machine is drives.
func (c *cutter) manyDrives(pool, group int32) []int32 {
	if c.folding.Most == 0 || c.kind(group) != estate.RAIDGroup || c.all {
		return nil
	}
	drives := c.e.To(group, estate.MadeOf)
	groups := 0
	c.e.EachOut(pool, func(link estate.LinkKind, _ int32) {
		if link == estate.MadeOf {
			groups++
		}
	})
	if len(drives) < 2 || len(drives)*groups <= c.folding.Most || groups > c.folding.Most {
		return nil
	}
	return drives
}

func (c *cutter) legName(l Leg) string {
	if l.Volume >= 0 {
		if owner := c.OwnerName(l.Volume); owner != "" {
			return owner
		}
	}
	return c.e.At(max(l.Device, l.Volume)).Title()
}

func (c *cutter) note(code string, of int32, says string, args ...any) {
	const most = 50
	r := Remark{code, c.e.At(of).Key.String(), c.e.At(of).Title(), fmt.Sprintf(says, args...)}
	if len(c.remarks) < most && !slices.Contains(c.remarks, r) {
		c.remarks = append(c.remarks, r)
	}
}

// once links two nodes a single time, and reports whether it was the first.
func (c *cutter) once(from, to int32) bool {
	if c.between(from, to) != nil {
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
