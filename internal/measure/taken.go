package main

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io"
	"slices"
	"sync"
	"time"

	"dowsingrod/core/estate"
	"dowsingrod/core/reading"
	"dowsingrod/core/route"
	"dowsingrod/core/verdict"
	"dowsingrod/internal/feed"
	"dowsingrod/internal/lab"
)

// taken is what a feed reader makes of the feeds of an incident: all that diagnosis may see.
type taken struct {
	moments []route.Moment
	runs    map[estate.Key]map[string][]reading.Series
	events  []verdict.Event
}

// Runs returns the readings of a metric of an object.
func (t *taken) Runs(k estate.Key, metric string) []reading.Series { return t.runs[k][metric] }

// take brings the feeds of an estate of the lab in through the feed reader.
func take(f *lab.Fleet) (*taken, error) {
	feeds := map[string]*bytes.Buffer{}
	writers := map[string]*feed.Writer{}
	var mu sync.Mutex
	err := f.Write(func(source string, r feed.Record) error {
		mu.Lock()
		w := writers[source]
		if w == nil {
			feeds[source] = &bytes.Buffer{}
			w = feed.NewWriter(feeds[source])
			writers[source] = w
		}
		mu.Unlock()
		return w.Write(r)
	})
	if err != nil {
		return nil, err
	}
	t := &taken{runs: map[estate.Key]map[string][]reading.Series{}}
	var nodes []estate.Node
	changes := map[time.Time]*estate.Change{}
	for source, text := range feeds {
		if err := writers[source].Flush(); err != nil {
			return nil, err
		}
		r, err := feed.NewReader(text, f.To.Add(time.Hour))
		if err != nil {
			return nil, err
		}
		var header *feed.Header
		for {
			rec, err := r.Next()
			if errors.Is(err, io.EOF) {
				break
			}
			if err != nil {
				return nil, fmt.Errorf("%s: %w", source, err)
			}
			switch {
			case rec.Header != nil:
				header = rec.Header
			case rec.Object != nil && header.Full:
				nodes = append(nodes, rec.Object.Node(source))
			case rec.Object != nil:
				c := changes[header.Time]
				if c == nil {
					c = &estate.Change{}
					changes[header.Time] = c
				}
				c.Set = append(c.Set, rec.Object.Node(source))
			case rec.Event != nil:
				ref, err := estate.ParseRef(rec.Event.Of)
				if err != nil {
					return nil, err
				}
				t.events = append(t.events, verdict.Event{Of: estate.Key{Source: source, Ref: ref}, Time: rec.Event.Time, What: rec.Event.What})
			case rec.Reading != nil:
				if err := t.keep(source, rec.Reading); err != nil {
					return nil, err
				}
			}
		}
		r.Close()
	}
	slices.SortFunc(nodes, func(a, b estate.Node) int { return cmp.Compare(a.Key.String(), b.Key.String()) })
	e := estate.Of(len(nodes), slices.Values(nodes))
	at := f.From
	times := make([]time.Time, 0, len(changes))
	for x := range changes {
		times = append(times, x)
	}
	slices.SortFunc(times, time.Time.Compare)
	for _, x := range times {
		t.moments = append(t.moments, route.Moment{From: at, To: x, Map: route.NewMap(e)})
		e, at = e.With(*changes[x]), x
	}
	t.moments = append(t.moments, route.Moment{From: at, To: f.To, Map: route.NewMap(e)})
	return t, nil
}

func (t *taken) keep(source string, r *feed.Reading) error {
	ref, err := estate.ParseRef(r.Of)
	if err != nil {
		return err
	}
	key := estate.Key{Source: source, Ref: ref}
	by := t.runs[key]
	if by == nil {
		by = map[string][]reading.Series{}
		t.runs[key] = by
	}
	for metric, v := range r.Values {
		by[metric] = append(by[metric], reading.Series{From: r.From, Step: time.Duration(r.Step * float64(time.Second)), Values: v})
	}
	return nil
}
