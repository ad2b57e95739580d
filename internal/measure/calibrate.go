package main

import (
	"cmp"
	"fmt"
	"math"
	"os"
	"slices"

	"dowsingrod/core/verdict"
)

// calibrate measures, on seeds for tuning and in the mixture of the score, how often verdicts are right: by what they rest on, and how far what
// they name stands out. The table of core/verdict is drawn up from what it prints. Each of nine passes looks at other seeds; those from first
// to last are taken together. A line of standard error for each verdict tells what it rests on.
func calibrate(first, last int) error {
	var all []result
	for pass := first; pass <= last; pass++ {
		for n, round := range rounds {
			results, err := round.judge(tuningBase(n, pass), nil)
			if err != nil {
				return err
			}
			for _, look := range round.looks {
				score(fmt.Sprintf("tuning.%d.%s", pass, look.name), lookedAt(results, look))
			}
			all = append(all, results...)
		}
	}
	accused := slices.DeleteFunc(slices.Clone(all), func(r result) bool { return math.IsNaN(r.blame) })
	for _, p := range pooled(accused, func(r result) float64 { return r.blame }, func(r result) float64 { return r.blamed }) {
		line("SCORE", fmt.Sprintf("tuning.suspects.%.3f-%.3f.right_of_%d", p.from, p.to, p.n), p.right/float64(p.n)*100, "%")
	}
	cleared := func(r result) bool { return r.said == verdict.Cleared }
	right, n := mean(all, result.right, cleared)
	line("SCORE", "tuning.cleared.right", right*100, "%")
	line("SCORE", "tuning.cleared.count", float64(n), "")
	all = slices.DeleteFunc(all, func(r result) bool { return cleared(r) || r.said == verdict.Unknown })
	for _, r := range all {
		fmt.Fprintf(os.Stderr, "standing,%.4f,%g,%s,%s,%s,%d,%s,%s,%s,%.2f,%.3f,%g\n", r.standing, r.right(), r.kind, r.truth, r.said, r.seed, r.sight, r.look, r.silent, r.confidence, r.blame, r.blamed)
	}
	for _, sight := range []verdict.Sight{verdict.Seen, verdict.HalfSeen, verdict.Told} {
		for _, itself := range []bool{false, true} {
			of := slices.DeleteFunc(slices.Clone(all), func(r result) bool { return r.sight != sight || (r.said == verdict.Degraded) != itself })
			for _, p := range pooled(of, func(r result) float64 { return r.standing }, result.right) {
				line("SCORE", fmt.Sprintf("tuning.standing.%s.by_itself_%v.%.3f-%.3f.right_of_%d", sight, itself, p.from, p.to, p.n), p.right/float64(p.n)*100, "%")
			}
		}
	}
	return nil
}

// tuningBase is the first seed of a round in a pass.
func tuningBase(round, pass int) uint64 {
	return tuningSeed + uint64(round)*100_000 + uint64(pass)*10_000
}

// pool are results that are about as far along a scale.
type pool struct {
	from, to, right float64
	n               int
}

// pooled puts results in the order of a scale, takes forty at least together, and then neighbours of which the farther is not right
// more often (pool adjacent violators, M. Ayer and others, 1955).
func pooled(results []result, scale, right func(result) float64) (out []pool) {
	slices.SortStableFunc(results, func(a, b result) int { return cmp.Compare(scale(a), scale(b)) })
	const fewest = 40
	for len(results) > 0 {
		n := min(len(results), fewest)
		if len(results) < 2*fewest {
			n = len(results) // so that the last is not of fewer
		}
		p := pool{from: scale(results[0]), to: scale(results[n-1]), n: n}
		for _, r := range results[:n] {
			p.right += right(r)
		}
		results, out = results[n:], append(out, p)
		for len(out) > 1 {
			a, b := out[len(out)-2], out[len(out)-1]
			if b.right/float64(b.n) > a.right/float64(a.n) {
				break
			}
			out = append(out[:len(out)-2], pool{a.from, b.to, a.right + b.right, a.n + b.n})
		}
	}
	return out
}
