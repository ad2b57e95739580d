package verdict

import (
	"time"

	"dowsingrod/core/estate"
	"dowsingrod/core/route"
	"dowsingrod/core/strata"
	"dowsingrod/core/suspect"
)

// Located is the first step: the layer and the component.
type Located struct {
	Strata strata.Strata

	in     Input
	scene  *scene // nil where nothing hurt, or too little is known
	causes []cause
}

// leastWeight is the part of the added time that a component must account for to be named: less than a quarter leaves more unexplained
// than any rival could be wrong by.
const leastWeight = 0.25

// leastTold is the same for a component that is told by who waits. Below a half, more of what was seen speaks against it than for it: half of
// its users do not wait, or half of those that wait do not use it.
const leastTold = 0.5

// Locate splits the subject's latency by layer and weighs the evidence at everything it depends on. The subject must be in the last
// moment.
func Locate(in Input) (*Located, error) {
	s, err := strata.Compute(in.Grid, in.First, in.Moments, in.Of, in.From)
	if err != nil {
		return nil, err
	}
	l := &Located{Strata: s, in: in}
	if s.Change != nil {
		l.scene = newScene(in, &l.Strata)
		l.causes = l.scene.causes()
	}
	return l, nil
}

// chosen is the cause that accounts for most, of those that account for enough.
func (l *Located) chosen() *cause {
	for k := range l.causes {
		if c := &l.causes[k]; c.weight >= leastTold || c.weight >= leastWeight && !c.told {
			return c
		}
	}
	return nil
}

// Also adds readings fetched since, and what happened to objects, before Conclude.
func (l *Located) Also(r route.Readings, events []Event) {
	l.in.From, l.in.Events = both{l.in.From, r}, events
	if l.scene != nil {
		l.scene.in = l.in
	}
}

// Watched lists the objects whose events Conclude asks about, and the stretch of time they count in; none where it asks about none.
func (l *Located) Watched() (of []estate.Key, from, to time.Time) {
	c := l.chosen()
	if c == nil {
		return nil, from, to
	}
	e := l.scene.m.Estate()
	for _, d := range l.scene.m.VDisks(c.at) {
		of = append(of, e.At(d.At).Key)
	}
	at := l.Strata.Change.From
	return of, at.Add(-early), at.Add(late)
}

// Compare returns the comparison of tenants that Conclude needs; it reports false where there is none to make.
func (l *Located) Compare() (suspect.Input, bool) {
	c := l.chosen()
	if c == nil || c.way == longer {
		return suspect.Input{}, false
	}
	in := suspect.Input{Grid: l.in.Grid, First: l.in.First, Moments: l.in.Moments, Of: l.scene.m.Estate().At(c.at).Key, From: l.in.From,
		Episode: &suspect.Episode{UsualFrom: l.scene.before, Begin: l.scene.begin, End: l.scene.end, Direction: l.Strata.Change.Direction}}
	switch c.way {
	case limited, queued:
		in.Cost, in.Capped = suspect.CostIO, true
	case flooded:
		in.Cost = suspect.CostWritten
	}
	if _, ok := in.Moments[len(in.Moments)-1].Map.Estate().Position(in.Of); !ok {
		return suspect.Input{}, false
	}
	return in, true
}

func kindOf(x *scene, c *cause) estate.Kind { return x.m.Estate().Kind(c.at) }
