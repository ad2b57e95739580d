package service

import (
	"context"

	"dowsingrod/core/estate"
	"dowsingrod/core/reading"
	"dowsingrod/core/route"
	"dowsingrod/core/strata"
	"dowsingrod/core/suspect"
	"dowsingrod/core/verdict"
)

// question is an object looked at over a window.
type question struct {
	grid    reading.Grid
	first   int
	moments []route.Moment
	at      int32
	key     estate.Key
}

func (q question) latest() *route.Map { return q.moments[len(q.moments)-1].Map }

func (s *Service) ask(ctx context.Context, query string, w Window) (question, error) {
	q, err := s.over(ctx, w)
	if err != nil {
		return question{}, err
	}
	moments, at, err := resolve(q.moments, query)
	if err != nil {
		return question{}, err
	}
	g, first := q.grid, q.first
	moments[len(moments)-1].To = g.End() // it is gone since, but the question is still about it
	q = question{grid: g, first: first, moments: moments, at: at}
	q.key = q.latest().Estate().At(at).Key
	return q, nil
}

// over is a question about no object yet: a window on its grid, with the estates of its moments.
func (s *Service) over(ctx context.Context, w Window) (question, error) {
	finest, err := s.store.FinestInterval(ctx)
	if err != nil {
		return question{}, err
	}
	g, first, err := grid(w, finest)
	if err != nil {
		return question{}, &WindowError{err.Error()}
	}
	moments, err := s.moments(ctx, g.From, g.End())
	return question{grid: g, first: first, moments: moments}, err
}

// Strata splits the latency of what depends on an object by layer over a window.
func (s *Service) Strata(ctx context.Context, query string, w Window) (strata.Strata, error) {
	if name, ok := applicationOf(query); ok {
		q, r, err := s.application(ctx, name, w)
		if err != nil {
			return strata.Strata{}, err
		}
		out := strata.ComputeApplication(q.grid, q.first, q.moments, name, r)
		err = s.ordinary(ctx, q, strata.DisksOfApplication(name), r, &out)
		return out, err
	}
	q, err := s.ask(ctx, query, w)
	if err != nil {
		return strata.Strata{}, err
	}
	return s.strata(ctx, q)
}

func (s *Service) strata(ctx context.Context, q question) (strata.Strata, error) {
	r, err := s.fetch(ctx, q.moments, strata.Needs(q.moments, q.key), q.grid.From, q.grid.End())
	if err != nil {
		return strata.Strata{}, err
	}
	out, err := strata.Compute(q.grid, q.first, q.moments, q.key, r)
	if err != nil {
		return out, err
	}
	err = s.ordinary(ctx, q, strata.DisksOf(q.key), r, &out)
	return out, err
}

// Suspects compares the tenants of a component before and after it became slow.
func (s *Service) Suspects(ctx context.Context, query string, w Window) (suspect.Suspects, error) {
	q, err := s.ask(ctx, query, w)
	if err != nil {
		return suspect.Suspects{}, err
	}
	r, err := s.fetch(ctx, q.moments, suspect.Needs(q.moments, q.key), q.grid.From, q.grid.End())
	if err != nil {
		return suspect.Suspects{}, err
	}
	in := suspect.Input{Grid: q.grid, First: q.first, Moments: q.moments, Of: q.key, From: r}
	out, err := suspect.Compute(in)
	if err != nil {
		return out, err
	}
	if out.Outcome == suspect.NoChange { // its tenants may wait before it all the same: for a place in what it can do at once
		in.AtTenants = true
		waiting, err := suspect.Compute(in)
		if err != nil {
			return out, err
		}
		if waiting.Outcome != suspect.NoChange && waiting.Outcome != suspect.Unknown && waiting.Slower() > 0 {
			out = waiting
		}
	}
	err = s.consult(ctx, q.grid, q.first, q.moments, &out)
	return out, err
}

// consult asks those who wait most at a component that slowed what they wait for. Where one of them names the component, what is known of it is taken from
// there; where none does, and the first that names anything is more likely right than not, nobody is accused here.
func (s *Service) consult(ctx context.Context, g reading.Grid, first int, moments []route.Moment, of *suspect.Suspects) error {
	where, told, err := s.elsewhere(ctx, g, first, moments, *of)
	switch {
	case err != nil:
		return err
	case where != nil:
		of.Yield(*where)
	case told != nil:
		of.Agree(*told)
	}
	return nil
}

// asked is how many of those who wait most are asked what for: one may wait for something of its own as well.
const asked = 2

// outcomes are what the classes of cause mean for who did it, where nobody is accused. The others leave it open.
var outcomes = map[verdict.Class]suspect.Outcome{
	verdict.Crowd: suspect.Everybody, verdict.Growth: suspect.Everybody, verdict.Degraded: suspect.Itself, verdict.Path: suspect.Itself,
	verdict.SlowReceiver: suspect.Itself, verdict.HostQueue: suspect.Itself, verdict.Limit: suspect.Itself, verdict.SiteLink: suspect.Itself,
}

// elsewhere asks those who wait most at a component that slowed what they wait for. It returns what the first says of the component that names it;
// else what the first waits for that names anything and is more likely right than not, with what it says of that; nothing where nobody knows.
func (s *Service) elsewhere(ctx context.Context, g reading.Grid, first int, moments []route.Moment, of suspect.Suspects) (*suspect.Where, *suspect.Told, error) {
	switch of.Outcome {
	case suspect.Culprit, suspect.Several, suspect.Everybody, suspect.Itself:
	default:
		return nil, nil, nil
	}
	var found *suspect.Where
	var said *suspect.Told
	for _, ref := range of.Waiting(asked) {
		key, err := estate.ParseKey(ref)
		if err != nil {
			return nil, nil, err
		}
		at, ok := moments[len(moments)-1].Map.Estate().Position(key)
		if !ok {
			continue
		}
		x, err := s.explain(ctx, question{grid: g, first: first, moments: moments, at: at, key: key})
		if err != nil {
			return nil, nil, err
		}
		c := x.Verdict.Component
		switch {
		case c == nil || x.Onset == nil || x.Verdict.Confidence < 0.5:
		case of.Until != nil && !x.Onset.Before(*of.Until), x.Until != nil && of.Onset != nil && !x.Until.After(*of.Onset):
			// it waited at another time
		case c.Ref == of.Of:
			return nil, toldBy(x), nil
		case found == nil:
			found, said = &suspect.Where{Ref: c.Ref, Name: c.Name, Why: x.Evidence[0].Words}, toldBy(x)
		}
	}
	return found, said, nil
}

// toldBy is what an explanation says of who did it; nil where it leaves that open.
func toldBy(x verdict.Explanation) *suspect.Told {
	told := &suspect.Told{Name: x.Name, Confidence: x.Verdict.Confidence}
	for _, a := range x.Suspects {
		if a.Accused {
			told.Accused = append(told.Accused, a.Ref)
		}
	}
	switch len(told.Accused) {
	case 0:
		outcome, ok := outcomes[x.Verdict.Class]
		if !ok {
			return nil // somebody did it, and it is not known who; or nothing is known
		}
		told.Outcome = outcome
	case 1:
		told.Outcome = suspect.Culprit
	default:
		told.Outcome = suspect.Several
	}
	return told
}
