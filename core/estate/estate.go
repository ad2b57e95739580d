package estate

import (
	"cmp"
	"iter"
	"slices"
	"strings"
	"sync"
)

// Edge is a link between two objects of an estate, by their positions.
type Edge struct {
	From, To int32
	Kind     LinkKind
	Derived  bool // joined by identity rather than sent
}

// edge is an Edge as kept in the list of one of its ends.
type edge struct {
	to      int32 // the other end
	kind    uint8 // position in the estate's words
	derived bool
}

// Estate is the graph as of one moment. Objects are addressed by position, 0 ≤ i < Len(). It is never changed once made;
// [Estate.With] makes another that shares with it what did not change.
type Estate struct {
	nodes    list[Node]
	codes    list[uint8] // number of the kind of each node: walks ask for nothing else of most
	coded    []Kind      // kinds by number
	order    []uint8     // what people look for first, by number of kind
	count    int
	byKey    table[Key, int32]
	byID     table[Identity, bearers]
	out, in  list[[]edge]
	cut      table[int32, []edge]    // links left out because they close a circle
	against  table[int32, struct{}]  // objects with links against the order of kinds, which alone can close one
	waiting  table[Key, []int32]     // who links to an object that is not there
	findings table[int32, []Finding] // by the object they are about
	kinds    map[Kind][]int32        // in no order
	words    []LinkKind              // kinds of links by number
	sources  []string                // all that ever had an object here
	text     index

	mu     sync.Mutex
	sorted map[Kind][]int32
}

// Finding is something about the estate that a person should know: an identity that joins nothing,
// two objects that claim to be one, a link to nothing.
type Finding struct {
	Code     string `json:"code" doc:"Stable word for the kind of finding" enum:"link_to_nothing,identity_unreadable,identity_claimed_twice,not_joined,cycle"`
	Object   string `json:"object" doc:"The object it is about, as kind:id@source"`
	Name     string `json:"name" doc:"That object's name"`
	Detail   string `json:"detail" doc:"What was found, and what it means"`
	Wants    string `json:"wants,omitempty" doc:"The identifier or reference that leads nowhere"`
	identity Identity
	to       []Kind
}

// Codes of findings.
const (
	LinkToNothing        = "link_to_nothing"
	IdentityUnreadable   = "identity_unreadable"
	IdentityClaimedTwice = "identity_claimed_twice"
	NotJoined            = "not_joined"
	Cycle                = "cycle"
)

// Len returns the number of positions. Those of objects that were taken out by With hold nothing: All skips them.
func (e *Estate) Len() int { return e.nodes.n }

// Count returns the number of objects.
func (e *Estate) Count() int { return e.count }

// All yields the positions of all objects.
func (e *Estate) All() iter.Seq[int32] {
	return func(yield func(int32) bool) {
		for i := range int32(e.nodes.n) {
			if e.nodes.at(i).Key.Source != "" && !yield(i) {
				return
			}
		}
	}
}

// At returns the object at position i. It must not be changed.
func (e *Estate) At(i int32) *Node { return e.nodes.at(i) }

// Kind returns the kind of the object at position i.
func (e *Estate) Kind(i int32) Kind { return e.coded[*e.codes.at(i)] }

// Position returns the position of the object with that key.
func (e *Estate) Position(k Key) (int32, bool) { return e.byKey.get(k) }

// Out returns the edges that leave i, in the order of the source's links, joined ones last.
func (e *Estate) Out(i int32) []Edge {
	list := *e.out.at(i)
	edges := make([]Edge, len(list))
	for k, x := range list {
		edges[k] = Edge{i, x.to, e.words[x.kind], x.derived}
	}
	return edges
}

// In returns the edges that reach i.
func (e *Estate) In(i int32) []Edge {
	list := *e.in.at(i)
	edges := make([]Edge, len(list))
	for k, x := range list {
		edges[k] = Edge{x.to, i, e.words[x.kind], x.derived}
	}
	return edges
}

// EachOut calls f with the kind and the far end of every edge that leaves i, in order.
func (e *Estate) EachOut(i int32, f func(kind LinkKind, to int32)) {
	for _, x := range *e.out.at(i) {
		f(e.words[x.kind], x.to)
	}
}

// EachIn calls f with the kind and the far end of every edge that reaches i.
func (e *Estate) EachIn(i int32, f func(kind LinkKind, from int32)) {
	for _, x := range *e.in.at(i) {
		f(e.words[x.kind], x.to)
	}
}

// To returns the positions that i's links of a kind lead to, in order.
func (e *Estate) To(i int32, kinds ...LinkKind) []int32 { return e.ends(*e.out.at(i), kinds) }

// From returns the positions whose links of a kind lead to i.
func (e *Estate) From(i int32, kinds ...LinkKind) []int32 { return e.ends(*e.in.at(i), kinds) }

func (e *Estate) ends(list []edge, kinds []LinkKind) []int32 {
	n := 0
	for _, x := range list {
		if slices.Contains(kinds, e.words[x.kind]) {
			n++
		}
	}
	if n == 0 {
		return nil
	}
	at := make([]int32, 0, n)
	for _, x := range list {
		if slices.Contains(kinds, e.words[x.kind]) {
			at = append(at, x.to)
		}
	}
	return at
}

// First returns the first position that i's links of a kind lead to, -1 where there is none.
func (e *Estate) First(i int32, kind LinkKind) int32 {
	for _, x := range *e.out.at(i) {
		if e.words[x.kind] == kind {
			return x.to
		}
	}
	return -1
}

// FirstFrom returns the first position whose links of a kind lead to i, -1 where there is none.
func (e *Estate) FirstFrom(i int32, kind LinkKind) int32 {
	for _, x := range *e.in.at(i) {
		if e.words[x.kind] == kind {
			return x.to
		}
	}
	return -1
}

// Number returns how many objects there are of a kind.
func (e *Estate) Number(k Kind) int { return len(e.kinds[k]) }

// Kinds yields every kind there is an object of, with their number.
func (e *Estate) Kinds() iter.Seq2[Kind, int] {
	return func(yield func(Kind, int) bool) {
		for k, at := range e.kinds {
			if len(at) > 0 && !yield(k, len(at)) {
				return
			}
		}
	}
}

// OfKind returns the positions of all objects of a kind, ordered by title, then key. It must not be changed.
func (e *Estate) OfKind(k Kind) []int32 {
	e.mu.Lock()
	defer e.mu.Unlock()
	if at, ok := e.sorted[k]; ok {
		return at
	}
	at := slices.Clone(e.kinds[k])
	slices.SortFunc(at, func(a, b int32) int { return compare(e.At(a), e.At(b)) })
	if e.sorted == nil {
		e.sorted = make(map[Kind][]int32)
	}
	e.sorted[k] = at
	return at
}

// compare orders objects by title, then by key.
func compare(a, b *Node) int {
	if c := strings.Compare(a.Title(), b.Title()); c != 0 {
		return c
	}
	return compareKeys(a.Key, b.Key)
}

func compareKeys(a, b Key) int {
	return cmp.Or(cmp.Compare(a.Ref.Kind, b.Ref.Kind), cmp.Compare(a.Ref.ID, b.Ref.ID), cmp.Compare(a.Source, b.Source))
}

// Findings lists what could not be joined or resolved, and why. Ordered by code, then object.
func (e *Estate) Findings() []Finding {
	var out []Finding
	e.findings.all(func(_ int32, list []Finding) { out = append(out, list...) })
	slices.SortFunc(out, func(x, y Finding) int {
		return cmp.Or(cmp.Compare(x.Code, y.Code), cmp.Compare(x.Object, y.Object), cmp.Compare(x.Detail, y.Detail))
	})
	return out
}

// FindingsOf lists those about the object at position i.
func (e *Estate) FindingsOf(i int32) []Finding {
	list, _ := e.findings.get(i)
	return list
}

// Lookup returns the objects that carry an identity: those that are what it names, and those that show it.
func (e *Estate) Lookup(id Identity) []int32 {
	var at []int32
	b, _ := e.byID.get(id)
	b.each(func(x bearer) {
		if r := &roles[x.role]; r.claim || shows(r.kind) {
			at = append(at, x.at)
		}
	})
	return at
}

// Owner follows part_of links from i up to an object of kind k: the array of a volume, the host of
// an adapter port.
func (e *Estate) Owner(i int32, k Kind) (int32, bool) {
	for range 8 { // part_of chains are short; the bound keeps a malformed one from looping
		if i = e.First(i, PartOf); i < 0 {
			return 0, false
		}
		if e.Kind(i) == k {
			return i, true
		}
	}
	return 0, false
}

// Site returns the site an object is at: its own, or that of what it is part of, runs on or is a member of.
func (e *Estate) Site(i int32) (int32, bool) {
	for range 8 {
		if e.Kind(i) == Site {
			return i, true
		}
		next := int32(-1)
		for _, x := range *e.out.at(i) {
			switch e.words[x.kind] {
			case MemberOf:
				if next = x.to; e.Kind(next) == Site {
					return next, true
				}
			case PartOf, RunsOn:
				if next < 0 {
					next = x.to
				}
			}
		}
		if next < 0 {
			return 0, false
		}
		i = next
	}
	return 0, false
}
