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
	from, to time.Time
	nodes    []estate.Node
	changes  map[time.Time][]estate.Node
	whole    []route.Moment
	runs     map[estate.Key]map[string][]reading.Series
	events   []verdict.Event
}

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
	t := &taken{from: f.From, to: f.To, changes: map[time.Time][]estate.Node{}, runs: map[estate.Key]map[string][]reading.Series{}}
	for source, text := range feeds {
		if err := writers[source].Flush(); err != nil {
			return nil, err
		}
		if err := t.read(source, text); err != nil {
			return nil, fmt.Errorf("%s: %w", source, err)
		}
	}
	slices.SortFunc(t.nodes, func(a, b estate.Node) int { return cmp.Compare(a.Key.String(), b.Key.String()) })
	t.whole = t.joined(func(estate.Layer) bool { return true })
	return t, nil
}

// read takes in what one source tells.
func (t *taken) read(source string, text io.Reader) error {
	r, err := feed.NewReader(text, t.to.Add(time.Hour))
	if err != nil {
		return err
	}
	defer r.Close()
	var header *feed.Header
	for {
		rec, err := r.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		switch {
		case rec.Header != nil:
			header = rec.Header
		case rec.Object != nil && header.Full:
			t.nodes = append(t.nodes, rec.Object.Node(source))
		case rec.Object != nil:
			t.changes[header.Time] = append(t.changes[header.Time], rec.Object.Node(source))
		case rec.Event != nil:
			ref, err := estate.ParseRef(rec.Event.Of)
			if err != nil {
				return err
			}
			t.events = append(t.events, verdict.Event{Of: estate.Key{Source: source, Ref: ref}, Time: rec.Event.Time, What: rec.Event.What})
		case rec.Reading != nil:
			if err := t.keep(source, rec.Reading); err != nil {
				return err
			}
		}
	}
}

// keep holds on to readings.
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

// joined is the estate of each moment, of the layers that are told of.
func (t *taken) joined(told func(estate.Layer) bool) (out []route.Moment) {
	keep := func(nodes []estate.Node) []estate.Node {
		return slices.DeleteFunc(slices.Clone(nodes), func(n estate.Node) bool { return !told(n.Key.Ref.Kind.Layer()) })
	}
	nodes := keep(t.nodes)
	e := estate.Of(len(nodes), slices.Values(nodes))
	times := make([]time.Time, 0, len(t.changes))
	for at := range t.changes {
		times = append(times, at)
	}
	slices.SortFunc(times, time.Time.Compare)
	from := t.from
	for _, at := range times {
		out = append(out, route.Moment{From: from, To: at, Map: route.NewMap(e)})
		e, from = e.With(estate.Change{Set: keep(t.changes[at])}), at
	}
	return append(out, route.Moment{From: from, To: t.to, Map: route.NewMap(e)})
}
