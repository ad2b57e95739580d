package service

import (
	"context"

	"dowsingrod/core/estate"
	"dowsingrod/core/reading"
	"dowsingrod/core/route"
	"dowsingrod/core/strata"
	"dowsingrod/core/suspect"
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
	finest, err := s.store.FinestInterval(ctx)
	if err != nil {
		return question{}, err
	}
	g, first, err := grid(w, finest)
	if err != nil {
		return question{}, &WindowError{err.Error()}
	}
	moments, err := s.moments(ctx, g.From, g.End())
	if err != nil {
		return question{}, err
	}
	moments, at, err := resolve(moments, query)
	if err != nil {
		return question{}, err
	}
	moments[len(moments)-1].To = g.End() // it is gone since, but the question is still about it
	q := question{grid: g, first: first, moments: moments, at: at}
	q.key = q.latest().Estate().At(at).Key
	return q, nil
}

// Strata splits the latency of what depends on an object by layer over a window.
func (s *Service) Strata(ctx context.Context, query string, w Window) (strata.Strata, error) {
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
	return strata.Compute(q.grid, q.first, q.moments, q.key, r)
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
	return suspect.Compute(suspect.Input{Grid: q.grid, First: q.first, Moments: q.moments, Of: q.key, From: r})
}
