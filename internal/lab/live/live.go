// Package live runs an estate of the lab as time goes on and offers what its sources would report as feeds to be pulled, over
// HTTPS and for a token, as exporters do. Faults can be begun and ended, and remedies tried, while it runs.
package live

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"sync"
	"time"

	"dowsingrod/internal/feed"
	"dowsingrod/internal/lab"
)

// kept is how much of the past a feed holds: who asks less often misses what lies between.
const kept = 20 * time.Minute

// mostValues bounds a feed: pullers refuse more at once.
const mostValues = 3 << 20

// Live is an estate that goes on. It is safe for concurrent use.
type Live struct {
	mu     sync.Mutex
	fleet  *lab.Fleet
	tick   time.Duration
	until  time.Time // the model has been run up to here
	recent map[string]*recent
	begun  map[int]*Begun
	last   int
}

// Begun is a fault that was begun while it runs.
type Begun struct {
	ID    int       `json:"id"`
	Fault string    `json:"fault"`
	Class string    `json:"class"`
	At    string    `json:"component,omitempty"`
	By    []string  `json:"culprits"`
	From  time.Time `json:"from"`
	To    time.Time `json:"to,omitzero"`
	x     *lab.Fault
}

// recent holds the newest readings and events of a source.
type recent struct {
	order  []string // objects, as they were first reported
	by     map[string]*feed.Reading
	events []feed.Record // with the headers and objects they came with
}

func (r *recent) add(rec feed.Record, now time.Time) {
	if rec.Event != nil {
		r.events = append(r.events, rec)
		return
	}
	if rec.Reading == nil {
		return
	}
	have := r.by[rec.Reading.Of]
	if have == nil {
		r.order = append(r.order, rec.Reading.Of)
		r.by[rec.Reading.Of] = rec.Reading
		return
	}
	n := 0
	for _, v := range have.Values {
		n = len(v)
	}
	step := time.Duration(have.Step * float64(time.Second))
	// What is too old is dropped once it is half of all, so that each value is moved about once.
	drop := 0
	if old := int(now.Add(-kept).Sub(have.From) / step); old > n/2 {
		drop = min(old, n)
	}
	for metric, v := range rec.Reading.Values {
		have.Values[metric] = append(slices.Delete(have.Values[metric], 0, drop), v...)
	}
	have.From = have.From.Add(time.Duration(drop) * step)
}

// forget drops events that are too old.
func (r *recent) forget(now time.Time) {
	r.events = slices.DeleteFunc(r.events, func(e feed.Record) bool { return e.Event.Time.Before(now.Add(-kept)) })
}

// copy returns what is there, in order, for somebody who reads it while more comes in. It leaves out the oldest values where
// there are more than pullers take.
func (r *recent) copy() []feed.Record {
	values := 0
	for _, x := range r.by {
		for _, v := range x.Values {
			values += len(v)
		}
	}
	out := make([]feed.Record, 0, len(r.order)+len(r.events))
	for _, of := range r.order {
		x := r.by[of]
		c := &feed.Reading{Of: x.Of, From: x.From, Step: x.Step, Values: make(map[string]feed.Values, len(x.Values))}
		for metric, v := range x.Values {
			skip := 0
			if values > mostValues {
				skip = len(v) - len(v)*mostValues/values
			}
			c.From = x.From.Add(time.Duration(float64(skip) * x.Step * float64(time.Second)))
			c.Values[metric] = slices.Clone(v[skip:])
		}
		out = append(out, feed.Record{Reading: c})
	}
	return append(out, r.events...)
}

// New makes an estate that goes on from o.From. A tick is how much is solved at once: whole minutes.
func New(o lab.Options, tick time.Duration) (*Live, error) {
	if tick < time.Minute || tick%time.Minute != 0 {
		return nil, fmt.Errorf("the lab advances by whole minutes, not by %s", tick)
	}
	f, err := lab.Grow(o)
	if err != nil {
		return nil, err
	}
	return &Live{fleet: f, tick: tick, until: f.From, recent: map[string]*recent{}, begun: map[int]*Begun{}}, nil
}

// Until returns up to when the estate has been run.
func (l *Live) Until() time.Time {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.until
}

// Advance runs the estate by ticks up to a moment.
func (l *Live) Advance(to time.Time) error {
	for {
		l.mu.Lock()
		next := l.until.Add(l.tick)
		if next.After(to) {
			l.mu.Unlock()
			return nil
		}
		var mu sync.Mutex
		err := l.fleet.WriteSpan(l.until, next, false, func(source string, r feed.Record) error {
			if r.Header != nil || r.Object != nil { // the inventory is listed as it is when somebody asks
				return nil
			}
			mu.Lock()
			defer mu.Unlock()
			of := l.recent[source]
			if of == nil {
				of = &recent{by: map[string]*feed.Reading{}}
				l.recent[source] = of
			}
			of.add(r, next)
			return nil
		})
		for _, r := range l.recent {
			r.forget(next)
		}
		l.until = next
		l.mu.Unlock()
		if err != nil {
			return err
		}
	}
}

// Run advances the estate until ctx ends, as fast as a clock says. The clock returns what time it is in the estate.
func (l *Live) Run(ctx context.Context, clock func() time.Time, wait func(time.Duration)) error {
	for ctx.Err() == nil {
		if err := l.Advance(clock()); err != nil {
			return err
		}
		wait(l.Until().Add(l.tick).Sub(clock()))
	}
	return nil
}

// ErrNoSource says that the estate has no such source.
var ErrNoSource = errors.New("the lab has no such source")

// Feed writes the feed of a source: its whole inventory as of now, and what it reported lately.
func (l *Live) Feed(source string, w io.Writer) error {
	l.mu.Lock()
	inventory := slices.Clone(l.fleet.Inventory(source))
	var lately []feed.Record
	if r := l.recent[source]; r != nil {
		lately = r.copy()
	}
	until := l.until
	l.mu.Unlock()
	if inventory == nil {
		return ErrNoSource
	}
	out := feed.NewWriter(w)
	if err := out.Write(feed.Record{Header: &feed.Header{Version: feed.Version, Source: source, Time: until, Full: true}}); err != nil {
		return err
	}
	for _, o := range inventory {
		if err := out.Write(feed.Record{Object: o}); err != nil {
			return err
		}
	}
	for _, r := range lately {
		if err := out.Write(r); err != nil {
			return err
		}
	}
	return out.Flush()
}

// Sources lists the names of all sources.
func (l *Live) Sources() []lab.Source { return l.fleet.Sources() }

// Begin begins a fault with the next tick.
func (l *Live) Begin(kind string, part int, seed uint64, ramp time.Duration, force float64) (Begun, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	x, err := l.fleet.Begin(kind, part, seed, l.until, ramp, force)
	if err != nil {
		return Begun{}, err
	}
	l.last++
	b := &Begun{ID: l.last, Fault: x.Kind, Class: x.Class, At: x.Component, By: slices.Concat([]string{}, x.Culprits), From: l.until, x: x}
	l.begun[b.ID] = b
	return *b, nil
}

// End ends a fault with the next tick.
func (l *Live) End(id int) (Begun, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	b := l.begun[id]
	if b == nil || !b.To.IsZero() {
		return Begun{}, fmt.Errorf("no fault %d is under way", id)
	}
	l.fleet.End(b.x, l.until)
	b.To = l.until
	return *b, nil
}

// Faults lists the faults that were begun, oldest first.
func (l *Live) Faults() []Begun {
	l.mu.Lock()
	defer l.mu.Unlock()
	out := []Begun{}
	for id := 1; id <= l.last; id++ {
		out = append(out, *l.begun[id])
	}
	return out
}

// Apply tries a remedy with the next tick, and says what it does.
func (l *Live) Apply(r lab.Remedy) (string, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.fleet.Apply(r, l.until)
}
