package main

import (
	"cmp"
	"fmt"
	"math/rand/v2"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"dowsingrod/internal/lab"
)

// Seeds that incidents are drawn from. Those for tuning may be looked at; those for scoring may not. A range whose results sent somebody back
// to tuning is spent: 500,000 and 800,000 are.
const (
	tuningSeed  = 1_000
	scoringSeed = 900_000
)

// job is one incident of the lab.
type job struct {
	kind  string
	seed  uint64
	shape bool // on an estate of another shape than any tuned on: other sizes, ratios and intervals
}

// round is a number of incidents of each kind, and the looks taken at each.
type round struct {
	each  int
	shape bool
	looks []look
}

// rounds are what the score is made of: as sources report, with gaps, with so little to see that verdicts are doubtful, to hold doubt against,
// and estates of another shape.
var rounds = []round{
	{each: 40, looks: []look{whole, gaps, murky}},
	{each: 16, shape: true, looks: []look{otherShape}},
}

// jobs lists so many incidents of every kind, or of those named.
func (r round) jobs(base uint64, kinds []string) (out []job) {
	for n := range r.each {
		for k, kind := range lab.Kinds() {
			if len(kinds) == 0 || slices.Contains(kinds, kind.Name) {
				out = append(out, job{kind.Name, base + uint64(n*101+k), r.shape})
			}
		}
	}
	return out
}

// judge lets diagnosis look at all incidents of a round that begin at a seed. Results are in the order of kind, seed and look.
func (r round) judge(base uint64, kinds []string) ([]result, error) {
	in := make(chan job)
	var mu sync.Mutex
	var results []result
	var failed error
	var wait sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		wait.Go(func() {
			for j := range in {
				of, err := j.judge(r.looks)
				mu.Lock()
				if err != nil && failed == nil {
					failed = fmt.Errorf("%s, seed %d: %w", j.kind, j.seed, err)
				}
				results = append(results, of...)
				mu.Unlock()
			}
		})
	}
	for _, j := range r.jobs(base, kinds) {
		in <- j
	}
	close(in)
	wait.Wait()
	slices.SortFunc(results, func(a, b result) int {
		return cmp.Or(strings.Compare(a.kind, b.kind), cmp.Compare(a.seed, b.seed), strings.Compare(a.look, b.look), strings.Compare(a.silent, b.silent))
	})
	return results, failed
}

// options draws what an incident is made from: how large, how hard, how sudden, when, and how long. Decoys look guilty where the seed is even.
func (j job) options() lab.Options {
	r := rand.New(rand.NewPCG(j.seed, 5))
	o := lab.Options{VMs: []int{120, 200, 240}[r.IntN(3)], Seed: j.seed, From: labNoon.Add(-2 * time.Hour), To: labNoon, Fault: j.kind, Force: 0.85 + 0.5*r.Float64(), Clean: j.seed%2 == 1}
	o.Onset = o.From.Add(time.Duration(40+r.IntN(30)) * time.Minute)
	o.Lasts = time.Duration(30+r.IntN(60)) * time.Minute
	if r.IntN(5) < 2 {
		o.Ramp = time.Duration(1+r.IntN(10)) * time.Minute
	}
	if j.shape {
		o.VMs, o.Every = []int{80, 330}[r.IntN(2)], time.Minute
	}
	return o
}
