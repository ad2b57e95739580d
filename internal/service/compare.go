package service

import (
	"context"
	"fmt"
	"time"

	"dowsingrod/core/compare"
	"dowsingrod/core/estate"
	"dowsingrod/core/phrase"
	"dowsingrod/core/reading"
	"dowsingrod/core/route"
	"dowsingrod/core/strata"
)

// ComparedSide is one of two sides.
type ComparedSide struct {
	Ref   string           `json:"ref" doc:"The object, kind:id@source"`
	Name  string           `json:"name" doc:"Its name"`
	Kind  estate.Kind      `json:"kind" doc:"Its kind"`
	From  time.Time        `json:"from" doc:"Its window begins here"`
	To    time.Time        `json:"to" doc:"And ends here"`
	Read  strata.Direction `json:"read" doc:"Its reads, by layer over time"`
	Write strata.Direction `json:"write" doc:"Its writes"`
	Step  float64          `json:"step_s" doc:"Length of a cell in s"`
}

// SideBySide puts two windows, or two objects, side by side.
type SideBySide struct {
	First       ComparedSide       `json:"first" doc:"What is compared"`
	Second      ComparedSide       `json:"second" doc:"With what"`
	Differences []compare.Contrast `json:"differences" doc:"Figures of the object and of all it depends on; what differs most first"`
	Statement   []phrase.Phrase    `json:"statement" doc:"What one would say on the phone"`
}

// Compare puts an object over one window beside an object, the same or another, over the same window or another.
func (s *Service) Compare(ctx context.Context, of string, w Window, with string, beside Window) (SideBySide, error) {
	if with == "" {
		with = of
	}
	first, a, err := s.side(ctx, of, w)
	if err != nil {
		return SideBySide{}, err
	}
	second, b, err := s.side(ctx, with, beside)
	if err != nil {
		return SideBySide{}, err
	}
	out := SideBySide{First: first, Second: second, Differences: compare.Compute(a, b)}
	out.Statement = out.say()
	return out, nil
}

func (s *Service) side(ctx context.Context, query string, w Window) (ComparedSide, compare.Side, error) {
	q, err := s.ask(ctx, query, w)
	if err != nil {
		return ComparedSide{}, compare.Side{}, err
	}
	latest := q.latest()
	r, err := s.fetch(ctx, q.moments, append(compare.Needs(latest, q.at), strata.Needs(q.moments, q.key)...), q.grid.From, q.grid.End())
	if err != nil {
		return ComparedSide{}, compare.Side{}, err
	}
	split, err := strata.Compute(q.grid, q.first, q.moments, q.key, r)
	if err != nil {
		return ComparedSide{}, compare.Side{}, err
	}
	shown := reading.Grid{From: q.grid.At(q.first), Step: q.grid.Step, N: q.grid.N - q.first}
	return ComparedSide{Ref: split.Of, Name: split.Name, Kind: split.Kind, From: shown.From, To: shown.End(), Read: split.Read, Write: split.Write, Step: split.Step},
		compare.Side{Grid: shown, Map: latest, At: q.at, From: route.Readings(r)}, nil
}

func (c *SideBySide) say() []phrase.Phrase {
	if len(c.Differences) == 0 {
		return []phrase.Phrase{phrase.Say("There are no readings that both have: nothing can be compared.")}
	}
	side := "in the second window"
	if c.First.Ref != c.Second.Ref {
		side = "at " + c.Second.Name
	}
	out := []phrase.Phrase{}
	for _, d := range []struct {
		name string
		a, b reading.Figure
	}{{"A read", c.First.Read.Mean, c.Second.Read.Mean}, {"A write", c.First.Write.Mean, c.Second.Write.Mean}} {
		if a, b := phrase.Micros(float64(d.a)), phrase.Micros(float64(d.b)); d.a.Known() && d.b.Known() && a == b {
			out = append(out, phrase.Say("%s takes %s on both sides. ", d.name, a))
		} else if d.a.Known() && d.b.Known() {
			out = append(out, phrase.Say("%s takes %s, and %s %s. ", d.name, a, b, side))
		}
	}
	top := c.Differences[0]
	if top.Weight < 0.05 {
		return append(out, phrase.Phrase{Text: "Nothing differs by more than chance.", Tone: phrase.Good})
	}
	return append(out, phrase.Say("What differs most is "), phrase.Phrase{Text: fmt.Sprintf("%s of %s", reading.Words(top.Metric), top.Name), Tone: phrase.Strong, Ref: top.Ref, Page: "section"},
		phrase.Say(": %s %s.", top.Words, side))
}
