// Package sourcetest holds a source to the contract of source.Source. Whoever adds a source makes a Bed for it, the
// real thing run small, and calls Run in a test of its package:
//
//	func TestContract(t *testing.T) { sourcetest.Run(t, bed{…}) }
package sourcetest

import (
	"bytes"
	"context"
	"errors"
	"io"
	"math"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dowsingrod/core/estate"
	"dowsingrod/internal/feed"
	"dowsingrod/internal/source"
)

// Bed is the other end of a source, run for a test.
type Bed interface {
	// Settings to open the source with; their interval should be 1 s.
	Settings() source.Settings
	// Open opens the source.
	Open(source.Settings) (source.Source, error)
	// Nowhere is an address of the same form at which nobody answers.
	Nowhere() string
	// Work makes something happen that readings show. It is called between passes.
	Work(t *testing.T)
	// Break makes the other end stop answering, and Mend lets it answer again.
	Break(t *testing.T)
	Mend(t *testing.T)
	// Holds lists kinds of object that the inventory must hold.
	Holds() []estate.Kind
}

// limit bounds every call.
const limit = 20 * time.Second

// Run holds the source of a bed to the contract.
func Run(t *testing.T, bed Bed) {
	t.Run("opening connects to nothing", func(t *testing.T) { opens(t, bed) })
	t.Run("a probe has all its steps", func(t *testing.T) { probes(t, bed) })
	t.Run("the inventory is a feed", func(t *testing.T) { lists(t, bed) })
	t.Run("readings are whole intervals, each once", func(t *testing.T) { reads(t, bed) })
	t.Run("a call ends with its context and the source stays usable", func(t *testing.T) { cancels(t, bed) })
	t.Run("watching ends with its context", func(t *testing.T) { watches(t, bed) })
	t.Run("an end that does not answer is trouble in words, and mends", func(t *testing.T) { breaks(t, bed) })
}

func open(t *testing.T, bed Bed) source.Source {
	t.Helper()
	s, err := bed.Open(bed.Settings())
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, s.Close()) })
	return s
}

func within(t *testing.T) context.Context {
	ctx, cancel := context.WithTimeout(t.Context(), limit)
	t.Cleanup(cancel)
	return ctx
}

func opens(t *testing.T, bed Bed) {
	set := bed.Settings()
	set.Address = bed.Nowhere()
	s, err := bed.Open(set)
	require.NoError(t, err, "an address at which nobody answers now is still an address")
	_, err = s.Inventory(within(t))
	trouble(t, set, err)
	r := s.Probe(within(t))
	assert.False(t, r.OK())
	require.NotEmpty(t, r.Steps)
	failed := 0
	for _, st := range r.Steps {
		if st.Outcome == source.Failed {
			failed++
			assert.NotEmpty(t, st.Try, "a step that fails says what to do")
		}
	}
	assert.Equal(t, 1, failed, "a probe stops at the first step that fails")
	require.NoError(t, s.Close())
	require.NoError(t, s.Close(), "closing twice is no harm")
}

func trouble(t *testing.T, set source.Settings, err error) {
	t.Helper()
	require.Error(t, err)
	var tr *source.Trouble
	require.ErrorAs(t, err, &tr, "an operator reads it: %v", err)
	assert.NotEmpty(t, tr.What)
	assert.NotEmpty(t, tr.Try)
	for _, secret := range []string{set.Secrets.Token, set.Secrets.Key} {
		if secret != "" {
			assert.NotContains(t, err.Error(), secret)
		}
	}
}

var steps = []string{source.StepAddress, source.StepReachable, source.StepCertificate, source.StepSignedIn, source.StepPermissions, source.StepRecognised, source.StepClock}

func probes(t *testing.T, bed Bed) {
	s := open(t, bed)
	r := s.Probe(within(t))
	var names []string
	for _, st := range r.Steps {
		names = append(names, st.Name)
		assert.NotEqual(t, source.Failed, st.Outcome, "%s: %s", st.Name, st.Found)
		assert.NotEmpty(t, st.Found, st.Name)
	}
	assert.Equal(t, steps, names)
	assert.True(t, r.OK())
	assert.NotEmpty(t, r.Calls)
	assert.NotEmpty(t, r.Objects)
}

func lists(t *testing.T, bed Bed) {
	s := open(t, bed)
	before := time.Now()
	inv, err := s.Inventory(within(t))
	require.NoError(t, err)
	assert.False(t, inv.Unchanged, "the first inventory is a whole one")
	assert.Empty(t, inv.Partial)
	assert.WithinRange(t, inv.At, before.Add(-time.Second), time.Now().Add(time.Second))
	valid(t, bed.Settings().Name, inv, source.Readings{})
	kinds := map[estate.Kind]bool{}
	for _, o := range inv.Objects {
		kinds[o.Kind] = true
	}
	for _, k := range bed.Holds() {
		assert.True(t, kinds[k], "no %s is listed", k)
	}
	built := estate.Build(objects(bed.Settings().Name, inv.Objects))
	for _, f := range built.Findings() {
		assert.NotContains(t, []string{estate.LinkToNothing, estate.Cycle, estate.IdentityUnreadable, estate.IdentityClaimedTwice}, f.Code, "%s: %s", f.Object, f.Detail)
	}
	again, err := s.Inventory(within(t))
	require.NoError(t, err)
	if !again.Unchanged {
		assert.ElementsMatch(t, inv.Objects, again.Objects, "nothing changed")
	}
}

func objects(src string, list []feed.Object) []estate.Object {
	var out []estate.Object
	for _, o := range list {
		links := estate.Links{}
		for kind, refs := range o.Links {
			for _, r := range refs {
				ref, err := estate.ParseRef(r)
				if err == nil {
					links[estate.LinkKind(kind)] = append(links[estate.LinkKind(kind)], ref)
				}
			}
		}
		out = append(out, estate.Object{Key: estate.Key{Source: src, Ref: o.Ref()}, Name: o.Name, Facts: o.Facts, Links: links})
	}
	return out
}

// valid writes what a source gave as a feed and reads it back: every line must be a good one.
func valid(t *testing.T, name string, inv source.Inventory, r source.Readings) {
	t.Helper()
	var b bytes.Buffer
	w := feed.NewWriter(&b)
	records := []feed.Record{{Header: &feed.Header{Version: feed.Version, Source: name, Time: inv.At, Full: true}}}
	for i := range inv.Objects {
		records = append(records, feed.Record{Object: &inv.Objects[i]})
	}
	for i := range r.Runs {
		records = append(records, feed.Record{Reading: &r.Runs[i]})
	}
	for i := range r.Events {
		records = append(records, feed.Record{Event: &r.Events[i]})
	}
	for _, rec := range records {
		require.NoError(t, w.Write(rec))
	}
	require.NoError(t, w.Flush())
	in, err := feed.NewReader(&b, time.Now())
	require.NoError(t, err)
	defer in.Close()
	for {
		_, err := in.Next()
		if errors.Is(err, io.EOF) {
			return
		}
		require.NoError(t, err)
	}
}

func reads(t *testing.T, bed Bed) {
	s := open(t, bed)
	set := bed.Settings()
	watching, cancel := context.WithCancel(t.Context())
	defer cancel()
	go func() { _ = s.Watch(watching, func(source.Happening) {}) }()
	type cell struct {
		of, metric string
		at         int64
	}
	seen, listed, values := map[cell]bool{}, map[string]bool{}, 0
	for pass := 0; pass < 12 && (pass < 4 || values == 0); pass++ {
		inv, err := s.Inventory(within(t))
		require.NoError(t, err)
		for _, o := range inv.Objects {
			listed[o.Ref().String()] = true
		}
		r, err := s.Readings(within(t))
		require.NoError(t, err)
		valid(t, set.Name, inv, r)
		for _, run := range r.Runs {
			require.True(t, listed[run.Of], "%s was never listed", run.Of)
			for metric, v := range run.Values {
				for i, x := range v {
					at := run.From.Add(time.Duration(float64(i) * run.Step * float64(time.Second)))
					c := cell{run.Of, metric, at.UnixNano()}
					require.False(t, seen[c], "%s of %s at %s came twice", metric, run.Of, at)
					seen[c] = true
					if !math.IsNaN(x) {
						require.GreaterOrEqual(t, x, 0.0)
						values++
					}
				}
			}
			require.False(t, run.From.After(time.Now()), "a reading of the future")
		}
		bed.Work(t)
		wait(t, time.Until(set.Border(time.Now()).Add(set.Interval+30*time.Millisecond)))
	}
	assert.Positive(t, values, "something was measured")
}

func wait(t *testing.T, d time.Duration) {
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-timer.C:
	case <-t.Context().Done():
	}
}

func cancels(t *testing.T, bed Bed) {
	s := open(t, bed)
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	began := time.Now()
	_, err := s.Inventory(ended)
	require.Error(t, err)
	assert.Less(t, time.Since(began), 5*time.Second)
	_, err = s.Inventory(within(t))
	require.NoError(t, err, "the next call succeeds")
}

func watches(t *testing.T, bed Bed) {
	s := open(t, bed)
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan error, 1)
	go func() { done <- s.Watch(ctx, func(source.Happening) {}) }()
	wait(t, 200*time.Millisecond)
	cancel()
	select {
	case err := <-done:
		require.NoError(t, err)
	case <-time.After(limit):
		require.Fail(t, "it goes on watching")
	}
}

func breaks(t *testing.T, bed Bed) {
	s := open(t, bed)
	pass := func() error {
		ctx, cancel := context.WithTimeout(t.Context(), 3*time.Second)
		defer cancel()
		if _, err := s.Inventory(ctx); err != nil {
			return err
		}
		_, err := s.Readings(ctx)
		return err
	}
	require.NoError(t, pass())
	bed.Break(t)
	err := pass()
	trouble(t, bed.Settings(), err)
	assert.False(t, strings.Contains(err.Error(), "0x"), "in words: %v", err)
	bed.Mend(t)
	require.NoError(t, pass(), "it mends by itself")
}
