package service

import (
	"context"
	"fmt"

	"dowsingrod/core/phrase"
	"dowsingrod/core/reading"
)

// Distribution is how a metric spread over a window.
type Distribution struct {
	Metric string       `json:"metric" doc:"The metric"`
	Unit   reading.Unit `json:"unit" doc:"Unit of the bounds"`
	Bounds []float64    `json:"bounds" doc:"Upper bounds of the buckets; one more bucket lies above the last"`
	Counts []float64    `json:"counts" doc:"How many fell into each bucket"`
	Words  string       `json:"words" doc:"In words: all but so many of so many were under a bound"`
}

// distributions sums the histograms of an object over a window. Those with other bounds than the first
// of their metric are left out: buckets that do not match cannot be added.
func (s *Service) distributions(ctx context.Context, object int64, metrics []string, w Window) ([]Distribution, error) {
	out := []Distribution{}
	for _, name := range metrics {
		list, err := s.store.Histograms(ctx, object, name, w.From, w.To)
		if err != nil {
			return nil, err
		}
		if len(list) == 0 {
			continue
		}
		metric, _ := reading.Lookup(name)
		d := Distribution{Metric: name, Unit: metric.Unit, Bounds: list[0].Bounds, Counts: make([]float64, len(list[0].Bounds)+1)}
		for _, h := range list {
			if fmt.Sprint(h.Bounds) != fmt.Sprint(d.Bounds) {
				continue
			}
			for i, n := range h.Counts {
				d.Counts[i%len(d.Counts)] += n
			}
		}
		d.Words = d.words()
		out = append(out, d)
	}
	return out, nil
}

// words says the smallest bound that at least 99 % were under, and how many were not.
func (d Distribution) words() string {
	var total, under float64
	for _, n := range d.Counts {
		total += n
	}
	if total == 0 {
		return "nothing was counted"
	}
	bound := func(v float64) string {
		if d.Unit == reading.Microseconds {
			return phrase.Micros(v)
		}
		return fmt.Sprintf("%g", v)
	}
	for i, b := range d.Bounds {
		if under += d.Counts[i]; under >= 0.99*total {
			return fmt.Sprintf("of %s all but %s were under %s", phrase.Rate(total), phrase.Rate(total-under), bound(b))
		}
	}
	last := d.Bounds[len(d.Bounds)-1]
	return fmt.Sprintf("of %s %s were above %s", phrase.Rate(total), phrase.Rate(total-under), bound(last))
}
