package suspect

import (
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"

	"dowsingrod/core/estate"
	"dowsingrod/core/internal/crew"
	"dowsingrod/core/onset"
	"dowsingrod/core/phrase"
	"dowsingrod/core/reading"
	"dowsingrod/core/route"
)

// price says what an I/O costs a component: one unit for being an I/O, and one more for every size
// bytes it moves, because large I/O holds a server longer. A port knows only bytes.
type price struct {
	size   float64
	perIO  float64
	misses bool // only reads that miss the cache reach it
	writes bool // only writes count
	words  string
}

// Prices that do not depend on the component's kind.
var (
	perIO   = price{size: math.Inf(1), perIO: 1, words: "one I/O"}
	written = price{size: 1, writes: true, words: "one byte written"}
)

func priceOf(e *estate.Estate, i int32) price {
	const kib = 1024.0
	switch e.At(i).Key.Ref.Kind {
	case estate.Pool, estate.RAIDGroup, estate.Drive:
		p := price{size: 64 * kib, perIO: 1, misses: true}
		if media(e, i) == "hdd" {
			p.size = 512 * kib // a seek takes as long as moving about that much
		}
		p.words = fmt.Sprintf("one I/O, and one more for each %s it moves; reads count where they miss the cache", phrase.Bytes(p.size))
		return p
	case estate.HBAPort, estate.SwitchPort, estate.TargetPort, estate.ISL, estate.Switch, estate.Fabric, estate.SiteLink:
		return price{size: 1, words: "one byte"}
	}
	return price{size: 64 * kib, perIO: 1, words: fmt.Sprintf("one I/O, and one more for each %s it moves", phrase.Bytes(64*kib))}
}

func media(e *estate.Estate, i int32) string {
	for range 4 {
		if m := e.At(i).Facts.Text("media"); m != "" {
			return strings.ToLower(m)
		}
		next := e.To(i, estate.MadeOf)
		if len(next) == 0 {
			return ""
		}
		i = next[0]
	}
	return ""
}

// side is one direction of a load: occupancy and rate, divided last.
type side struct{ occupancy, rate []float64 }

func (d side) latency() []float64 {
	out := make([]float64, len(d.rate))
	for i := range out {
		out[i] = math.NaN()
		if d.rate[i] > 0 {
			out[i] = d.occupancy[i] / d.rate[i] * 1e6
		}
	}
	return out
}

// load is what a tenant, or the component, did per cell.
type load struct {
	vm          *estate.Node
	key         string // its address, which orders them
	read, write side
	bytes       []float64
	demand      []float64
	parts       []part
	flows       []float64 // bytes per second by the fabric's flows; nil where there are none
	fabric      bool      // the hypervisor says nothing: what flows carried counts
}

// part is what one virtual disk of a tenant asks of one volume; zero outside the moments in which it
// depends on the component.
type part struct {
	volume                                   estate.Key
	reads, writes, readBytes, writeBytes, to []float64
	flight                                   []float64 // reads
}

func newLoad(n int, o *estate.Node) *load {
	all := make([]float64, 6*n) // one piece is quicker to get than six
	row := func() []float64 {
		r := all[:n:n]
		all = all[n:]
		return r
	}
	return &load{vm: o, key: o.Key.String(), read: side{row(), row()}, write: side{row(), row()}, bytes: row(), demand: row()}
}

func (l *load) side(dir string) side {
	if dir == "write" {
		return l.write
	}
	return l.read
}

// tenants adds up, by VM, the virtual disks that depend on the component in each moment. Outside the
// moments in which a disk did, it asks nothing.
func tenants(in Input) []*load {
	type use struct {
		m      *route.Map
		disk   int32
		lo, hi int
	}
	byVM := map[estate.Key]int{}
	var loads []*load
	var uses [][]use
	for _, m := range in.Moments {
		e := m.Map.Estate()
		i, ok := e.Position(in.Of)
		lo, hi := m.Cells(in.Grid)
		if !ok || lo >= hi {
			continue
		}
		for _, d := range m.Map.VDisks(i) {
			if d.State != route.Active {
				continue
			}
			for _, vm := range e.From(d.At, estate.Uses) {
				key := e.At(vm).Key
				k, known := byVM[key]
				if !known {
					k = len(loads)
					byVM[key] = k
					loads, uses = append(loads, newLoad(in.Grid.N, e.At(vm))), append(uses, nil)
				}
				uses[k] = append(uses[k], use{m.Map, d.At, lo, hi})
			}
		}
	}
	crew.Each(len(loads), func(k int) {
		for _, u := range uses[k] {
			loads[k].add(in, u.m, u.disk, u.lo, u.hi)
		}
	})
	slices.SortFunc(loads, func(a, b *load) int { return strings.Compare(a.key, b.key) })
	return loads
}

func (l *load) add(in Input, m *route.Map, d int32, lo, hi int) {
	key := m.Estate().At(d).Key
	all := make([]float64, 6*in.Grid.N) // one piece is quicker to get than six
	row := func() []float64 {
		r := all[:in.Grid.N:in.Grid.N]
		all = all[in.Grid.N:]
		return r
	}
	pt := part{reads: row(), writes: row(), readBytes: row(), writeBytes: row(), flight: row()}
	r, w, rb, wb, ro, wo := pt.reads, pt.writes, pt.readBytes, pt.writeBytes, pt.flight, row()
	reads, writes := in.From.Runs(key, "read_iops"), in.From.Runs(key, "write_iops")
	reading.Add(r, in.Grid, reads, 1)
	reading.Add(w, in.Grid, writes, 1)
	reading.Add(rb, in.Grid, in.From.Runs(key, "read_bytes_s"), 1)
	reading.Add(wb, in.Grid, in.From.Runs(key, "write_bytes_s"), 1)
	reading.AddOccupancy(ro, in.Grid, reads, in.From.Runs(key, "read_latency_us"))
	reading.AddOccupancy(wo, in.Grid, writes, in.From.Runs(key, "write_latency_us"))
	if f := in.flowed(m, flowsOf(m, d)); f != nil {
		if unseen(r, w) {
			l.fabric = true
			for k, from := range [][]float64{f.rate[0], f.rate[1], f.bytes[0], f.bytes[1], f.flight[0], f.flight[1]} {
				copy([][]float64{r, w, rb, wb, ro, wo}[k], from)
			}
		}
		if l.flows == nil {
			l.flows = make([]float64, in.Grid.N)
		}
		for i := lo; i < hi; i++ {
			l.flows[i] += f.bytes[0][i] + f.bytes[1][i]
		}
	}
	if v := m.Volumes(d); len(v) > 0 {
		pt.volume = m.Estate().At(v[0]).Key
	}
	for i := lo; i < hi; i++ {
		l.read.rate[i] += r[i]
		l.write.rate[i] += w[i]
		l.read.occupancy[i] += ro[i]
		l.write.occupancy[i] += wo[i]
		l.bytes[i] += rb[i] + wb[i]
	}
	for _, row := range [][]float64{pt.reads, pt.writes, pt.readBytes, pt.writeBytes, pt.flight} { // it asks nothing outside its moment
		clear(row[:lo])
		clear(row[hi:])
	}
	l.parts = append(l.parts, pt)
}

// price sets every tenant's demand in cost units per second.
//
// Where only reads that miss a cache reach the component, the volume's cache hit share says how many do, but not whose. A read that misses
// takes many times as long as one that does not, so misses are apportioned by what each tenant has in flight.
func (p price) set(in Input, loads []*load, usualFrom, begin int) {
	byVolume := map[estate.Key][]*part{}
	for _, l := range loads {
		for k := range l.parts {
			byVolume[l.parts[k].volume] = append(byVolume[l.parts[k].volume], &l.parts[k])
		}
	}
	of := p.read(in, byVolume)
	volumes := slices.Collect(maps.Keys(byVolume))
	crew.Large(len(volumes), func(k int) {
		volume := volumes[k]
		parts := byVolume[volume]
		misses := p.missed(in, volume, parts, usualFrom, begin)
		if misses == nil {
			misses = of[volume]
		}
		for n, pt := range parts {
			pt.to = make([]float64, in.Grid.N)
			for i := range pt.to {
				miss := 1.0
				if misses != nil {
					miss = misses[n][i]
				}
				if p.writes {
					miss = 0
				}
				pt.to[i] = p.perIO*(miss*pt.reads[i]+pt.writes[i]) + (miss*pt.readBytes[i]+pt.writeBytes[i])/p.size
			}
		}
	})
	for _, l := range loads {
		for _, pt := range l.parts {
			for i := range l.demand {
				l.demand[i] += pt.to[i]
			}
		}
	}
}

// read apportions what a component read for itself among the tenants of volumes whose cache nothing is known of: the reads it did beyond
// what volumes that tell of their cache let through. It returns the part of each tenant's reads, per cell; nothing where the component
// does not say what it read.
func (p price) read(in Input, byVolume map[estate.Key][]*part) map[estate.Key][][]float64 {
	if !p.misses {
		return nil
	}
	left := reading.Align(in.Grid, in.From.Runs(in.Of, "read_iops")).Value
	if math.IsNaN(reading.MeanOver(left, 0, in.Grid.N)) {
		return nil
	}
	out := map[estate.Key][][]float64{}
	var unknown []*part
	for volume, parts := range byVolume {
		hit := reading.Align(in.Grid, in.From.Runs(volume, "cache_hit_share")).Value
		if math.IsNaN(reading.MeanOver(hit, 0, in.Grid.N)) {
			unknown = append(unknown, parts...)
			out[volume] = make([][]float64, len(parts))
			for n := range parts {
				out[volume][n] = make([]float64, in.Grid.N)
			}
			continue
		}
		for _, pt := range parts {
			for i := range left {
				left[i] -= known((1 - hit[i]) * pt.reads[i])
			}
		}
	}
	for i := range in.Grid.N {
		flight := 0.0
		for _, pt := range unknown {
			flight += flying(pt, i)
		}
		for volume, shares := range out {
			for n, pt := range byVolume[volume] {
				switch {
				case math.IsNaN(left[i]):
					shares[n][i] = left[i]
				case flight > 0 && pt.reads[i] > 0:
					shares[n][i] = math.Min(1, math.Max(0, left[i])*flying(pt, i)/flight/pt.reads[i])
				}
			}
		}
	}
	return out
}

// missed returns the part of each tenant's reads that misses, per cell; nil where all reach the component or nothing is known of the
// cache.
func (p price) missed(in Input, volume estate.Key, parts []*part, usualFrom, begin int) [][]float64 {
	if !p.misses {
		return nil
	}
	hit := reading.Align(in.Grid, in.From.Runs(volume, "cache_hit_share")).Value
	usual := 1 - reading.MeanOver(hit, usualFrom, begin)
	if math.IsNaN(usual) {
		return nil
	}
	out := make([][]float64, len(parts))
	for n := range out {
		out[n] = make([]float64, in.Grid.N)
	}
	for i := range in.Grid.N {
		miss := 1 - hit[i]
		if math.IsNaN(miss) {
			miss = usual
		}
		var reads, waiting float64
		for _, pt := range parts {
			if pt.reads[i] > 0 {
				reads += pt.reads[i]
				waiting += flying(pt, i)
			}
		}
		for n, pt := range parts {
			out[n][i] = miss
			if waiting > 0 && pt.reads[i] > 0 {
				out[n][i] = math.Min(1, miss*reads*flying(pt, i)/waiting/pt.reads[i])
			}
		}
	}
	return out
}

// flying is the reads in flight of a part in a cell; 0 where that is not known.
func flying(pt *part, i int) float64 { return known(pt.flight[i]) }

func known(v float64) float64 {
	if math.IsNaN(v) {
		return 0
	}
	return v
}

// component is the load as the component itself reports it. Where it times no I/O, the sum of its
// tenants stands in.
func component(in Input, o *estate.Node, loads []*load, s *Suspects) *load {
	own := newLoad(in.Grid.N, o)
	timed := len(in.From.Runs(o.Key, "read_latency_us")) > 0
	if timed && !in.AtTenants {
		s.Measured = "by " + o.Key.Source + ", at the component"
		cells := func(metric string) []float64 { return reading.Align(in.Grid, in.From.Runs(o.Key, metric)).Value }
		own.read = side{reading.Occupancy(in.Grid, in.From.Runs(o.Key, "read_iops"), in.From.Runs(o.Key, "read_latency_us")).Value, cells("read_iops")}
		own.write = side{reading.Occupancy(in.Grid, in.From.Runs(o.Key, "write_iops"), in.From.Runs(o.Key, "write_latency_us")).Value, cells("write_iops")}
		rb, wb := cells("read_bytes_s"), cells("write_bytes_s")
		for i := range own.bytes {
			own.bytes[i] = rb[i] + wb[i]
		}
		return own
	}
	s.Measured = "at the tenants' virtual disks, for the component itself times no I/O"
	if timed {
		s.Measured = "at the tenants' virtual disks, for what the component times itself takes as long as before"
	}
	for _, l := range loads {
		for i := range own.bytes {
			own.bytes[i] += l.bytes[i]
			for _, d := range []struct{ to, from side }{{own.read, l.read}, {own.write, l.write}} {
				d.to.rate[i] += d.from.rate[i]
				d.to.occupancy[i] += d.from.occupancy[i]
			}
		}
	}
	return own
}

func (l *load) trace(first int, dir string, e onset.Episode, found bool) Trace {
	n := len(l.bytes)
	both := make([]float64, 2*n)
	iops, flight := both[:n:n], both[n:]
	for i := range iops {
		iops[i] = l.read.rate[i] + l.write.rate[i]
		flight[i] = l.read.occupancy[i] + l.write.occupancy[i]
	}
	d := l.side(dir)
	t := Trace{BytesS: l.bytes[first:], IOPS: iops[first:], InFlight: flight[first:], Time: d.latency()[first:]}
	missing := Pair{reading.Missing, reading.Missing}
	t.BytesPair, t.IOPSPair, t.InPair, t.TimePair, t.SizePair = missing, missing, missing, missing, missing
	if !found {
		return t
	}
	pair := func(f func(i, j int) float64) Pair {
		return Pair{reading.Figure(f(e.UsualFrom, e.Begin)), reading.Figure(f(e.Begin, e.End))}
	}
	mean := func(v []float64) Pair { return pair(func(i, j int) float64 { return reading.MeanOver(v, i, j) }) }
	t.BytesPair, t.IOPSPair, t.InPair = mean(l.bytes), mean(iops), mean(flight)
	ratio := func(a, b []float64, scale float64) Pair {
		return pair(func(i, j int) float64 {
			x, y := reading.PairMeans(a, b, i, j)
			if !(y > 0) {
				return math.NaN()
			}
			return x / y * scale
		})
	}
	t.TimePair, t.SizePair = ratio(d.occupancy, d.rate, 1e6), ratio(l.bytes, iops, 1)
	return t
}

func (l *load) tenant(in Input, dir string, e onset.Episode, found bool) Tenant {
	t := Tenant{Ref: l.key, Name: l.vm.Title(), Tier: l.vm.Tier(), Application: l.vm.Facts.Text("application"),
		Role: Bystander, Share: reading.Missing, Onset: reading.Missing, Seen: "hypervisor", Flows: Pair{reading.Missing, reading.Missing}, Demand: Pair{reading.Missing, reading.Missing}, Trace: l.trace(in.First, dir, e, found)}
	if found {
		t.Demand = Pair{reading.Figure(reading.MeanOver(l.demand, e.UsualFrom, e.Begin)), reading.Figure(reading.MeanOver(l.demand, e.Begin, e.End))}
	}
	if l.fabric {
		t.Seen = "fabric"
	}
	if l.flows != nil && found {
		t.Flows = Pair{reading.Figure(reading.MeanOver(l.flows, e.UsualFrom, e.Begin)), reading.Figure(reading.MeanOver(l.flows, e.Begin, e.End))}
	}
	if math.IsNaN(reading.MeanOver(l.demand, in.First, len(l.demand))) {
		t.Role, t.Why = NotSeen, "no readings of its virtual disks in this window"
	}
	return t
}

// judge says what a tenant's figures mean. Suspects are chosen afterwards, among all.
func (t *Tenant) judge(grew bool) {
	if t.Role == NotSeen {
		return
	}
	before, during := float64(t.Demand.Before), float64(t.Demand.During)
	slower := t.TimePair.During/t.TimePair.Before > slowerBy
	change := during / before
	more := "asks " + phrase.Percent(change-1) + " more than before"
	switch {
	case math.IsInf(change, 1):
		more = "asked for nothing before"
	case change >= 3:
		more = fmt.Sprintf("asks %s times as much as before", phrase.Rate(change))
	}
	size := ""
	if b, d := float64(t.SizePair.Before), float64(t.SizePair.During); d > 1.5*b || d < b/1.5 {
		size = fmt.Sprintf(", %s each instead of %s", phrase.Bytes(d), phrase.Bytes(b))
	}
	switch {
	case math.IsNaN(change) || during == 0 && before == 0:
		t.Why = "asks nothing of it"
	case slower && change > 1.15 && t.Share > 0.02:
		t.Role, t.Why = Sufferer, more+size
	case slower && change > 1.15:
		t.Role, t.Why = Sufferer, "waits; "+more+size+", but that is little"
	case slower && change < 0.95:
		t.Role, t.Why = Sufferer, fmt.Sprintf("waits; gets %s less done%s", phrase.Percent(1-change), size)
	case slower:
		t.Role, t.Why = Sufferer, "waits; asks no more than before"
	case change > 1.15 && grew && t.Share > 0.02:
		t.Why = more + size + ", without waiting longer"
	default:
		t.Why = "asks as much as before, waits no longer"
	}
}
