package main

import (
	"cmp"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"dowsingrod/core/estate"
	"dowsingrod/core/incident"
	"dowsingrod/core/reading"
	"dowsingrod/core/suspect"
	"dowsingrod/core/verdict"
	"dowsingrod/internal/lab"
)

// Seeds that incidents are drawn from. Those for tuning may be looked at; those for scoring may not.
const (
	tuningSeed  = 1_000
	scoringSeed = 500_000
)

// result is how diagnosis did on one incident.
type result struct {
	kind                  string
	seed                  uint64
	truth, said           verdict.Class
	component             float64 // 1 where the right one was named, NaN where there is none
	suspect               float64 // 1 where the first suspect did it, NaN where it is no matter of who
	innocent              float64 // 1 where somebody was accused who did not do it
	onset                 float64 // |found − true| in s, NaN where there is none
	confidence            float64
	busiest, change, like float64 // what would be done by hand: 1 where that names who did it
	standing              float64 // what confidence is looked up by
	sight                 verdict.Sight
	note                  string
}

func (r result) class() float64 { return truthOf(r.truth == r.said) }

// right is that the class is right, and the component where there is one.
func (r result) right() float64 {
	if math.IsNaN(r.component) {
		return r.class()
	}
	return r.class() * r.component
}

type job struct {
	kind string
	seed uint64
}

// jobs lists so many incidents of every kind.
func jobs(each int, base uint64, kinds []string) (out []job) {
	for n := range each {
		for k, kind := range lab.Kinds() {
			if len(kinds) == 0 || slices.Contains(kinds, kind.Name) {
				out = append(out, job{kind.Name, base + uint64(n*101+k)})
			}
		}
	}
	return out
}

// judgeAll lets diagnosis look at all incidents.
func judgeAll(list []job, v variant) ([]result, error) {
	in := make(chan job)
	var mu sync.Mutex
	var results []result
	var failed error
	var wait sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		wait.Go(func() {
			for j := range in {
				r, err := judged(j.kind, j.seed, v)
				mu.Lock()
				if err != nil && failed == nil {
					failed = fmt.Errorf("%s, seed %d: %w", j.kind, j.seed, err)
				}
				results = append(results, r...)
				mu.Unlock()
			}
		})
	}
	for _, j := range list {
		in <- j
	}
	close(in)
	wait.Wait()
	slices.SortFunc(results, func(a, b result) int { return cmp.Or(strings.Compare(a.kind, b.kind), cmp.Compare(a.seed, b.seed)) })
	return results, failed
}

// variant is what is done to the readings, and what estate they are of.
type variant struct {
	gaps  bool // a tenth of all readings and those of one layer are missing
	murky bool // three tenths of all readings and those of two layers are missing
	shape bool // an estate of another shape: other ratios and intervals, and every second one without a layer
}

// options draws what an incident is made from: how large, how hard, how sudden, when, and how long.
func (v variant) options(kind string, seed uint64) lab.Options {
	r := rand.New(rand.NewPCG(seed, 5))
	o := lab.Options{VMs: []int{120, 200, 240}[r.IntN(3)], Seed: seed, From: labNoon.Add(-2 * time.Hour), To: labNoon, Fault: kind, Force: 0.85 + 0.5*r.Float64(), Clean: seed%2 == 1}
	o.Onset = o.From.Add(time.Duration(40+r.IntN(30)) * time.Minute)
	o.Lasts = time.Duration(30+r.IntN(60)) * time.Minute
	if r.IntN(5) < 2 {
		o.Ramp = time.Duration(1+r.IntN(10)) * time.Minute
	}
	if v.shape {
		o.VMs, o.Every = []int{80, 330}[r.IntN(2)], time.Minute
	}
	return o
}

func mean(results []result, of func(r result) float64, keep func(r result) bool) (share float64, n int) {
	sum := 0.0
	for _, r := range results {
		if x := of(r); (keep == nil || keep(r)) && !math.IsNaN(x) {
			sum, n = sum+x, n+1
		}
	}
	return sum / float64(n), n
}

// rounds are the looks taken: as sources report, with gaps and a silent layer, at estates of another shape than any that was tuned on, and
// with so little to see that verdicts are doubtful, to hold doubt against.
var rounds = []struct {
	name string
	each int
	of   variant
}{{"incidents", 20, variant{}}, {"gaps", 8, variant{gaps: true}}, {"other_shape", 8, variant{shape: true}}, {"murky", 56, variant{murky: true}}}

// scoreIncidents scores diagnosis on seeds that were not looked at.
func scoreIncidents() error {
	var all []result
	for _, round := range rounds {
		results, err := judgeAll(jobs(round.each, scoringSeed, nil), round.of)
		if err != nil {
			return err
		}
		score(round.name, results)
		if round.name == "incidents" {
			confusion(results)
			hard(results)
		}
		all = append(all, results...)
	}
	calibration(all)
	return quietDays()
}

// score prints what came of a round.
func score(name string, results []result) {
	say := func(what string, of func(r result) float64) {
		if share, n := mean(results, of, nil); n > 0 {
			line("SCORE", name+"."+what, share*100, "%")
		}
	}
	line("SCORE", name+".count", float64(len(results)), "")
	say("class_right", result.class)
	say("component_right", func(r result) float64 { return r.component })
	say("first_suspect_right", func(r result) float64 { return r.suspect })
	say("innocent_accused", func(r result) float64 { return r.innocent })
	line("SCORE", name+".onset_error_median", medianOf(results, func(r result) float64 { return r.onset }), "s")
	say("by_hand.busiest", func(r result) float64 { return r.busiest })
	say("by_hand.largest_change", func(r result) float64 { return r.change })
	say("by_hand.highest_correlation", func(r result) float64 { return r.like })
	for _, kind := range lab.Kinds() {
		of := func(r result) bool { return r.kind == kind.Name }
		class, n := mean(results, result.class, of)
		component, _ := mean(results, func(r result) float64 { return r.component }, of)
		culprit, _ := mean(results, func(r result) float64 { return r.suspect }, of)
		innocent, _ := mean(results, func(r result) float64 { return r.innocent }, of)
		if n > 0 && class+component < 2 {
			fmt.Fprintf(os.Stderr, "%-22s class %4.0f %%  component %4.0f %%  first suspect %4.0f %%  innocent accused %4.0f %%\n", kind.Name, class*100, component*100, culprit*100, innocent*100)
		}
	}
}

// hard scores who did it where decoys look guilty: the right one, or rightly nobody. By hand somebody is always named.
func hard(results []result) {
	with := func(r result) bool { return r.seed%2 == 0 && r.truth != verdict.Cleared }
	who := func(r result) float64 {
		if !math.IsNaN(r.suspect) {
			return r.suspect * (1 - r.innocent)
		}
		return 1 - r.innocent
	}
	hand := func(of func(r result) float64) func(r result) float64 {
		return func(r result) float64 {
			if v := of(r); !math.IsNaN(v) {
				return v
			}
			if math.IsNaN(r.suspect) {
				return 0 // nobody did it, and somebody is named
			}
			return math.NaN()
		}
	}
	best := 0.0
	own, n := mean(results, who, with)
	culprits, _ := mean(results, func(r result) float64 { return r.suspect }, with)
	line("SCORE", "hard.first_suspect_right", culprits*100, "%")
	line("SCORE", "hard.count", float64(n), "")
	line("SCORE", "hard.who_did_it_or_nobody", own*100, "%")
	for _, h := range []struct {
		name string
		of   func(r result) float64
	}{{"busiest", func(r result) float64 { return r.busiest }}, {"largest_change", func(r result) float64 { return r.change }}, {"highest_correlation", func(r result) float64 { return r.like }}} {
		v, _ := mean(results, hand(h.of), with)
		best = max(best, v)
		line("SCORE", "hard.by_hand."+h.name, v*100, "%")
		culprits, _ := mean(results, h.of, with)
		line("SCORE", "hard.by_hand."+h.name+".of_culprits", culprits*100, "%")
	}
	line("SCORE", "hard.ahead", (own-best)*100, "points")
}

// calibration holds stated confidence against how often it was right, tenth by tenth.
func calibration(results []result) {
	for k := range 10 {
		in := func(r result) bool { return r.said != verdict.Unknown && min(9, int(r.confidence*10)) == k }
		right, n := mean(results, result.right, in)
		stated, _ := mean(results, func(r result) float64 { return r.confidence }, in)
		if n > 0 {
			line("SCORE", fmt.Sprintf("confidence.%d0.count", k), float64(n), "")
			line("SCORE", fmt.Sprintf("confidence.%d0.stated", k), stated*100, "%")
			line("SCORE", fmt.Sprintf("confidence.%d0.right", k), right*100, "%")
			line("SCORE", fmt.Sprintf("confidence.%d0.apart", k), math.Abs(right-stated)*100, "points")
			line("SCORE", fmt.Sprintf("confidence.%d0.apart_by_chance", k), math.Sqrt(stated*(1-stated)/float64(n))*100, "points") // standard error of a part
		}
	}
}

// confusion prints how often each class was taken for which.
func confusion(results []result) {
	counts := map[[2]verdict.Class]int{}
	for _, r := range results {
		counts[[2]verdict.Class{r.truth, r.said}]++
	}
	for _, truth := range verdict.Classes {
		for _, said := range verdict.Classes {
			if n := counts[[2]verdict.Class{truth, said}]; n > 0 {
				line("SCORE", fmt.Sprintf("confusion.%s.as.%s", truth, said), float64(n), "")
			}
		}
	}
}

// quietDays looks for incidents on busy days on which nothing goes wrong.
func quietDays() error {
	found, objects := 0, 0.0
	for k := range 12 {
		f, err := lab.Grow(lab.Options{VMs: 200, Seed: scoringSeed + 7000 + uint64(k), From: labNoon.Add(-12 * time.Hour), To: labNoon, Fault: "quiet"})
		if err != nil {
			return err
		}
		t, err := take(f, variant{})
		if err != nil {
			return err
		}
		n, err := declared(t, f.From, f.To)
		if err != nil {
			return err
		}
		found += n
		objects += float64(t.moments[0].Map.Estate().Number(estate.VM)) * f.To.Sub(f.From).Hours() / 24
	}
	line("SCORE", "quiet.object_days", objects, "")
	line("SCORE", "quiet.declared_per_1000_object_days", float64(found)/objects*1000, "")
	return nil
}

// declared counts the incidents that are found in readings without being asked.
func declared(t *taken, from, to time.Time) (int, error) {
	g, err := reading.NewGrid(from, to, time.Minute)
	if err != nil {
		return 0, err
	}
	m := t.moments[len(t.moments)-1].Map
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

// tune prints how diagnosis does on seeds for tuning, and what it said where that was wrong.
func tune(each int, kinds []string) error {
	v := variant{gaps: slices.Contains(kinds, "gaps"), murky: slices.Contains(kinds, "murky"), shape: slices.Contains(kinds, "shape")}
	kinds = slices.DeleteFunc(kinds, func(k string) bool { return k == "gaps" || k == "murky" || k == "shape" })
	results, err := judgeAll(jobs(each, tuningSeed, kinds), v)
	if err != nil {
		return err
	}
	score("tuning", results)
	for _, r := range results {
		if r.right() < 1 || r.suspect == 0 || r.innocent == 1 {
			fmt.Fprintf(os.Stderr, "%s %d: %s\n", r.kind, r.seed, r.note)
		}
	}
	return nil
}

func medianOf(results []result, of func(r result) float64) float64 {
	var all []float64
	for _, r := range results {
		if x := of(r); !math.IsNaN(x) {
			all = append(all, x)
		}
	}
	if len(all) == 0 {
		return math.NaN()
	}
	slices.Sort(all)
	return all[len(all)/2]
}

// judged makes an incident and lets diagnosis look at the worst complaint.
func judged(kind string, seed uint64, v variant) ([]result, error) {
	out := result{kind: kind, seed: seed, truth: verdict.Cleared, component: math.NaN(), suspect: math.NaN(), innocent: 0, onset: math.NaN(), busiest: math.NaN(), change: math.NaN(), like: math.NaN()}
	f, err := lab.Grow(v.options(kind, seed))
	if err != nil {
		return nil, err
	}
	t, err := take(f, v)
	if err != nil {
		return nil, err
	}
	truth := f.Truth()
	latest := t.moments[len(t.moments)-1].Map
	subject := ""
	var cause lab.TruthCause
	if len(truth.Causes) == 0 {
		vms := latest.Estate().OfKind(estate.VM)
		subject = latest.Estate().At(vms[int(seed)%len(vms)]).Key.String()
	} else {
		cause = truth.Causes[0]
		out.truth = verdict.Class(cause.Class)
		subject = cause.Subject
		for _, s := range cause.Sufferers { // whose own work changed as well does not know what to complain of
			if subject == "" && !slices.Contains(truth.Decoys, s.VM) {
				subject = s.VM
			}
		}
	}
	if subject == "" {
		return nil, nil // it hurt nobody
	}
	g, err := reading.NewGrid(f.From, f.To, 20*time.Second)
	if err != nil {
		return nil, err
	}
	x, err := explain(t, g, subject)
	if err != nil {
		return nil, err
	}
	out.said, out.confidence, out.standing, out.sight = x.Verdict.Class, float64(x.Verdict.Confidence), x.standing, x.sight
	named := ""
	if x.Verdict.Component != nil {
		named = x.Verdict.Component.Ref
	}
	if cause.Component != "" {
		if _, err := latest.Estate().Resolve(cause.Component); err != nil {
			return nil, nil // no source tells of it
		}
		out.component = truthOf(named == cause.Component || slices.Contains(cause.Alike, named))
		if x.Onset != nil {
			out.onset = math.Abs(x.Onset.Sub(cause.Onset).Seconds())
		}
	}
	out.note = fmt.Sprint(f.VMs, " ", f.Ramp, " ", math.Round(f.Force*100)/100, " ")
	first := ""
	for _, s := range x.Suspects {
		if s.Accused {
			if first == "" {
				first = s.Ref
			}
			if !slices.Contains(cause.Culprits, s.Ref) {
				out.innocent = 1
			}
		}
	}
	if out.truth == verdict.NoisyNeighbour || out.truth == verdict.OwnDemand {
		out.suspect = truthOf(first != "" && slices.Contains(cause.Culprits, first))
		if x.whole != nil {
			out.byHand(t, *x.whole, cause.Onset, cause.Culprits)
		}
	}
	out.note += fmt.Sprintf("%s said %s (%.2f)  at %s named %s  by %v accused %s  %s outcome %s", out.truth, out.said, out.confidence, cause.Component, named, cause.Culprits, first, subject, x.Outcome)
	for _, l := range x.Layers {
		if l.Added > 50 {
			out.note += fmt.Sprintf("\n    %s +%.0f", l.Layer, float64(l.Added))
		}
	}
	for k, e := range x.Evidence {
		if k < 6 {
			out.note += fmt.Sprintf("\n    %.2f %s: %s", float64(e.Weight), e.Of, e.Words)
		}
	}
	for k, s := range x.Suspects {
		if k < 4 {
			out.note += fmt.Sprintf("\n    . %s %.2f %s", s.Ref, float64(s.Score), s.Evidence)
		}
	}
	return []result{out}, nil
}

// answer is what diagnosis says of an object.
type answer struct {
	verdict.Explanation
	standing float64
	sight    verdict.Sight
	whole    *suspect.Suspects // the tenants of what is named over the whole window, as one looks at them by hand; nil for none
}

// explain asks about one object.
func explain(t *taken, g reading.Grid, subject string) (answer, error) {
	latest := t.moments[len(t.moments)-1].Map
	at, err := latest.Estate().Resolve(subject)
	if err != nil {
		return answer{}, err
	}
	l, err := verdict.Locate(verdict.Input{Grid: g, First: g.N / 8, Moments: t.moments, Of: latest.Estate().At(at).Key, From: t, Events: t.events})
	if err != nil {
		return answer{}, err
	}
	l.Infer(t)
	in, ok := l.Compare()
	if !ok {
		return answer{l.Conclude(nil), l.Standing(), l.Sight(), nil}, nil
	}
	sus, err := suspect.Compute(in)
	if err != nil {
		return answer{}, err
	}
	x := l.Conclude(&sus)
	in.Episode = nil
	whole, err := suspect.Compute(in)
	return answer{x, l.Standing(), l.Sight(), &whole}, err
}

func truthOf(ok bool) float64 {
	if ok {
		return 1
	}
	return 0
}
