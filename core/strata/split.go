package strata

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"dowsingrod/core/estate"
	"dowsingrod/core/phrase"
	"dowsingrod/core/reading"
	"dowsingrod/core/route"
)

// alike bounds the quotient of two counts of the same I/O by two sources that still counts as one
// population.
const alike = 1.25

// pendingForced is the write-pending share above which arrays begin to make writes wait for the back
// end, so that front and back end of a write can no longer be told apart.
const pendingForced = 0.70

type memoKey struct {
	key    estate.Key
	metric string
}

type computation struct {
	first int // the window shown begins here
	g     reading.Grid
	r     route.Readings
	memo  map[memoKey]reading.Cells
	notes []string
	basis map[string]*Basis
	order []string
	seen  map[estate.Key]bool

	conflicts []conflict
}

func (c *computation) note(format string, args ...any) {
	if n := fmt.Sprintf(format, args...); !slices.Contains(c.notes, n) {
		c.notes = append(c.notes, n)
	}
}

func (c *computation) cells(k estate.Key, metric string) reading.Cells {
	mk := memoKey{k, metric}
	v, ok := c.memo[mk]
	if !ok {
		v = reading.Align(c.g, c.r.Runs(k, metric))
		c.memo[mk] = v
	}
	return v
}

func (c *computation) occupancy(k estate.Key, dir string) reading.Cells {
	mk := memoKey{k, dir + " occupancy"}
	v, ok := c.memo[mk]
	if !ok {
		v = reading.Occupancy(c.g, c.r.Runs(k, dir+"_iops"), c.r.Runs(k, dir+"_latency_us"))
		c.memo[mk] = v
	}
	return v
}

// point is a place where I/O is timed: the sum over all objects that see the same population.
type point struct{ occupancy, rate []float64 }

// latency in s per I/O in cell i, NaN where it is not known or there is no I/O.
func (p point) latency(i int) float64 {
	if p.rate == nil || !(p.rate[i] > 0) {
		return math.NaN()
	}
	return p.occupancy[i] / p.rate[i]
}

// at sums a place of measurement over objects, and records that the result rests on it.
func (c *computation) at(m *route.Map, name, dir string, objects []int32) point {
	for _, i := range objects {
		key := m.Estate().At(i).Key
		c.rest(name, key, c.cells(key, dir+"_iops"))
	}
	return c.sum(m, dir, objects)
}

// sum adds up occupancy and rate over objects. A part that is missing makes the cell missing.
func (c *computation) sum(m *route.Map, dir string, objects []int32) point {
	if len(objects) == 0 {
		return point{}
	}
	p := point{make([]float64, c.g.N), make([]float64, c.g.N)}
	for _, i := range objects {
		key := m.Estate().At(i).Key
		o, x := c.occupancy(key, dir), c.cells(key, dir+"_iops")
		for k := range p.rate {
			p.occupancy[k] += o.Value[k]
			p.rate[k] += x.Value[k]
		}
	}
	return p
}

// rest records what a point of measurement rests on.
func (c *computation) rest(name string, key estate.Key, x reading.Cells) {
	id := name + " " + key.Source
	b := c.basis[id]
	if b == nil {
		b = &Basis{Point: name, Source: key.Source}
		c.basis[id] = b
		c.order = append(c.order, id)
	}
	if c.seen[key] {
		return
	}
	c.seen[key] = true
	b.Objects++
	b.Coverage += reading.Figure(reading.Cells{Value: x.Value[c.first:], Cover: x.Cover[c.first:]}.Covered())
	for _, run := range c.r.Runs(key, "read_iops") {
		b.Interval = math.Max(b.Interval, run.Step.Seconds())
	}
}

func (c *computation) bases() []Basis {
	out := []Basis{}
	for _, id := range c.order {
		b := *c.basis[id]
		if b.Interval == 0 {
			continue // known, but nobody times I/O there
		}
		if b.Objects > 0 {
			b.Coverage /= reading.Figure(b.Objects)
		}
		out = append(out, b)
	}
	return out
}

// volumeSide is what the arrays say of the volumes under a disk.
type volumeSide struct {
	front   point     // at the array's front end, all hosts together
	hosts   point     // the same I/O as counted by all hosts' devices
	hit     []float64 // cache hit share of reads, weighted by rate
	back    point     // the back end's own time for one I/O it is asked for
	outer   point     // for a virtualizer: its own view of the back end
	pending []float64 // highest write-pending share of the controllers that serve it
	cached  point     // its writes at the front end, to hold reads against
	deeper  []int32   // what back and outer are summed over
}

// disk adds one virtual disk, in one direction, cells [lo, hi), to s.
func (c *computation) disk(m *route.Map, d int32, dir string, s *sum, lo, hi int) {
	e := m.Estate()
	key := e.At(d).Key
	own := c.at(m, "virtual disk", dir, []int32{d})
	bytes := c.cells(key, dir+"_bytes_s")

	devices, volumes := m.Devices(d), m.Volumes(d)
	device := c.at(m, "host device", dir, devices)
	queue := c.queue(m, devices)
	store := c.datastore(m, d, dir)
	side := c.volumes(m, volumes, dir)
	if len(volumes) == 0 {
		c.note("%s lies on no LUN or share that a watched array lists: nothing below the host can be told apart.", e.At(d).Title())
	}

	var bound caps
	if dir == "read" {
		bound = c.caps(m, d, devices, volumes, device, queue)
	}
	block := c.block(m, slices.Concat([]int32{d}, devices, volumes, side.deeper))
	disk := own.coarse(block)
	device, store = device.coarse(block), store.coarse(block)
	queue = block.mean(queue)
	side.coarse(block)
	bound.coarse(block)
	c.compare(m, d, dir, devices, volumes, side, bound, lo, hi)
	unlike, judged := 0, 0
	for i := lo; i < hi; i++ {
		rate, total := own.rate[i], own.occupancy[i]
		s.rate[i] += rate
		s.bytes[i] += bytes.Value[i]
		s.total[i] += total
		if !(rate > 0) || math.IsNaN(total) {
			continue
		}
		tops := [layers]float64{disk.latency(i), store.latency(i), device.latency(i), math.NaN(), math.NaN(), math.NaN()}
		if queue != nil {
			tops[2+1] = tops[2] - queue[i]/1e6
		}
		outer := 0.0
		if a := side.front.latency(i); !math.IsNaN(a) {
			judged++
			if side.hosts.rate == nil || between(side.hosts.rate[i]/side.front.rate[i]) {
				tops[4] = a
				tops[5], outer = side.backEnd(i, dir)
			} else {
				unlike++
			}
		}
		parts := slice(tops, bound.guest(i), bound.fabric(i))
		if outer > 0 { // the fabric between a virtualizer and what lies behind it
			move := parts[5] * outer
			parts[5] -= move
			parts[3] += move
		}
		for k := range parts {
			s.occupancy[k][i] += parts[k] / tops[0] * total
		}
	}
	if judged > 0 && unlike*5 > judged {
		c.note("For %s of the window the array counts a different number of %ss for the LUN under %s than all known hosts together: they are not compared there.",
			phrase.Percent(float64(unlike)/float64(judged)), dir, e.At(d).Title())
	}
}

func between(quotient float64) bool {
	return math.IsNaN(quotient) || quotient <= alike && quotient >= 1/alike
}

// slice turns the times at the top of each layer into the time spent within each, in s per I/O.
//
// Where an object below says more than one above it, the population below has slower I/O than this
// disk (its mix is not ours): everything below is scaled to fit, so that the parts always sum to the
// disk's own latency. Where guest or fabric would take more than their bound (see caps), the rest is
// the disk's own mix too, in the other direction, and belongs to the deepest layer. Layers between
// which nothing is measured stay together: above the array, inside it, or across its border; only the datastore, which seldom times anything
// itself, then counts as nothing.
func slice(tops [layers]float64, guest, fabric float64) (parts [bands]float64) {
	bound := [layers]float64{guest, math.NaN(), math.NaN(), fabric, math.NaN(), math.NaN()}
	current, scale, mix, begin := tops[0], 1.0, 0.0, 0
	within := func(end int) int {
		count := end - begin
		if begin <= 1 && end > 1 && math.IsNaN(tops[1]) {
			count--
		}
		switch {
		case count == 1:
			return begin
		case end <= frontEnd:
			return above
		case begin >= frontEnd:
			return inside
		}
		return across
	}
	for k := 1; k < layers; k++ {
		if math.IsNaN(tops[k]) {
			continue
		}
		t := math.Max(0, tops[k]) * scale
		if t > current {
			scale *= current / t
			t = current
		}
		time, at := current-t, within(k)
		if at < layers && time > bound[at] {
			mix += time - bound[at]
			time = bound[at]
		}
		parts[at] += time
		current, begin = t, k
	}
	last := within(layers)
	parts[last] += current
	if last == layers-1 && current == 0 {
		last-- // nothing of it reached the back end
	}
	parts[last] += mix
	return parts
}

// caps bound what guest and fabric may take of a disk's reads. Its latency is held against means over
// all disks of its host and LUN, and of all hosts; what it has more of can be a slow path, or its own
// mix of reads (more misses, larger ones). Paths and guests treat reads and writes alike, while the mix
// of reads does not slow writes: so a layer takes no more of a read than the population's reads or this
// disk's writes spend in it.
type caps struct {
	ownWrites, deviceWrites, frontWrites point
	ownReads, deviceReads                point // all disks of the host on the LUN, and their device
	hostReads, frontReads                point // all hosts' devices, and the volume
	queue, hostQueue                     []float64
}

func (c *computation) caps(m *route.Map, d int32, devices, volumes []int32, device point, queue []float64) caps {
	if len(devices) == 0 {
		return caps{}
	}
	var siblings, hosts []int32
	for _, dev := range devices {
		siblings = append(siblings, m.Disks(dev)...)
	}
	for _, v := range volumes {
		for _, dev := range m.Estate().From(v, estate.Opens) {
			if _, ok := m.Estate().Owner(dev, estate.Host); ok {
				hosts = append(hosts, dev)
			}
		}
	}
	return caps{ownWrites: c.at(m, "virtual disk", "write", []int32{d}), deviceWrites: c.at(m, "host device", "write", devices),
		frontWrites: c.at(m, "array front end", "write", volumes), ownReads: c.sum(m, "read", siblings), deviceReads: device,
		hostReads: c.sum(m, "read", hosts), frontReads: c.sum(m, "read", volumes), queue: queue, hostQueue: c.queue(m, hosts)}
}

func (b caps) guest(i int) float64 {
	return larger(b.ownWrites.latency(i)-b.deviceWrites.latency(i), b.ownReads.latency(i)-b.deviceReads.latency(i))
}

func (b caps) fabric(i int) float64 {
	if b.queue == nil || b.hostQueue == nil {
		return math.NaN()
	}
	return larger(b.deviceWrites.latency(i)-b.queue[i]/1e6-b.frontWrites.latency(i), b.hostReads.latency(i)-b.hostQueue[i]/1e6-b.frontReads.latency(i))
}

// larger of two bounds, at least 0; NaN, no bound, where neither is known.
func larger(a, b float64) float64 {
	switch {
	case math.IsNaN(a) && math.IsNaN(b):
		return a
	case math.IsNaN(a):
		return math.Max(0, b)
	case math.IsNaN(b):
		return math.Max(0, a)
	}
	return math.Max(0, math.Max(a, b))
}

func (c *computation) queue(m *route.Map, devices []int32) []float64 {
	if len(devices) == 0 {
		return nil
	}
	wait, rate := make([]float64, c.g.N), make([]float64, c.g.N)
	for _, d := range devices {
		key := m.Estate().At(d).Key
		q := c.cells(key, "queue_latency_us")
		r, w := c.cells(key, "read_iops"), c.cells(key, "write_iops")
		for i := range wait {
			x := r.Value[i] + w.Value[i]
			if x > 0 {
				wait[i] += q.Value[i] * x
				rate[i] += x
			}
		}
	}
	for i := range wait {
		wait[i] /= rate[i] // 0/0 is NaN: nothing sent, nothing known
	}
	return wait
}

func (c *computation) datastore(m *route.Map, d int32, dir string) point {
	for _, on := range m.Estate().To(d, estate.StoredOn) {
		o := m.Estate().At(on)
		if o.Key.Ref.Kind == estate.Datastore && len(c.r.Runs(o.Key, dir+"_latency_us")) > 0 {
			return c.at(m, "datastore", dir, []int32{on})
		}
	}
	return point{}
}

func (c *computation) volumes(m *route.Map, volumes []int32, dir string) volumeSide {
	e := m.Estate()
	var side volumeSide
	if len(volumes) == 0 {
		return side
	}
	name := "array front end"
	if e.At(volumes[0]).Key.Ref.Kind == estate.Share {
		name = "file share"
	}
	side.front = c.at(m, name, dir, volumes)
	var devices, controllers, pools, legs, outer []int32
	for _, v := range volumes {
		for _, d := range e.From(v, estate.Opens) {
			if _, ok := e.Owner(d, estate.Host); ok {
				devices = append(devices, d)
			}
		}
		controllers = append(controllers, e.To(v, estate.ServedBy)...)
		backing := m.Backing(v)
		for _, leg := range backing {
			if leg.Volume >= 0 {
				legs = append(legs, leg.Volume)
			}
			if leg.Device >= 0 {
				outer = append(outer, leg.Device)
			}
		}
		if len(backing) == 0 {
			pools = append(pools, e.To(v, estate.CarvedFrom)...)
		}
	}
	side.hosts = c.at(m, "host device", dir, devices)
	side.pending = c.highest(m, controllers, "write_pending_share")
	if dir == "write" {
		return side
	}
	side.hit, side.cached = c.hits(m, volumes), c.at(m, name, "write", volumes)
	if len(legs) > 0 {
		side.back, side.outer = c.at(m, "back-end array", dir, legs), c.at(m, "virtualizer's back-end device", dir, outer)
		side.deeper = slices.Concat(legs, outer)
	} else {
		slices.Sort(pools)
		side.deeper = slices.Compact(pools)
		side.back = c.at(m, "pool", dir, side.deeper)
	}
	return side
}

func (c *computation) hits(m *route.Map, volumes []int32) []float64 {
	hits, rate := make([]float64, c.g.N), make([]float64, c.g.N)
	for _, v := range volumes {
		key := m.Estate().At(v).Key
		h, x := c.cells(key, "cache_hit_share"), c.cells(key, "read_iops")
		for i := range hits {
			if x.Value[i] > 0 {
				hits[i] += h.Value[i] * x.Value[i]
				rate[i] += x.Value[i]
			}
		}
	}
	for i := range hits {
		hits[i] /= rate[i]
	}
	return hits
}

func (c *computation) highest(m *route.Map, objects []int32, metric string) []float64 {
	out := make([]float64, c.g.N)
	for i := range out {
		out[i] = math.NaN()
	}
	for _, o := range objects {
		for i, v := range c.cells(m.Estate().At(o).Key, metric).Value {
			if math.IsNaN(out[i]) || v > out[i] {
				out[i] = v
			}
		}
	}
	return out
}

// backEnd returns the part of one front-end I/O's time, in s, that is spent in the back end, NaN where
// that cannot be told, and which part of it lies between a virtualizer and its back-end arrays.
//
// A read costs the back end only where it misses the cache: (1 − hit) × the back end's latency. A
// write is answered from cache, so the back end is not in its way, until so much is pending that
// writes must wait for it.
//
// A pool's mean is one over the I/Os of all its volumes, and others' may be larger than this one's: then it says too
// much. A write that the cache answered went through the same controller and not to the drives, so a read spends no more
// in the back end than what it takes longer than such a write.
func (v volumeSide) backEnd(i int, dir string) (seconds, outer float64) {
	if dir == "write" {
		if !(v.pending[i] < pendingForced) {
			return math.NaN(), 0
		}
		return 0, 0
	}
	miss := 1 - v.hit[i]
	inner := v.back.latency(i)
	if miss == 0 {
		return 0, 0
	}
	if around := v.outer.latency(i); around > inner {
		return miss * around, 1 - inner/around
	}
	seconds = miss * inner
	if most := v.front.latency(i) - v.cached.latency(i); seconds > most && most > 0 && v.pending[i] < pendingForced {
		seconds = most
	}
	return seconds, 0
}

// Needs lists the readings that Compute will ask for.
func Needs(moments []route.Moment, of estate.Key) []route.Need {
	io := []string{"read_iops", "write_iops", "read_latency_us", "write_latency_us"}
	wanted := map[estate.Kind][]string{
		estate.VM:         {"busy_share", "steal_share"},
		estate.VDisk:      append([]string{"read_bytes_s", "write_bytes_s"}, io...),
		estate.Datastore:  io,
		estate.Device:     append([]string{"queue_latency_us"}, io...),
		estate.Volume:     append([]string{"cache_hit_share"}, io...),
		estate.Share:      io,
		estate.Pool:       append([]string{"busy_share"}, io...),
		estate.RAIDGroup:  append([]string{"busy_share"}, io...),
		estate.Drive:      append([]string{"busy_share"}, io...),
		estate.Host:       {"busy_share"},
		estate.Controller: append([]string{"busy_share", "write_pending_share"}, io...),
		estate.HBAPort:    {"tx_bytes_s", "rx_bytes_s", "credit_zero_share", "crc_errors_s", "discards_s", "link_resets_s"},
	}
	wanted[estate.SwitchPort], wanted[estate.TargetPort] = wanted[estate.HBAPort], append(wanted[estate.HBAPort], io...)
	var needs []route.Need
	before := map[estate.Key]bool{} // at another moment
	for _, m := range moments {
		e := m.Map.Estate()
		i, ok := e.Position(of)
		if !ok {
			continue
		}
		first := len(needs)
		seen := make([]bool, e.Len())
		add := func(i int32) {
			if seen[i] {
				return
			}
			seen[i] = true
			if metrics := wanted[e.Kind(i)]; metrics != nil {
				if key := e.At(i).Key; len(before) == 0 || !before[key] {
					needs = append(needs, route.Need{Key: key, Metrics: metrics})
				}
			}
		}
		starts := []int32{i}
		volumes, devices := map[int32]bool{}, map[int32]bool{}
		for _, d := range m.Map.VDisks(i) {
			starts = append(starts, d.At)
			for _, v := range m.Map.Volumes(d.At) {
				volumes[v] = true
			}
			if hasAllDisks[e.Kind(i)] {
				continue
			}
			for _, device := range m.Map.Devices(d.At) {
				devices[device] = true
			}
		}
		for _, at := range starts {
			add(at)
		}
		for _, below := range m.Map.Below(starts...) {
			add(below.At)
		}
		for v := range volumes {
			e.EachIn(v, func(link estate.LinkKind, device int32) { // all hosts', to compare like with like
				if link == estate.Opens {
					add(device)
				}
			})
		}
		if !hasAllDisks[e.Kind(i)] {
			for device := range devices {
				for _, sibling := range m.Map.Disks(device) {
					add(sibling)
				}
			}
		}
		if len(moments) > 1 {
			for _, n := range needs[first:] {
				before[n.Key] = true
			}
		}
	}
	slices.SortFunc(needs, func(a, b route.Need) int {
		return cmp.Or(strings.Compare(string(a.Key.Ref.Kind), string(b.Key.Ref.Kind)), strings.Compare(a.Key.Ref.ID, b.Key.Ref.ID), strings.Compare(a.Key.Source, b.Key.Source))
	})
	return needs
}

// hasAllDisks lists kinds above which lie all disks that share a device with one of theirs.
var hasAllDisks = map[estate.Kind]bool{estate.Datastore: true, estate.Volume: true, estate.Share: true, estate.Pool: true, estate.RAIDGroup: true, estate.Drive: true, estate.Array: true}
