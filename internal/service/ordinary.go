package service

import (
	"context"
	"time"

	"dowsingrod/core/estate"
	"dowsingrod/core/normal"
	"dowsingrod/core/reading"
	"dowsingrod/core/route"
	"dowsingrod/core/strata"
	"dowsingrod/core/verdict"
)

// drawnDisks is of how many disks at most what is usual is put together: more say too little of any of them for what they need.
const drawnDisks = 200

// ordinary puts beside the latency of disks what is usual for them at that hour.
func (s *Service) ordinary(ctx context.Context, q question, disks func(m *route.Map) []int32, r route.Readings, out *strata.Strata) error {
	ids := map[estate.Key]int64{}
	for _, m := range q.moments {
		for _, d := range disks(m.Map) {
			o := m.Map.Estate().At(d)
			ids[o.Key] = o.Store
		}
	}
	if len(ids) > drawnDisks {
		return nil
	}
	learned, err := s.profiles(ctx, ids, []string{"read_latency_us", "write_latency_us"})
	if err != nil {
		return err
	}
	g := reading.Grid{From: q.grid.At(q.first), Step: q.grid.Step, N: q.grid.N - q.first}
	out.Read.Ordinary, out.Write.Ordinary = strata.Ordinary(q.grid, q.first, q.moments, disks, r, func(disk estate.Key, metric string) []normal.Band {
		if p := learned[disk][metric]; p != nil {
			return p.Bands(g, time.Local)
		}
		return nil
	})
	return nil
}

// profiles fetches what was learned of some metrics of objects.
func (s *Service) profiles(ctx context.Context, ids map[estate.Key]int64, metrics []string) (map[estate.Key]map[string]*normal.Profile, error) {
	of := make(map[int64]estate.Key, len(ids))
	list := make([]int64, 0, len(ids))
	for key, id := range ids {
		of[id], list = key, append(list, id)
	}
	found, err := s.store.ProfilesOf(ctx, list, metrics)
	if err != nil {
		return nil, err
	}
	out := make(map[estate.Key]map[string]*normal.Profile, len(ids))
	for k := range found {
		key := of[found[k].Want.Object]
		if out[key] == nil {
			out[key] = map[string]*normal.Profile{}
		}
		out[key][found[k].Want.Metric] = &found[k].Profile
	}
	return out, nil
}

// held puts beside the readings that a verdict rests on what is usual for them at that hour.
func (s *Service) held(ctx context.Context, e *estate.Estate, x *verdict.Explanation) error {
	ids := map[estate.Key]int64{}
	var metrics []string
	for _, piece := range x.Evidence {
		key, err := estate.ParseKey(piece.Of)
		if err != nil || piece.Trace == nil {
			continue
		}
		if at, ok := e.Position(key); ok {
			ids[key] = e.At(at).Store
			metrics = append(metrics, piece.Metric)
		}
	}
	if len(ids) == 0 {
		return nil
	}
	learned, err := s.profiles(ctx, ids, metrics)
	if err != nil {
		return err
	}
	for k := range x.Evidence {
		piece := &x.Evidence[k]
		key, err := estate.ParseKey(piece.Of)
		p := learned[key][piece.Metric]
		if err != nil || p == nil || piece.Trace == nil {
			continue
		}
		g := reading.Grid{From: x.From, Step: time.Duration(x.Step * float64(time.Second)), N: len(piece.Trace)}
		if u := normal.UsualOf(p.Bands(g, time.Local)); u.Basis != normal.Nothing {
			piece.Usual = &u
		}
	}
	return nil
}
