package estate

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Ref addresses an object within its source, written "kind:id".
type Ref struct {
	Kind Kind
	ID   string
}

// ParseRef reads "kind:id". The id may itself hold colons.
func ParseRef(s string) (Ref, error) {
	kind, id, ok := strings.Cut(s, ":")
	if !ok || kind == "" || id == "" {
		return Ref{}, fmt.Errorf("%q is not a reference: write kind:id, as in vm:manifest-db-02", s)
	}
	return Ref{Kind(kind), id}, nil
}

func (r Ref) String() string { return string(r.Kind) + ":" + r.ID }

// Key addresses an object in the whole estate: its source and its reference there.
type Key struct {
	Source string
	Ref    Ref
}

// String writes the key as "kind:id@source".
func (k Key) String() string { return k.Ref.String() + "@" + k.Source }

// Facts are what a source says of an object: JSON values, so string, float64, bool, []any, nil.
type Facts map[string]any

// Text returns the fact as text, "" where it is absent or not text.
func (f Facts) Text(name string) string {
	switch v := f[name].(type) {
	case string:
		return v
	case float64:
		return number(v)
	}
	return ""
}

func number(v float64) string { return strconv.FormatFloat(v, 'g', -1, 64) }

// Number returns the fact as a number and whether it is one.
func (f Facts) Number(name string) (float64, bool) {
	v, ok := f[name].(float64)
	return v, ok
}

// Texts returns a list fact; a single text counts as a list of one.
func (f Facts) Texts(name string) []string {
	switch v := f[name].(type) {
	case string:
		return []string{v}
	case []any:
		var out []string
		for _, e := range v {
			if s, ok := e.(string); ok {
				out = append(out, s)
			}
		}
		return out
	case []string:
		return v
	}
	return nil
}

// Links are an object's links as its source sent them, by kind, in the order sent.
type Links map[LinkKind][]Ref

// Object is an object as a source describes it.
type Object struct {
	Key   Key
	Store int64 // the store's number for it, 0 where it has none
	Name  string
	Facts Facts
	Links Links
}

// Node returns the object as an estate keeps it.
func (o *Object) Node() Node {
	n := Node{Key: o.Key, Store: o.Store, Name: o.Name, Facts: SheetOf(o.Facts)}
	if len(o.Links) > 0 {
		links := make(Facts, len(o.Links))
		for kind, refs := range o.Links {
			list := make([]any, len(refs))
			for i, r := range refs {
				list[i] = r.String()
			}
			links[string(kind)] = list
		}
		n.Links = SheetOf(links)
	}
	return n
}

// Node is an object of an estate. Two nodes are equal where a source says the same of both.
type Node struct {
	Key   Key
	Store int64
	Name  string
	Facts Sheet
	Links Sheet // lists of references by kind of link
}

// Title is the name people know the object by: its name, or its id where it has none.
func (o *Node) Title() string {
	if o.Name != "" {
		return o.Name
	}
	return o.Key.Ref.ID
}

// Tier is the service tier of a VM as its source writes it, "" where it has none.
func (o *Node) Tier() string { return o.Facts.Text("tier") }

// eachLink calls f with every kind of link and its references, kinds in alphabetical order.
func (o *Node) eachLink(f func(kind LinkKind, refs []string)) {
	type entry struct {
		kind LinkKind
		raw  string
	}
	var buffer [8]entry
	entries := buffer[:0]
	o.Links.each(func(name, raw string) bool {
		entries = append(entries, entry{LinkKind(name), raw})
		return true
	})
	slices.SortFunc(entries, func(a, b entry) int { return strings.Compare(string(a.kind), string(b.kind)) })
	for _, e := range entries {
		f(e.kind, texts(e.raw))
	}
}

// ParseKey reads "kind:id@source".
func ParseKey(s string) (Key, error) {
	at := strings.LastIndexByte(s, '@')
	if at < 0 {
		return Key{}, fmt.Errorf("%q names no source: write it as kind:id@source", s)
	}
	ref, err := ParseRef(s[:at])
	return Key{Source: s[at+1:], Ref: ref}, err
}
