package estate

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
)

// Match is an object found, and by what.
type Match struct {
	At  int32
	By  string // what matched, in words: "name", "NAA identifier naa.6…", "LUN 14"
	Way int    // 0 the thing itself, 1 starts so, 2 contains it, 3 something it is known by contains it
}

// kindOrder puts what people look for first among equal matches.
var kindOrder = map[Kind]int{VM: 0, Datastore: 1, Volume: 2, Host: 3, Array: 4, Pool: 5, Controller: 6, Switch: 7,
	SwitchPort: 8, TargetPort: 9, HBAPort: 10, Share: 11, RAIDGroup: 12, VDisk: 13, Device: 14, Drive: 15, Path: 30}

// query is what is looked for, in the ways it may be written.
type query struct {
	text   string // lower case
	digits string // as hexadecimal digits, "" where it is none
	number string // as a LUN or volume number, "" where it is none
}

func newQuery(text string) query {
	q := query{text: strings.ToLower(strings.TrimSpace(text))}
	decimal := strings.Trim(q.text, "0123456789") == ""
	q.digits = hexDigits(cutPrefixes(q.text, "naa.", "eui.", "wwn.", "wwn-", "scsi-", "nvme-", "0x"))
	if len(q.digits) < 4 || decimal && len(q.text) < 8 {
		q.digits = "" // too short to tell an identifier from a word or a LUN number
	}
	if rest, ok := strings.CutPrefix(q.text, "lun"); ok {
		q.number = strings.TrimSpace(rest)
	} else if decimal {
		q.number = q.text
	}
	return q
}

// patterns are texts of which a line holds at least one where it matches; short is what a name must begin with or an id
// be, for a query too short to be looked for anywhere.
func (q query) patterns() (p []string, short string) {
	if len(q.text) < 3 {
		short = q.text
	} else {
		p = append(p, q.text)
	}
	if q.digits != "" && q.digits != q.text {
		p = append(p, q.digits)
		if len(q.digits) == 17 || len(q.digits) == 33 {
			p = append(p, q.digits[1:])
		}
	}
	if q.number != "" {
		p = append(p, string(markNumber)+q.number+string(fieldEnd))
	}
	return p, short
}

const noMatch = 9

// match tells in which way a line answers the query: as Match.Way, or noMatch.
func (q query) match(line string, kind Kind) int {
	best := noMatch
	line = line[1:]
	for n := 0; line != "" && line[0] != lineEnd; n++ {
		end := strings.IndexByte(line, fieldEnd)
		if end < 0 {
			break
		}
		field := line[:end]
		line = line[end+1:]
		way := noMatch
		switch {
		case n < 2 && field == q.text:
			way = 0
		case n == 0 && strings.HasPrefix(field, q.text):
			way = 1
		case n < 2:
			if len(q.text) >= 3 && strings.Contains(field, q.text) {
				way = 2
			}
		case field[0] == markHex:
			switch v := field[1:]; {
			case q.digits == "":
			case v == q.digits, len(q.digits) == len(v)+1 && q.digits[0] == '3' && v == q.digits[1:]:
				way = 0
			case strings.Contains(v, q.digits):
				way = 3
			}
		case field[0] == markNumber:
			if q.number != "" && field[1:] == q.number {
				switch kind {
				case Volume:
					way = 1
				case Path, Flow:
					way = 3
				}
			}
		case field[0] == markText && field[1:] == q.text:
			way = 0
		default:
			if len(q.text) >= 3 && strings.Contains(field[1:], q.text) {
				way = 3
			}
		}
		best = min(best, way)
	}
	return best
}

// Found are the objects that answer a query.
type Found struct {
	Matches []Match
	Total   int  // how many there are in all
	More    bool // there are more than Total: they were not all looked for
}

// mostHits bounds how many answers are looked at one by one: texts of a few characters have tens of thousands, and nobody
// reads them.
const mostHits = 4000

type candidate struct {
	score int
	at    int32
}

// Find returns the objects whose name, id or any identifier contains the query, best first and at most limit of them (all
// for 0). Hexadecimal identifiers are found in any notation; a bare number also finds LUN and device numbers. Of one or two
// characters a name must begin so. A kind of "" means any. Where names that begin with the query are enough for the limit,
// what contains it elsewhere is not looked for.
func (e *Estate) Find(text string, kind Kind, limit int) Found {
	q := newQuery(text)
	if q.text == "" {
		return Found{}
	}
	patterns, short := q.patterns()
	l := looker{e: e, q: q, kind: kind, seen: make(map[int32]bool)}
	if limit > 0 {
		// What is meant exactly, then what begins so: the lines lie in the order in which they are wanted.
		if len(q.text) >= 3 {
			l.look(q.exact(), "", 0, limit)
		}
		l.look(nil, q.text, 1, limit)
		if len(l.found) >= limit && len(q.digits) < 8 {
			f := e.best(q, l.found, limit)
			f.More = true
			return f
		}
		l.look(patterns, short, noMatch-1, mostHits)
	} else {
		l.look(patterns, short, noMatch-1, e.count+1)
	}
	f := e.best(q, l.found, limit)
	f.More = l.more
	return f
}

// exact are texts of which a line holds at least one where an object is just what the query says.
func (q query) exact() []string {
	p := []string{string(lineStart) + q.text + string(fieldEnd), string(fieldEnd) + q.text + string(fieldEnd), string(markText) + q.text + string(fieldEnd)}
	if q.digits != "" {
		p = append(p, string(markHex)+q.digits+string(fieldEnd))
		if len(q.digits) == 17 || len(q.digits) == 33 {
			p = append(p, string(markHex)+q.digits[1:]+string(fieldEnd))
		}
	}
	return p
}

const scores = 64 // of one way

// looker gathers what answers a query.
type looker struct {
	e     *Estate
	q     query
	kind  Kind
	found []candidate
	seen  map[int32]bool
	more  bool
}

// look adds what answers in a way no worse than one, at most so many.
func (l *looker) look(patterns []string, short string, worst, most int) {
	added := 0
	l.e.text.each(patterns, short, func(at int32, line string) bool {
		k := l.e.Kind(at)
		if l.kind != "" && k != l.kind || l.seen[at] {
			return true
		}
		if way := l.q.match(line, k); way <= worst {
			if added >= most {
				l.more = true
				return false
			}
			added++
			l.seen[at] = true
			l.found = append(l.found, candidate{way*scores + int(l.e.order[*l.e.codes.at(at)]), at})
		}
		return true
	})
}

// best puts the first of the candidates in order.
func (e *Estate) best(q query, all []candidate, limit int) Found {
	var tally [noMatch * scores]int
	for _, c := range all {
		tally[c.score]++
	}
	total := len(all)
	var found []Match
	if limit <= 0 || limit > total {
		limit = total
	}
	// Only those that can be among the first are put in order: common words are in the names of tens of thousands.
	last, before := 0, 0
	for ; last < len(tally) && before+tally[last] < limit; last++ {
		before += tally[last]
	}
	var sure, edge []candidate
	order := func(a, b candidate) int {
		return cmp.Or(cmp.Compare(a.score, b.score), compare(e.At(a.at), e.At(b.at)))
	}
	for _, c := range all {
		switch {
		case c.score < last:
			sure = append(sure, c)
		case c.score == last:
			if room := limit - before; len(edge) < room {
				at, _ := slices.BinarySearchFunc(edge, c, order)
				edge = slices.Insert(edge, at, c)
			} else if room > 0 && order(c, edge[room-1]) < 0 {
				at, _ := slices.BinarySearchFunc(edge, c, order)
				edge = slices.Insert(edge[:room-1], at, c)
			}
		}
	}
	slices.SortFunc(sure, order)
	for _, c := range append(sure, edge...) {
		way := c.score / scores
		found = append(found, Match{At: c.at, By: e.by(c.at, q, way), Way: way})
	}
	return Found{Matches: found, Total: total}
}

func orderOf(k Kind) int {
	if n, ok := kindOrder[k]; ok {
		return n
	}
	return 20
}

// by tells by what an object matches in a way.
func (e *Estate) by(i int32, q query, way int) string {
	o := e.At(i)
	name, id := strings.ToLower(o.Name), strings.ToLower(o.Key.Ref.ID)
	switch {
	case way == 0 && name == q.text, way == 1 && strings.HasPrefix(name, q.text), way == 2 && strings.Contains(name, q.text):
		return "name"
	case way == 0 && id == q.text, way == 2:
		return "id"
	case way == 1:
		return "LUN " + q.number
	}
	for _, x := range Identities(o) {
		switch {
		case x.hex() && q.digits != "" && (strings.Contains(x.Value, q.digits) || strings.HasSuffix(q.digits, x.Value)), !x.hex() && strings.Contains(x.Value, q.text):
			return x.String()
		}
	}
	for _, f := range []string{"lun", "number"} {
		if q.number != "" && o.Facts.Text(f) == q.number {
			return "LUN " + q.number
		}
	}
	for _, f := range []string{"address", "application", "alias"} {
		for _, s := range o.Facts.Texts(f) {
			if strings.Contains(strings.ToLower(s), q.text) {
				return f + " " + s
			}
		}
	}
	return ""
}

func (id Identity) hex() bool {
	return id.Scheme != IQN && id.Scheme != NQN && id.Scheme != Export && id.Scheme != Serial && id.Scheme != LUN
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
	for _, m := range e.Find(query, "", 50).Matches {
		if m.Way == 0 {
			exact = append(exact, m.At)
		}
	}
	// A host's device, a datastore and a volume share one NAA: the volume is the thing itself.
	if len(exact) > 1 {
		if own := slices.DeleteFunc(slices.Clone(exact), func(i int32) bool { return shows(e.Kind(i)) }); len(own) == 1 {
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
	if k := strings.LastIndexByte(ref.ID, '@'); k > 0 {
		if i, ok := e.byKey.get(Key{ref.ID[k+1:], Ref{ref.Kind, ref.ID[:k]}}); ok {
			return []int32{i}, true
		}
	}
	var at []int32
	for _, source := range e.sources {
		if i, ok := e.byKey.get(Key{source, ref}); ok {
			at = append(at, i)
		}
	}
	if len(at) > 0 {
		return at, true
	}
	// kind:name, for people who know the name but not the id
	for _, m := range e.Find(ref.ID, ref.Kind, 50).Matches {
		if strings.EqualFold(e.At(m.At).Name, ref.ID) {
			at = append(at, m.At)
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
