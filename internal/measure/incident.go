package main

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"runtime"
	"slices"
	"sync"
	"time"

	"dowsingrod/core/estate"
	"dowsingrod/core/reading"
	"dowsingrod/core/route"
	"dowsingrod/core/strata"
	"dowsingrod/core/suspect"
	"dowsingrod/internal/feed"
	"dowsingrod/internal/lab"
)

// Seeds that incidents are drawn from. Those for tuning may be looked at; those for scoring may not.
const (
	tuningSeed  = 1_000
	scoringSeed = 500_000
)

// taken is what a feed reader makes of the feeds of an incident: all that diagnosis may see.
type taken struct {
	moments []route.Moment
	runs    map[estate.Key]map[string][]reading.Series
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

// result is how diagnosis did on one incident.
type result struct {
	kind                  string
	component             float64 // 1 where the right one was named, NaN where there is none
	suspect               float64 // 1 where the first suspect did it, NaN where nobody did
	innocent              float64 // 1 where somebody was accused who did not do it
	declared              float64 // 1 where something was found on a quiet day, NaN on others
	busiest, change, like float64 // what would be done by hand: 1 where that names who did it
}

// incidents scores diagnosis as it stands on so many incidents of every kind.
func incidents(each int, base uint64) error {
	type job struct {
		kind string
		seed uint64
	}
	jobs := make(chan job)
	var mu sync.Mutex
	var results []result
	var failed error
	var wait sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		wait.Go(func() {
			for j := range jobs {
				r, err := judged(j.kind, j.seed)
				mu.Lock()
				if err != nil && failed == nil {
					failed = fmt.Errorf("%s, seed %d: %w", j.kind, j.seed, err)
				}
				results = append(results, r)
				mu.Unlock()
			}
		})
	}
	for n := range each {
		for k, kind := range lab.Kinds() {
			jobs <- job{kind.Name, base + uint64(n*100+k)}
		}
	}
	close(jobs)
	wait.Wait()
	if failed != nil {
		return failed
	}
	mean := func(of func(r result) float64, keep func(r result) bool) (float64, int) {
		sum, n := 0.0, 0
		for _, r := range results {
			if x := of(r); keep(r) && !math.IsNaN(x) {
				sum, n = sum+x, n+1
			}
		}
		return sum / float64(n), n
	}
	all := func(result) bool { return true }
	say := func(name string, of func(r result) float64) {
		share, n := mean(of, all)
		if n > 0 {
			line("SCORE", name, share*100, "%")
		}
	}
	line("SCORE", "incidents", float64(len(results)), "")
	say("incidents.component_right", func(r result) float64 { return r.component })
	say("incidents.first_suspect_right", func(r result) float64 { return r.suspect })
	say("incidents.innocent_accused", func(r result) float64 { return r.innocent })
	say("incidents.quiet_declared", func(r result) float64 { return r.declared })
	say("incidents.by_hand.busiest", func(r result) float64 { return r.busiest })
	say("incidents.by_hand.largest_change", func(r result) float64 { return r.change })
	say("incidents.by_hand.highest_correlation", func(r result) float64 { return r.like })
	for _, kind := range lab.Kinds() {
		of := func(r result) bool { return r.kind == kind.Name }
		component, _ := mean(func(r result) float64 { return r.component }, of)
		culprit, _ := mean(func(r result) float64 { return r.suspect }, of)
		innocent, _ := mean(func(r result) float64 { return r.innocent }, of)
		fmt.Fprintf(os.Stderr, "%-22s component %4.0f %%  first suspect %4.0f %%  innocent accused %4.0f %%\n", kind.Name, component*100, culprit*100, innocent*100)
	}
	return nil
}

// judged makes an incident and lets diagnosis look at the worst complaint.
func judged(kind string, seed uint64) (result, error) {
	out := result{kind: kind, component: math.NaN(), suspect: math.NaN(), declared: math.NaN(), busiest: math.NaN(), change: math.NaN(), like: math.NaN()}
	f, err := lab.Grow(lab.Options{VMs: 200, Seed: seed, From: labNoon.Add(-2 * time.Hour), To: labNoon, Fault: kind})
	if err != nil {
		return out, err
	}
	t, err := take(f)
	if err != nil {
		return out, err
	}
	truth := f.Truth()
	latest := t.moments[len(t.moments)-1].Map
	subject, component := "", ""
	var culprits []string
	if len(truth.Causes) == 0 {
		vms := latest.Estate().OfKind(estate.VM)
		subject = latest.Estate().At(vms[int(seed)%len(vms)]).Key.String()
	} else {
		c := truth.Causes[0]
		if subject, component, culprits = c.Subject, c.Component, c.Culprits; subject == "" && len(c.Sufferers) > 0 {
			subject = c.Sufferers[0].VM
		}
	}
	if subject == "" {
		return out, nil
	}
	at, err := latest.Estate().Resolve(subject)
	if err != nil {
		return out, err
	}
	g, err := reading.NewGrid(f.From, f.To, 20*time.Second)
	if err != nil {
		return out, err
	}
	s, err := strata.Compute(g, g.N/4, t.moments, latest.Estate().At(at).Key, t)
	if err != nil {
		return out, err
	}
	if len(truth.Causes) == 0 || component == "" {
		out.declared = truthOf(s.Change != nil && s.Change.Component != "")
		return out, nil
	}
	out.component = truthOf(s.Change != nil && s.Change.Component == component)
	if s.Change == nil || s.Change.Component == "" {
		if len(culprits) > 0 {
			out.suspect = 0
		}
		return out, nil
	}
	of, err := latest.Estate().Resolve(s.Change.Component)
	if err != nil {
		return out, err
	}
	in := suspect.Input{Grid: g, First: g.N / 4, Moments: t.moments, Of: latest.Estate().At(of).Key, From: t}
	sus, err := suspect.Compute(in)
	if err != nil {
		return out, err
	}
	first, guilty := "", true
	for _, x := range sus.Tenants {
		if x.Role != suspect.Suspect {
			continue
		}
		if first == "" {
			first = x.Ref
		}
		guilty = guilty && slices.Contains(culprits, x.Ref)
	}
	out.innocent = truthOf(!guilty)
	if len(culprits) > 0 {
		out.suspect = truthOf(slices.Contains(culprits, first))
		out.byHand(t, g, sus, truth.Causes[0].Onset, culprits)
	}
	return out, nil
}

func truthOf(ok bool) float64 {
	if ok {
		return 1
	}
	return 0
}

// byHand does what is done without a tool: take the tenant with the most I/O, with the largest change, or whose I/O goes most with
// the component's latency.
func (r *result) byHand(t *taken, g reading.Grid, s suspect.Suspects, onset time.Time, culprits []string) {
	latest := t.moments[len(t.moments)-1].Map
	cut := g.Cell(onset)
	latency := make([]float64, g.N)
	for i := range latency {
		if k := i - (g.N - s.N); k >= 0 && k < len(s.Component.Time) {
			latency[i] = float64(s.Component.Time[k])
		}
	}
	best := [3]float64{math.Inf(-1), math.Inf(-1), math.Inf(-1)}
	var named [3]string
	for _, x := range s.Tenants {
		at, err := latest.Estate().Resolve(x.Ref)
		if err != nil {
			continue
		}
		rate := make([]float64, g.N)
		for _, d := range latest.Estate().To(at, estate.Uses) {
			for _, metric := range []string{"read_iops", "write_iops"} {
				for i, v := range reading.Align(g, t.Runs(latest.Estate().At(d).Key, metric)).Value {
					if !math.IsNaN(v) {
						rate[i] += v
					}
				}
			}
		}
		before, during := reading.MeanOver(rate, 0, cut), reading.MeanOver(rate, cut, g.N)
		for k, v := range []float64{during, during - before, correlation(rate[g.N-s.N:], latency[g.N-s.N:])} {
			if v > best[k] {
				best[k], named[k] = v, x.Ref
			}
		}
	}
	r.busiest, r.change, r.like = truthOf(slices.Contains(culprits, named[0])), truthOf(slices.Contains(culprits, named[1])), truthOf(slices.Contains(culprits, named[2]))
}

// correlation is Pearson's, over the cells in which both are known.
func correlation(a, b []float64) float64 {
	n, sa, sb, saa, sbb, sab := 0.0, 0.0, 0.0, 0.0, 0.0, 0.0
	for i := range a {
		if math.IsNaN(a[i]) || math.IsNaN(b[i]) {
			continue
		}
		n, sa, sb, saa, sbb, sab = n+1, sa+a[i], sb+b[i], saa+a[i]*a[i], sbb+b[i]*b[i], sab+a[i]*b[i]
	}
	return (sab - sa*sb/n) / math.Sqrt((saa-sa*sa/n)*(sbb-sb*sb/n))
}
