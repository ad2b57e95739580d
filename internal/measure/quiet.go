package main

import (
	"slices"
	"time"

	"dowsingrod/core/estate"
	"dowsingrod/core/incident"
	"dowsingrod/core/reading"
	"dowsingrod/core/verdict"
	"dowsingrod/internal/lab"
)

// quietDays looks for incidents on busy days on which nothing goes wrong.
func quietDays() error {
	found, objects := 0, 0.0
	for k := range 12 {
		f, err := lab.Grow(lab.Options{VMs: 200, Seed: scoringSeed + 7000 + uint64(k), From: labNoon.Add(-12 * time.Hour), To: labNoon, Fault: "quiet"})
		if err != nil {
			return err
		}
		t, err := take(f)
		if err != nil {
			return err
		}
		n, err := declared(t.without(loss{}), f.From, f.To)
		if err != nil {
			return err
		}
		found += n
		objects += float64(t.whole[0].Map.Estate().Number(estate.VM)) * f.To.Sub(f.From).Hours() / 24
	}
	line("SCORE", "quiet.object_days", objects, "")
	line("SCORE", "quiet.declared_per_1000_object_days", float64(found)/objects*1000, "")
	return nil
}

// declared counts the incidents that are found in readings without being asked.
func declared(t *view, from, to time.Time) (int, error) {
	g, err := reading.NewGrid(from, to, time.Minute)
	if err != nil {
		return 0, err
	}
	m := t.latest()
	d := incident.NewDetector(time.Minute)
	type rows struct{ flight, rate [2][]float64 }
	var keys []estate.Key
	var of []rows
	for _, i := range m.Estate().OfKind(estate.VDisk) {
		key := m.Estate().At(i).Key
		var r rows
		for k, dir := range []string{"read", "write"} {
			rate := t.Runs(key, dir+"_iops")
			r.rate[k], r.flight[k] = reading.Align(g, rate).Value, reading.Occupancy(g, rate, t.Runs(key, dir+"_latency_us")).Value
		}
		keys, of = append(keys, key), append(of, r)
	}
	var open []*incident.Incident
	for i := range g.N {
		for k, key := range keys {
			var s incident.Sample
			for n := range 2 {
				s.Rate[n], s.Time[n] = of[k].rate[n][i], of[k].flight[n][i]/of[k].rate[n][i]*1e6
			}
			d.Observe(key, g.At(i), s)
		}
		now := g.At(i + 1)
		changed, err := incident.Fold(m, d.Hurts(), open, now, time.Minute, func(vm estate.Key) (verdict.Explanation, error) {
			w, err := reading.NewGrid(later(from, now.Add(-3*time.Hour)), now, 20*time.Second)
			if err != nil {
				return verdict.Explanation{}, err
			}
			a, err := explain(t, w, vm.String())
			return a.Explanation, err
		})
		if err != nil {
			return 0, err
		}
		for _, x := range changed {
			if !slices.Contains(open, x) {
				open = append(open, x)
			}
		}
	}
	return len(open), nil
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}
