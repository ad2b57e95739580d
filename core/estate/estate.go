package estate

import (
	"cmp"
	"slices"
)

// Edge is a link between two objects of an estate, by their positions.
type Edge struct {
	From, To int32
	Kind     LinkKind
	Derived  bool // joined by identity rather than sent
}

// Estate is the graph as of one moment. Objects are addressed by position, 0 ≤ i < Len().
type Estate struct {
	objects  []Object
	byKey    map[Key]int32
	byRef    map[Ref][]int32
	out, in  [][]Edge
	byID     map[Identity][]int32
	findings []Finding
	names    []searchText
}

// Finding is something about the estate that a person should know: an identity that joins nothing,
// two objects that claim to be one, a link to nothing.
type Finding struct {
	Code   string `json:"code" doc:"Stable word for the kind of finding" enum:"link_to_nothing,identity_unreadable,identity_claimed_twice,not_joined,cycle"`
	Object string `json:"object" doc:"The object it is about, as kind:id@source"`
	Name   string `json:"name" doc:"That object's name"`
	Detail string `json:"detail" doc:"What was found, and what it means"`
}

// Codes of findings.
const (
	LinkToNothing        = "link_to_nothing"
	IdentityUnreadable   = "identity_unreadable"
	IdentityClaimedTwice = "identity_claimed_twice"
	NotJoined            = "not_joined"
	Cycle                = "cycle"
)

// Len returns the number of objects.
func (e *Estate) Len() int { return len(e.objects) }

// At returns the object at position i. It must not be changed.
func (e *Estate) At(i int32) *Object { return &e.objects[i] }

// Position returns the position of the object with that key.
func (e *Estate) Position(k Key) (int32, bool) {
	i, ok := e.byKey[k]
	return i, ok
}

// Out returns the edges that leave i, in the order of the source's links, joined ones last.
func (e *Estate) Out(i int32) []Edge { return e.out[i] }

// In returns the edges that reach i.
func (e *Estate) In(i int32) []Edge { return e.in[i] }

// To returns the positions that i's links of a kind lead to, in order.
func (e *Estate) To(i int32, kinds ...LinkKind) []int32 {
	var to []int32
	for _, edge := range e.out[i] {
		if slices.Contains(kinds, edge.Kind) {
			to = append(to, edge.To)
		}
	}
	return to
}

// From returns the positions whose links of a kind lead to i.
func (e *Estate) From(i int32, kinds ...LinkKind) []int32 {
	var from []int32
	for _, edge := range e.in[i] {
		if slices.Contains(kinds, edge.Kind) {
			from = append(from, edge.From)
		}
	}
	return from
}

// OfKind returns the positions of all objects of a kind, ordered by title.
func (e *Estate) OfKind(k Kind) []int32 {
	var at []int32
	for i := range e.objects {
		if e.objects[i].Key.Ref.Kind == k {
			at = append(at, int32(i))
		}
	}
	slices.SortStableFunc(at, func(a, b int32) int { return cmp.Compare(e.At(a).Title(), e.At(b).Title()) })
	return at
}

// Findings lists what could not be joined or resolved, and why. Ordered by code, then object.
func (e *Estate) Findings() []Finding { return e.findings }

// Lookup returns the objects that carry an identity.
func (e *Estate) Lookup(id Identity) []int32 { return e.byID[id] }

// Owner follows part_of links from i up to an object of kind k: the array of a volume, the host of
// an adapter port.
func (e *Estate) Owner(i int32, k Kind) (int32, bool) {
	for range 8 { // part_of chains are short; the bound keeps a malformed one from looping
		next := e.To(i, PartOf)
		if len(next) == 0 {
			return 0, false
		}
		i = next[0]
		if e.At(i).Key.Ref.Kind == k {
			return i, true
		}
	}
	return 0, false
}
