package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"dowsingrod/core/congest"
	"dowsingrod/core/estate"
	"dowsingrod/core/reading"
	"dowsingrod/internal/store"
)

// keptLimits is the book of limits and when it was read.
type keptLimits struct {
	book *congest.Book
	read time.Time
}

// limitsLast is how long a book is good for: another service on the same store may have changed it.
const limitsLast = 5 * time.Second

// book returns the limits in force.
func (s *Service) book(ctx context.Context) (*congest.Book, error) {
	s.mu.Lock()
	kept := s.limits
	s.mu.Unlock()
	if kept.book != nil && time.Since(kept.read) < limitsLast {
		return kept.book, nil
	}
	held, err := s.store.LimitChanges(ctx, false)
	if err != nil {
		return nil, err
	}
	rules := make([]congest.Rule, len(held))
	for k, c := range held {
		rules[k] = c.Rule
	}
	kept = keptLimits{congest.NewBook(rules), time.Now()}
	s.mu.Lock()
	s.limits = kept
	s.mu.Unlock()
	return kept.book, nil
}

func (s *Service) forgetLimits() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.limits, s.surveys = keptLimits{}, nil
}

// LimitError says what is wrong with a change of a limit.
type LimitError struct{ Reason string }

func (e *LimitError) Error() string { return e.Reason }

// LimitInForce is a limit and how many objects it holds for.
type LimitInForce struct {
	Kind  estate.Kind  `json:"kind" doc:"Kind of object"`
	Label string       `json:"label" doc:"The kind in words"`
	Layer estate.Layer `json:"layer" doc:"The layer it is in"`
	congest.Limit
	Unit    reading.Unit `json:"unit" doc:"Unit of its levels" enum:"1/s,B/s,µs,share,count,B"`
	Objects int          `json:"objects" doc:"How many objects it holds for"`
	Example string       `json:"example" doc:"One of them"`
	Changed bool         `json:"changed" doc:"Whether somebody changed it"`
}

// LimitList is the limits in force, and what people changed.
type LimitList struct {
	Of      string              `json:"of,omitempty" doc:"The object asked about; absent for all"`
	Name    string              `json:"name,omitempty" doc:"Its name"`
	Limits  []LimitInForce      `json:"limits" doc:"Those in force; alike ones once, with how many objects they hold for"`
	Changes []store.LimitChange `json:"changes" doc:"What people changed, what holds and what once did, the latest first"`
}

// Limits lists the limits of an object and of all that is in it, or all of them where none is named.
func (s *Service) Limits(ctx context.Context, query string) (LimitList, error) {
	m, err := s.at(ctx, time.Time{})
	if err != nil {
		return LimitList{}, err
	}
	e := m.Estate()
	book, err := s.book(ctx)
	if err != nil {
		return LimitList{}, err
	}
	out := LimitList{Limits: []LimitInForce{}, Changes: []store.LimitChange{}}
	changes, err := s.store.LimitChanges(ctx, true)
	if err != nil {
		return LimitList{}, err
	}
	number := map[string]int{}
	add := func(i int32) {
		for _, l := range book.Of(e, i) {
			key := fmt.Sprint(e.Kind(i), l)
			k, ok := number[key]
			if !ok {
				k = len(out.Limits)
				number[key] = k
				unit := reading.SharePart
				if metric, ok := reading.Lookup(l.Metric); ok {
					unit = metric.Unit
				}
				out.Limits = append(out.Limits, LimitInForce{Kind: e.Kind(i), Label: e.Kind(i).Label(), Layer: e.Kind(i).Layer(), Limit: l, Unit: unit, Example: m.FullName(i),
					Changed: strings.HasPrefix(l.Reason, "changed for ")})
			}
			out.Limits[k].Objects++
		}
	}
	if query == "" {
		for i := range int32(e.Len()) {
			add(i)
		}
		out.Changes = append(out.Changes, changes...)
	} else {
		i, err := e.Resolve(query)
		if err != nil {
			return LimitList{}, err
		}
		out.Of, out.Name = e.At(i).Key.String(), m.FullName(i)
		var of []int32
		for k := range int32(e.Len()) {
			for around := range congest.Around(e, k) {
				if around == i {
					of = append(of, k)
					add(k)
				}
			}
		}
		for _, c := range changes {
			book := congest.NewBook([]congest.Rule{c.Rule})
			if slices.ContainsFunc(of, func(k int32) bool { return book.Holds(e, k) }) {
				out.Changes = append(out.Changes, c)
			}
		}
	}
	slices.SortStableFunc(out.Limits, func(a, b LimitInForce) int {
		return cmp.Or(cmp.Compare(slices.Index(estate.Layers, a.Layer), slices.Index(estate.Layers, b.Layer)), strings.Compare(string(a.Kind), string(b.Kind)))
	})
	return out, nil
}

// rule checks a change: the kind follows from the object where one is named and no kind is.
func (s *Service) rule(ctx context.Context, r congest.Rule) (congest.Rule, error) {
	m, err := s.at(ctx, time.Time{})
	if err != nil {
		return r, err
	}
	if r.Within != "" {
		i, err := m.Estate().Resolve(r.Within)
		if err != nil {
			return r, err
		}
		r.Within = m.Estate().At(i).Key.String()
		if r.Kind == "" {
			r.Kind = m.Estate().Kind(i)
		}
	}
	if _, known := congest.Kinds()[r.Kind]; !known {
		return r, &LimitError{fmt.Sprintf("nothing of the kind %q has limits: dowse limits lists what has", r.Kind)}
	}
	if err := r.Validate(); err != nil {
		return r, &LimitError{err.Error()}
	}
	return r, nil
}

// ChangeLimit lets a limit hold for an object, for all of a kind in it, or for all of a kind.
func (s *Service) ChangeLimit(ctx context.Context, r congest.Rule, why, by string) (LimitList, error) {
	r, err := s.rule(ctx, r)
	if err != nil {
		return LimitList{}, err
	}
	if err := s.store.ChangeLimit(ctx, r, why, by); err != nil {
		return LimitList{}, err
	}
	s.forgetLimits()
	return s.Limits(ctx, r.Within)
}

// RestoreLimit ends a change: the limit is again what it was without it.
func (s *Service) RestoreLimit(ctx context.Context, r congest.Rule, by string) (LimitList, error) {
	r.Strained, r.Failing = reading.Missing, reading.Missing
	r, err := s.rule(ctx, r)
	if err != nil {
		return LimitList{}, err
	}
	if err := s.store.RestoreLimit(ctx, r.Kind, r.Within, r.Metric, by); err != nil {
		if errors.Is(err, store.ErrNotFound) {
			return LimitList{}, &LimitError{fmt.Sprintf("%s of %s was not changed there: dowse limits --history lists what was", r.Metric, r.Kind)}
		}
		return LimitList{}, err
	}
	s.forgetLimits()
	return s.Limits(ctx, r.Within)
}

// StretchInfo is a stretch of time in which an object was past a limit.
type StretchInfo struct {
	Brief
	Metric string         `json:"metric" doc:"What was past its limit"`
	Aspect congest.Aspect `json:"aspect" doc:"What it is about"`
	Level  string         `json:"level" doc:"How far" enum:"strained,failing"`
	From   time.Time      `json:"from" doc:"Since when"`
	To     time.Time      `json:"to" doc:"Last seen past it"`
	Lasts  bool           `json:"lasts" doc:"Whether it still is"`
	Broken bool           `json:"broken" doc:"Whether its readings stopped while it was"`
	Worst  reading.Figure `json:"worst" doc:"Worst figure, in the metric's unit"`
	Words  string         `json:"words" doc:"In words"`
	VMs    int            `json:"vms" doc:"VMs that depend on it"`
	Parts  int            `json:"parts" doc:"How many of its parts were past the same limit at the time; they are not listed by themselves"`
}

// StretchList is what was past its limits in a window.
type StretchList struct {
	Until     *time.Time    `json:"until" doc:"Judged up to here; null where never"`
	Stretches []StretchInfo `json:"stretches" doc:"Those that last first, then the latest"`
}

// Stretches lists what was past its limits in a window, of all objects or of one.
func (s *Service) Stretches(ctx context.Context, query string, w Window, limit int) (StretchList, error) {
	m, err := s.at(ctx, w.To)
	if err != nil {
		return StretchList{}, err
	}
	e, object := m.Estate(), ""
	if query != "" {
		i, err := e.Resolve(query)
		if err != nil {
			return StretchList{}, err
		}
		object = e.At(i).Key.String()
	}
	kept, err := s.store.Stretches(ctx, object, w.From, w.To, 20*limit) // parts are many
	if err != nil {
		return StretchList{}, err
	}
	parts := wholes(e, kept)
	out := StretchList{Stretches: make([]StretchInfo, 0, len(kept))}
	if mark, err := s.store.Setting(ctx, watchedUntil); err != nil {
		return StretchList{}, err
	} else if t, err := time.Parse(time.RFC3339, mark); err == nil {
		out.Until = &t
	}
	vms := map[string]int{}
	for k, x := range kept {
		if parts[k] < 0 {
			continue
		}
		if len(out.Stretches) == limit {
			break
		}
		info := StretchInfo{Parts: parts[k], Metric: x.Limit.Metric, Aspect: x.Limit.Aspect, Level: string(x.Level), From: x.From.UTC(), To: x.To.UTC(), Lasts: !x.Ended, Broken: x.Broken,
			Worst: reading.Figure(x.Worst), Words: "up to " + x.Limit.Show(x.Worst)}
		if info.Lasts && out.Until != nil && out.Until.After(info.To) {
			info.To = *out.Until // it is written down when it begins, gets worse or ends, and goes on between
		}
		if i, ok := refAt(e, x.Object); ok {
			info.Brief = brief(e, i)
			if _, ok := vms[x.Object]; !ok {
				vms[x.Object] = len(m.VMs(i))
			}
			info.VMs = vms[x.Object]
		} else {
			info.Ref, info.Name = x.Object, x.Object
		}
		out.Stretches = append(out.Stretches, info)
	}
	return out, nil
}

// wholes returns for each stretch how many of its object's parts were past the same limit at that time, and -1 for those parts: what
// fails as a whole is one finding.
func wholes(e *estate.Estate, of []store.Stretch) []int {
	out := make([]int, len(of))
	at := map[string][]int{}
	for k, x := range of {
		at[x.Object+" "+x.Limit.Metric] = append(at[x.Object+" "+x.Limit.Metric], k)
	}
	// The nearest whole that was past the limit too, or whole of that.
	var top func(i int32, x store.Stretch) int
	top = func(i int32, x store.Stretch) int {
		for _, up := range e.From(i, estate.MadeOf) {
			if k := top(up, x); k >= 0 {
				return k
			}
			for _, k := range at[e.At(up).Key.String()+" "+x.Limit.Metric] {
				if of[k].From.Before(x.To) && x.From.Before(of[k].To) {
					return k
				}
			}
		}
		return -1
	}
	for k, x := range of {
		if i, ok := refAt(e, x.Object); ok {
			if whole := top(i, x); whole >= 0 && whole != k {
				out[k] = -1
				out[whole]++
			}
		}
	}
	return out
}
