package estate

import (
	"fmt"
	"slices"
)

func (ed *editor) find(code string, i int32, wants string, format string, args ...any) *Finding {
	o := ed.At(i)
	ed.found = append(ed.found, Finding{Code: code, Object: o.Key.String(), Name: o.Title(), Wants: wants, Detail: fmt.Sprintf(format, args...)})
	return &ed.found[len(ed.found)-1]
}

// derive makes the edges that leave i and the findings about it. What it makes depends on the object itself, on which
// of the objects it links to are there, and on who else carries its identifiers, and on nothing else.
func (ed *editor) derive(i int32) {
	o := ed.At(i)
	edges := ed.scratch[:0]
	ed.found = ed.found[:0]
	opens, against := false, false
	if o.Key.Source != "" {
		o.eachLink(func(kind LinkKind, refs []string) {
			word := ed.word(kind)
			for _, text := range refs {
				ref, err := ParseRef(text)
				if err != nil {
					ed.find(LinkToNothing, i, text, "its link %s is %v", kind, err)
					continue
				}
				key := Key{o.Key.Source, ref}
				to, ok := ed.byKey.get(key)
				if !ok {
					ed.find(LinkToNothing, i, ref.String(), "its link %s leads to %s, which its source %s does not list", kind, ref, o.Key.Source)
					ed.wait(key, i)
					continue
				}
				if x := (edge{to, word, false}); !slices.Contains(edges, x) {
					edges = append(edges, x)
				}
				opens = opens || kind == Opens
				against = against || runsAgainst(kind, o.Key.Ref.Kind, ref.Kind)
			}
		})
		edges = ed.joins(i, o, edges, opens)
	}
	if len(ed.found) > 0 {
		ed.findings.set(i, slices.Clone(ed.found))
	} else if _, had := ed.findings.get(i); had {
		ed.findings.drop(i)
	}
	if _, was := ed.against.get(i); was != against {
		if against {
			ed.against.set(i, struct{}{})
		} else {
			ed.against.drop(i)
		}
	}
	if _, had := ed.cut.get(i); had {
		ed.cut.drop(i)
	}
	ed.replace(i, edges)
	ed.scratch = edges[:0]
}

func (ed *editor) wait(key Key, i int32) {
	at, _ := ed.waiting.get(key)
	if !slices.Contains(at, i) {
		ed.waiting.set(key, append(slices.Clip(at), i))
	}
}

// joins adds the edges that follow from identifiers.
func (ed *editor) joins(i int32, o *Node, edges []edge, opens bool) []edge {
	var all []bearing
	if _, bad := ed.unreadable[i]; ed.bulk && !bad {
		all = ed.borne[i]
	} else {
		all = bearings(o, func(r *role, err error) { ed.find(IdentityUnreadable, i, "", "its fact %s: %v", r.fact, err) })
	}
	for _, b := range all {
		r := &roles[b.role]
		if r.claim {
			edges = ed.claim(i, b, edges)
			continue
		}
		if r.link == Opens && opens {
			continue
		}
		owners, why := ed.owners(b.id, r.to)
		switch {
		case r.reversed && why != "":
			f := ed.find(NotJoined, i, b.id.Display(), "logged in here is %s, and no source lists a port with it", b.id)
			f.identity, f.to = b.id, r.to
		case r.reversed: // the claimant's own
		case why == "":
			for _, to := range owners {
				if x := (edge{to, ed.word(r.link), true}); !slices.Contains(edges, x) {
					edges = append(edges, x)
				}
			}
		case r.consequence != "":
			f := ed.find(NotJoined, i, b.id.Display(), "%s: %s", why, r.consequence)
			f.identity, f.to = b.id, r.to
		}
	}
	return edges
}

// claim lists an identifier that others claim too, and adds the edges to those that point at i by it the other way round.
func (ed *editor) claim(i int32, b bearing, edges []edge) []edge {
	kind := roles[b.role].kind
	bs, _ := ed.byID.get(b.id)
	if bs.more == nil {
		return edges
	}
	var rivals, pointing []int32
	bs.each(func(x bearer) {
		switch r := &roles[x.role]; {
		case r.claim && r.kind == kind && x.at != i && !slices.Contains(rivals, x.at):
			rivals = append(rivals, x.at)
		case r.reversed && slices.Contains(r.to, kind):
			pointing = append(pointing, x.at)
		}
	})
	if len(rivals) > 0 && !ed.legs(append(rivals, i)) {
		ed.sortByKey(rivals)
		ed.find(IdentityClaimedTwice, i, b.id.Display(), "it claims %s, and so does %s: nothing is joined by it until one of them is corrected", b.id, ed.At(rivals[0]).Key)
	}
	if len(pointing) > 0 {
		ed.sortByKey(pointing)
		for _, p := range pointing {
			r := &roles[ed.roleOf(bs, p)]
			if owners, _ := ed.owners(b.id, r.to); slices.Contains(owners, i) {
				if x := (edge{p, ed.word(r.link), true}); !slices.Contains(edges, x) {
					edges = append(edges, x)
				}
			}
		}
	}
	return edges
}

func (ed *editor) roleOf(bs bearers, at int32) (role uint8) {
	bs.each(func(x bearer) {
		if x.at == at && roles[x.role].reversed {
			role = x.role
		}
	})
	return role
}

// owners returns the objects of the first of the kinds that claims id: one, or the legs of a mirror. A reason is
// returned where there is none or more than one.
func (ed *editor) owners(id Identity, kinds []Kind) (at []int32, why string) {
	bs, ok := ed.byID.get(id)
	if ok {
		for _, k := range kinds {
			at = bs.claimants(at[:0], k)
			switch {
			case len(at) == 1:
				return at, ""
			case len(at) > 1 && ed.legs(at):
				ed.sortByKey(at)
				return at, ""
			case len(at) > 1:
				return nil, fmt.Sprintf("%d objects claim %s", len(at), id)
			}
		}
	}
	return nil, fmt.Sprintf("no %s with %s is known", kinds[0].Label(), id)
}

// claimants appends to at the objects of a kind that claim the identifier.
func (b bearers) claimants(at []int32, k Kind) []int32 {
	add := func(x bearer) bool {
		r := &roles[x.role]
		if r.claim && r.kind == k && !slices.Contains(at, x.at) {
			at = append(at, x.at)
		}
		return r.claim
	}
	if add(b.first) && b.more != nil {
		for _, x := range *b.more {
			if !add(x) {
				break
			}
		}
	}
	return at
}

// legs reports whether volumes are the legs of one mirror: hosts see both by one identifier, and the source that lists
// them links each to another of them.
func (ed *editor) legs(at []int32) bool {
	for _, i := range at {
		o := ed.At(i)
		if o.Key.Ref.Kind != Volume {
			return false
		}
		mirrored := false
		for _, j := range at {
			other := ed.At(j)
			mirrored = mirrored || i != j && o.Key.Source == other.Key.Source && (o.linksTo(MirroredTo, other.Key.Ref) || other.linksTo(MirroredTo, o.Key.Ref))
		}
		if !mirrored {
			return false
		}
	}
	return true
}

func (o *Node) linksTo(kind LinkKind, ref Ref) bool {
	return slices.Contains(o.Links.Texts(string(kind)), ref.String())
}

// breakCircles leaves out each sent link that runs against the order of kinds and closes a circle of dependence, so that
// walks along them end. Every circle has such a link; which are left out does not depend on the order of objects.
func (ed *editor) breakCircles() {
	type broken struct {
		at    int32
		edges []edge
	}
	var all []broken
	ed.against.all(func(i int32, _ struct{}) {
		o := ed.At(i)
		b := broken{at: i}
		for _, x := range ed.sent(i) {
			kind := ed.words[x.kind]
			if runsAgainst(kind, o.Key.Ref.Kind, ed.Kind(x.to)) && ed.leadsTo(x.to, i, kind.containment()) {
				b.edges = append(b.edges, x)
			}
		}
		if had, _ := ed.cut.get(i); len(b.edges) > 0 || len(had) > 0 {
			all = append(all, b)
		}
	})
	for _, b := range all { // judged all before any is left out
		keep := slices.DeleteFunc(ed.sent(b.at), func(x edge) bool { return slices.Contains(b.edges, x) })
		for _, x := range *ed.out.at(b.at) {
			if x.derived {
				keep = append(keep, x)
			}
		}
		if len(b.edges) > 0 {
			ed.cut.set(b.at, b.edges)
		} else {
			ed.cut.drop(b.at)
		}
		found, _ := ed.findings.get(b.at)
		ed.found = slices.DeleteFunc(slices.Clone(found), func(f Finding) bool { return f.Code == Cycle })
		for _, x := range b.edges {
			ed.find(Cycle, b.at, ed.At(x.to).Key.Ref.String(), "its link %s to %s closes a circle: a thing cannot depend on itself; the link is left out", ed.words[x.kind], ed.At(x.to).Key.Ref)
		}
		if len(ed.found) > 0 {
			ed.findings.set(b.at, slices.Clone(ed.found))
		} else {
			ed.findings.drop(b.at)
		}
		if ed.bulk {
			ed.bulk = false // the lists of edges stand by now
			ed.replace(b.at, keep)
			ed.bulk = true
		} else {
			ed.replace(b.at, keep)
		}
	}
}

// sent lists the edges of i that its source sent, those left out included, in no order that matters.
func (ed *editor) sent(i int32) []edge {
	var all []edge
	for _, x := range *ed.out.at(i) {
		if !x.derived {
			all = append(all, x)
		}
	}
	cut, _ := ed.cut.get(i)
	for _, x := range cut {
		if !slices.Contains(all, x) {
			all = append(all, x)
		}
	}
	return all
}

// leadsTo reports whether sent links of one sort lead from one object to another.
func (ed *editor) leadsTo(from, to int32, containment bool) bool {
	seen := map[int32]bool{from: true}
	for queue := []int32{from}; len(queue) > 0; {
		at := queue[len(queue)-1]
		queue = queue[:len(queue)-1]
		if at == to {
			return true
		}
		for _, x := range ed.sent(at) {
			if k := ed.words[x.kind]; !k.symmetric() && k.containment() == containment && !seen[x.to] {
				seen[x.to] = true
				queue = append(queue, x.to)
			}
		}
	}
	return false
}

// runsAgainst reports whether a link runs against the order of kinds: sideways or up where dependence runs down.
func runsAgainst(link LinkKind, from, to Kind) bool {
	switch {
	case link.symmetric():
		return false
	case link.containment():
		return kinds[from].inside >= kinds[to].inside
	}
	return kinds[from].depth >= kinds[to].depth
}
