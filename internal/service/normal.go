package service

import (
	"context"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"time"

	"dowsingrod/core/congest"
	"dowsingrod/core/estate"
	"dowsingrod/core/normal"
	"dowsingrod/core/phrase"
	"dowsingrod/core/reading"
	"dowsingrod/core/route"
	"dowsingrod/internal/store"
)

// learnedUntil is the setting that says up to when what is usual was learned.
const learnedUntil = "normal_until"

const (
	lesson   = store.Span         // learned together: what one row of readings holds
	together = 2000               // series at a time, so that a million need no more memory than these
	remember = 5 * 7 * 24 * hours // further back nothing is learned: it would be replaced at once
	hours    = time.Hour
	cell     = time.Minute
)

// Learn learns what is usual until ctx ends: each span of readings once, soon after it is over.
func (s *Service) Learn(ctx context.Context, log *slog.Logger) {
	tick := time.NewTicker(time.Minute)
	defer tick.Stop()
	for {
		if err := s.LearnUntil(ctx, s.now().Add(-settles)); err != nil && ctx.Err() == nil {
			log.Warn("what is usual could not be learned", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// LearnUntil learns from all whole spans before a moment that were not learned from yet. Of several services on one store each span is
// learned by one.
func (s *Service) LearnUntil(ctx context.Context, to time.Time) error {
	for {
		mark, err := s.store.Setting(ctx, learnedUntil)
		if err != nil {
			return err
		}
		from, bad := time.Parse(time.RFC3339, mark)
		if bad != nil {
			if from, _, err = s.store.Extent(ctx); err != nil || from.IsZero() {
				return err
			}
			from = from.UTC().Truncate(lesson)
		}
		if oldest := to.Add(-remember).UTC().Truncate(lesson); from.Before(oldest) {
			from = oldest
		}
		end := from.Add(lesson)
		if end.After(to) {
			return nil
		}
		mine, err := s.store.Claim(ctx, learnedUntil, mark, end.UTC().Format(time.RFC3339))
		if err != nil {
			return err
		}
		if !mine {
			continue
		}
		if err := s.learn(ctx, from, end); err != nil {
			return err
		}
	}
}

func (s *Service) learn(ctx context.Context, from, to time.Time) error {
	for after := int64(0); ; {
		batch, err := s.store.SeriesAfter(ctx, after, together)
		if err != nil || len(batch) == 0 {
			return err
		}
		after = batch[len(batch)-1].Series
		runs, err := s.store.SeriesReadings(ctx, batch, from, to)
		if err != nil {
			return err
		}
		var taught []store.Learned
		for _, l := range batch {
			of := runs[l.Series]
			if len(of) == 0 {
				continue
			}
			for t := from; t.Before(to); t = t.Add(time.Hour) {
				g := reading.Grid{From: t, Step: cell, N: int(time.Hour / cell)}
				l.Profile.Learn(t.In(time.Local), reading.Align(g, of).Value)
			}
			taught = append(taught, l)
		}
		if err := s.store.KeepProfiles(ctx, taught, to); err != nil {
			return err
		}
	}
}

// MeasuredMetric is a metric of an object over a window, with what is usual and what limits it.
type MeasuredMetric struct {
	Latest
	Of      string         `json:"of" doc:"Whose it is, kind:id@source: the object's, or one of its virtual disks'"`
	Name    string         `json:"name" doc:"Its name"`
	Usual   normal.Usual   `json:"usual" doc:"What is usual for these hours"`
	Above   reading.Figure `json:"above" doc:"Part of the known cells that lie above what is usual, 0–1; null where nothing is"`
	Below   reading.Figure `json:"below" doc:"Part of them that lie below it"`
	Unusual string         `json:"unusual,omitempty" doc:"That it is unusual, in words; absent where it is not"`
	Limit   *congest.Limit `json:"limit,omitempty" doc:"The limit in force for it, where there is one"`
}

// Measured is all that is measured of an object over a window.
type Measured struct {
	Brief
	From    time.Time        `json:"from" doc:"Start of the first cell"`
	Step    float64          `json:"step_s" doc:"Length of a cell in s"`
	N       int              `json:"n" doc:"Number of cells"`
	Weeks   int              `json:"weeks" doc:"Weeks of the best known hour of the week that were learned from"`
	Says    string           `json:"says" doc:"What one would say on the phone"`
	Metrics []MeasuredMetric `json:"metrics" doc:"In the order of the catalogue"`
}

// unusualShare is the part of a window that must lie outside what is usual for it to be called so.
const unusualShare = 0.10

// unusualLately is how long up to its end it must lie outside for that, however long the window is.
const unusualLately = 15 * time.Minute

// Measured returns all that is measured of an object, with what is usual for it.
func (s *Service) Measured(ctx context.Context, query string, w Window) (Measured, error) {
	moments, err := s.moments(ctx, w.From, w.To)
	if err != nil {
		return Measured{}, err
	}
	moments, i, err := resolve(moments, query)
	if err != nil {
		return Measured{}, err
	}
	m := moments[len(moments)-1].Map
	e := m.Estate()
	o := e.At(i)
	book, err := s.book(ctx)
	if err != nil {
		return Measured{}, err
	}
	of := []int32{i}
	if o.Key.Ref.Kind == estate.VM {
		of = append(of, e.To(i, estate.Uses)...)
	}
	var needs []route.Need
	for _, at := range of {
		needs = append(needs, route.Need{Key: e.At(at).Key, Metrics: metricsOf(e.Kind(at))})
	}
	r, err := s.fetch(ctx, moments, needs, w.From, w.To)
	if err != nil {
		return Measured{}, err
	}
	g, _, err := grid(w, 0)
	if err != nil {
		return Measured{}, &WindowError{err.Error()}
	}
	if g, err = reading.NewGrid(w.From.Truncate(g.Step), w.To.Truncate(g.Step), g.Step); err != nil {
		return Measured{}, &WindowError{err.Error()}
	}
	out := Measured{Brief: brief(e, i), From: g.From, Step: g.Step.Seconds(), N: g.N, Metrics: []MeasuredMetric{}}
	for _, at := range of {
		profiles, err := s.store.Profiles(ctx, e.At(at).Store)
		if err != nil {
			return Measured{}, err
		}
		by := map[string]*normal.Profile{}
		for k := range profiles {
			by[profiles[k].Want.Metric] = &profiles[k].Profile
		}
		for _, name := range metricsOf(e.Kind(at)) {
			l, ok := latest(g, r.Runs(e.At(at).Key, name), name)
			if !ok {
				continue
			}
			x := MeasuredMetric{Latest: l, Of: e.At(at).Key.String(), Name: m.FullName(at)}
			x.held(by[name].Bands(g, time.Local), g.Step)
			if weeks, _ := by[name].Weeks(); weeks > out.Weeks {
				out.Weeks = weeks
			}
			for _, limit := range book.Of(e, at) {
				if limit.Metric == name {
					x.Limit = &limit
				}
			}
			out.Metrics = append(out.Metrics, x)
		}
	}
	out.Says = out.words()
	return out, nil
}

// metricsOf lists what objects of a kind report.
func metricsOf(k estate.Kind) (names []string) {
	for _, metric := range reading.Catalogue {
		if metric.On(k) {
			names = append(names, metric.Name)
		}
	}
	return names
}

// held holds a metric's cells against their bands.
func (x *MeasuredMetric) held(bands []normal.Band, step time.Duration) {
	x.Usual = normal.UsualOf(bands)
	above, below := normal.Outside(x.Row, bands)
	x.Above, x.Below = reading.Figure(above), reading.Figure(below)
	hour := "for this hour"
	if x.Usual.Basis == normal.All {
		hour = "for any hour"
	}
	switch {
	case above >= unusualShare && above >= below:
		x.Unusual = fmt.Sprintf("more than is usual %s in %s of the window", hour, phrase.Percent(above))
	case below >= unusualShare:
		x.Unusual = fmt.Sprintf("less than is usual %s in %s of the window", hour, phrase.Percent(below))
	default:
		over, under := normal.Lately(x.Row, bands)
		for cells, words := range map[int]string{over: "more", under: "less"} {
			if long := time.Duration(cells) * step; cells >= 3 && long >= unusualLately {
				x.Unusual = fmt.Sprintf("%s than is usual %s for the last %s", words, hour, phrase.Span(long))
			}
		}
	}
}

func (m *Measured) words() string {
	if len(m.Metrics) == 0 {
		return "Nothing is measured of it in this window."
	}
	var odd []string
	n := 0
	for _, x := range m.Metrics {
		if x.Unusual != "" {
			if words := reading.Words(x.Metric); !slices.Contains(odd, words) { // disks of a machine have the same figures
				odd = append(odd, words)
			}
			n++
		}
	}
	switch {
	case n == 0 && m.Metrics[0].Usual.Basis == normal.Nothing:
		return "What is usual for it is not known yet."
	case n == 0:
		return "All that is measured of it is as usual."
	case n == 1:
		return "Its " + odd[0] + " is not as usual; all else is."
	case len(odd) > 4:
		return fmt.Sprintf("%d of %d figures are not as usual: %s and others.", n, len(m.Metrics), strings.Join(odd[:4], ", "))
	}
	return fmt.Sprintf("%d of %d figures are not as usual: %s.", n, len(m.Metrics), phrase.List(odd))
}
