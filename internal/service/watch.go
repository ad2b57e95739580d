package service

import (
	"context"
	"errors"
	"log/slog"
	"math"
	"slices"
	"time"

	"dowsingrod/core/congest"
	"dowsingrod/core/estate"
	"dowsingrod/core/incident"
	"dowsingrod/core/reading"
	"dowsingrod/core/route"
	"dowsingrod/core/verdict"
)

// watchedUntil is the setting that says up to when incidents were looked for.
const watchedUntil = "incidents_until"

const (
	settles  = 90 * time.Second // after so long a cell's readings have come in
	chunk    = 4 * time.Hour    // looked at together when catching up
	warm     = 2 * time.Hour    // looked at beforehand, to know what is usual
	coarse   = 26 * time.Hour   // further back than this, cells are of five minutes
	farthest = 8 * 24 * time.Hour
)

// watcher looks for incidents. It is for one goroutine.
type watcher struct {
	s        *Service
	detector *incident.Detector
	until    time.Time // the detector has seen cells up to here

	conditions *congest.Watch
	of         *estate.Estate // that conditions are watched of
	book       *congest.Book
	adopted    bool // what was past its limits when the last watcher ended is known
}

// Watch looks for incidents until ctx ends: first in what was read since it last did, then minute by minute. Of several services on one
// store each knows what is usual, and one at a time keeps what is found.
func (s *Service) Watch(ctx context.Context, log *slog.Logger) {
	w := &watcher{s: s}
	tick := time.NewTicker(15 * time.Second)
	defer tick.Stop()
	for {
		if err := w.advance(ctx, s.now().Add(-settles)); err != nil && ctx.Err() == nil {
			log.Warn("incidents could not be looked for", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// Advance looks for incidents in all that was read before to and was not looked at yet.
func (s *Service) Advance(ctx context.Context, to time.Time) error {
	return (&watcher{s: s}).advance(ctx, to)
}

func (w *watcher) advance(ctx context.Context, to time.Time) error {
	to = to.Truncate(time.Minute)
	mark, err := w.s.store.Setting(ctx, watchedUntil)
	if err != nil {
		return err
	}
	from, err := time.Parse(time.RFC3339, mark)
	if err != nil {
		first, _, err := w.s.store.Extent(ctx)
		if err != nil || first.IsZero() {
			return err
		}
		from = first.Add(warm).Truncate(time.Minute)
	}
	if oldest := to.Add(-farthest); from.Before(oldest) {
		from = oldest
	}
	if w.detector == nil || !w.until.Equal(from) {
		w.detector, w.until = incident.NewDetector(time.Minute), from.Add(-warm)
		w.conditions, w.of, w.book, w.adopted = nil, nil, nil, false
		if err := w.recall(ctx); err != nil {
			return err
		}
		if err := w.observe(ctx, from, cellFor(from, to), nil); err != nil {
			return err
		}
	}
	for w.until.Before(to) {
		cell := cellFor(w.until, to)
		end := w.until.Add(chunk).Truncate(cell)
		if end.After(to) {
			end = to.Truncate(cell)
		}
		if !end.After(w.until) {
			return nil
		}
		next := end.UTC().Format(time.RFC3339)
		mine, err := w.s.store.Claim(ctx, watchedUntil, mark, next)
		if err != nil {
			return err
		}
		mark = next
		fold := w.fold
		if !mine {
			fold = nil
		}
		if err := w.observe(ctx, end, cell, fold); err != nil {
			return err
		}
	}
	return nil
}

// recall tells the detector what is usual for the disks that were hurt when another watcher ended: it begins to look in the middle of their
// trouble.
func (w *watcher) recall(ctx context.Context) error {
	open, err := w.s.store.OpenIncidents(ctx)
	if err != nil || len(open) == 0 {
		return err
	}
	m, err := w.s.at(ctx, time.Time{})
	if err != nil {
		return err
	}
	e := m.Estate()
	for _, x := range open {
		for ref := range x.Sufferers {
			vm, ok := refAt(e, ref)
			if !ok {
				continue
			}
			for _, d := range e.To(vm, estate.Uses) {
				profiles, err := w.s.store.Profiles(ctx, e.At(d).Store)
				if err != nil {
					return err
				}
				usual := [2]float64{math.NaN(), math.NaN()}
				for k := range profiles {
					for dir, metric := range []string{"read_latency_us", "write_latency_us"} {
						if profiles[k].Want.Metric == metric {
							usual[dir] = profiles[k].Profile.Band(x.Onset.In(time.Local)).Mid
						}
					}
				}
				w.detector.Seed(e.At(d).Key, usual)
			}
		}
	}
	return nil
}

func cellFor(t, to time.Time) time.Duration {
	if to.Sub(t) > coarse {
		return 5 * time.Minute
	}
	return time.Minute
}

// observe shows the detector all cells up to a moment, and calls fold after each in which something hurts.
func (w *watcher) observe(ctx context.Context, to time.Time, cell time.Duration, fold func(ctx context.Context, m *route.Map, open []*incident.Incident, now time.Time, cell time.Duration) ([]*incident.Incident, error)) error {
	g, err := reading.NewGrid(w.until, to, cell)
	if err != nil {
		return err
	}
	m, err := w.s.at(ctx, to)
	if err != nil {
		return err
	}
	e := m.Estate()
	disks := e.OfKind(estate.VDisk)
	needs := make([]route.Need, len(disks))
	for k, d := range disks {
		needs[k] = route.Need{Key: e.At(d).Key, Metrics: []string{"read_iops", "write_iops", "read_latency_us", "write_latency_us"}}
	}
	if err := w.watch(ctx, e); err != nil {
		return err
	}
	needs = append(needs, w.judges(e)...)
	r, err := w.s.fetch(ctx, []route.Moment{{From: g.From, To: g.End(), Map: m}}, needs, g.From, g.End())
	if err != nil {
		return err
	}
	rows := make([]diskRows, len(disks))
	for k, n := range needs[:len(disks)] {
		rows[k] = rowsOf(g, n.Key, r)
	}
	figures := w.figures(g, e, r)
	w.detector.Cell(cell)
	var open []*incident.Incident
	if fold != nil {
		kept, err := w.s.store.OpenIncidents(ctx)
		if err != nil {
			return err
		}
		for k := range kept {
			open = append(open, &kept[k].Incident)
		}
	}
	for i := range g.N {
		changed := w.conditions.Observe(g.At(i), cell, figures[i])
		for k, n := range needs[:len(disks)] {
			w.detector.Observe(n.Key, g.At(i), rows[k].sample(i))
		}
		if fold == nil {
			continue
		}
		if err := w.keep(ctx, changed); err != nil {
			return err
		}
		if open, err = fold(ctx, m, open, g.At(i+1), cell); err != nil {
			return err
		}
	}
	w.until = g.End()
	return nil
}

// fold brings the open incidents up to a cell, keeps what changed, and returns those that last.
func (w *watcher) fold(ctx context.Context, m *route.Map, open []*incident.Incident, now time.Time, cell time.Duration) ([]*incident.Incident, error) {
	hurts := w.detector.Hurts()
	if len(hurts) == 0 && len(open) == 0 {
		return nil, nil
	}
	changed, err := incident.Fold(m, hurts, open, now, cell, func(vm estate.Key) (verdict.Explanation, error) {
		x, err := w.s.Explain(ctx, vm.String(), Window{now.Add(-90 * time.Minute), now})
		var gone *estate.NotFoundError
		if errors.As(err, &gone) { // between the estate looked at and the one asked
			return verdict.Explanation{Verdict: verdict.Verdict{Class: verdict.Cleared}}, nil
		}
		return x, err
	})
	if err != nil {
		return open, err
	}
	if err := w.s.store.KeepIncidents(ctx, changed); err != nil {
		return open, err
	}
	for _, x := range changed {
		if !slices.Contains(open, x) {
			open = append(open, x)
		}
	}
	return slices.DeleteFunc(open, func(x *incident.Incident) bool { return x.Ended != nil }), nil
}

// diskRows are a disk's cells: I/Os in flight and per second, reads and writes.
type diskRows struct{ flight, rate [2][]float64 }

func rowsOf(g reading.Grid, key estate.Key, r route.Readings) (out diskRows) {
	for k, dir := range []string{"read", "write"} {
		rate := r.Runs(key, dir+"_iops")
		out.rate[k] = reading.Align(g, rate).Value
		out.flight[k] = reading.Occupancy(g, rate, r.Runs(key, dir+"_latency_us")).Value
	}
	return out
}

func (d diskRows) sample(i int) (s incident.Sample) {
	for k := range 2 {
		s.Rate[k], s.Time[k] = d.rate[k][i], math.NaN()
		if s.Rate[k] > 0 {
			s.Time[k] = d.flight[k][i] / s.Rate[k] * 1e6
		}
	}
	return s
}
