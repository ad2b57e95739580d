// Package collect asks sources what there is and how it does, each at its own interval, and hands what they answer to
// a sink. A source has a goroutine of its own: none waits for another.
package collect

import (
	"context"
	"errors"
	"log/slog"
	"math/rand/v2"
	"sync"
	"time"

	"dowsingrod/internal/feed"
	"dowsingrod/internal/source"
)

// Config is a source to collect from.
type Config struct {
	source.Settings
	Paused   bool
	Revision int64  // rises with every change
	Health   Health // as it was last kept
	Err      error  // why it cannot be opened, such as a secret that cannot be decrypted
}

// Batch is what one pass brought.
type Batch struct {
	Source    string
	At        time.Time // of the inventory
	Objects   []feed.Object
	Unchanged bool // Objects is empty because nothing changed
	Full      bool // what is not in Objects is gone
	Readings  []feed.Reading
	Histogram []feed.Histogram
	Events    []feed.Event
}

// Sink takes what is collected. Its methods are called concurrently, for different sources.
type Sink interface {
	// Lead makes this collector the one that collects, of all that share the sink. ok is false where another does.
	Lead(ctx context.Context) (lead Lead, ok bool, err error)
	// Sources lists what to collect from.
	Sources(ctx context.Context) ([]Config, error)
	// Take stores a batch, all or nothing; it returns once that is durable. An error that says Retry may be met by
	// taking the batch again later.
	Take(ctx context.Context, b Batch) error
	// Retry reports whether err is the sink's trouble rather than the batch's.
	Retry(err error) bool
	// SetHealth keeps how a source does.
	SetHealth(ctx context.Context, name string, revision int64, h Health) error
	// Tidy does what must be done now and then.
	Tidy(ctx context.Context) error
}

// Lead is the right to collect.
type Lead interface {
	Held(ctx context.Context) bool
	GiveUp()
}

// Options of a collector.
type Options struct {
	Open func(source.Settings) (source.Source, error)
	Now  func() time.Time // nil takes time.Now
	Log  *slog.Logger     // nil takes the default
	// Review is how often the list of sources is read again; 0 takes 5 s. Refresh reads it at once.
	Review time.Duration
	// Takes bounds how many batches are stored at a time; 0 takes 4.
	Takes int
}

// Collector asks sources. Run makes it work.
type Collector struct {
	Options
	sink    Sink
	refresh chan struct{}
	slots   chan struct{}
}

// New makes a collector that hands what it gets to sink.
func New(sink Sink, o Options) *Collector {
	if o.Now == nil {
		o.Now = time.Now
	}
	if o.Log == nil {
		o.Log = slog.Default()
	}
	if o.Review == 0 {
		o.Review = 5 * time.Second
	}
	if o.Takes == 0 {
		o.Takes = 4
	}
	return &Collector{Options: o, sink: sink, refresh: make(chan struct{}, 1), slots: make(chan struct{}, o.Takes)}
}

// Refresh makes the collector look at once at what it has to collect from.
func (c *Collector) Refresh() {
	select {
	case c.refresh <- struct{}{}:
	default:
	}
}

// Run collects until ctx ends. It returns when everything it started has ended.
func (c *Collector) Run(ctx context.Context) {
	for ctx.Err() == nil {
		lead, ok, err := c.sink.Lead(ctx)
		if err != nil && ctx.Err() == nil {
			c.Log.Warn("the database does not say whether to collect; trying again", "error", err)
		}
		if ok {
			c.collect(ctx, lead)
			lead.GiveUp()
			continue
		}
		sleep(ctx, c.Review, nil)
	}
}

// sleep waits for d, for ctx, or for a word on wake.
func sleep(ctx context.Context, d time.Duration, wake <-chan struct{}) {
	t := time.NewTimer(max(d, 0))
	defer t.Stop()
	select {
	case <-ctx.Done():
	case <-t.C:
	case <-wake:
	}
}

type running struct {
	revision int64
	cancel   context.CancelFunc
	done     chan struct{}
}

// collect keeps a worker for every source while the lead is held.
func (c *Collector) collect(ctx context.Context, lead Lead) {
	ctx, cancel := context.WithCancel(ctx)
	workers := map[string]running{}
	var tidy sync.WaitGroup
	tidy.Go(func() { c.tidy(ctx) })
	defer func() {
		cancel()
		for _, w := range workers {
			<-w.done
		}
		tidy.Wait()
	}()
	for ctx.Err() == nil && lead.Held(ctx) {
		list, err := c.sink.Sources(ctx)
		if err == nil {
			c.adjust(ctx, workers, list)
		}
		sleep(ctx, c.Review, c.refresh)
	}
}

func (c *Collector) tidy(ctx context.Context) {
	for {
		sleep(ctx, time.Minute, nil)
		if ctx.Err() != nil {
			return
		}
		if err := c.sink.Tidy(ctx); err != nil && ctx.Err() == nil {
			c.Log.Warn("tidying failed; it is tried again", "error", err)
		}
	}
}

// adjust starts, restarts and ends workers so that they are those listed.
func (c *Collector) adjust(ctx context.Context, workers map[string]running, list []Config) {
	wanted := map[string]bool{}
	for _, cfg := range list {
		wanted[cfg.Name] = true
		w, runs := workers[cfg.Name]
		if runs && w.revision == cfg.Revision {
			continue
		}
		if runs {
			w.cancel()
			<-w.done
		}
		within, cancel := context.WithCancel(ctx)
		w = running{cfg.Revision, cancel, make(chan struct{})}
		workers[cfg.Name] = w
		go func() {
			defer close(w.done)
			(&worker{Collector: c, Config: cfg}).run(within)
		}()
	}
	for name, w := range workers {
		if !wanted[name] {
			w.cancel()
			<-w.done
			delete(workers, name)
		}
	}
}

// Times of a pass, in parts of the interval.
const (
	lag    = 0.01 // after a border, so that the reading there lies just beyond it
	jitter = 0.02
)

// Bounds of waiting.
const (
	longestBackOff = 5 * time.Minute
	shortestPass   = 5 * time.Second // least time a pass is given
	closestPasses  = time.Second     // between a pass and one that an event asks for
	settle         = 300 * time.Millisecond
	keptBatches    = 60 // passes kept while the database does not take them
)

// worker collects from one source.
type worker struct {
	*Collector
	Config
	src     source.Source
	kicked  chan struct{}
	mu      sync.Mutex
	events  []feed.Event
	backlog []Batch
	known   map[string]bool
	anew    bool // the source must be opened again
	compare comparison
}

func (w *worker) clock() time.Time { return w.Collector.Now() }

func (w *worker) run(ctx context.Context) {
	now := w.clock()
	h := &w.Health
	if w.Paused {
		h.enter(Paused, now)
		h.mend(now)
		h.Words, h.Try, h.Failures, h.Next = "collecting is paused; nothing is asked and nothing arrives", "", 0, time.Time{}
		w.keep(ctx)
		return
	}
	h.Passes, h.Series, h.Newest, h.Failures, h.Notes, h.Missing = 0, 0, time.Time{}, 0, nil, nil
	h.enter(Waiting, now)
	h.Words, h.Try = "it is being asked for the first time since the service started", ""
	for ctx.Err() == nil {
		if err := w.session(ctx); err != nil {
			h.fail(now, err)
			w.keep(ctx)
			return // until its settings change
		}
	}
}

// session opens the source and asks it until ctx ends or it must be opened anew.
func (w *worker) session(ctx context.Context) error {
	err := w.Err
	if err == nil {
		w.src, err = w.Open(w.Settings)
	}
	if err != nil {
		return err
	}
	defer w.src.Close()
	w.kicked, w.known, w.anew, w.compare = make(chan struct{}, 1), map[string]bool{}, false, comparison{}
	var watching sync.WaitGroup
	within, cancel := context.WithCancel(ctx)
	watching.Go(func() { w.watch(within) })
	defer watching.Wait()
	defer cancel()
	for ctx.Err() == nil && !w.anew {
		began := w.clock()
		w.pass(ctx)
		if ctx.Err() != nil {
			return nil
		}
		due := w.due(w.clock())
		w.Health.Next = due.UTC()
		w.keep(ctx)
		sleep(ctx, max(closestPasses-w.clock().Sub(began), 0), nil)
		sleep(ctx, due.Sub(w.clock()), w.kicked)
		sleep(ctx, settle, nil) // what happens together is looked at once
	}
	return nil
}

// due is when the next pass begins: just after a border, later after failures.
func (w *worker) due(now time.Time) time.Time {
	wait := w.Interval
	if n := w.Health.Failures; n > 1 {
		wait = min(w.Interval<<min(n-1, 10), max(longestBackOff, w.Interval))
	}
	border := w.Border(now).Add(wait)
	off := (lag + jitter*rand.Float64()) * w.Interval.Seconds()
	return border.Add(time.Duration(min(off, 2) * float64(time.Second))).Add(-settle)
}

func (w *worker) pass(ctx context.Context) {
	began := w.clock()
	within, cancel := context.WithTimeout(ctx, max(shortestPass, w.Interval*9/10))
	defer cancel()
	h := &w.Health
	h.Tried = began.UTC()
	b, notes, missing, err := w.ask(within)
	h.Took = w.clock().Sub(began).Seconds()
	if ctx.Err() != nil {
		return
	}
	if err == nil {
		err = w.store(ctx, b)
	}
	now := w.clock()
	if err != nil {
		h.fail(now.UTC(), err)
		w.Log.Warn("a source was not read", "source", w.Name, "error", err)
		return
	}
	if h.Failures > 0 {
		w.Log.Info("a source answers again", "source", w.Name, "after", h.Failures)
	}
	h.mend(now.UTC())
	h.Failures, h.Succeeded, h.Missing = 0, now.UTC(), append([]string{}, missing...)
	h.Passes++
	if len(b.Readings) > 0 {
		h.Series = 0
		for _, r := range b.Readings {
			h.Series += len(r.Values)
			for _, v := range r.Values {
				if end := r.From.Add(time.Duration(float64(len(v)) * r.Step * float64(time.Second))); end.After(h.Newest) {
					h.Newest = end.UTC()
				}
			}
		}
		h.Delay = max(0, now.Sub(h.Newest).Seconds())
	}
	if h.Newest.IsZero() && h.Passes == 1 {
		h.FirstRate = w.firstRate(began).UTC()
	}
	h.note(now.UTC(), notes)
	h.describe(now.UTC(), w.Interval)
	w.compareNow(ctx, b)
}

// firstRate is when the first whole interval ends after a reading at t.
func (w *worker) firstRate(t time.Time) time.Time {
	border := w.Border(t)
	if t.Sub(border) > w.Interval/10 {
		border = border.Add(w.Interval)
	}
	return border.Add(w.Interval)
}

// ask makes a pass over the source.
func (w *worker) ask(ctx context.Context) (b Batch, notes, missing []string, err error) {
	inv, err := w.src.Inventory(ctx)
	if err != nil {
		return b, nil, nil, w.late(ctx, err)
	}
	r, err := w.src.Readings(ctx)
	if err != nil {
		return b, nil, nil, w.late(ctx, err)
	}
	b = Batch{Source: w.Name, At: inv.At, Objects: inv.Objects, Unchanged: inv.Unchanged, Full: len(inv.Partial) == 0 && !inv.Unchanged,
		Readings: r.Runs, Histogram: r.Histograms, Events: r.Events}
	if !inv.Unchanged {
		counts := make(map[string]int)
		if b.Full {
			w.known = make(map[string]bool, len(inv.Objects))
		}
		for i := range inv.Objects {
			w.known[inv.Objects[i].Ref().String()] = true
			counts[string(inv.Objects[i].Kind)]++
		}
		w.Health.Objects = counts
	}
	w.mu.Lock()
	b.Events = append(b.Events, w.events...)
	w.events = nil
	w.mu.Unlock()
	kept := b.Events[:0]
	for _, e := range b.Events {
		if w.known[e.Of] {
			kept = append(kept, e)
		}
	}
	b.Events = kept
	return b, r.Notes, inv.Partial, nil
}

func (w *worker) late(ctx context.Context, err error) error {
	if _, told := asTrouble(err); !told && errors.Is(ctx.Err(), context.DeadlineExceeded) {
		return &source.Trouble{What: w.Address + " did not answer in time", Try: "what it measured meanwhile is missing; it is asked again", Err: err}
	}
	return err
}

// store hands a batch on, after those that could not be stored before.
func (w *worker) store(ctx context.Context, b Batch) error {
	w.backlog = append(w.backlog, b)
	if len(w.backlog) > keptBatches {
		w.backlog = merge(w.backlog)
	}
	select {
	case w.slots <- struct{}{}:
		defer func() { <-w.slots }()
	case <-ctx.Done():
		return ctx.Err()
	}
	for len(w.backlog) > 0 {
		err := w.sink.Take(ctx, w.backlog[0])
		if err != nil && w.sink.Retry(err) {
			return &source.Trouble{What: "the database does not take what it sent", Try: "the last sixty passes are kept in memory and stored once the database is back", Err: err}
		}
		w.backlog = w.backlog[1:]
		if err != nil {
			// The batch itself is wrong: the rest must not wait for it, and the source lists everything anew.
			w.anew = true
			return &source.Trouble{What: "what it sent could not be stored: " + err.Error(), Try: "see the service's log; the source is asked for everything again", Err: err}
		}
	}
	return nil
}

// merge drops the oldest batch, but not its inventory where a later one builds on it.
func merge(list []Batch) []Batch {
	first, second := list[0], list[1]
	if !first.Unchanged && second.Unchanged {
		second.Objects, second.Unchanged, second.Full, second.At = first.Objects, false, first.Full, first.At
	}
	list[1] = second
	return list[1:]
}

// watch listens to the source as long as it lasts.
func (w *worker) watch(ctx context.Context) {
	for wait := time.Second; ctx.Err() == nil; {
		began := w.clock()
		err := w.src.Watch(ctx, w.heard)
		if ctx.Err() != nil {
			return
		}
		if w.clock().Sub(began) > time.Minute {
			wait = time.Second
		}
		if err != nil {
			w.Log.Debug("a source is not heard", "source", w.Name, "error", err)
		}
		sleep(ctx, wait, nil)
		wait = min(2*wait, 30*time.Second)
	}
}

func (w *worker) heard(h source.Happening) {
	w.mu.Lock()
	if h.Event.Of != "" && len(w.events) < 10_000 {
		w.events = append(w.events, h.Event)
	}
	w.mu.Unlock()
	if h.Changed {
		select {
		case w.kicked <- struct{}{}:
		default:
		}
	}
}

func (w *worker) keep(ctx context.Context) {
	if err := w.sink.SetHealth(ctx, w.Name, w.Revision, w.Health); err != nil && ctx.Err() == nil {
		w.Log.Debug("the health of a source was not kept", "source", w.Name, "error", err)
	}
}
