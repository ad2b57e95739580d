package service

import (
	"context"
	"errors"
	"sync"
	"time"

	"dowsingrod/internal/collect"
	"dowsingrod/internal/feed"
	"dowsingrod/internal/store"
)

// Sink takes what the collector collects. It implements collect.Sink.
type Sink struct {
	s  *Service
	mu sync.Mutex
	of map[string]*memory
}

type memory struct {
	*store.Memory
	last time.Time
}

// Sink returns the service's side of the collector.
func (s *Service) Sink() *Sink { return &Sink{s: s, of: make(map[string]*memory)} }

// Lead implements collect.Sink.
func (k *Sink) Lead(ctx context.Context) (collect.Lead, bool, error) {
	l, err := k.s.store.Lead(ctx)
	if l == nil {
		return nil, false, err
	}
	return l, true, err
}

// Sources implements collect.Sink.
func (k *Sink) Sources(ctx context.Context) ([]collect.Config, error) {
	list, err := k.s.store.Connections(ctx)
	out := make([]collect.Config, 0, len(list))
	for _, c := range list {
		out = append(out, k.s.config(c))
	}
	return out, err
}

// SetHealth implements collect.Sink.
func (k *Sink) SetHealth(ctx context.Context, name string, revision int64, h collect.Health) error {
	return k.s.store.SetHealth(ctx, name, revision, h)
}

// Retry implements collect.Sink.
func (k *Sink) Retry(err error) bool {
	return errors.Is(err, store.ErrUnavailable) || errors.Is(err, context.DeadlineExceeded) || errors.Is(err, context.Canceled)
}

// packAfter is how old readings are when they are packed.
const packAfter = 10 * time.Minute

// Tidy implements collect.Sink.
func (k *Sink) Tidy(ctx context.Context) error {
	_, err := k.s.store.Pack(ctx, k.s.now().Add(-packAfter))
	return err
}

// Take implements collect.Sink.
func (k *Sink) Take(ctx context.Context, b collect.Batch) error {
	// A pass that was under way when its source was removed must not bring back what was ended or forgotten.
	if _, err := k.s.store.Connection(ctx, b.Source); err != nil {
		return err
	}
	k.mu.Lock()
	m := k.of[b.Source]
	if m == nil {
		m = &memory{Memory: store.NewMemory()}
		k.of[b.Source] = m
	}
	k.mu.Unlock()
	at := b.At
	if !at.After(m.last) { // our clock was set back: the estate's history does not go back with it
		at = m.last.Add(time.Millisecond)
	}
	_, err := k.s.store.ImportWith(ctx, m.Memory, func(in *store.Intake) error {
		if err := in.Begin(feed.Header{Version: feed.Version, Source: b.Source, Time: at, Full: b.Full}); err != nil {
			return err
		}
		for i := range b.Objects {
			if err := in.Object(&b.Objects[i], 0); err != nil {
				return err
			}
		}
		for i := range b.Readings {
			if err := in.Reading(&b.Readings[i]); err != nil {
				return err
			}
		}
		for i := range b.Histogram {
			if err := in.Histogram(&b.Histogram[i]); err != nil {
				return err
			}
		}
		for i := range b.Events {
			if err := in.Event(&b.Events[i]); err != nil {
				return err
			}
		}
		return nil
	})
	if err == nil {
		m.last = at
	}
	return err
}
