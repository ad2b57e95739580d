package main

import (
	"context"
	"fmt"
	"hash/fnv"
	"math"
	"math/rand/v2"
	"os"
	"os/exec"
	"runtime"
	"slices"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"

	"dowsingrod/core/congest"
	"dowsingrod/core/estate"
	"dowsingrod/core/incident"
	"dowsingrod/core/normal"
	"dowsingrod/core/reading"
	"dowsingrod/core/route"
	"dowsingrod/core/suspect"
	"dowsingrod/core/sweep"
	"dowsingrod/core/verdict"
	"dowsingrod/internal/feed"
	"dowsingrod/internal/lab/large"
	"dowsingrod/internal/postgres"
)

// grown is a large estate, joined, without a database.
func grown(vms int) (*route.Map, error) {
	return grownWith(large.Options{VMs: vms, Seed: 1, Time: labNoon})
}

func grownWith(o large.Options) (*route.Map, error) {
	var nodes []estate.Node
	source := ""
	_, err := large.Write(o, func(r feed.Record) error {
		if r.Header != nil {
			source = r.Header.Source
			return nil
		}
		nodes = append(nodes, r.Object.Node(source))
		return nil
	})
	if err != nil {
		return nil, err
	}
	return route.NewMap(estate.Of(len(nodes), slices.Values(nodes))), nil
}

// written are readings in memory, a minute each, made when first asked for. Latencies double from the middle of the second half on
// where slow says so.
type written struct {
	grid reading.Grid
	slow func(k estate.Key, metric string) float64 // by what the last third is multiplied
	mu   sync.Mutex
	runs map[estate.Key]map[string][]reading.Series
}

// Runs returns the runs of a metric of an object.
func (w *written) Runs(k estate.Key, metric string) []reading.Series {
	w.mu.Lock()
	defer w.mu.Unlock()
	of := w.runs[k]
	if of == nil {
		of = map[string][]reading.Series{}
		w.runs[k] = of
	}
	if runs, ok := of[metric]; ok {
		return runs
	}
	m, ok := reading.Lookup(metric)
	if !ok || !m.On(k.Ref.Kind) {
		of[metric] = nil
		return nil
	}
	h := fnv.New64a()
	h.Write([]byte(k.String() + metric))
	r := rand.New(rand.NewPCG(h.Sum64(), 1))
	level := map[reading.Unit]float64{reading.SharePart: 0.3, reading.Microseconds: 1500, reading.PerSecond: 100, reading.BytesPerSecond: 1 << 20, reading.Count: 2, reading.Bytes: 1 << 40}[m.Unit]
	switch metric {
	case "crc_errors_s", "discards_s", "link_resets_s", "aborts_s", "credit_zero_share", "steal_share":
		level = 0
	}
	times := w.slow(k, metric)
	values := make([]float64, w.grid.N)
	for i := range values {
		values[i] = level * (1 + 0.1*r.NormFloat64())
		if i >= 2*w.grid.N/3 {
			values[i] *= times
		}
	}
	of[metric] = []reading.Series{{From: w.grid.From, Step: w.grid.Step, Values: values}}
	return of[metric]
}

// diagnosis measures what is not bound to a database: explaining, watching and sweeping large estates, and learning what is usual.
func diagnosis(ctx context.Context) error {
	usual()
	if err := sweeps(ctx, 20_000); err != nil {
		return err
	}
	m, err := grown(100_000)
	if err != nil {
		return err
	}
	explains(m)
	minutes(m)
	detection()
	return nil
}

// apart runs a part of the measurements in a process of its own, so that what others hold does not count.
func apart(ctx context.Context, part string) error {
	exe, err := os.Executable()
	if err != nil {
		return err
	}
	c := exec.CommandContext(ctx, exe, part)
	c.Stdout, c.Stderr = os.Stdout, os.Stderr
	if err := c.Run(); err != nil {
		return fmt.Errorf("%s: %w", part, err)
	}
	return nil
}

func percentiles(name string, times []float64) {
	slices.Sort(times)
	bench(name+".p50", times[len(times)/2]*1e3, "ms")
	bench(name+".p99", times[min(len(times)-1, len(times)*99/100)]*1e3, "ms")
}

// explains times explaining one machine in a large estate over two hours, and two before.
func explains(m *route.Map) {
	e := m.Estate()
	g := reading.Grid{From: labNoon, Step: time.Minute, N: 240}
	pools := e.OfKind(estate.Pool)
	bad := map[estate.Key]bool{}
	for k, p := range pools {
		if k%3 == 0 {
			bad[e.At(p).Key] = true
		}
	}
	slowDisk := map[estate.Key]bool{}
	vms := e.OfKind(estate.VM)
	r := rand.New(rand.NewPCG(5, 6))
	var chosen []int32
	for range 400 {
		chosen = append(chosen, vms[r.IntN(len(vms))])
	}
	for _, vm := range chosen {
		for _, d := range e.To(vm, estate.Uses) {
			for _, v := range m.Volumes(d) {
				for _, p := range e.To(v, estate.CarvedFrom) {
					if bad[e.At(p).Key] {
						slowDisk[e.At(d).Key], slowDisk[e.At(v).Key] = true, true
					}
				}
			}
		}
	}
	w := &written{grid: g, runs: map[estate.Key]map[string][]reading.Series{}, slow: func(k estate.Key, metric string) float64 {
		switch {
		case bad[k] && metric == "busy_share":
			return 3.1
		case bad[k] && metric == "read_latency_us", slowDisk[k] && metric == "read_latency_us":
			return 5
		}
		return 1
	}}
	moments := []route.Moment{{From: g.From, To: g.End(), Map: m}}
	var from route.Readings = w
	explain := func(vm int32) verdict.Class {
		l, err := verdict.Locate(verdict.Input{Grid: g, First: 120, Moments: moments, Of: e.At(vm).Key, From: from})
		if err != nil {
			panic(err)
		}
		l.Infer(from)
		in, ok := l.Compare()
		if !ok {
			return l.Conclude(nil).Verdict.Class
		}
		tenants, err := suspect.Compute(in)
		if err != nil {
			panic(err)
		}
		return l.Conclude(&tenants).Verdict.Class
	}
	classes := map[verdict.Class]int{}
	for _, vm := range chosen { // makes the readings
		classes[explain(vm)]++
	}
	from = packed(w.runs)
	runtime.GC()
	var times []float64
	for _, vm := range chosen {
		began := time.Now()
		explain(vm)
		times = append(times, time.Since(began).Seconds())
	}
	percentiles("explain.vm_of_100k.core", times)
	bench("explain.vm_of_100k.hurt", float64(len(chosen)-classes[verdict.Cleared])/float64(len(chosen))*100, "%")
}

// minutes times the judging of every component of a large estate for each new minute.
func minutes(m *route.Map) {
	e := m.Estate()
	begin := heap()
	watch := congest.NewWatch(nil, e, nil)
	none := func(estate.Key, string) float64 { return 1 }
	const n = 12
	g := reading.Grid{From: labNoon, Step: time.Minute, N: n}
	w := &written{grid: g, runs: map[estate.Key]map[string][]reading.Series{}, slow: none}
	rows := make([]int32, watch.Len())
	figures := make([]float64, watch.Len())
	for k := range rows {
		key, _ := watch.Row(k)
		rows[k], _ = e.Position(key)
	}
	detector := incident.NewDetector(time.Minute)
	disks := e.OfKind(estate.VDisk)
	memory := heap() - begin
	var times []float64
	for minute := range n {
		one := reading.Grid{From: g.At(minute), Step: g.Step, N: 1}
		if minute == 0 { // makes the readings
			for k := range figures {
				_, l := watch.Row(k)
				congest.Cells(one, e, rows[k], l.Metric, w)
			}
		}
		began := time.Now()
		for k := range figures {
			_, l := watch.Row(k)
			figures[k] = congest.Cells(one, e, rows[k], l.Metric, w).Value[0]
		}
		watch.Observe(one.From, one.Step, figures)
		for _, d := range disks {
			key := e.At(d).Key
			var s incident.Sample
			for k, dir := range []string{"read", "write"} {
				rate, flight := []float64{0}, []float64{0}
				reading.Add(rate, one, w.Runs(key, dir+"_iops"), 1)
				reading.AddOccupancy(flight, one, w.Runs(key, dir+"_iops"), w.Runs(key, dir+"_latency_us"))
				s.Rate[k], s.Time[k] = rate[0], flight[0]/rate[0]*1e6
			}
			detector.Observe(key, one.From, s)
		}
		detector.Hurts()
		times = append(times, time.Since(began).Seconds())
	}
	times = times[1:] // the first makes the disks' readings
	slices.Sort(times)
	bench("conditions.minute_100k_vms.limits", float64(watch.Len()), "")
	bench("conditions.minute_100k_vms.time", times[len(times)-1], "s")
	bench("conditions.minute_100k_vms.memory", (memory+float64(len(disks))*200)/1e6, "MB")
	runtime.KeepAlive(watch)
}

// sweeps times the search for noisy neighbours in a whole estate, beside the same correlations asked of a database that holds a row per
// reading.
func sweeps(ctx context.Context, vms int) error {
	m, err := grown(vms)
	if err != nil {
		return err
	}
	e := m.Estate()
	g := reading.Grid{From: labNoon, Step: time.Minute, N: 120}
	w := &written{grid: g, runs: map[estate.Key]map[string][]reading.Series{}, slow: func(estate.Key, string) float64 { return 1 }}
	pools := e.OfKind(estate.Pool)
	loud := map[estate.Key]bool{}
	slow := map[estate.Key]bool{}
	for _, vm := range e.OfKind(estate.VM) {
		for _, d := range e.To(vm, estate.Uses) {
			for _, v := range m.Volumes(d) {
				for _, p := range e.To(v, estate.CarvedFrom) {
					if p != pools[0] {
						continue
					}
					slow[e.At(d).Key] = true
					if len(loud) == 0 {
						loud[e.At(d).Key] = true
					}
				}
			}
		}
	}
	w.slow = func(k estate.Key, metric string) float64 {
		switch {
		case slow[k] && (metric == "read_latency_us" || metric == "write_latency_us"):
			return 4
		case loud[k] && metric != "outstanding":
			return float64(20 * len(slow))
		}
		return 1
	}
	in := sweep.Input{Grid: g, First: 40, Map: m, From: w}
	found := sweep.Compute(in) // makes the readings
	if len(found) == 0 || found[0].Outcome != sweep.Culprit {
		return fmt.Errorf("the sweep found %v", found)
	}
	free := &unlocked{w.runs}
	in.From = free
	runtime.GC()
	var times []float64
	for range 9 {
		began := time.Now()
		sweep.Compute(in)
		times = append(times, time.Since(began).Seconds())
	}
	slices.Sort(times)
	took := times[len(times)/2]
	plain, pairs, err := plainSweep(ctx, m, free, g)
	if err != nil {
		return err
	}
	bench("neighbours.sweep_20k_vms_2h", took, "s")
	bench("neighbours.sweep_20k_vms_2h.worst", times[len(times)-1], "s")
	bench("neighbours.sweep_20k_vms_2h.pairs", float64(pairs), "")
	bench("neighbours.sweep_20k_vms_2h.plain", plain, "s")
	bench("neighbours.sweep_20k_vms_2h.ratio", plain/took, "x")
	return nil
}

// unlocked are readings that nothing is added to any more.
type unlocked struct {
	runs map[estate.Key]map[string][]reading.Series
}

// Runs returns the runs of a metric of an object.
func (u *unlocked) Runs(k estate.Key, metric string) []reading.Series { return u.runs[k][metric] }

// rows are the runs of an object by metric: few enough to be looked through.
type rows []struct {
	metric string
	runs   []reading.Series
}

// packed are readings as a service holds them that keeps the last hours in memory.
func packed(of map[estate.Key]map[string][]reading.Series) *kept {
	k := &kept{make(map[estate.Key]rows, len(of))}
	for key, by := range of {
		r := make(rows, 0, len(by))
		for metric, runs := range by {
			r = append(r, struct {
				metric string
				runs   []reading.Series
			}{metric, runs})
		}
		k.of[key] = r
	}
	return k
}

type kept struct{ of map[estate.Key]rows }

// Runs returns the runs of a metric of an object.
func (k *kept) Runs(key estate.Key, metric string) []reading.Series {
	for _, r := range k.of[key] {
		if r.metric == metric {
			return r.runs
		}
	}
	return nil
}

// plainSweep asks a database for the correlation of every machine's demand with the time per I/O of every component it shares, over a
// table of readings as one would first write it.
func plainSweep(ctx context.Context, m *route.Map, r route.Readings, g reading.Grid) (seconds float64, pairs int, err error) {
	dir, err := os.MkdirTemp("", "dowse-measure-*")
	if err != nil {
		return 0, 0, err
	}
	defer os.RemoveAll(dir)
	if err := os.Chmod(dir, 0o755); err != nil { // the database runs as another user
		return 0, 0, err
	}
	pg, err := postgres.Start(ctx, postgres.Options{Dir: dir + "/pg"})
	if err != nil {
		return 0, 0, err
	}
	defer pg.Stop()
	conn, err := pgx.Connect(ctx, pg.URL)
	if err != nil {
		return 0, 0, err
	}
	defer conn.Close(ctx)
	if _, err := conn.Exec(ctx, `
		create table plain (disk integer, metric text, at timestamptz, value double precision);
		create table uses (disk integer, vm integer, component integer)`); err != nil {
		return 0, 0, err
	}
	e := m.Estate()
	var uses [][]any
	disks := []int32{}
	for _, vm := range e.OfKind(estate.VM) {
		for _, d := range e.To(vm, estate.Uses) {
			disks = append(disks, d)
			for _, v := range m.Volumes(d) {
				of := append([]int32{v}, e.To(v, estate.CarvedFrom)...)
				if c := e.First(v, estate.ServedBy); c >= 0 {
					of = append(of, c)
				}
				for _, c := range of {
					uses = append(uses, []any{d, vm, c})
				}
			}
		}
	}
	k, metric, cell := 0, 0, -1
	var values []float64
	_, err = conn.CopyFrom(ctx, pgx.Identifier{"plain"}, []string{"disk", "metric", "at", "value"}, pgx.CopyFromFunc(func() ([]any, error) {
		for {
			if cell++; cell < len(values) {
				return []any{disks[k], sweep.Metrics[metric], g.At(cell), values[cell]}, nil
			}
			if values != nil {
				if metric++; metric == len(sweep.Metrics) {
					metric, k = 0, k+1
				}
			}
			if k == len(disks) {
				return nil, nil
			}
			cell, values = -1, []float64{}
			if runs := r.Runs(e.At(disks[k]).Key, sweep.Metrics[metric]); len(runs) > 0 {
				values = runs[0].Values
			}
		}
	}))
	if err != nil {
		return 0, 0, err
	}
	if _, err := conn.CopyFrom(ctx, pgx.Identifier{"uses"}, []string{"disk", "vm", "component"}, pgx.CopyFromRows(uses)); err != nil {
		return 0, 0, err
	}
	if _, err := conn.Exec(ctx, `create index on plain (disk, at); analyze`); err != nil {
		return 0, 0, err
	}
	began := time.Now()
	err = conn.QueryRow(ctx, `
		with cell as materialized (
			select disk, at,
				sum(value) filter (where metric in ('read_iops', 'write_iops')) as rate,
				sum(value) filter (where metric in ('read_bytes_s', 'write_bytes_s')) / 65536 as pieces,
				max(value) filter (where metric = 'read_iops') * max(value) filter (where metric = 'read_latency_us') / 1e6 +
				max(value) filter (where metric = 'write_iops') * max(value) filter (where metric = 'write_latency_us') / 1e6 as flight
			from plain group by disk, at),
		whole as materialized (
			select u.component, c.at, sum(c.flight) / nullif(sum(c.rate), 0) * 1e6 as us
			from cell c join uses u using (disk) group by u.component, c.at),
		demand as materialized (
			select u.component, u.vm, c.at, sum(c.rate + c.pieces) as cost
			from cell c join uses u using (disk) group by u.component, u.vm, c.at)
		select count(*) from (
			select component, vm, corr(d.cost, w.us) as r from demand d join whole w using (component, at) group by component, vm) pairs`).Scan(&pairs)
	return time.Since(began).Seconds(), pairs, err
}

// usual measures what it takes to learn what is usual for a series, and to say so.
func usual() {
	const series, weeks = 2000, 5
	cells := make([]float64, 60)
	r := rand.New(rand.NewPCG(8, 9))
	for i := range cells {
		cells[i] = 100 * math.Exp(0.1*r.NormFloat64())
	}
	profiles := make([]normal.Profile, series)
	for w := range weeks {
		for h := range 168 {
			at := labNoon.Add(time.Duration(w*168+h) * time.Hour)
			for k := range 20 {
				profiles[k].Learn(at, cells)
			}
		}
	}
	began := time.Now()
	for k := range profiles {
		profiles[k].Learn(labNoon, cells)
	}
	bench("normal.learn_hour_of_a_million", time.Since(began).Seconds()/series*1e6, "s")
	data, _ := profiles[0].MarshalBinary()
	bench("normal.bytes_a_series", float64(len(data)), "B")
	began = time.Now()
	for range 10_000 {
		profiles[0].Band(labNoon)
	}
	bench("normal.band", time.Since(began).Seconds()/10_000*1e6, "µs")
}
