package estate

import (
	"cmp"
	"iter"
	"maps"
	"slices"
)

// Change is what makes one estate of another.
type Change struct {
	Set  []Node // new objects, and those of which their source now says something else
	Drop []Key  // objects that are no more
}

// Empty reports whether nothing is changed.
func (c Change) Empty() bool { return len(c.Set) == 0 && len(c.Drop) == 0 }

// Take adds an object to the change: as it is to be where it is there, else as one that is no more.
func (c *Change) Take(n Node, there bool) {
	if there {
		c.Set = append(c.Set, n)
	} else {
		c.Drop = append(c.Drop, n.Key)
	}
}

// bearer is an object that carries an identifier, in a role.
type bearer struct {
	at   int32
	role uint8
}

// bearers are all that carry one identifier, those who claim it first. Most are one alone.
type bearers struct {
	first bearer
	more  *[]bearer // nil where there is but one
}

func (b bearers) each(f func(bearer)) {
	if b.first.at < 0 {
		return
	}
	f(b.first)
	if b.more != nil {
		for _, x := range *b.more {
			f(x)
		}
	}
}

// Build makes the graph of objects as of one moment. It never fails: whatever is wrong with the
// objects becomes a finding, and the rest is joined. Of two objects with one key the later wins. The result does not
// depend on the order of the objects, apart from their positions.
func Build(objects []Object) *Estate {
	return Of(len(objects), func(yield func(Node) bool) {
		for i := range objects {
			if !yield(objects[i].Node()) {
				return
			}
		}
	})
}

// Of is Build for about n nodes.
func Of(n int, nodes iter.Seq[Node]) *Estate {
	empty := &Estate{words: knownLinks}
	ed := empty.edit(max(n, 1))
	for o := range nodes {
		ed.set(o)
	}
	return ed.finish()
}

// With returns the estate that c makes of e. It is the same, but for positions, as building all objects anew, at a cost
// that goes with the change and what is joined to it.
func (e *Estate) With(c Change) *Estate {
	ed := e.edit(0)
	for _, k := range c.Drop {
		ed.drop(k)
	}
	for i := range c.Set {
		ed.set(c.Set[i])
	}
	return ed.finish()
}

// editor makes a new estate of an old one.
type editor struct {
	*Estate
	bulk       bool
	touched    map[int32]struct{} // whose links must be derived again
	ids        map[Identity]struct{}
	gone       map[Kind]map[int32]struct{}
	added      map[Kind][]int32
	interned   map[string]string // names of sources
	slab       []edge
	scratch    []edge
	borne      [][]bearing        // by position, in bulk
	unreadable map[int32]struct{} // positions of objects with identifiers that cannot be read, in bulk
	found      []Finding
}

func (e *Estate) edit(bulk int) *editor {
	next := &Estate{nodes: e.nodes.edit(), codes: e.codes.edit(), coded: slices.Clip(e.coded), order: slices.Clip(e.order), count: e.count, byKey: e.byKey.edit(bulk), byID: e.byID.edit(bulk), out: e.out.edit(), in: e.in.edit(),
		cut: e.cut.edit(min(bulk, 1)), against: e.against.edit(min(bulk, 1)), waiting: e.waiting.edit(min(bulk, 1)), findings: e.findings.edit(min(bulk, 1)),
		kinds: maps.Clone(e.kinds), words: slices.Clip(e.words), sources: slices.Clip(e.sources), text: e.text.edit()}
	if next.kinds == nil {
		next.kinds = make(map[Kind][]int32)
	}
	return &editor{Estate: next, bulk: bulk > 0, touched: make(map[int32]struct{}), ids: make(map[Identity]struct{}), gone: make(map[Kind]map[int32]struct{}),
		added: make(map[Kind][]int32), interned: make(map[string]string), unreadable: make(map[int32]struct{})}
}

// bearings lists the identifiers of the object at i. While many are read they are kept until the end.
func (ed *editor) bearings(o *Node, i int32) []bearing {
	if !ed.bulk {
		return bearings(o, nil)
	}
	if int(i) == len(ed.borne) {
		ed.borne = append(ed.borne, slices.Clip(bearings(o, func(*role, error) { ed.unreadable[i] = struct{}{} })))
	}
	return ed.borne[i]
}

func (ed *editor) touch(i int32) {
	if !ed.bulk {
		ed.touched[i] = struct{}{}
	}
}

func (ed *editor) set(o Node) {
	if src, ok := ed.interned[o.Key.Source]; ok {
		o.Key.Source = src
	} else {
		ed.interned[o.Key.Source] = o.Key.Source
		if !slices.Contains(ed.sources, o.Key.Source) {
			ed.sources = append(ed.sources, o.Key.Source)
		}
	}
	if k, ok := kinds[o.Key.Ref.Kind]; ok {
		o.Key.Ref.Kind = k.kind // one copy of the word for all
	}
	i, exists := ed.byKey.get(o.Key)
	if !exists {
		i = ed.nodes.grow(o)
		ed.codes.grow(ed.code(o.Key.Ref.Kind))
		ed.out.grow(nil)
		ed.in.grow(nil)
		ed.byKey.set(o.Key, i)
		ed.count++
		ed.added[o.Key.Ref.Kind] = append(ed.added[o.Key.Ref.Kind], i)
		own := ed.bearings(&o, i)
		for _, b := range own {
			ed.bear(b.id, bearer{i, b.role})
		}
		if !ed.bulk {
			if at, ok := ed.waiting.get(o.Key); ok {
				for _, w := range at {
					ed.touch(w)
				}
				ed.waiting.drop(o.Key)
			}
		}
	} else {
		old := *ed.nodes.at(i)
		if old == o {
			return
		}
		before, after := ed.bearings(&old, i), bearings(&o, nil)
		if ed.bulk {
			ed.borne[i] = after
		}
		if !slices.Equal(before, after) {
			for _, b := range before {
				ed.unbear(b.id, bearer{i, b.role})
			}
			for _, b := range after {
				ed.bear(b.id, bearer{i, b.role})
			}
		} else if old.Links != o.Links && o.Key.Ref.Kind == Volume { // two legs may share an identifier where they are mirrored
			for _, b := range after {
				ed.ids[b.id] = struct{}{}
			}
		}
		*ed.nodes.change(i) = o
	}
	ed.text.set(i, ed.nodes.at(i), ed.bulk)
	ed.touch(i)
}

func (ed *editor) drop(k Key) {
	i, ok := ed.byKey.get(k)
	if !ok {
		return
	}
	o := ed.nodes.change(i)
	for _, b := range bearings(o, nil) {
		ed.unbear(b.id, bearer{i, b.role})
	}
	for _, x := range *ed.in.at(i) {
		ed.touch(x.to)
	}
	ed.cut.all(func(from int32, edges []edge) {
		if slices.ContainsFunc(edges, func(x edge) bool { return x.to == i }) {
			ed.touch(from)
		}
	})
	of := ed.gone[k.Ref.Kind]
	if of == nil {
		of = make(map[int32]struct{})
		ed.gone[k.Ref.Kind] = of
	}
	of[i] = struct{}{}
	ed.byKey.drop(k)
	ed.text.drop(i)
	*o = Node{}
	*ed.codes.change(i) = ed.code("")
	ed.count--
	ed.touch(i)
}

func (ed *editor) bear(id Identity, x bearer) {
	b, ok := ed.byID.get(id)
	if !ok {
		b = bearers{first: x}
	} else {
		var more []bearer
		if b.more != nil {
			if more = *b.more; !ed.bulk {
				more = slices.Clip(more)
			}
		}
		if roles[x.role].claim { // those who claim it come first
			more = slices.Insert(slices.Clip(more), 0, b.first)
			b.first = x
		} else {
			more = append(more, x)
		}
		b.more = &more
	}
	ed.byID.set(id, b)
	if !ed.bulk {
		ed.ids[id] = struct{}{}
	}
}

func (ed *editor) unbear(id Identity, x bearer) {
	b, _ := ed.byID.get(id)
	var rest []bearer
	b.each(func(y bearer) {
		if x != y {
			rest = append(rest, y)
		}
	})
	switch len(rest) {
	case 0:
		ed.byID.drop(id)
	case 1:
		ed.byID.set(id, bearers{first: rest[0]})
	default:
		more := rest[1:]
		ed.byID.set(id, bearers{rest[0], &more})
	}
	ed.ids[id] = struct{}{}
}

func (ed *editor) finish() *Estate {
	for k, of := range ed.gone {
		ed.kinds[k] = slices.DeleteFunc(slices.Clone(ed.kinds[k]), func(i int32) bool { _, gone := of[i]; return gone })
	}
	for k, at := range ed.added {
		ed.kinds[k] = append(slices.Clip(ed.kinds[k]), at...)
	}
	if ed.bulk {
		done := make(chan *shelf)
		go func() { done <- newShelf(ed.Estate, ed.borne) }()
		for i := range int32(ed.nodes.n) {
			ed.derive(i)
		}
		ed.reverse()
		ed.breakCircles()
		ed.text = newIndex(<-done)
		ed.borne = nil
	} else {
		for id := range ed.ids {
			b, _ := ed.byID.get(id)
			b.each(func(x bearer) { ed.touched[x.at] = struct{}{} })
		}
		for i := range ed.touched {
			ed.derive(i)
		}
		ed.breakCircles()
		ed.text.finish(ed.Estate)
	}
	ed.nodes.own, ed.codes.own, ed.out.own, ed.in.own = nil, nil, nil, nil
	return ed.Estate
}

// reverse fills the lists of edges that reach an object from those that leave one.
func (ed *editor) reverse() {
	degree := make([]int32, ed.nodes.n)
	total := 0
	for i := range int32(ed.nodes.n) {
		for _, x := range *ed.out.at(i) {
			degree[x.to]++
			total++
		}
	}
	slab := make([]edge, total)
	for i := range int32(ed.nodes.n) {
		n := degree[i]
		*ed.in.change(i) = slab[:0:n]
		slab = slab[n:]
	}
	for i := range int32(ed.nodes.n) {
		for _, x := range *ed.out.at(i) {
			in := ed.in.change(x.to)
			*in = append(*in, edge{i, x.kind, x.derived})
		}
	}
}

// replace makes edges the ones that leave i.
func (ed *editor) replace(i int32, edges []edge) {
	old := *ed.out.at(i)
	if slices.Equal(old, edges) {
		return
	}
	if ed.bulk {
		if len(ed.slab)+len(edges) > cap(ed.slab) {
			ed.slab = make([]edge, 0, max(1<<14, len(edges)))
		}
		from := len(ed.slab)
		ed.slab = append(ed.slab, edges...)
		*ed.out.change(i) = ed.slab[from:len(ed.slab):len(ed.slab)]
		return
	}
	edges = slices.Clone(edges)
	for _, x := range old {
		if !slices.Contains(edges, x) {
			in := ed.in.change(x.to)
			*in = slices.DeleteFunc(slices.Clone(*in), func(y edge) bool { return y == edge{i, x.kind, x.derived} })
		}
	}
	for k, x := range edges {
		if !slices.Contains(old, x) && !slices.Contains(edges[:k], x) {
			in := ed.in.change(x.to)
			*in = append(slices.Clip(*in), edge{i, x.kind, x.derived})
		}
	}
	*ed.out.change(i) = edges
}

// code returns the number of a kind.
func (ed *editor) code(k Kind) uint8 {
	if n := slices.Index(ed.coded, k); n >= 0 {
		return uint8(n)
	}
	if len(ed.coded) > 250 { // extensions beyond that share the last
		return uint8(len(ed.coded) - 1)
	}
	ed.coded, ed.order = append(ed.coded, k), append(ed.order, uint8(orderOf(k)))
	return uint8(len(ed.coded) - 1)
}

// word returns the number of a kind of link.
func (ed *editor) word(k LinkKind) uint8 {
	for n, w := range ed.words {
		if w == k {
			return uint8(n)
		}
	}
	if len(ed.words) > 250 { // extensions beyond that share the last word
		return uint8(len(ed.words) - 1)
	}
	ed.words = append(ed.words, k)
	return uint8(len(ed.words) - 1)
}

// sortByKey orders positions by the keys of their objects, so that no result depends on the order of sources.
func (ed *editor) sortByKey(at []int32) {
	slices.SortFunc(at, func(a, b int32) int { return cmp.Or(compareKeys(ed.At(a).Key, ed.At(b).Key), cmp.Compare(a, b)) })
}
