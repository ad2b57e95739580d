package collect_test

import (
	"context"
	"errors"
	"log/slog"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/estate"
	. "dowsingrod/internal/collect"
	"dowsingrod/internal/feed"
	"dowsingrod/internal/source"
)

// scripted is a source that does as told.
type scripted struct {
	name    string
	passes  atomic.Int64
	at      atomic.Int64 // passes under way
	most    atomic.Int64 // at a time
	fail    atomic.Bool
	hang    atomic.Bool
	partial atomic.Bool
	closed  atomic.Int64
	happen  chan source.Happening
	watched atomic.Int64
}

func (s *scripted) Probe(context.Context) source.Report { return source.Report{} }

func (s *scripted) Inventory(ctx context.Context) (source.Inventory, error) {
	n := s.at.Add(1)
	defer s.at.Add(-1)
	s.most.Store(max(s.most.Load(), n))
	if s.hang.Load() {
		<-ctx.Done()
		return source.Inventory{}, ctx.Err()
	}
	if s.fail.Load() {
		return source.Inventory{}, &source.Trouble{What: "it rains", Try: "wait"}
	}
	inv := source.Inventory{At: time.Now().UTC(), Objects: []feed.Object{{Kind: estate.VM, ID: "a"}}}
	if s.partial.Load() {
		inv.Partial = []string{"half of it"}
	}
	return inv, nil
}

func (s *scripted) Readings(context.Context) (source.Readings, error) {
	s.passes.Add(1)
	return source.Readings{Runs: []feed.Reading{{Of: "vm:a", From: time.Now().Add(-time.Second), Step: 1, Values: map[string]feed.Values{"busy_share": {0.5}}}}}, nil
}

func (s *scripted) Watch(ctx context.Context, heard func(source.Happening)) error {
	s.watched.Add(1)
	for {
		select {
		case <-ctx.Done():
			return nil
		case h := <-s.happen:
			heard(h)
		}
	}
}

func (s *scripted) Close() error {
	s.closed.Add(1)
	return nil
}

// basin takes what is collected.
type basin struct {
	mu      sync.Mutex
	list    []Config
	batches []Batch
	health  map[string]Health
	down    bool
	bad     bool
	lead    bool
	tidied  int
}

var errDown, errBad = errors.New("down"), errors.New("bad")

type lead struct{}

func (lead) Held(context.Context) bool { return true }
func (lead) GiveUp()                   {}

func (b *basin) Lead(context.Context) (Lead, bool, error) { return lead{}, b.lead, nil }
func (b *basin) Sources(context.Context) ([]Config, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	return append([]Config(nil), b.list...), nil
}
func (b *basin) Take(_ context.Context, batch Batch) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.down {
		return errDown
	}
	if b.bad {
		b.bad = false
		return errBad
	}
	b.batches = append(b.batches, batch)
	return nil
}
func (b *basin) Retry(err error) bool { return errors.Is(err, errDown) }
func (b *basin) SetHealth(_ context.Context, name string, _ int64, h Health) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.health[name] = h
	return nil
}
func (b *basin) Tidy(context.Context) error { b.tidied++; return nil }

func (b *basin) of(name string) Health {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.health[name]
}

func (b *basin) set(f func()) {
	b.mu.Lock()
	defer b.mu.Unlock()
	f()
}

type stage struct {
	*basin
	*Collector
	sources map[string]*scripted
}

func start(t *testing.T, names ...string) *stage {
	s := &stage{basin: &basin{health: map[string]Health{}, lead: true}, sources: map[string]*scripted{}}
	for _, n := range names {
		s.sources[n] = &scripted{name: n, happen: make(chan source.Happening)}
		s.list = append(s.list, Config{Settings: source.Settings{Name: n, Address: n, Interval: time.Second}, Revision: 1})
	}
	s.Collector = New(s.basin, Options{Log: slog.New(slog.DiscardHandler), Review: 50 * time.Millisecond,
		Open: func(set source.Settings) (source.Source, error) { return s.sources[set.Name], nil }})
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() {
		defer close(done)
		s.Run(ctx)
	}()
	t.Cleanup(func() {
		cancel()
		select {
		case <-done:
		case <-time.After(10 * time.Second):
			assert.Fail(t, "the collector does not end")
		}
	})
	return s
}

func eventually(t *testing.T, what string, f func() bool) {
	t.Helper()
	require.Eventually(t, f, 15*time.Second, 20*time.Millisecond, what)
}

func TestOneBadSourceDelaysNoOther(t *testing.T) {
	s := start(t, "good", "hanging", "failing")
	s.sources["hanging"].hang.Store(true)
	s.sources["failing"].fail.Store(true)
	eventually(t, "the good one goes on", func() bool { return s.sources["good"].passes.Load() >= 3 })
	assert.Equal(t, Collecting, s.of("good").State)
	eventually(t, "the failing one says so", func() bool { return s.of("failing").State == Failing })
	assert.Equal(t, "it rains", s.of("failing").Words)
	assert.Equal(t, "wait", s.of("failing").Try)
	eventually(t, "the hanging one is given up", func() bool { return s.of("hanging").State == Failing })
	assert.Contains(t, s.of("hanging").Words, "did not answer in time")
	for _, src := range s.sources {
		assert.LessOrEqual(t, src.most.Load(), int64(1), "passes never overlap")
	}
}

func TestItBacksOffAndComesBack(t *testing.T) {
	s := start(t, "a")
	src := s.sources["a"]
	src.fail.Store(true)
	eventually(t, "it fails thrice", func() bool { return s.of("a").Failures >= 3 })
	h := s.of("a")
	assert.Greater(t, h.Next.Sub(h.Tried), 2500*time.Millisecond, "it waits longer than an interval")
	src.fail.Store(false)
	eventually(t, "it comes back", func() bool { return s.of("a").State == Collecting })
	h = s.of("a")
	require.NotEmpty(t, h.History)
	assert.Equal(t, "it rains", h.History[0].Words)
	assert.False(t, h.History[0].To.IsZero(), "the mishap has ended")
	assert.Zero(t, h.Failures)
}

func TestWhatTheDatabaseDoesNotTakeIsKept(t *testing.T) {
	s := start(t, "a")
	eventually(t, "it begins", func() bool { return s.of("a").Passes >= 1 })
	s.set(func() { s.down = true })
	before := s.sources["a"].passes.Load()
	eventually(t, "it goes on asking", func() bool { return s.sources["a"].passes.Load() >= before+2 })
	assert.Contains(t, s.of("a").Words, "database")
	s.set(func() { s.down = false })
	eventually(t, "everything arrives", func() bool {
		s.mu.Lock()
		defer s.mu.Unlock()
		return int64(len(s.batches)) >= before+3
	})
	s.mu.Lock()
	defer s.mu.Unlock()
	for i := 1; i < len(s.batches); i++ {
		assert.False(t, s.batches[i].At.Before(s.batches[i-1].At), "in order")
	}
}

func TestABatchThatCannotBeStoredOpensTheSourceAnew(t *testing.T) {
	s := start(t, "a")
	eventually(t, "it begins", func() bool { return s.of("a").Passes >= 1 })
	s.set(func() { s.bad = true })
	eventually(t, "it is closed", func() bool { return s.sources["a"].closed.Load() >= 1 })
	eventually(t, "and opened again", func() bool { return s.of("a").State == Collecting })
}

func TestAnEventAsksForAPassAndIsKept(t *testing.T) {
	s := start(t, "a")
	s.set(func() { s.list[0].Interval = time.Hour; s.list[0].Revision = 2 })
	s.Refresh()
	eventually(t, "it begins", func() bool { return s.of("a").Passes >= 1 && s.of("a").Next.After(time.Now().Add(time.Minute)) })
	before := s.sources["a"].passes.Load()
	for _, of := range []string{"vm:a", "vm:unknown"} {
		s.sources["a"].happen <- source.Happening{Changed: true, Event: feed.Event{Of: of, Time: time.Now(), What: "started"}}
	}
	eventually(t, "a pass follows", func() bool { return s.sources["a"].passes.Load() > before })
	eventually(t, "with the event", func() bool {
		s.mu.Lock()
		defer s.mu.Unlock()
		for _, b := range s.batches {
			for _, e := range b.Events {
				if e.Of == "vm:unknown" {
					t.Error("an event of nothing that is listed is not kept")
				}
				if e.Of == "vm:a" {
					return true
				}
			}
		}
		return false
	})
}

func TestPausingAndRemoving(t *testing.T) {
	s := start(t, "a")
	eventually(t, "it begins", func() bool { return s.of("a").Passes >= 1 })
	s.set(func() { s.list[0].Paused, s.list[0].Revision = true, 2 })
	s.Refresh()
	eventually(t, "it pauses", func() bool { return s.of("a").State == Paused })
	assert.Positive(t, s.sources["a"].closed.Load())
	s.set(func() { s.list[0].Paused, s.list[0].Revision = false, 3 })
	s.Refresh()
	eventually(t, "it goes on", func() bool { return s.of("a").State == Collecting })
	s.set(func() { s.list = nil })
	s.Refresh()
	eventually(t, "it ends", func() bool { return s.sources["a"].closed.Load() >= 2 })
}

func TestWhatCannotBeOpenedSaysWhy(t *testing.T) {
	s := start(t, "a")
	s.set(func() {
		s.list[0].Err, s.list[0].Revision = &source.Trouble{What: "its secrets cannot be decrypted", Try: "put back the key"}, 2
	})
	s.Refresh()
	eventually(t, "it says so", func() bool { return s.of("a").Words == "its secrets cannot be decrypted" })
	assert.Equal(t, "put back the key", s.of("a").Try)
}

func TestAPartialListingEndsNothing(t *testing.T) {
	s := start(t, "a")
	s.sources["a"].partial.Store(true)
	eventually(t, "it says what is missing", func() bool { return len(s.of("a").Missing) == 1 })
	s.mu.Lock()
	defer s.mu.Unlock()
	assert.False(t, s.batches[len(s.batches)-1].Full)
}

func TestOnlyWhoLeadsCollects(t *testing.T) {
	b := &basin{health: map[string]Health{}, list: []Config{{Settings: source.Settings{Name: "a", Interval: time.Second}, Revision: 1}}}
	opened := atomic.Int64{}
	c := New(b, Options{Log: slog.New(slog.DiscardHandler), Review: 10 * time.Millisecond, Open: func(source.Settings) (source.Source, error) {
		opened.Add(1)
		return nil, errBad
	}})
	ctx, cancel := context.WithTimeout(t.Context(), 200*time.Millisecond)
	defer cancel()
	c.Run(ctx)
	assert.Zero(t, opened.Load())
}
