package congest

import (
	"fmt"
	"iter"
	"reflect"

	"dowsingrod/core/estate"
	"dowsingrod/core/reading"
)

// Rule changes a limit for an object, for all of a kind that are in an object, or for all of a kind.
type Rule struct {
	Kind     estate.Kind    `json:"kind" doc:"Of objects of this kind"`
	Within   string         `json:"within" doc:"Only for this object, or for those in it; kind:id@source, empty for all"`
	Metric   string         `json:"metric" doc:"The figure that is limited"`
	Strained reading.Figure `json:"strained" doc:"Strained above this; null for never"`
	Failing  reading.Figure `json:"failing" doc:"Failing above this; null for never"`
}

// Validate says what is wrong with a rule, nil where nothing is.
func (r Rule) Validate() error {
	found := false
	for _, l := range Kinds()[r.Kind] {
		found = found || l.Metric == r.Metric
	}
	switch {
	case !found:
		return fmt.Errorf("nothing limits %s of %s: dowse limits lists what is limited", r.Metric, r.Kind)
	case r.Strained.Known() && r.Strained < 0 || r.Failing.Known() && r.Failing < 0:
		return fmt.Errorf("a limit below zero is always passed: give zero or more")
	case r.Strained.Known() && r.Failing.Known() && r.Failing < r.Strained:
		return fmt.Errorf("failing, %v, lies below strained, %v: swap them", float64(r.Failing), float64(r.Strained))
	}
	return nil
}

// Kinds returns the limits of every kind that has some, of an object of which nothing is known.
func Kinds() map[estate.Kind][]Limit {
	out := map[estate.Kind][]Limit{}
	for _, k := range []estate.Kind{estate.VM, estate.VDisk, estate.Host, estate.HBAPort, estate.Device, estate.Datastore, estate.SwitchPort, estate.TargetPort,
		estate.Controller, estate.Volume, estate.Pool, estate.RAIDGroup, estate.Drive} {
		e := estate.Build([]estate.Object{{Key: estate.Key{Ref: estate.Ref{Kind: k, ID: "any"}}}})
		out[k] = defaults(e, 0)
	}
	return out
}

// Book is the limits in force: those given by kind, speed, media and configuration, and the rules that change them. A nil book has no
// rules.
type Book struct {
	rules map[estate.Kind]map[string]map[string]*Rule // by kind, metric, and what they are for
}

// NewBook makes a book of rules. Of two rules for the same the later one holds.
func NewBook(rules []Rule) *Book {
	b := &Book{rules: map[estate.Kind]map[string]map[string]*Rule{}}
	for k := range rules {
		r := &rules[k]
		if b.rules[r.Kind] == nil {
			b.rules[r.Kind] = map[string]map[string]*Rule{}
		}
		if b.rules[r.Kind][r.Metric] == nil {
			b.rules[r.Kind][r.Metric] = map[string]*Rule{}
		}
		b.rules[r.Kind][r.Metric][r.Within] = r
	}
	return b
}

// Of returns the limits in force for an object.
func (b *Book) Of(e *estate.Estate, i int32) []Limit {
	out := defaults(e, i)
	if b == nil || b.rules[e.Kind(i)] == nil {
		return out
	}
	for k := range out {
		if r := b.rule(e, i, out[k].Metric); r != nil {
			out[k].Strained, out[k].Failing = r.Strained, r.Failing
			out[k].Reason = "changed for " + r.For(e)
		}
	}
	return out
}

// Around yields an object, what it is part or member of, what that is part of, and so on.
func Around(e *estate.Estate, i int32) iter.Seq[int32] {
	return func(yield func(int32) bool) {
		for range 8 { // no estate is built deeper
			if !yield(i) {
				return
			}
			next := e.First(i, estate.PartOf)
			if next < 0 {
				next = e.First(i, estate.MemberOf)
			}
			if next < 0 {
				return
			}
			i = next
		}
	}
}

// rule returns the nearest one: the object's own, then that of what it is in, then that of its kind.
func (b *Book) rule(e *estate.Estate, i int32, metric string) *Rule {
	of := b.rules[e.Kind(i)][metric]
	if len(of) == 0 {
		return nil
	}
	for at := range Around(e, i) {
		if r := of[e.At(at).Key.String()]; r != nil {
			return r
		}
	}
	return of[""]
}

// For says what a rule is for, in words.
func (r Rule) For(e *estate.Estate) string {
	if r.Within == "" {
		return "all " + r.Kind.Plural()
	}
	name := r.Within
	if i, err := e.Resolve(r.Within); err == nil {
		name = e.At(i).Title()
		if e.Kind(i) == r.Kind {
			return name
		}
	}
	return "all " + r.Kind.Plural() + " in " + name
}

// Same reports whether two books hold the same rules.
func (b *Book) Same(other *Book) bool {
	return b == other || b != nil && other != nil && reflect.DeepEqual(b.rules, other.rules)
}

// Holds reports whether any rule of the book holds for an object.
func (b *Book) Holds(e *estate.Estate, i int32) bool {
	for metric := range b.rules[e.Kind(i)] {
		if b.rule(e, i, metric) != nil {
			return true
		}
	}
	return false
}
