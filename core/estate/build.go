package estate

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
)

// Build makes the graph of objects as of one moment. It never fails: whatever is wrong with the
// objects becomes a finding, and the rest is joined. Of two objects with one key the later wins.
func Build(objects []Object) *Estate {
	e := &Estate{byKey: make(map[Key]int32, len(objects)), byRef: make(map[Ref][]int32, len(objects)), byID: make(map[Identity][]int32)}
	for _, o := range objects {
		if i, ok := e.byKey[o.Key]; ok {
			e.objects[i] = o
			continue
		}
		i := int32(len(e.objects))
		e.objects = append(e.objects, o)
		e.byKey[o.Key] = i
		e.byRef[o.Key.Ref] = append(e.byRef[o.Key.Ref], i)
	}
	e.out, e.in = make([][]Edge, len(e.objects)), make([][]Edge, len(e.objects))
	b := builder{Estate: e, owners: make(map[Kind]map[Identity][]int32)}
	b.resolve()
	b.breakCycles(func(k LinkKind) bool { return !k.containment() && !k.symmetric() })
	b.breakCycles(LinkKind.containment)
	b.claim()
	b.join()
	slices.SortFunc(e.findings, func(x, y Finding) int {
		return cmp.Or(cmp.Compare(x.Code, y.Code), cmp.Compare(x.Object, y.Object), cmp.Compare(x.Detail, y.Detail))
	})
	e.findings = slices.Compact(e.findings)
	e.index()
	return e
}

type builder struct {
	*Estate
	owners map[Kind]map[Identity][]int32 // who claims to be what, by kind
}

func (b *builder) find(code string, i int32, format string, args ...any) {
	o := b.At(i)
	b.findings = append(b.findings, Finding{Code: code, Object: o.Key.String(), Name: o.Title(), Detail: fmt.Sprintf(format, args...)})
}

func (b *builder) connect(from, to int32, kind LinkKind, derived bool) {
	edge := Edge{From: from, To: to, Kind: kind, Derived: derived}
	b.out[from] = append(b.out[from], edge)
	b.in[to] = append(b.in[to], edge)
}

// resolve turns sent links into edges.
func (b *builder) resolve() {
	for i := range b.objects {
		o := &b.objects[i]
		for _, kind := range slices.Sorted(maps.Keys(o.Links)) {
			for _, ref := range o.Links[kind] {
				to, ok := b.byKey[Key{o.Key.Source, ref}]
				if !ok {
					b.find(LinkToNothing, int32(i), "its link %s leads to %s, which its source %s does not list", kind, ref, o.Key.Source)
					continue
				}
				b.connect(int32(i), to, kind, false)
			}
		}
	}
}

// breakCycles removes each edge of the kinds followed that closes a circle, so that walks along them end.
func (b *builder) breakCycles(follow func(LinkKind) bool) {
	const (
		unseen = iota
		open
		done
	)
	state := make([]uint8, len(b.objects))
	type frame struct {
		at   int32
		next int
	}
	for root := range b.objects {
		if state[root] != unseen {
			continue
		}
		stack := []frame{{at: int32(root)}}
		state[root] = open
		for len(stack) > 0 {
			f := &stack[len(stack)-1]
			if f.next == len(b.out[f.at]) {
				state[f.at] = done
				stack = stack[:len(stack)-1]
				continue
			}
			edge := b.out[f.at][f.next]
			f.next++
			if !follow(edge.Kind) {
				continue
			}
			switch state[edge.To] {
			case unseen:
				state[edge.To] = open
				stack = append(stack, frame{at: edge.To})
			case open:
				b.find(Cycle, edge.From, "its link %s to %s closes a circle: a thing cannot depend on itself; the link is left out", edge.Kind, b.At(edge.To).Key.Ref)
				f.next--
				b.disconnect(edge)
			}
		}
	}
}

func (b *builder) disconnect(edge Edge) {
	drop := func(list []Edge) []Edge {
		if k := slices.Index(list, edge); k >= 0 {
			return slices.Delete(list, k, k+1)
		}
		return list
	}
	b.out[edge.From] = drop(b.out[edge.From])
	b.in[edge.To] = drop(b.in[edge.To])
}

// claim indexes identities and lists those that two objects of a kind claim.
func (b *builder) claim() {
	for i := range b.objects {
		o := &b.objects[i]
		for _, c := range claims[o.Key.Ref.Kind] {
			for _, text := range o.Facts.Texts(c.fact) {
				id, err := Normalize(c.scheme, text)
				if err != nil {
					b.find(IdentityUnreadable, int32(i), "its fact %s: %v", c.fact, err)
					continue
				}
				of := b.owners[o.Key.Ref.Kind]
				if of == nil {
					of = make(map[Identity][]int32)
					b.owners[o.Key.Ref.Kind] = of
				}
				of[id] = append(of[id], int32(i))
				b.byID[id] = append(b.byID[id], int32(i))
			}
		}
		for _, c := range views[o.Key.Ref.Kind] {
			for _, text := range o.Facts.Texts(c.fact) {
				if id, err := Normalize(c.scheme, text); err == nil {
					b.byID[id] = append(b.byID[id], int32(i))
				}
			}
		}
	}
	for _, of := range b.owners {
		for id, at := range of {
			for _, i := range at[1:] {
				b.find(IdentityClaimedTwice, i, "it claims %s, and so does %s: nothing is joined by it until one of them is corrected", id, b.At(at[0]).Key)
			}
		}
	}
}

// owner returns the one object of any of the kinds that claims id. A reason is returned where there
// is none or more than one.
func (b *builder) owner(id Identity, kinds ...Kind) (int32, string) {
	for _, k := range kinds {
		switch at := b.owners[k][id]; len(at) {
		case 0:
		case 1:
			return at[0], ""
		default:
			return 0, fmt.Sprintf("%d objects claim %s", len(at), id)
		}
	}
	return 0, fmt.Sprintf("no %s with %s is known", kinds[0].Label(), id)
}

// joinBy connects i to the owners of the identities in a fact, and lists those that lead nowhere.
func (b *builder) joinBy(i int32, fact string, read func(string) (Identity, error), kind LinkKind, consequence string, kinds ...Kind) {
	for _, text := range b.At(i).Facts.Texts(fact) {
		id, err := read(text)
		if err != nil {
			b.find(IdentityUnreadable, i, "its fact %s: %v", fact, err)
			continue
		}
		to, why := b.owner(id, kinds...)
		if why != "" {
			if consequence != "" {
				b.find(NotJoined, i, "%s: %s", why, consequence)
			}
			continue
		}
		b.connect(i, to, kind, true)
	}
}

func scheme(s Scheme) func(string) (Identity, error) {
	return func(text string) (Identity, error) { return Normalize(s, text) }
}

// join connects objects of different sources by identity.
func (b *builder) join() {
	for n := range b.objects {
		i := int32(n)
		switch b.objects[n].Key.Ref.Kind {
		case Datastore:
			b.joinBy(i, "extents", NormalizeExtent, Extent, "the map ends at this datastore", Volume)
			b.joinBy(i, "export", scheme(Export), Exports, "the map ends at this datastore", Share)
		case Device:
			if len(b.To(i, Opens)) > 0 {
				continue
			}
			const end = "the map ends at this device"
			b.joinBy(i, "naa", scheme(NAA), Opens, end, Volume)
			b.joinBy(i, "eui", scheme(EUI), Opens, end, Volume)
			b.joinBy(i, "nguid", scheme(NGUID), Opens, end, Volume)
			b.joinBy(i, "lun", scheme(LUN), Opens, end, Volume)
		case Path, Flow:
			b.joinBy(i, "initiator", NormalizePort, Initiator, "the way from the host into the fabric is unknown", HBAPort, TargetPort)
			b.joinBy(i, "target", NormalizePort, Target, "the way from the fabric into the array is unknown", TargetPort)
			b.joinBy(i, "vm_uuid", scheme(UUID), FlowOf, "the flow counts for no VM", VM)
		case SwitchPort:
			// Reversed: the port that is logged in depends on the switch port.
			for _, text := range b.At(i).Facts.Texts("attached") {
				id, err := Normalize(WWN, text)
				if err != nil {
					b.find(IdentityUnreadable, i, "its fact attached: %v", err)
					continue
				}
				from, why := b.owner(id, HBAPort, TargetPort)
				if why != "" {
					b.find(NotJoined, i, "logged in here is %s, and no source lists a port with it", id)
					continue
				}
				b.connect(from, i, Attached, true)
			}
		case ISL:
			b.joinBy(i, "ends", scheme(WWN), Joins, "the map has a gap between two switches", SwitchPort)
		case Zone:
			b.joinBy(i, "members", scheme(WWN), Zones, "", HBAPort, TargetPort)
		}
	}
}
