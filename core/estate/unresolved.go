package estate

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
)

// Reason is a probable reason why something could not be joined.
type Reason string

// Reasons, the most certain first.
const (
	Duplicate     Reason = "duplicate identity"
	Typo          Reason = "near match"
	StaleSource   Reason = "stale source"
	SourceMissing Reason = "source missing"
	Unreadable    Reason = "identity cannot be read"
	Dangling      Reason = "link to nothing"
	Circle        Reason = "circle of dependence"
)

// Unresolved is a group of findings that have one probable reason, with what to do about them.
type Unresolved struct {
	Reason   Reason    `json:"reason" doc:"Probable reason" enum:"duplicate identity,near match,stale source,source missing,identity cannot be read,link to nothing,circle of dependence"`
	About    string    `json:"about" doc:"What the group has in common"`
	Says     string    `json:"says" doc:"What was found, in words"`
	Todo     string    `json:"todo" doc:"What to do"`
	Count    int       `json:"count" doc:"How many findings"`
	Findings []Finding `json:"findings" doc:"Some of them"`
}

// listedFindings is how many findings a group shows.
const listedFindings = 50

// Unresolve groups what could not be joined by probable reason. stale lists the sources that have not been heard of for too
// long, with the time since then in words.
func (e *Estate) Unresolve(stale map[string]string) []Unresolved {
	groups := make(map[string]*Unresolved)
	put := func(f Finding, r Reason, about, says, todo string) {
		key := string(r) + "\x00" + about
		g := groups[key]
		if g == nil {
			g = &Unresolved{Reason: r, About: about, Says: says, Todo: todo, Findings: []Finding{}}
			groups[key] = g
		}
		g.Count++
		if len(g.Findings) < listedFindings {
			g.Findings = append(g.Findings, f)
		}
	}
	near := e.neighbours()
	for _, f := range e.Findings() {
		source := f.Object[strings.LastIndexByte(f.Object, '@')+1:]
		switch f.Code {
		case IdentityClaimedTwice:
			put(f, Duplicate, f.Wants, fmt.Sprintf("Several objects claim %s, so nothing is joined by it.", f.Wants),
				"Look which of them is right: a copy of an inventory, a cloned machine or two sources for one array are usual. Correct the other, or remove the source that should not list it.")
		case IdentityUnreadable:
			put(f, Unreadable, source, fmt.Sprintf("%s sends identifiers that are none.", source), "Correct them where the source takes them from; docs/feed.md lists the notations that are read.")
		case LinkToNothing:
			put(f, Dangling, source, fmt.Sprintf("%s links to objects it does not list.", source), "The source is incomplete: bring in a full feed of it, or let it list what it links to.")
		case Cycle:
			put(f, Circle, source, fmt.Sprintf("%s says that things depend on themselves.", source), "Correct the links at the source; until then the link that closes the circle is left out.")
		case NotJoined:
			e.unjoined(f, near, stale, put)
		}
	}
	out := make([]Unresolved, 0, len(groups))
	for _, g := range groups {
		out = append(out, *g)
	}
	order := []Reason{Duplicate, Typo, StaleSource, SourceMissing, Unreadable, Dangling, Circle}
	slices.SortFunc(out, func(a, b Unresolved) int {
		return cmp.Or(cmp.Compare(slices.Index(order, a.Reason), slices.Index(order, b.Reason)), cmp.Compare(b.Count, a.Count), cmp.Compare(a.About, b.About))
	})
	return out
}

func (e *Estate) unjoined(f Finding, near func(Identity, []Kind) (int32, Identity, bool), stale map[string]string, put func(f Finding, r Reason, about, says, todo string)) {
	wanted := "object"
	if len(f.to) > 0 {
		wanted = f.to[len(f.to)-1].Label()
	}
	if bs, ok := e.byID.get(f.identity); ok {
		for _, k := range f.to {
			if len(bs.claimants(nil, k)) > 1 {
				put(f, Duplicate, f.Wants, fmt.Sprintf("Several objects claim %s, so nothing is joined by it.", f.Wants),
					"Look which of them is right, and correct the other.")
				return
			}
		}
	}
	if at, id, ok := near(f.identity, f.to); ok {
		o := e.At(at)
		put(f, Typo, id.Display(), fmt.Sprintf("%s is wanted, and %s of %s has %s, which differs in a digit or two.", f.Wants, o.Title(), o.Key.Source, id.Display()),
			"If they are one, correct the identifier at the source that has it wrong.")
		return
	}
	for _, source := range slices.Sorted(maps.Keys(stale)) {
		for _, k := range f.to {
			if e.lists(source, k) {
				put(f, StaleSource, source, fmt.Sprintf("%s lists %s and has not been heard of for %s: what is new there is not known.", source, k.Plural(), stale[source]),
					"Find out why the source is silent: dowse source list.")
				return
			}
		}
	}
	about, who := family(f.identity)
	put(f, SourceMissing, wanted+" "+about, fmt.Sprintf("No source lists the %s with %s.", wanted, who),
		fmt.Sprintf("Add the source of the system they belong to (dowse source add), or bring in its feed. If the %s is gone for good, take it out at the source that still names it.", wanted))
}

// lists reports whether a source lists objects of a kind.
func (e *Estate) lists(source string, k Kind) bool {
	return slices.ContainsFunc(e.kinds[k], func(i int32) bool { return e.At(i).Key.Source == source })
}

// family tells what identifiers of one system have in common: the vendor's part of an NAA or WWN (its IEEE company id), the
// naming authority of an IQN or NQN, the server of an export.
func family(id Identity) (key, words string) {
	v := id.Value
	switch id.Scheme {
	case NAA, WWN:
		if len(v) >= 7 {
			switch v[0] {
			case '6', '5':
				return v[:7], fmt.Sprintf("%s identifiers that begin %s", strings.ToUpper(string(id.Scheme)), Identity{id.Scheme, v}.Display()[:len(Identity{id.Scheme, v[:7]}.Display())])
			case '1', '2':
				return v[4:10], fmt.Sprintf("WWNs of the company id %s", v[4:10])
			}
		}
	case IQN, NQN, LUN:
		name, _, _ := strings.Cut(v, ":")
		return name, string(id.Scheme) + "s of " + name
	case Export:
		server, _, _ := strings.Cut(v, ":")
		return server, "exports of " + server
	}
	return string(id.Scheme), id.String()
}

// neighbours returns a function that finds an identifier which differs from another in one or two places. Identifiers are
// indexed by thirds: of two that differ in at most two places one third is the same.
func (e *Estate) neighbours() func(Identity, []Kind) (int32, Identity, bool) {
	type third struct {
		scheme Scheme
		length int
		n      int
		text   string
	}
	index := map[third][]Identity(nil)
	thirds := func(id Identity) (out [3]third) {
		n := len(id.Value)
		for k := range 3 {
			out[k] = third{id.Scheme, n, k, id.Value[n*k/3 : n*(k+1)/3]}
		}
		return out
	}
	build := func() {
		index = make(map[third][]Identity)
		e.byID.all(func(id Identity, bs bearers) {
			if len(id.Value) < 12 || !roles[bs.first.role].claim {
				return
			}
			for _, t := range thirds(id) {
				index[t] = append(index[t], id)
			}
		})
	}
	return func(id Identity, kinds []Kind) (int32, Identity, bool) {
		if len(id.Value) < 12 {
			return 0, Identity{}, false
		}
		if index == nil {
			build()
		}
		for _, t := range thirds(id) {
			of := index[t]
			if len(of) > 5000 { // a part that all have in common tells nothing
				continue
			}
			for _, other := range of {
				if other == id || differ(other.Value, id.Value) > 2 {
					continue
				}
				bs, _ := e.byID.get(other)
				for _, k := range kinds {
					if at := bs.claimants(nil, k); len(at) == 1 {
						return at[0], other, true
					}
				}
			}
		}
		return 0, Identity{}, false
	}
}

func differ(a, b string) (n int) {
	for i := range len(a) {
		if a[i] != b[i] {
			n++
		}
	}
	return n
}
