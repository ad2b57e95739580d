package main

import (
	"cmp"
	"fmt"
	"os"
	"slices"

	"dowsingrod/core/verdict"
)

// calibrate measures, on seeds for tuning and in the mixture of the score, how often verdicts are right by how far what they name stands out.
// Neighbours that would fall are taken together until what is right only rises (pool adjacent violators, M. Ayer and others, 1955). That is
// over all verdicts; a line of standard error for each tells what it rests on, from which the table of core/verdict was drawn up by hand. Each
// of nine passes looks at other seeds.
func calibrate(pass uint64) error {
	var all []result
	for n, round := range rounds {
		results, err := judgeAll(jobs(round.each, tuningSeed+uint64(n)*100_000+pass*10_000, nil), round.of)
		if err != nil {
			return err
		}
		score("tuning."+round.name, results)
		all = append(all, results...)
	}
	cleared := func(r result) bool { return r.said == verdict.Cleared }
	right, n := mean(all, result.right, cleared)
	line("SCORE", "tuning.cleared.right", right*100, "%")
	line("SCORE", "tuning.cleared.count", float64(n), "")
	all = slices.DeleteFunc(all, func(r result) bool { return cleared(r) || r.said == verdict.Unknown })
	for _, r := range all {
		fmt.Fprintf(os.Stderr, "standing,%.4f,%g,%s,%s,%s,%d,%s\n", r.standing, r.right(), r.kind, r.truth, r.said, r.seed, r.sight)
	}
	for _, p := range pooled(all) {
		line("SCORE", fmt.Sprintf("tuning.standing.%.3f-%.3f.right_of_%d", p.from, p.to, p.n), p.right/float64(p.n)*100, "%")
	}
	return nil
}

// pool are verdicts that stand out about as far.
type pool struct {
	from, to, right float64
	n               int
}

// pooled puts results in order of how far they stand out, takes forty at least together, and then neighbours of which the farther is right
// more seldom.
func pooled(results []result) (out []pool) {
	slices.SortStableFunc(results, func(a, b result) int { return cmp.Compare(a.standing, b.standing) })
	const fewest = 40
	for k := 0; k < len(results); k += fewest {
		part := results[k:min(len(results), k+fewest)]
		p := pool{from: part[0].standing, to: part[len(part)-1].standing, n: len(part)}
		for _, r := range part {
			p.right += r.right()
		}
		out = append(out, p)
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
