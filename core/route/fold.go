package route

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"dowsingrod/core/estate"
)

// Folding says how rows of many objects are drawn.
type Folding struct {
	Most   int      // objects of a kind in a row before they are folded into groups of what is alike; 0 folds nothing
	Above  int      // objects in the whole section before any row is folded
	Unfold []string // groups to be shown by their members, by their Ref
}

// likeness lists by kind what objects are grouped by, from coarse to fine.
var likeness = map[estate.Kind][]func(*Map, int32) string{
	estate.VM:         {tierOf, applicationOf, clusterOf},
	estate.VDisk:      {ofVM(tierOf), ofVM(applicationOf), ofVM(clusterOf)},
	estate.Host:       {siteOf, clusterOf},
	estate.HBAPort:    {siteOf, clusterOf},
	estate.SwitchPort: {fabricOf, ownerOf},
	estate.ISL:        {fabricOf, fromSwitch},
	estate.TargetPort: {ownerOf, partOf},
	estate.Controller: {ownerOf},
	estate.Datastore:  {siteOf, arrayOf},
	estate.Volume:     {ownerOf, poolOf},
	estate.Share:      {ownerOf, poolOf},
	estate.Device:     {ownerOf},
	estate.Pool:       {ownerOf},
	estate.RAIDGroup:  {ownerOf, madeIn},
	estate.Drive:      {ownerOf, madeIn},
}

func tierOf(m *Map, i int32) string {
	if t := m.e.At(i).Tier(); t != "" {
		return "tier " + t
	}
	return ""
}

func applicationOf(m *Map, i int32) string {
	return m.e.At(i).Facts.Text("application")
}

// title names what an object's link leads to.
func (m *Map) title(i int32, link estate.LinkKind) string {
	if i < 0 {
		return ""
	}
	if to := m.e.First(i, link); to >= 0 {
		return m.e.At(to).Title()
	}
	return ""
}

// hostOf returns the host that an object is, runs on or is part of, -1 where there is none.
func (m *Map) hostOf(i int32) int32 {
	switch m.e.Kind(i) {
	case estate.Host:
		return i
	case estate.VM:
		return m.e.First(i, estate.RunsOn)
	}
	if h, ok := m.e.Owner(i, estate.Host); ok {
		return h
	}
	return -1
}

func clusterOf(m *Map, i int32) string { return m.title(m.hostOf(i), estate.MemberOf) }

func siteOf(m *Map, i int32) string {
	if m.e.Kind(i) == estate.Datastore {
		if v := m.e.First(i, estate.Extent); v >= 0 {
			i = v
		}
	}
	if s, ok := m.e.Site(i); ok {
		return m.e.At(s).Title()
	}
	return ""
}

func ownerOf(m *Map, i int32) string {
	if name := m.OwnerName(i); name != "" {
		return name
	}
	for at := i; ; { // a drive of a RAID group of a pool of an array
		in := m.e.FirstFrom(at, estate.MadeOf)
		if in < 0 {
			return m.OwnerName(at)
		}
		at = in
	}
}

// owned names an object with what it is part of: arrays call their parts alike.
func (m *Map) owned(i int32) string {
	if i < 0 {
		return ""
	}
	return strings.TrimSpace(m.OwnerName(i) + " " + m.e.At(i).Title())
}

func partOf(m *Map, i int32) string { return m.owned(m.e.First(i, estate.PartOf)) }

func poolOf(m *Map, i int32) string { return m.owned(m.e.First(i, estate.CarvedFrom)) }

func arrayOf(m *Map, i int32) string {
	for _, link := range []estate.LinkKind{estate.Extent, estate.Exports} {
		if v := m.e.First(i, link); v >= 0 {
			return m.OwnerName(v)
		}
	}
	return ""
}

func madeIn(m *Map, i int32) string {
	return m.owned(m.e.FirstFrom(i, estate.MadeOf))
}

func fabricOf(m *Map, i int32) string {
	if m.e.Kind(i) == estate.ISL {
		i = m.e.First(i, estate.Joins)
	}
	if i < 0 {
		return ""
	}
	if sw, ok := m.e.Owner(i, estate.Switch); ok {
		return m.title(sw, estate.MemberOf)
	}
	return ""
}

func fromSwitch(m *Map, i int32) string {
	if end := m.e.First(i, estate.Joins); end >= 0 {
		return m.OwnerName(end)
	}
	return ""
}

func ofVM(f func(*Map, int32) string) func(*Map, int32) string {
	return func(m *Map, i int32) string {
		if vm := m.e.FirstFrom(i, estate.Uses); vm >= 0 {
			return f(m, vm)
		}
		return ""
	}
}

// bundle is a group of nodes, or a single one.
type bundle struct {
	ref     string
	name    string
	members []int32
}

// fold arranges the nodes of one row and kind into bundles.
func (c *cutter) fold(kind estate.Kind, row int, members []int32, focus int32, f Folding) []bundle {
	var out []bundle
	if k := slices.Index(members, focus); k >= 0 { // never folded
		out = append(out, bundle{members: []int32{focus}})
		members = slices.Delete(slices.Clone(members), k, k+1)
	}
	if f.Most <= 0 || len(members) <= f.Most {
		return append(out, singles(members)...)
	}
	levels := likeness[kind]
	prefix := fmt.Sprintf("group:%s/%d", kind, row)
	if len(levels) == 0 {
		return append(out, c.chunks(prefix, "", members, f)...)
	}
	level, parts := c.likeness(prefix, levels, members, f)
	for _, b := range parts {
		out = append(out, c.open(b, levels[level+1:], level+1, f)...)
	}
	return out
}

// likeness splits members by the finest likeness that makes several groups, but not too many; by the finest that names
// them all where they are all alike.
func (c *cutter) likeness(prefix string, levels []func(*Map, int32) string, members []int32, f Folding) (int, []bundle) {
	alike, one := 0, []bundle(nil)
	for level := len(levels) - 1; level >= 0; level-- {
		parts := c.split(prefix, level, levels[level], members)
		switch {
		case len(parts) > 1 && (len(parts) <= f.Most || level == 0 && one == nil):
			return level, parts
		case len(parts) == 1 && one == nil && (parts[0].name != "" || level == 0):
			alike, one = level, parts
		}
	}
	return alike, one
}

func singles(members []int32) []bundle {
	out := make([]bundle, len(members))
	for k, i := range members {
		out[k] = bundle{members: []int32{i}}
	}
	return out
}

// split groups members by a likeness.
func (c *cutter) split(prefix string, level int, by func(*Map, int32) string, members []int32) []bundle {
	of := make(map[string][]int32)
	for _, i := range members {
		k := by(c.Map, i)
		of[k] = append(of[k], i)
	}
	out := make([]bundle, 0, len(of))
	for name, at := range of {
		out = append(out, bundle{fmt.Sprintf("%s/%d:%s", prefix, level, name), name, at})
	}
	slices.SortFunc(out, func(a, b bundle) int { return cmp.Compare(a.name, b.name) })
	return out
}

// open returns a bundle as it is, or what is in it where it is to be unfolded or holds but one.
func (c *cutter) open(b bundle, finer []func(*Map, int32) string, level int, f Folding) []bundle {
	switch {
	case len(b.members) == 1:
		return []bundle{{members: b.members}}
	case !slices.Contains(f.Unfold, b.ref):
		return []bundle{b}
	case len(b.members) <= f.Most:
		return singles(b.members)
	}
	for k, by := range finer {
		parts := c.split(b.ref, level+k, by, b.members)
		if len(parts) == 1 {
			continue
		}
		var out []bundle
		for _, p := range parts {
			if p.name != "" && b.name != "" {
				p.name = b.name + ", " + p.name
			}
			out = append(out, c.open(p, finer[k+1:], level+k+1, f)...)
		}
		return out
	}
	return c.chunks(b.ref, b.name, b.members, f)
}

// chunks cuts members by name, where nothing else tells them apart.
func (c *cutter) chunks(ref, name string, members []int32, f Folding) []bundle {
	members = slices.Clone(members)
	slices.SortFunc(members, func(a, b int32) int { return cmp.Compare(c.e.At(a).Title(), c.e.At(b).Title()) })
	size := max(f.Most, (len(members)+f.Most-1)/f.Most)
	var out []bundle
	for part := range slices.Chunk(members, size) {
		first, last := c.e.At(part[0]).Title(), c.e.At(part[len(part)-1]).Title()
		b := bundle{fmt.Sprintf("%s~%s", ref, first), strings.TrimPrefix(name+", "+first+" to "+last, ", "), part}
		switch {
		case len(part) == 1 || slices.Contains(f.Unfold, b.ref) && len(part) <= f.Most:
			out = append(out, singles(part)...)
		case slices.Contains(f.Unfold, b.ref):
			out = append(out, c.chunks(b.ref, name, part, f)...)
		default:
			out = append(out, b)
		}
	}
	return out
}

func (c *cutter) section(focus int32, f Folding) Section {
	s := Section{Focus: c.e.At(focus).Key.String(), Nodes: []Node{}, Links: []Link{}, Routes: []Route{}, More: c.more, VMs: c.vms, Breaks: c.breaks, Remarks: c.remarks}
	if s.Breaks == nil {
		s.Breaks = []Break{}
	}
	if s.Remarks == nil {
		s.Remarks = []Remark{}
	}
	type drawn struct {
		node Node
		of   []int32
	}
	if len(c.places) <= f.Above {
		f.Most = 0
	}
	all := make([]*drawn, 0, len(c.places))
	order := make([]int32, len(c.places))
	for k, p := range c.places {
		order[k] = p.at
	}
	slices.SortFunc(order, func(a, b int32) int {
		x, y := c.place(a), c.place(b)
		switch {
		case x.row != y.row:
			return x.row - y.row
		case x.kind != y.kind:
			return cmp.Compare(x.kind, y.kind)
		}
		return cmp.Compare(a, b)
	})
	for from, to := 0, 0; from < len(order); from = to {
		row, kind := c.place(order[from]).row, c.place(order[from]).kind
		for to = from; to < len(order) && c.place(order[to]).row == row && c.place(order[to]).kind == kind; to++ {
		}
		for _, b := range c.fold(kind, row, order[from:to], focus, f) {
			all = append(all, &drawn{c.describeBundle(b), b.members})
		}
	}
	slices.SortFunc(all, func(a, b *drawn) int {
		x, y := &a.node, &b.node
		return cmp.Or(cmp.Compare(x.Row, y.Row), cmp.Compare(x.Owner, y.Owner), cmp.Compare(x.Name, y.Name), cmp.Compare(x.Ref, y.Ref))
	})
	s.Nodes, s.Links, s.Routes = slices.Grow(s.Nodes, len(all)), slices.Grow(s.Links, len(c.links)), slices.Grow(s.Routes, len(c.routes))
	index := make([]int, len(c.places)) // of the node that stands for a place
	for n, d := range all {
		s.Nodes = append(s.Nodes, d.node)
		for _, i := range d.of {
			index[c.of[i]-1] = n
		}
	}
	folded := len(all) < len(c.places)
	merged := make(map[[2]int]int)
	for _, l := range c.links {
		from, to := index[l.from], index[l.to]
		if folded && (all[from].node.Count > 0 || all[to].node.Count > 0) {
			if k, ok := merged[[2]int{from, to}]; ok {
				s.Links[k].Ways += l.ways
				if rank(l.state) < rank(s.Links[k].State) {
					s.Links[k].State = l.state
				}
				continue
			}
			merged[[2]int{from, to}] = len(s.Links)
		}
		s.Links = append(s.Links, Link{from, to, l.state, l.ways})
	}
	slices.SortFunc(s.Links, func(a, b Link) int { return cmp.Or(cmp.Compare(a.From, b.From), cmp.Compare(a.To, b.To)) })
	for n, stops := range c.routes {
		r := Route{State: c.states[n], LUN: c.luns[n], Stops: make([]int, 0, len(stops))}
		for _, i := range stops {
			if k := index[c.of[i]-1]; len(r.Stops) == 0 || r.Stops[len(r.Stops)-1] != k {
				r.Stops = append(r.Stops, k)
			}
		}
		s.Routes = append(s.Routes, r)
	}
	// The same, whatever order sources listed things in.
	slices.SortFunc(s.Routes, func(a, b Route) int {
		return cmp.Or(cmp.Compare(rank(a.State), rank(b.State)), slices.Compare(a.Stops, b.Stops), cmp.Compare(a.LUN, b.LUN))
	})
	slices.SortFunc(s.Breaks, func(a, b Break) int { return cmp.Or(cmp.Compare(a.After, b.After), cmp.Compare(a.Why, b.Why)) })
	slices.SortFunc(s.Remarks, func(a, b Remark) int { return cmp.Or(cmp.Compare(a.Code, b.Code), cmp.Compare(a.Says, b.Says)) })
	return s
}

func (c *cutter) describeBundle(b bundle) Node {
	first := b.members[0]
	p := c.place(first)
	if len(b.members) == 1 {
		if p.more == nil {
			return c.describe(first)
		}
		b.name = madeIn(c.Map, first)
		b.ref = fmt.Sprintf("group:%s/%d/%d:%s", p.kind, p.row, 1, b.name)
	}
	if b.name == "" {
		b.name = "others"
	}
	n := Node{Ref: b.ref, Kind: c.kind(first), Layer: p.layer, Row: p.row, Name: b.name, Count: len(b.members)}
	for _, i := range b.members {
		n.Count += len(c.place(i).more)
	}
	if site := siteOf(c.Map, first); site != "" && siteOf(c.Map, b.members[len(b.members)-1]) == site {
		n.Site = site
	}
	return n
}
