package estate

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// searchText is what an object can be found by: lower-case names and bare identifiers.
type searchText struct {
	name  string
	id    string
	ids   []Identity
	extra []string // LUN and device numbers, serials
}

func (e *Estate) index() {
	e.names = make([]searchText, len(e.objects))
	for i := range e.objects {
		o := &e.objects[i]
		t := searchText{name: strings.ToLower(o.Name), id: strings.ToLower(o.Key.Ref.ID), ids: Identities(o)}
		for _, f := range []string{"lun", "number", "serial", "application"} {
			if s := o.Facts.Text(f); s != "" {
				t.extra = append(t.extra, strings.ToLower(s))
			}
		}
		e.names[i] = t
	}
}

// Match is an object found, and by what.
type Match struct {
	At  int32
	By  string // what matched, in words: "name", "NAA identifier naa.6…", "LUN 14"
	Way int    // 0 the thing itself, 1 starts so, 2 contains it, 3 something it is known by contains it
}

// kindOrder puts what people look for first among equal matches.
var kindOrder = map[Kind]int{VM: 0, Datastore: 1, Volume: 2, Host: 3, Array: 4, Pool: 5, Controller: 6, Switch: 7,
	SwitchPort: 8, TargetPort: 9, HBAPort: 10, Share: 11, RAIDGroup: 12, VDisk: 13, Device: 14, Drive: 15, Path: 30}

// Find returns the objects whose name, id or any identifier contains the query, best first. Hexadecimal
// identifiers are found in any notation; a bare number also finds LUN and device numbers. A kind of ""
// means any.
func (e *Estate) Find(query string, kind Kind) []Match {
	q := strings.ToLower(strings.TrimSpace(query))
	if q == "" {
		return nil
	}
	digits := hexDigits(cutPrefixes(q, "naa.", "eui.", "wwn-", "scsi-", "0x"))
	if len(digits) < 4 || strings.Trim(q, "0123456789") == "" && len(q) < 8 {
		digits = "" // too short to tell an identifier from a word or a LUN number
	}
	lun := ""
	if rest, ok := strings.CutPrefix(q, "lun"); ok {
		lun = strings.TrimSpace(rest)
	} else if strings.Trim(q, "0123456789") == "" {
		lun = q
	}
	var found []Match
	for i := range e.names {
		if kind != "" && e.objects[i].Key.Ref.Kind != kind {
			continue
		}
		if m, ok := e.names[i].match(q, digits, lun, e.objects[i].Key.Ref.Kind); ok {
			m.At = int32(i)
			found = append(found, m)
		}
	}
	slices.SortStableFunc(found, func(a, b Match) int {
		x, y := e.At(a.At), e.At(b.At)
		return cmp.Or(cmp.Compare(a.Way, b.Way), cmp.Compare(orderOf(x), orderOf(y)),
			cmp.Compare(x.Title(), y.Title()), cmp.Compare(x.Key.String(), y.Key.String()))
	})
	return found
}

func orderOf(o *Object) int {
	if n, ok := kindOrder[o.Key.Ref.Kind]; ok {
		return n
	}
	return 20
}

func (t searchText) match(q, digits, lun string, kind Kind) (Match, bool) {
	switch {
	case t.name == q:
		return Match{By: "name"}, true
	case t.id == q:
		return Match{By: "id"}, true
	}
	best := Match{Way: 9}
	offer := func(way int, by string) {
		if way < best.Way {
			best = Match{Way: way, By: by}
		}
	}
	switch {
	case strings.HasPrefix(t.name, q):
		offer(1, "name")
	case strings.Contains(t.name, q):
		offer(2, "name")
	case strings.Contains(t.id, q):
		offer(2, "id")
	}
	for _, id := range t.ids {
		switch hex := digits != "" && id.hex(); {
		case hex && id.Value == digits, !hex && id.Value == q:
			offer(0, id.String())
		case hex && strings.Contains(id.Value, digits):
			offer(3, id.String())
		case !id.hex() && len(q) >= 3 && strings.Contains(id.Value, q):
			offer(3, id.String())
		}
	}
	for _, x := range t.extra {
		switch {
		case lun != "" && x == lun && kind == Volume:
			offer(1, "LUN "+x)
		case lun != "" && x == lun && (kind == Path || kind == Flow):
			offer(3, "LUN "+x)
		case lun == "" && len(q) >= 3 && strings.Contains(x, q):
			offer(3, x)
		}
	}
	return best, best.Way < 9
}

func (id Identity) hex() bool {
	return id.Scheme != IQN && id.Scheme != NQN && id.Scheme != Export && id.Scheme != Serial
}

// NotFoundError says that nothing answers to a name.
type NotFoundError struct{ Query string }

func (e *NotFoundError) Error() string {
	return fmt.Sprintf("nothing here is called %q: give a name, kind:id, WWN, NAA, IQN, UUID or serial", e.Query)
}

// AmbiguousError lists the objects that a name could mean.
type AmbiguousError struct {
	Query      string
	Candidates []string // as kind:id@source, best first, at most 20
}

func (e *AmbiguousError) Error() string {
	return fmt.Sprintf("%q could be any of %d objects: %s", e.Query, len(e.Candidates), strings.Join(e.Candidates, ", "))
}

// Resolve returns the one object meant by kind:id@source, kind:id, a name, or any identifier in any
// notation. Its errors are *NotFoundError and *AmbiguousError.
func (e *Estate) Resolve(query string) (int32, error) {
	if at, ok := e.address(query); ok {
		return e.only(query, at)
	}
	var exact []int32
	for _, m := range e.Find(query, "") {
		if m.Way == 0 {
			exact = append(exact, m.At)
		}
	}
	// A host's device, a datastore and a volume share one NAA: the volume is the thing itself.
	if len(exact) > 1 {
		if own := slices.DeleteFunc(slices.Clone(exact), func(i int32) bool { return views[e.At(i).Key.Ref.Kind] != nil }); len(own) == 1 {
			exact = own
		}
	}
	return e.only(query, exact)
}

func (e *Estate) address(query string) ([]int32, bool) {
	ref, err := ParseRef(query)
	if err != nil || !ref.Kind.Known() {
		return nil, false
	}
	if at := e.byRef[ref]; len(at) > 0 {
		return at, true
	}
	if k := strings.LastIndexByte(ref.ID, '@'); k > 0 {
		if i, ok := e.byKey[Key{ref.ID[k+1:], Ref{ref.Kind, ref.ID[:k]}}]; ok {
			return []int32{i}, true
		}
	}
	// kind:name, for people who know the name but not the id
	var at []int32
	for i := range e.objects {
		if e.objects[i].Key.Ref.Kind == ref.Kind && strings.EqualFold(e.objects[i].Name, ref.ID) {
			at = append(at, int32(i))
		}
	}
	return at, len(at) > 0
}

func (e *Estate) only(query string, at []int32) (int32, error) {
	switch len(at) {
	case 0:
		return 0, &NotFoundError{query}
	case 1:
		return at[0], nil
	}
	err := &AmbiguousError{Query: query}
	for _, i := range at[:min(len(at), 20)] {
		err.Candidates = append(err.Candidates, e.At(i).Key.String())
	}
	return 0, err
}
