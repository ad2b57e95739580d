package main

import (
	"fmt"
	"hash/fnv"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"

	"dowsingrod/core/estate"
	"dowsingrod/core/reading"
	"dowsingrod/core/route"
)

// look is what is taken from diagnosis before it looks at an incident: a part of all readings, those of so many layers, each choice of layers
// in turn, and layers that no source tells of.
type look struct {
	name    string
	missing float64 // part of all readings
	silent  int     // layers without readings
	shape   bool    // as on an estate of another shape: datastores silent, and every second one without a fabric
}

// Looks.
var (
	whole      = look{name: "incidents"}
	gaps       = look{name: "gaps", missing: 0.10, silent: 1}
	murky      = look{name: "murky", missing: 0.30, silent: 2}
	otherShape = look{name: "other_shape", shape: true}
)

// mayBeSilent are the layers that a look takes from; guests complain.
var mayBeSilent = []estate.Layer{estate.LayerHost, estate.LayerDatastore, estate.LayerFabric, estate.LayerFrontEnd, estate.LayerBackEnd}

// loss is what diagnosis does not get to see of an estate.
type loss struct {
	seed    uint64
	missing float64 // part of all readings
	silent  map[estate.Layer]bool
	absent  map[estate.Layer]bool // layers that no source tells of at all
}

// losses lists what a look at an incident with a seed takes away, one loss for every choice of silent layers.
func (l look) losses(seed uint64) (out []loss) {
	if l.shape {
		return []loss{{seed: seed, silent: map[estate.Layer]bool{estate.LayerDatastore: true}, absent: map[estate.Layer]bool{estate.LayerFabric: seed%2 == 0}}}
	}
	for choice := range 1 << len(mayBeSilent) {
		silent := map[estate.Layer]bool{}
		for k, layer := range mayBeSilent {
			if choice>>k&1 == 1 {
				silent[layer] = true
			}
		}
		if len(silent) == l.silent {
			out = append(out, loss{seed: seed, missing: l.missing, silent: silent})
		}
	}
	return out
}

// String names the silent layers.
func (l loss) String() string {
	var names []string
	for layer := range l.silent {
		names = append(names, fmt.Sprint(layer))
	}
	slices.Sort(names)
	return strings.Join(names, "+")
}

// view is what diagnosis sees of an incident after a loss.
type view struct {
	*taken
	loss
	moments []route.Moment
	mu      sync.Mutex                                 // tenants are read by several at once
	seen    map[estate.Key]map[string][]reading.Series // as far as asked for
}

// without returns what is seen of an estate after a loss.
func (t *taken) without(l loss) *view {
	v := &view{taken: t, loss: l, moments: t.whole, seen: map[estate.Key]map[string][]reading.Series{}}
	if len(l.absent) > 0 {
		v.moments = t.joined(func(layer estate.Layer) bool { return !l.absent[layer] })
	}
	return v
}

// latest is the estate as it is at the end.
func (v *view) latest() *route.Map { return v.moments[len(v.moments)-1].Map }

// Runs returns what is seen of the readings of a metric of an object.
func (v *view) Runs(k estate.Key, metric string) []reading.Series {
	runs := v.runs[k][metric]
	switch layer := k.Ref.Kind.Layer(); {
	case v.silent[layer] || v.absent[layer]:
		return nil
	case v.missing == 0 || len(runs) == 0:
		return runs
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	of := v.seen[k]
	if of == nil {
		of = map[string][]reading.Series{}
		v.seen[k] = of
	}
	if of[metric] == nil {
		h := fnv.New64a()
		h.Write([]byte(k.String() + " " + metric))
		r := rand.New(rand.NewPCG(v.seed, h.Sum64()))
		holed := slices.Clone(runs)
		for i, run := range holed {
			holed[i].Values = slices.Clone(run.Values)
			for j := range run.Values {
				if r.Float64() < v.missing {
					holed[i].Values[j] = math.NaN()
				}
			}
		}
		of[metric] = holed
	}
	return of[metric]
}
