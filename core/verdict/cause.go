package verdict

import (
	"cmp"
	"fmt"
	"math"
	"slices"

	"dowsingrod/core/congest"
	"dowsingrod/core/estate"
	"dowsingrod/core/phrase"
	"dowsingrod/core/reading"
	"dowsingrod/core/route"
)

// way is how a component delays I/O, which decides what class it can be of.
type way int

const (
	loaded     way = iota // it has more to do than it can, or does it slower
	limited               // a limit that was set binds
	queued                // no place in a queue
	slowTaking            // it takes frames slowly
	erring                // it loses what it carries
	broken                // its state says so
	uncached              // writes no longer end in its cache
	flooded               // its write cache is full
	longer                // the way is longer
	lopsided              // ways gone, or used unevenly
)

// cause is a component that may be where delay arises.
type cause struct {
	at     int32
	way    way
	weight float64 // the part of the added time it can account for, 0–1
	signs  []Evidence
	told   bool // by who waits, not by readings of its own
}

func (x *scene) evidence(i int32, metric string, before, during, weight float64, words string) Evidence {
	o := x.m.Estate().At(i)
	return Evidence{Of: o.Key.String(), Name: x.m.FullName(i), Kind: o.Key.Ref.Kind, Metric: metric, Before: reading.Figure(before), During: reading.Figure(during), Weight: reading.Figure(weight), Words: words}
}

// causes looks at everything the subject depends on, and at what can hold it up from beside. The strongest comes first.
func (x *scene) causes() []cause {
	var all []cause
	for _, i := range x.below {
		switch x.m.Estate().Kind(i) {
		case estate.VDisk:
			all = append(all, x.allowance(i, estate.LayerGuest)...)
		case estate.Device:
			all = append(all, x.queue(i)...)
		case estate.HBAPort, estate.SwitchPort, estate.TargetPort:
			all = append(all, x.port(i)...)
		case estate.ISL:
			all = append(all, x.link(i)...)
		case estate.Volume, estate.Share:
			all = append(all, x.allowance(i, estate.LayerFrontEnd)...)
		case estate.Controller:
			all = append(all, x.controller(i)...)
		case estate.Pool:
			all = append(all, x.pool(i)...)
		}
	}
	all = append(all, x.receivers()...)
	all = append(all, x.paths()...)
	all = append(all, x.siteLinks()...)
	all = slices.DeleteFunc(all, func(c cause) bool {
		_, state := x.stated(c.at)
		return !(c.weight > 0) || gone(state) && c.way == loaded // what has failed carries nothing
	})
	slices.SortStableFunc(all, func(a, b cause) int {
		return cmp.Or(-cmp.Compare(a.weight, b.weight), cmp.Compare(x.m.Estate().At(a.at).Key.String(), x.m.Estate().At(b.at).Key.String()))
	})
	return all
}

// crowding is the part of its waiting that a component owes to having become busier: in any queue the response grows with 1/(1 − ρ),
// so of the response during, (1 − ρ during)/(1 − ρ before) was there before.
func crowding(before, during float64) float64 {
	if math.IsNaN(before) {
		before = 0
	}
	during, before = math.Min(during, 0.99), math.Min(math.Max(before, 0), 0.99)
	if !(during > before) {
		return 0
	}
	return 1 - (1-during)/(1-before)
}

// slower is the part of its own time that is new.
func slower(before, during float64) float64 {
	if !(before > 0) || !(during > before) {
		return 0
	}
	return 1 - before/during
}

func was(before string) string { return ", before " + before }

// allowance looks at what a disk or a LUN is allowed. A limit binds to within what readings are rounded to, and it binds where it does so
// in a quarter of the cells: the rest is how it began and ended.
func (x *scene) allowance(i int32, layer estate.Layer) []cause {
	during := x.most(i, congest.AllowedShare)
	if !(during >= 0.95) {
		return nil
	}
	before, limit, _ := x.fact(i, "iops_limit")
	words := fmt.Sprintf("does %s of the %s I/Os per second it is allowed", phrase.Percent(math.Min(1, during)), phrase.Rate(limit))
	if !math.IsNaN(before) && before > limit {
		words += was(phrase.Rate(before) + " were allowed")
	} else if math.IsNaN(before) {
		words += "; before it had no limit"
	}
	weight := 0.95 * x.fit(layer)
	return []cause{{at: i, way: limited, weight: weight, signs: []Evidence{x.evidence(i, congest.AllowedShare, math.NaN(), during, weight, words)}}}
}

// queue looks at the wait for a place in a device's queue. A queue is the cause only where what lies below it did not slow as well: its
// places are held for as long as an I/O is below.
func (x *scene) queue(i int32) []cause {
	before, during := x.pair(i, "queue_latency_us")
	if math.IsNaN(before) {
		before = 0
	}
	rise := during - before
	if !(rise >= 300) { // µs; less is no delay that anybody feels
		return nil
	}
	var added, of float64 // device latency, both directions by rate
	for _, dir := range []string{"read", "write"} {
		b, d := x.latency(i, dir)
		_, r := x.pair(i, dir+"_iops")
		if d-b > 0 && r > 0 {
			added += (d - b) * r
			of += r
		}
	}
	part := 1.0
	if of > 0 && added > 0 {
		part = math.Min(1, rise/(added/of))
	}
	weight := part * x.fit(estate.LayerHost)
	words := fmt.Sprintf("I/Os wait %s for a place in its queue%s", phrase.Micros(during), was(phrase.Micros(before)))
	signs := []Evidence{x.evidence(i, "queue_latency_us", before, during, weight, words)}
	if was, now, ok := x.fact(i, "queue_depth"); ok && was > now {
		signs = append(signs, x.evidence(i, "", was, now, weight, fmt.Sprintf("its queue has %g places, before %g", now, was)))
	}
	return []cause{{at: i, way: queued, weight: weight, signs: signs}}
}

// port looks at a port: full, or losing frames.
//
// What is sent waits where it is sent from: in the array for the port it leaves by, in a switch for the port toward whom it is for. What
// a switch takes in waits before it, not in it.
func (x *scene) port(i int32) (all []cause) {
	layer := estate.LayerFabric
	if x.m.Estate().Kind(i) == estate.TargetPort {
		layer = estate.LayerFrontEnd
	}
	fit := x.fit(layer)
	use := x.line
	if x.m.Estate().Kind(i) == estate.SwitchPort {
		use = x.held
	}
	if b, d := use(i); d > 0.60 {
		if w := crowding(b, d) * x.within(i, d, fit); w > 0 {
			all = append(all, cause{at: i, way: loaded, weight: w, signs: []Evidence{x.evidence(i, congest.Utilization, b, d, w, phrase.Percent(d)+" of line rate"+was(phrase.Percent(b)))}})
		}
	}
	for metric, words := range map[string]string{"crc_errors_s": "damaged frames a second", "discards_s": "dropped frames a second"} {
		b, d := x.pair(i, metric)
		if d > 0.01 && !(d < 3*b) {
			// What was lost is sent again after a timeout of many round trips, so few lost frames explain much.
			w := 0.9 * x.fit(estate.LayerFabric, estate.LayerFrontEnd)
			all = append(all, cause{at: x.edge(i), way: erring, weight: w, signs: []Evidence{x.evidence(i, metric, b, d, w, fmt.Sprintf("%.3g %s%s", d, words, was(fmt.Sprintf("%.3g", b))))}})
		}
	}
	return all
}

// largest is the largest piece that initiators send as one by default, in bytes.
const largest = 1 << 20

// within bounds the part of the added time that a line can account for by how long one waits for it: in a single queue (M/M/1) for
// ρ/(1 − ρ) others, each of the largest size at most. A line that is two thirds busy is not where milliseconds arise.
func (x *scene) within(port int32, use, fit float64) float64 {
	speed, ok := x.m.Estate().At(port).Facts.Number("speed_bytes_s")
	if !ok || speed <= 0 || !(x.added > 0) {
		return fit
	}
	use = math.Min(use, 0.99)
	return math.Min(fit, use/(1-use)*largest/speed*1e6/x.added)
}

// line is a port's busier direction against its speed, before and during.
func (x *scene) line(i int32) (before, during float64) { return x.pair(i, congest.Utilization) }

// sending is what a port sends against its speed, before and during.
func (x *scene) sending(i int32) (before, during float64) {
	speed, ok := x.m.Estate().At(i).Facts.Number("speed_bytes_s")
	if !ok || speed <= 0 {
		return math.NaN(), math.NaN()
	}
	before, during = x.pair(i, "tx_bytes_s")
	return before / speed, during / speed
}

// held is the part of the time in which a frame finds its port sending, or without a credit: 1 − (1 − sending)(1 − starved). Where
// no more is sent than before it is the other end that is held up, and receivers follows that.
func (x *scene) held(i int32) (before, during float64) {
	before, during = x.sending(i)
	if !(during > 0.30 && during > before) {
		return before, during
	}
	with := func(u, zero float64) float64 {
		if math.IsNaN(zero) {
			return u
		}
		return 1 - (1-u)*(1-zero)
	}
	b, d := x.pair(i, "credit_zero_share")
	return with(before, b), with(during, d)
}

// edge is the port at the end of a link that a switch port is at: optics wear out at ends, and a link is named by its end.
func (x *scene) edge(i int32) int32 {
	if x.m.Estate().Kind(i) != estate.SwitchPort {
		return i
	}
	if at := x.m.Estate().FirstFrom(i, estate.Attached); at >= 0 {
		return at
	}
	return i
}

// link looks at an inter-switch link by the ports at its ends.
func (x *scene) link(i int32) []cause {
	var worst, before float64
	var port int32 = -1
	for _, p := range x.m.Estate().To(i, estate.Joins) {
		if b, d := x.held(p); d > worst {
			worst, before, port = d, b, p
		}
	}
	if worst <= 0.60 {
		return nil
	}
	w := crowding(before, worst) * x.within(port, worst, x.fit(estate.LayerFabric))
	b, d := x.sending(port)
	words := phrase.Percent(d) + " of line rate" + was(phrase.Percent(b))
	if _, zero := x.pair(port, "credit_zero_share"); zero > starved {
		words += ", and without a credit " + phrase.Percent(zero) + " of the time"
	}
	return []cause{{at: i, way: loaded, weight: w, signs: []Evidence{x.evidence(port, congest.Utilization, b, d, w, words)}}}
}

// controller looks at a controller's processors and write cache, and at the state of the one beside it.
func (x *scene) controller(i int32) (all []cause) {
	e := x.m.Estate()
	front := x.fit(estate.LayerFrontEnd)
	b, d := x.pair(i, "busy_share")
	if d > 0.50 {
		if w := crowding(b, d) * front; w > 0 {
			all = append(all, cause{at: i, way: loaded, weight: w, signs: []Evidence{x.evidence(i, "busy_share", b, d, w, "processors "+phrase.Percent(d)+" busy"+was(phrase.Percent(b)))}})
		}
	}
	pb, pd := x.pair(i, "write_pending_share")
	if pd > 0.50 && !(pd < 1.1*pb) {
		w := math.Min(1, pd/0.70) * 0.95 * x.fit(estate.LayerFrontEnd, estate.LayerBackEnd) * x.share("write")
		// A cache fills because more is written than before, or because the drives take it more slowly: then it is they.
		if in, now := x.pair(i, "write_bytes_s"); now < 1.2*in {
			w *= 0.3
		}
		all = append(all, cause{at: i, way: flooded, weight: w, signs: []Evidence{x.evidence(i, "write_pending_share", pb, pd, w, phrase.Percent(pd)+" of its write cache waits to be written down"+was(phrase.Percent(pb)))}})
	}
	if array, ok := e.Owner(i, estate.Array); ok {
		for _, other := range e.From(array, estate.PartOf) {
			if other == i || e.Kind(other) != estate.Controller {
				continue
			}
			before, during := x.stated(other)
			if during != before && gone(during) {
				w := 0.95 * x.fit(estate.LayerFrontEnd, estate.LayerBackEnd)
				for _, c := range all {
					w = math.Max(w, 1.01*c.weight) // it is busy because the other is gone
				}
				all = append(all, cause{at: i, way: broken, weight: w, signs: []Evidence{x.evidence(other, "", math.NaN(), math.NaN(), w, "is "+during+"; "+e.At(i).Title()+" does the work of both")}})
			}
		}
	}
	// A write that ends in the cache takes a small part of the time of one that waits for the drives. Where all writes slowed and the
	// cache holds less than before, they no longer end there.
	if pd < 0.5*pb || pd < 0.02 && pb > 0.02 {
		var rise float64
		for _, v := range x.volumes {
			if e.First(v, estate.ServedBy) == i {
				vb, vd := x.latency(v, "write")
				rise = math.Max(rise, slower(vb, vd))
			}
		}
		w := rise * x.share("write") * x.fit(estate.LayerFrontEnd, estate.LayerBackEnd)
		if rise > 0.6 {
			all = append(all, cause{at: i, way: uncached, weight: w, signs: []Evidence{x.evidence(i, "write_pending_share", pb, pd, w, "writes no longer end in its cache: "+phrase.Percent(pd)+" of it is in use"+was(phrase.Percent(pb)))}})
		}
	}
	return all
}

func gone(state string) bool {
	switch state {
	case "failed", "dead", "lost", "offline", "missing", "removed":
		return true
	}
	return false
}

// pool looks at a pool: busy, slower, nearly full, with a drive gone or rebuilt.
func (x *scene) pool(i int32) []cause {
	e := x.m.Estate()
	fit := x.fit(estate.LayerBackEnd)
	var signs []Evidence
	weight := 0.0
	if b, d := x.pair(i, "busy_share"); d > 0.60 {
		if w := crowding(b, d) * fit; w > 0 {
			signs = append(signs, x.evidence(i, "busy_share", b, d, w, phrase.Percent(d)+" busy"+was(phrase.Percent(b))))
			weight = w
		}
	}
	for _, dir := range []string{"read", "write"} {
		if b, d := x.latency(i, dir); d-b > 300 {
			if w := slower(b, d) * fit; w > 0.3*fit {
				signs = append(signs, x.evidence(i, dir+"_latency_us", b, d, w, "a "+dir+" of its drives takes "+phrase.Micros(d)+was(phrase.Micros(b))))
				weight = math.Max(weight, w)
			}
		}
	}
	if weight == 0 {
		return nil
	}
	signs = append(signs, x.ailing(i)...)
	if full, ok := e.At(i).Facts.Number("bytes"); ok && full > 0 {
		if b, used, ok := x.fact(i, "used_bytes"); ok && used/full >= 0.90 {
			signs = append(signs, x.evidence(i, "", b/full, used/full, weight, phrase.Percent(used/full)+" of it is in use"))
		}
	}
	slices.SortStableFunc(signs, func(a, b Evidence) int { return -cmp.Compare(a.Weight, b.Weight) })
	return []cause{{at: i, way: loaded, weight: weight, signs: signs}}
}

// ailing lists what a pool is made of that its source says is not well.
func (x *scene) ailing(pool int32) (signs []Evidence) {
	for _, r := range x.m.Below(pool) {
		switch x.m.Estate().Kind(r.At) {
		case estate.RAIDGroup, estate.Drive, estate.Enclosure:
			_, during := x.stated(r.At)
			if during == "rebuilding" || during == "degraded" || gone(during) {
				signs = append(signs, x.evidence(r.At, "", math.NaN(), math.NaN(), 0, "is "+during))
			}
		}
	}
	return signs
}

// siteLinks looks at the ways between the sites of a mirror's legs: a write is done when both have it.
func (x *scene) siteLinks() (all []cause) {
	e := x.m.Estate()
	mirrored := false
	for _, v := range x.volumes {
		for _, leg := range x.m.Backing(v) {
			mirrored = mirrored || leg.Mirror
		}
	}
	if !mirrored {
		return nil
	}
	for _, i := range e.OfKind(estate.SiteLink) {
		b, d := x.pair(i, "round_trip_us")
		if !(d-b > 300) {
			continue
		}
		w := slower(b, d) * x.share("write") * x.fit(estate.LayerFrontEnd, estate.LayerBackEnd, estate.LayerFabric)
		all = append(all, cause{at: i, way: longer, weight: w, signs: []Evidence{x.evidence(i, "round_trip_us", b, d, w, "a round trip takes "+phrase.Micros(d)+was(phrase.Micros(b)))}})
	}
	return all
}

// starved is the part of the time without a credit above which a port is held up: what conditions call strained.
const starved = 0.05

// receivers follows ports that have no credits down to the edge. A switch port without credits waits for what takes its frames; on a
// link between switches that is another switch, and one of its ports waits in turn. The first that waits for no switch waits for the
// slow receiver.
func (x *scene) receivers() []cause {
	e := x.m.Estate()
	held, from, during := 0.0, math.NaN(), 0.0
	var where int32 = -1
	look := func(p int32) {
		if b, d := x.pair(p, "credit_zero_share"); d > starved && !(d < 1.5*b) && d > held {
			held, from, during, where = d, b, d, p
		}
	}
	switches := map[int32]bool{}
	for _, i := range x.below {
		switch e.Kind(i) {
		case estate.ISL:
			for _, p := range e.To(i, estate.Joins) {
				look(p)
				if s, ok := e.Owner(p, estate.Switch); ok {
					switches[s] = true
				}
			}
		case estate.SwitchPort:
			look(i)
			if s, ok := e.Owner(i, estate.Switch); ok {
				switches[s] = true
			}
		case estate.HBAPort, estate.TargetPort:
			look(i)
		}
	}
	if where < 0 {
		return nil
	}
	sign := x.evidence(where, "credit_zero_share", from, during, 0, "has no credits "+phrase.Percent(during)+" of the time"+was(phrase.Percent(from)))
	var best int32 = -1
	var worst, before float64
	for s := range switches {
		for _, p := range e.From(s, estate.PartOf) {
			to := e.FirstFrom(p, estate.Attached)
			if e.Kind(p) != estate.SwitchPort || to < 0 {
				continue
			}
			b, d := x.pair(p, "credit_zero_share")
			if u, v := x.pair(p, congest.Utilization); d > starved && !(d < 1.5*b) && !(v > 0.70 && v > u) && (d > worst || d == worst && p < best) {
				best, worst, before = p, d, b
			}
		}
	}
	fit := x.fit(estate.LayerFabric, estate.LayerHost)
	if best < 0 {
		return nil
	}
	to := e.FirstFrom(best, estate.Attached)
	w := math.Sqrt(crowding(from, during)) * fit
	return []cause{{at: to, way: slowTaking, weight: w, signs: []Evidence{sign, x.evidence(best, "credit_zero_share", before, worst, w, "waits for it without a credit "+phrase.Percent(worst)+" of the time"+was(phrase.Percent(before)))}}}
}

// paths looks at the ports of the subject's hosts: whether ways over the others are gone, or carry much less.
func (x *scene) paths() (all []cause) {
	e := x.m.Estate()
	hosts := map[int32]bool{}
	for _, i := range x.below {
		if h, ok := e.Owner(i, estate.Host); ok && e.Kind(i) == estate.Device {
			hosts[h] = true
		}
	}
	fit := x.fit(estate.LayerFabric, estate.LayerHost)
	for h := range hosts {
		var busiest int32 = -1
		var most, others float64
		var idle int
		for _, p := range e.From(h, estate.PartOf) {
			if e.Kind(p) != estate.HBAPort {
				continue
			}
			_, d := x.rate(x.seenAt(p), "tx_bytes_s", "rx_bytes_s")
			if d > most {
				if busiest >= 0 {
					others, idle = others+most, idle+1
				}
				busiest, most = p, d
			} else {
				others, idle = others+d, idle+1
			}
		}
		if busiest < 0 || idle == 0 {
			continue
		}
		lost := x.lost(h)
		mean := others / float64(idle)
		b, d := x.pair(x.seenAt(busiest), congest.Utilization)
		crowd := crowding(b, d)
		switch {
		case lost > 0:
			w := math.Max(crowd, 0.8) * fit
			all = append(all, cause{at: busiest, way: lopsided, weight: w, signs: []Evidence{x.evidence(busiest, congest.Utilization, b, d, w,
				fmt.Sprintf("carries what %s carried before, now dead: %s of line rate%s", phrase.Count(lost, "path", "paths"), phrase.Percent(d), was(phrase.Percent(b))))}})
		case mean < most/3 && d > 0.50:
			// Round robin over two ports gives each half. A third of the other's is no chance. What it adds is what the port would be spared
			// if it carried its part; that is more exact than that the port is full, which it is as well.
			even := d * (most + others) / most / float64(idle+1)
			w := math.Max(1.05*crowd, 0.9*crowding(even, d)) * fit
			all = append(all, cause{at: busiest, way: lopsided, weight: w, signs: []Evidence{x.evidence(busiest, congest.Utilization, b, d, w,
				fmt.Sprintf("carries %s of its host's bytes: %s of line rate%s, while the others idle", phrase.Percent(most/(most+others)), phrase.Percent(d), was(phrase.Percent(b))))}})
		}
	}
	return all
}

// seenAt is where a port's bytes are read: at itself, or where it tells nothing at the switch port that it is attached to.
func (x *scene) seenAt(port int32) int32 {
	e := x.m.Estate()
	if len(x.in.From.Runs(e.At(port).Key, "tx_bytes_s")) == 0 {
		if at := e.First(port, estate.Attached); at >= 0 {
			return at
		}
	}
	return port
}

// lost counts the paths of a host that were in use before and are not now.
func (x *scene) lost(host int32) (n int) {
	e := x.m.Estate()
	for _, d := range e.From(host, estate.PartOf) {
		if e.Kind(d) != estate.Device {
			continue
		}
		k, ok := x.was.Estate().Position(e.At(d).Key)
		if !ok {
			continue
		}
		count := func(m *route.Map, i int32) (active int) {
			for _, s := range m.PathStates(i) {
				if s == route.Active {
					active++
				}
			}
			return active
		}
		n += max(0, count(x.was, k)-count(x.m, d))
	}
	return n
}
