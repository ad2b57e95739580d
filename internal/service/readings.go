package service

import (
	"context"
	"time"

	"dowsingrod/core/estate"
	"dowsingrod/core/reading"
	"dowsingrod/core/route"
	"dowsingrod/internal/store"
)

// runs is route.Readings over what was fetched.
type runs struct {
	ids  map[estate.Key]int64
	data store.Runs
}

func (r runs) Runs(k estate.Key, metric string) []reading.Series {
	return r.data[store.Want{Object: r.ids[k], Metric: metric}]
}

// fetch reads all that is needed within [from, to).
func (s *Service) fetch(ctx context.Context, moments []route.Moment, needs []route.Need, from, to time.Time) (runs, error) {
	r := runs{ids: make(map[estate.Key]int64, len(needs))}
	var wants []store.Want
	for _, n := range needs {
		for _, m := range moments {
			if i, ok := m.Map.Estate().Position(n.Key); ok {
				r.ids[n.Key] = m.Map.Estate().At(i).Store
				break
			}
		}
		id, ok := r.ids[n.Key]
		if !ok {
			continue
		}
		for _, metric := range n.Metrics {
			wants = append(wants, store.Want{Object: id, Metric: metric})
		}
	}
	data, err := s.store.Readings(ctx, wants, from, to)
	r.data = data
	return r, err
}

// steps are the lengths of cell to choose from.
var steps = []time.Duration{time.Second, 2 * time.Second, 5 * time.Second, 10 * time.Second, 20 * time.Second, 30 * time.Second, time.Minute, 2 * time.Minute, 5 * time.Minute, 10 * time.Minute, 15 * time.Minute,
	30 * time.Minute, time.Hour, 2 * time.Hour, 6 * time.Hour}

// usualStep is the interval at which hypervisors report.
const usualStep = 20 * time.Second

// mostCells is how many cells a window is cut into at most: about two pixels each on a usual screen.
const mostCells = 400

// grid cuts a window into cells, and adds before it what is needed to know what is usual: as long again,
// an hour at least and a day at most. first is the cell where the window begins.
//
// Cells are no shorter than finest, the interval of the fastest source, nor than 20 s where that is not known.
func grid(w Window, finest time.Duration) (g reading.Grid, first int, err error) {
	step := steps[len(steps)-1]
	if finest <= 0 || finest > usualStep {
		finest = usualStep
	}
	for _, d := range steps {
		if d < finest {
			continue
		}
		if w.To.Sub(w.From) <= mostCells*d {
			step = d
			break
		}
	}
	back := min(max(w.To.Sub(w.From), time.Hour), 24*time.Hour)
	from := w.From.Truncate(step).Add(-back.Truncate(step))
	g, err = reading.NewGrid(from, w.To.Truncate(step), step)
	return g, g.Cell(w.From.Truncate(step)), err
}
