package main

import (
	"fmt"
	"math"
	"os"
	"slices"

	"dowsingrod/core/verdict"
	"dowsingrod/internal/lab"
)

func mean(results []result, of func(r result) float64, keep func(r result) bool) (share float64, n int) {
	sum := 0.0
	for _, r := range results {
		if x := of(r); (keep == nil || keep(r)) && !math.IsNaN(x) {
			sum, n = sum+x, n+1
		}
	}
	return sum / float64(n), n
}

// scoreIncidents scores diagnosis on seeds that were not looked at.
func scoreIncidents() error {
	var all []result
	for _, round := range rounds {
		results, err := round.judge(scoringSeed, nil)
		if err != nil {
			return err
		}
		for _, look := range round.looks {
			of := lookedAt(results, look)
			score(look.name, of)
			if look.name == whole.name {
				confusion(of)
				hard(of)
			}
		}
		all = append(all, results...)
	}
	calibration(all)
	return quietDays()
}

// lookedAt keeps the results of one look.
func lookedAt(results []result, l look) []result {
	return slices.DeleteFunc(slices.Clone(results), func(r result) bool { return r.look != l.name })
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
			line("SCORE", fmt.Sprintf("confidence.%d0.apart_by_chance", k), byChance(results, in)*100, "points")
		}
	}
}

// byChance is the standard error of how far what is right is from what was stated. Looks at one incident are no independent trials, so that it
// is made of the sums over incidents (the variance of clustered observations, K.-Y. Liang and S. Zeger, Biometrika 73, 1986).
func byChance(results []result, keep func(result) bool) float64 {
	type of struct {
		kind  string
		seed  uint64
		shape bool
	}
	apart, n := map[of]float64{}, 0.0
	for _, r := range results {
		if keep(r) {
			apart[of{r.kind, r.seed, r.look == otherShape.name}] += r.right() - r.confidence
			n++
		}
	}
	sum := 0.0
	for _, x := range apart {
		sum += x * x
	}
	return math.Sqrt(sum) / n
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

// tune prints how diagnosis does on seeds for tuning, and what it said where that was wrong. Among the kinds may be the name of a look.
func tune(each int, kinds []string) error {
	r := round{each: each, looks: []look{whole}}
	for _, l := range []look{gaps, murky, otherShape} {
		if slices.Contains(kinds, l.name) {
			r.looks, r.shape = []look{l}, l.shape
			kinds = slices.DeleteFunc(kinds, func(k string) bool { return k == l.name })
		}
	}
	results, err := r.judge(tuningSeed, kinds)
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
