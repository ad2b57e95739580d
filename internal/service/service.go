// Package service holds the use cases: what the API, the command line and the tests ask for. It is the
// only caller of store and core.
package service

import (
	"context"
	"fmt"
	"sync"
	"time"

	"golang.org/x/sync/singleflight"

	"dowsingrod/internal/store"
)

// Service answers for one store. It is safe for concurrent use.
type Service struct {
	store *store.Store
	now   func() time.Time

	collecting Collecting

	mu       sync.Mutex
	pictures pictures
	flight   singleflight.Group
	surveys  map[string]keptSurvey
	limits   keptLimits
}

// New makes a service on a store. now tells the time.
func New(s *store.Store, now func() time.Time) *Service {
	return &Service{store: s, now: now, pictures: pictures{version: -1}}
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

// Ready reports whether questions can be answered.
func (s *Service) Ready(ctx context.Context) error { return s.store.Ping(ctx) }

// Now tells the service's time.
func (s *Service) Now() time.Time { return s.now() }
