// Package service holds the use cases: what the API, the command line and the tests ask for. It is the
// only caller of store and core.
package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/singleflight"

	"dowsingrod/core/estate"
	"dowsingrod/core/route"
	"dowsingrod/internal/store"
)

// Service answers for one store. It is safe for concurrent use.
type Service struct {
	store *store.Store
	now   func() time.Time

	collecting Collecting

	mu      sync.Mutex
	version int64
	changes []time.Time
	maps    map[time.Time]*route.Map // by start of validity, of this version
	order   []time.Time              // least recently used first
	flight  singleflight.Group
}

// keptMaps bounds how many pictures of the estate are held.
const keptMaps = 12

// New makes a service on a store. now tells the time.
func New(s *store.Store, now func() time.Time) *Service {
	return &Service{store: s, now: now, version: -1, maps: make(map[time.Time]*route.Map)}
}

// WindowError says what is wrong with a window of time.
type WindowError struct{ Reason string }

func (e *WindowError) Error() string { return e.Reason }

// Window is the stretch of time a question is about.
type Window struct{ From, To time.Time }

// maxWindow bounds what one question may ask for.
const maxWindow = 35 * 24 * time.Hour

// Window checks a window; zero times take the last two hours.
func (s *Service) Window(from, to time.Time) (Window, error) {
	now := s.now()
	if to.IsZero() {
		to = now
	}
	if from.IsZero() {
		from = to.Add(-2 * time.Hour)
	}
	switch {
	case !from.Before(to):
		return Window{}, &WindowError{fmt.Sprintf("the window is reversed or empty: it starts %s and ends %s", from.Format(time.RFC3339), to.Format(time.RFC3339))}
	case to.Sub(from) > maxWindow:
		return Window{}, &WindowError{fmt.Sprintf("the window is %d days long; at most 35 can be asked for at once", int(to.Sub(from).Hours()/24))}
	case from.After(now.Add(time.Minute)):
		return Window{}, &WindowError{fmt.Sprintf("the window starts in the future, at %s", from.Format(time.RFC3339))}
	case to.Sub(from) < time.Minute:
		return Window{}, &WindowError{"the window is shorter than a minute"}
	}
	return Window{from.UTC(), to.UTC()}, nil
}

// refresh makes sure that cached pictures belong to the store's current estate.
func (s *Service) refresh(ctx context.Context) error {
	v, err := s.store.EstateVersion(ctx)
	if err != nil {
		return err
	}
	s.mu.Lock()
	same := v == s.version
	s.mu.Unlock()
	if same {
		return nil
	}
	changes, err := s.store.Changes(ctx, time.Unix(0, 0), time.Date(9000, 1, 1, 0, 0, 0, 0, time.UTC))
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.version, s.changes, s.maps, s.order = v, changes, make(map[time.Time]*route.Map), nil
	return nil
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

// mapAt returns the picture of the estate at a moment. refresh must have been called.
func (s *Service) mapAt(ctx context.Context, t time.Time) (*route.Map, error) {
	s.mu.Lock()
	from, _ := begins(s.changes, t)
	version := s.version
	if m := s.maps[from]; m != nil {
		k := slices.Index(s.order, from)
		s.order = append(slices.Delete(s.order, k, k+1), from)
		s.mu.Unlock()
		return m, nil
	}
	s.mu.Unlock()
	v, err, _ := s.flight.Do(fmt.Sprint(version, from.UnixNano()), func() (any, error) {
		objects, err := s.store.Estate(ctx, t)
		if err != nil {
			return nil, err
		}
		m := route.NewMap(estate.Build(objects))
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.version == version && s.maps[from] == nil {
			s.maps[from] = m
			if s.order = append(s.order, from); len(s.order) > keptMaps {
				delete(s.maps, s.order[0])
				s.order = s.order[1:]
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
	if err := s.refresh(ctx); err != nil {
		return nil, err
	}
	return s.mapAt(ctx, s.now().Add(48*time.Hour))
}

// mostMoments bounds how many pictures one question looks at.
const mostMoments = 8

// moments returns the pictures that hold within [from, to), in order. Where the estate changed more
// often than mostMoments, neighbouring short ones share the later picture.
func (s *Service) moments(ctx context.Context, from, to time.Time) ([]route.Moment, error) {
	if err := s.refresh(ctx); err != nil {
		return nil, err
	}
	s.mu.Lock()
	var cuts []time.Time
	for _, c := range s.changes {
		if c.After(from) && c.Before(to) {
			cuts = append(cuts, c)
		}
	}
	s.mu.Unlock()
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
		m, err := s.mapAt(ctx, end.Add(-time.Nanosecond))
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

// Ready reports whether questions can be answered.
func (s *Service) Ready(ctx context.Context) error { return s.store.Ping(ctx) }

// Now tells the service's time.
func (s *Service) Now() time.Time { return s.now() }
