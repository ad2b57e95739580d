package service

import (
	"context"
	"slices"

	"dowsingrod/core/estate"
	"dowsingrod/core/route"
	"dowsingrod/core/suspect"
	"dowsingrod/core/verdict"
)

// Explain says why an object is slow, or that its storage is not the reason. An application is asked about as application:NAME.
func (s *Service) Explain(ctx context.Context, query string, w Window) (verdict.Explanation, error) {
	if name, ok := applicationOf(query); ok {
		return s.explainApplication(ctx, name, w)
	}
	q, err := s.ask(ctx, query, w)
	if err != nil {
		return verdict.Explanation{}, err
	}
	x, err := s.explain(ctx, q)
	if err != nil {
		return x, err
	}
	err = s.held(ctx, q.latest().Estate(), &x)
	return x, err
}

func (s *Service) explain(ctx context.Context, q question) (verdict.Explanation, error) {
	fetch := func(needs []route.Need) (runs, error) {
		return s.fetch(ctx, q.moments, needs, q.grid.From, q.grid.End())
	}
	r, err := fetch(verdict.Needs(q.moments, q.key))
	if err != nil {
		return verdict.Explanation{}, err
	}
	l, err := verdict.Locate(verdict.Input{Grid: q.grid, First: q.first, Moments: q.moments, Of: q.key, From: r})
	if err != nil {
		return verdict.Explanation{}, err
	}
	if needs := l.Doubt(); len(needs) > 0 {
		r, err := fetch(needs)
		if err != nil {
			return verdict.Explanation{}, err
		}
		l.Infer(r)
	}
	in, ok := l.Compare()
	if !ok {
		return l.Conclude(nil), nil
	}
	if r, err = fetch(slices.Concat(suspect.Needs(q.moments, in.Of), l.ForeignNeeds())); err != nil {
		return verdict.Explanation{}, err
	}
	events, err := s.happened(ctx, q, l)
	if err != nil {
		return verdict.Explanation{}, err
	}
	l.Also(r, events)
	in.From = r
	tenants, err := suspect.Compute(in)
	if err != nil {
		return verdict.Explanation{}, err
	}
	return l.Conclude(&tenants), nil
}

// happened lists what happened to the objects that a verdict asks about.
func (s *Service) happened(ctx context.Context, q question, l *verdict.Located) ([]verdict.Event, error) {
	of, from, to := l.Watched()
	if len(of) == 0 {
		return nil, nil
	}
	var ids []int64
	by := map[int64]estate.Key{}
	e := q.latest().Estate()
	for _, key := range of {
		if i, ok := e.Position(key); ok {
			id := e.At(i).Store
			ids, by[id] = append(ids, id), key
		}
	}
	found, err := s.store.Events(ctx, ids, from, to, 200)
	if err != nil {
		return nil, err
	}
	out := make([]verdict.Event, 0, len(found))
	for _, f := range found {
		out = append(out, verdict.Event{Of: by[f.Object], Time: f.At, What: f.What})
	}
	return out, nil
}
