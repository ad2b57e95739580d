package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"dowsingrod/core/estate"
	"dowsingrod/core/route"
)

// keptMaps bounds how many pictures of the past are held. They share with the present what did not change since.
const keptMaps = 32

// pictures are the estate as it is, and as it was at the moments asked for.
type pictures struct {
	version int64       // of the estate in the store; -1 before the first was read
	changes []time.Time // at which the estate changed, in order
	now     *route.Map
	past    map[time.Time]*route.Map // by start of validity
	order   []time.Time              // of those, least recently used first
}

// refresh brings the present picture up to the store's. What changed is applied to it; where that is not known, or is
// much, it is read anew.
func (s *Service) refresh(ctx context.Context) (pictures, error) {
	v, err := s.store.EstateVersion(ctx)
	if err != nil {
		return pictures{}, err
	}
	s.mu.Lock()
	p := s.pictures
	s.mu.Unlock()
	if p.version >= v {
		return p, nil
	}
	_, err, _ = s.flight.Do(fmt.Sprint("refresh ", v), func() (any, error) {
		for range 5 { // an import that commits while objects are read may be half in what was read: go on to its version
			if err := s.catchUp(ctx, p, v); err != nil {
				return nil, err
			}
			latest, err := s.store.EstateVersion(ctx)
			if err != nil || latest == v {
				return nil, err
			}
			v = latest
		}
		return nil, nil
	})
	if err != nil {
		return pictures{}, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.pictures, nil
}

func (s *Service) catchUp(ctx context.Context, p pictures, version int64) error {
	next := pictures{version: version, past: make(map[time.Time]*route.Map)}
	moments, err := s.store.Moments(ctx, p.version)
	if err != nil {
		return err
	}
	next.changes = slices.Concat(p.changes, moments)
	slices.SortFunc(next.changes, time.Time.Compare)
	next.changes = slices.CompactFunc(next.changes, time.Time.Equal)
	var objects []int64
	listed := false
	if p.now != nil {
		if objects, listed, err = s.store.ChangedSince(ctx, p.version, version); err != nil {
			return err
		}
	}
	if listed {
		var c estate.Change
		if err := s.store.NodesOf(ctx, objects, c.Take); err != nil {
			return err
		}
		next.now = route.NewMap(p.now.Estate().With(c))
	} else {
		size := 0
		if p.now != nil {
			size = p.now.Estate().Count()
		}
		var failed error
		e := estate.Of(size, func(yield func(estate.Node) bool) {
			failed = s.store.EachNode(ctx, time.Time{}, func(n estate.Node) { yield(n) })
		})
		if failed != nil {
			return failed
		}
		next.now = route.NewMap(e)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.pictures.version < version {
		s.pictures = next
	}
	return nil
}

// Load reads the estate, so that the first question need not wait for it.
func (s *Service) Load(ctx context.Context) error {
	_, err := s.refresh(ctx)
	return err
}

// begins returns when the picture that holds at t began, and when it ends; zero times for no bound.
func begins(changes []time.Time, t time.Time) (from, to time.Time) {
	k, exact := slices.BinarySearchFunc(changes, t, time.Time.Compare)
	if exact {
		k++
	}
	if k > 0 {
		from = changes[k-1]
	}
	if k < len(changes) {
		to = changes[k]
	}
	return from, to
}

// mapAt returns the picture of the estate at a moment.
func (s *Service) mapAt(ctx context.Context, p pictures, t time.Time) (*route.Map, error) {
	from, to := begins(p.changes, t)
	if to.IsZero() {
		return p.now, nil
	}
	s.mu.Lock()
	if s.pictures.version == p.version {
		if m := s.pictures.past[from]; m != nil {
			order := s.pictures.order
			k := slices.Index(order, from)
			s.pictures.order = append(slices.Delete(order, k, k+1), from)
			s.mu.Unlock()
			return m, nil
		}
	}
	s.mu.Unlock()
	v, err, _ := s.flight.Do(fmt.Sprint(p.version, from.UnixNano()), func() (any, error) {
		var c estate.Change
		if err := s.store.Differences(ctx, t, c.Take); err != nil {
			return nil, err
		}
		m := route.NewMap(p.now.Estate().With(c))
		s.mu.Lock()
		defer s.mu.Unlock()
		if q := &s.pictures; q.version == p.version && q.past[from] == nil {
			q.past[from] = m
			if q.order = append(q.order, from); len(q.order) > keptMaps {
				delete(q.past, q.order[0])
				q.order = q.order[1:]
			}
		}
		return m, nil
	})
	if err != nil {
		return nil, err
	}
	return v.(*route.Map), nil
}

// current returns the newest picture.
func (s *Service) current(ctx context.Context) (*route.Map, error) {
	p, err := s.refresh(ctx)
	return p.now, err
}

// at returns the picture of a moment; the newest for the zero time.
func (s *Service) at(ctx context.Context, t time.Time) (*route.Map, error) {
	p, err := s.refresh(ctx)
	if err != nil || t.IsZero() {
		return p.now, err
	}
	return s.mapAt(ctx, p, t)
}

// mostMoments bounds how many pictures one question looks at.
const mostMoments = 8

// moments returns the pictures that hold within [from, to), in order. Where the estate changed more
// often than mostMoments, neighbouring short ones share the later picture.
func (s *Service) moments(ctx context.Context, from, to time.Time) ([]route.Moment, error) {
	p, err := s.refresh(ctx)
	if err != nil {
		return nil, err
	}
	cuts := cutsBetween(p.changes, from, to)
	for len(cuts) > mostMoments-1 {
		shortest, at := time.Duration(1<<62), 0
		for k := 0; k+1 < len(cuts); k++ {
			if d := cuts[k+1].Sub(cuts[k]); d < shortest {
				shortest, at = d, k
			}
		}
		cuts = slices.Delete(cuts, at, at+1)
	}
	var out []route.Moment
	for start, k := from, 0; ; k++ {
		end := to
		if k < len(cuts) {
			end = cuts[k]
		}
		m, err := s.mapAt(ctx, p, end.Add(-time.Nanosecond))
		if err != nil {
			return nil, err
		}
		out = append(out, route.Moment{From: start, To: end, Map: m})
		if k == len(cuts) {
			return out, nil
		}
		start = end
	}
}

// cutsBetween returns a copy of the changes within (from, to).
func cutsBetween(changes []time.Time, from, to time.Time) []time.Time {
	i, exact := slices.BinarySearchFunc(changes, from, time.Time.Compare)
	if exact {
		i++
	}
	j, _ := slices.BinarySearchFunc(changes, to, time.Time.Compare)
	if j <= i {
		return nil
	}
	return slices.Clone(changes[i:j])
}

// resolve finds what a query means in the latest of the moments that know it, and drops later ones.
func resolve(moments []route.Moment, query string) ([]route.Moment, int32, error) {
	var first error
	for k := len(moments) - 1; k >= 0; k-- {
		i, err := moments[k].Map.Estate().Resolve(query)
		if err == nil {
			return moments[:k+1], i, nil
		}
		if first == nil {
			first = err
		}
		var ambiguous *estate.AmbiguousError
		if errors.As(err, &ambiguous) {
			break
		}
	}
	return nil, 0, first
}
