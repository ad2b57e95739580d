package service

import (
	"context"

	"dowsingrod/core/congest"
	"dowsingrod/core/estate"
	"dowsingrod/core/reading"
	"dowsingrod/core/route"
)

// watch makes sure that conditions are watched of this estate by the limits in force.
func (w *watcher) watch(ctx context.Context, e *estate.Estate) error {
	book, err := w.s.book(ctx)
	if err != nil {
		return err
	}
	if w.conditions == nil || w.of != e || !w.book.Same(book) {
		w.conditions, w.of, w.book = congest.NewWatch(book, e, w.conditions), e, book
	}
	return nil
}

// judges lists the readings that conditions are judged by.
func (w *watcher) judges(e *estate.Estate) (needs []route.Need) {
	var last estate.Key
	for k := range w.conditions.Len() {
		if key, _ := w.conditions.Row(k); key != last {
			last = key
			if i, ok := e.Position(key); ok {
				needs = congest.Needs(needs, e, i)
			}
		}
	}
	return needs
}

// figures returns for each cell the figure of each row.
func (w *watcher) figures(g reading.Grid, e *estate.Estate, r route.Readings) [][]float64 {
	out := make([][]float64, g.N)
	all := make([]float64, g.N*w.conditions.Len())
	for c := range out {
		out[c] = all[c*w.conditions.Len() : (c+1)*w.conditions.Len()]
	}
	for k := range w.conditions.Len() {
		key, l := w.conditions.Row(k)
		i, _ := e.Position(key)
		for c, v := range congest.Cells(g, e, i, l.Metric, r).Value {
			out[c][k] = v
		}
	}
	return out
}

// keep keeps stretches that began, got worse or ended. The first time it also ends what was open before and is not now.
func (w *watcher) keep(ctx context.Context, changed []congest.Stretch) error {
	if !w.adopted {
		kept, err := w.s.store.OpenStretches(ctx)
		if err != nil {
			return err
		}
		open := make([]congest.Stretch, len(kept))
		for k, x := range kept {
			open[k] = x.Stretch
		}
		over := w.conditions.Adopt(open)
		for k := range over {
			over[k].Ended = true
		}
		changed = append(append(over, changed...), w.conditions.Open()...)
		w.adopted = true
	}
	return w.s.store.KeepStretches(ctx, changed)
}
