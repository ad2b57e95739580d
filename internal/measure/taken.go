package main

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io"
	"math"
	"math/rand/v2"
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

// loss is what diagnosis does not get to see of an estate.
type loss struct {
	missing float64 // part of all readings
	r       *rand.Rand
	silent  map[estate.Layer]bool // layers without readings
	absent  map[estate.Layer]bool // layers that no source tells of at all
}

func (v variant) loss(seed uint64) loss {
	l := loss{r: rand.New(rand.NewPCG(seed, 77)), silent: map[estate.Layer]bool{}, absent: map[estate.Layer]bool{}}
	may := []estate.Layer{estate.LayerHost, estate.LayerDatastore, estate.LayerFabric, estate.LayerFrontEnd, estate.LayerBackEnd}
	if v.gaps {
		l.missing = 0.10
		l.silent[may[l.r.IntN(5)]] = true
	}
	if v.murky {
		l.missing = 0.30
		k := l.r.IntN(5)
		l.silent[may[k]], l.silent[may[(k+1+l.r.IntN(4))%5]] = true, true
	}
	if v.shape {
		l.absent[estate.LayerFabric] = seed%2 == 0
		l.silent[estate.LayerDatastore] = true
	}
	return l
}

// take brings the feeds of an estate of the lab in through the feed reader.
func take(f *lab.Fleet, v variant) (*taken, error) {
	loss := v.loss(f.Seed)
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
				if !loss.absent[rec.Object.Kind.Layer()] {
					nodes = append(nodes, rec.Object.Node(source))
				}
			case rec.Object != nil:
				c := changes[header.Time]
				if c == nil {
					c = &estate.Change{}
					changes[header.Time] = c
				}
				if !loss.absent[rec.Object.Kind.Layer()] {
					c.Set = append(c.Set, rec.Object.Node(source))
				}
			case rec.Event != nil:
				ref, err := estate.ParseRef(rec.Event.Of)
				if err != nil {
					return nil, err
				}
				t.events = append(t.events, verdict.Event{Of: estate.Key{Source: source, Ref: ref}, Time: rec.Event.Time, What: rec.Event.What})
			case rec.Reading != nil:
				if err := t.keep(source, rec.Reading, loss); err != nil {
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

func (t *taken) keep(source string, r *feed.Reading, loss loss) error {
	ref, err := estate.ParseRef(r.Of)
	if err != nil {
		return err
	}
	if loss.silent[ref.Kind.Layer()] || loss.absent[ref.Kind.Layer()] {
		return nil
	}
	key := estate.Key{Source: source, Ref: ref}
	by := t.runs[key]
	if by == nil {
		by = map[string][]reading.Series{}
		t.runs[key] = by
	}
	for metric, v := range r.Values {
		if loss.missing > 0 {
			v = slices.Clone(v)
			for i := range v {
				if loss.r.Float64() < loss.missing {
					v[i] = math.NaN()
				}
			}
		}
		by[metric] = append(by[metric], reading.Series{From: r.From, Step: time.Duration(r.Step * float64(time.Second)), Values: v})
	}
	return nil
}
