package estate

import (
	"fmt"
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
		return strings.TrimSuffix(fmt.Sprintf("%g", v), ".0")
	}
	return ""
}

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

// Object is a node of the estate.
type Object struct {
	Key   Key
	Store int64 // the store's number for it, 0 where it has none
	Name  string
	Facts Facts
	Links Links
}

// Title is the name people know the object by: its name, or its id where it has none.
func (o *Object) Title() string {
	if o.Name != "" {
		return o.Name
	}
	return o.Key.Ref.ID
}

// Tier is the service tier of a VM as its source writes it, "" where it has none.
func (o *Object) Tier() string { return o.Facts.Text("tier") }
