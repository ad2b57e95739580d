package verdict

import (
	"cmp"
	"fmt"
	"math"
	"slices"

	"dowsingrod/core/estate"
	"dowsingrod/core/phrase"
	"dowsingrod/core/reading"
	"dowsingrod/core/route"
)

// A component that says nothing of itself can still be told by who waits: those that use it, and nobody who uses what lies beside it.

// silent kinds are what can be told so, with the layers in which they add time and how they do.
var silent = map[estate.Kind]struct {
	layers []estate.Layer
	way    way
}{
	estate.Device:     {[]estate.Layer{estate.LayerHost}, queued},
	estate.HBAPort:    {[]estate.Layer{estate.LayerFabric}, loaded},
	estate.ISL:        {[]estate.Layer{estate.LayerFabric}, loaded},
	estate.TargetPort: {[]estate.Layer{estate.LayerFrontEnd}, loaded},
	estate.Controller: {[]estate.Layer{estate.LayerFrontEnd}, loaded},
	estate.Volume:     {[]estate.Layer{estate.LayerFrontEnd}, limited},
	estate.Pool:       {[]estate.Layer{estate.LayerBackEnd}, loaded},
}

// sample is how many disks of a component are looked at: enough to tell a tenth from a half.
const sample = 96

var latencies = []string{"read_iops", "write_iops", "read_latency_us", "write_latency_us", "read_bytes_s", "write_bytes_s"}

// A component that accounts for less than half of what was added leaves room for one that says nothing.
const settled = 0.5

// candidates lists the components below the subject that say nothing of themselves and in whose layers time was added, with some of the
// disks that use each.
func (x *scene) candidates() map[int32][]int32 {
	out := map[int32][]int32{}
	for _, i := range x.below {
		of, ok := silent[x.m.Estate().Kind(i)]
		if !ok || x.fit(of.layers...) < 0.5 || x.speaks(i) {
			continue
		}
		var disks []int32
		for _, d := range x.m.VDisks(i) {
			if d.State == route.Active {
				disks = append(disks, d.At)
			}
		}
		if len(disks) > sample { // evenly over all, so that those of every host and LUN are among them
			some := make([]int32, 0, sample)
			for k := range sample {
				some = append(some, disks[k*len(disks)/sample])
			}
			disks = some
		}
		out[i] = disks
	}
	return out
}

// speaks reports whether there are readings of an object by which it is judged.
func (x *scene) speaks(i int32) bool {
	e := x.m.Estate()
	look := []int32{i}
	metrics := []string{"busy_share", "tx_bytes_s", "read_latency_us", "queue_latency_us"}
	if e.Kind(i) == estate.ISL {
		look = e.To(i, estate.Joins)
	}
	for _, at := range look {
		for _, m := range metrics {
			if len(x.in.From.Runs(e.At(at).Key, m)) > 0 {
				return true
			}
		}
	}
	return false
}

// doubtful reports whether something that says nothing may be the cause.
func (l *Located) doubtful() bool {
	if l.scene == nil {
		return false
	}
	c := l.chosen()
	return c == nil || c.weight < settled
}

// Doubt lists the readings that [Located.Infer] asks for; none where the component is known already, or nothing is to be inferred.
func (l *Located) Doubt() (needs []route.Need) {
	if !l.doubtful() {
		return nil
	}
	seen := map[int32]bool{}
	for _, disks := range l.scene.candidates() {
		for _, d := range disks {
			if !seen[d] {
				seen[d] = true
				needs = append(needs, route.Need{Key: l.scene.m.Estate().At(d).Key, Metrics: latencies})
			}
		}
	}
	return needs
}

// Infer tells a component that says nothing of itself by who waits, from readings of what [Located.Doubt] lists. The likeliest is the one
// whose users are those that wait: by the harmonic mean of the part of its users that wait and of the part of all that wait that use it
// (C. J. van Rijsbergen, 1979).
func (l *Located) Infer(r route.Readings) {
	if !l.doubtful() {
		return
	}
	x := l.scene
	x.in.From = both{x.in.From, r}
	l.in.From = x.in.From
	users := x.candidates()
	waits := map[int32]bool{}
	known := map[int32]bool{}
	for _, disks := range users {
		for _, d := range disks {
			if !known[d] {
				known[d] = true
				waits[d] = x.waits(d)
			}
		}
	}
	all := 0
	for _, w := range waits {
		if w {
			all++
		}
	}
	if all == 0 || all == 1 && len(waits) < 3 {
		return // one that waits tells nothing, unless there are others beside it that do not
	}
	e := x.m.Estate()
	for i, disks := range users {
		hit := 0
		for _, d := range disks {
			if waits[d] {
				hit++
			}
		}
		if hit < 2 && (all > 1 || len(disks) > 1) {
			continue
		}
		precision, recall := float64(hit)/float64(len(disks)), float64(hit)/float64(all)
		f := 2 * precision * recall / (precision + recall)
		of := silent[e.Kind(i)]
		how := of.way
		if how == limited {
			if _, limit, ok := x.fact(i, "iops_limit"); !ok || limit <= 0 {
				how = loaded
			}
		}
		if how == queued {
			if before, now, ok := x.fact(i, "queue_depth"); !ok || !(now < before) {
				how = loaded
			}
		}
		w := f * x.fit(of.layers...) * x.carries(i, users)
		words := fmt.Sprintf("tells nothing of itself; of %s that use it %d wait, of %d others %d", phrase.Count(len(disks), "disk", "disks"), hit, len(waits)-len(disks), all-hit)
		l.causes = append(l.causes, cause{at: i, way: how, weight: w, told: true, signs: []Evidence{x.evidence(i, "", math.NaN(), math.NaN(), w, words)}})
	}
	slices.SortStableFunc(l.causes, func(a, b cause) int {
		return cmp.Or(-cmp.Compare(a.weight, b.weight), cmp.Compare(e.At(a.at).Key.String(), e.At(b.at).Key.String()))
	})
}

// carries weighs what a line that says nothing must carry, by what its users do, against its speed: what they do together goes over it
// and over those that the same disks use. A line that is three quarters free holds nobody up; one that is nearly full likely does.
func (x *scene) carries(i int32, users map[int32][]int32) float64 {
	e := x.m.Estate()
	port := i
	if e.Kind(i) == estate.ISL {
		if port = e.First(i, estate.Joins); port < 0 {
			return 1
		}
	}
	speed, ok := e.At(port).Facts.Number("speed_bytes_s")
	if !ok || speed <= 0 || len(users[i]) == 0 {
		return 1
	}
	var bytes float64
	for _, d := range users[i] {
		_, now := x.rate(d, "read_bytes_s", "write_bytes_s")
		bytes += now
	}
	beside := 0
	for k, disks := range users {
		if e.Kind(k) == e.Kind(i) && slices.Equal(disks, users[i]) {
			beside++
		}
	}
	switch use := bytes / speed / float64(beside); {
	case use < 0.25:
		return 0.75
	case use > 0.70:
		return 1.10
	}
	return 1
}

// waits reports whether a disk's own I/Os became slower by what people notice.
func (x *scene) waits(d int32) bool {
	for _, dir := range []string{"read", "write"} {
		if b, w := x.latency(d, dir); w >= 1.2*b && w-b >= 250 {
			return true
		}
	}
	return false
}

// both are readings from two fetches.
type both struct{ first, second route.Readings }

// Runs returns the runs of the first that has any.
func (b both) Runs(k estate.Key, metric string) []reading.Series {
	if runs := b.first.Runs(k, metric); len(runs) > 0 {
		return runs
	}
	return b.second.Runs(k, metric)
}
