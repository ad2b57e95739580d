// Package strata splits the latency of virtual disks by layer over time.
//
// The same I/O is timed by the virtual disk, the host's device, the array's front end and its back
// end. What adds up between them is not time but occupancy, the number of I/Os in flight (Little's
// law), so layers are compared and subtracted in occupancy and divided by the rate last. Like is
// compared with like: an array's figure for a LUN with all hosts' figures for it together. Reads and
// writes are kept apart.
package strata

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"time"

	"dowsingrod/core/congest"
	"dowsingrod/core/estate"
	"dowsingrod/core/normal"
	"dowsingrod/core/onset"
	"dowsingrod/core/phrase"
	"dowsingrod/core/reading"
	"dowsingrod/core/route"
)

// merged are the bands of time in several layers that no source tells apart, in the order of the indexes below.
var merged = []estate.Layer{estate.LayerAboveArray, estate.LayerInArray, estate.LayerUnsplit}

// Band is one layer's part of the latency.
type Band struct {
	Layer  estate.Layer   `json:"layer" doc:"The layer; 'above the array', 'in the array' or 'not told apart' for several that no source tells apart"`
	Time   reading.Row    `json:"time_us" doc:"µs per I/O added by the layer, per cell; null where not known"`
	Mean   reading.Figure `json:"mean_us" doc:"Over the window, weighted by I/O"`
	Usual  reading.Figure `json:"usual_us" doc:"Before the change; null where there is none"`
	During reading.Figure `json:"during_us" doc:"During the change"`
	Added  reading.Figure `json:"added_us" doc:"During minus usual"`
}

// Direction holds all reads, or all writes.
type Direction struct {
	Total    reading.Row    `json:"total_us" doc:"µs per I/O at the virtual disk, per cell"`
	Bands    []Band         `json:"bands" doc:"From the guest down; their times sum to the total"`
	IOPS     reading.Row    `json:"iops" doc:"I/O per second, per cell"`
	BytesS   reading.Row    `json:"bytes_s" doc:"Bytes per second, per cell"`
	InFlight reading.Row    `json:"in_flight" doc:"Mean I/Os in flight, per cell"`
	Mean     reading.Figure `json:"mean_us" doc:"Mean latency over the window, weighted by I/O"`
	P50      reading.Figure `json:"p50_us" doc:"Half of all I/Os were in cells at or below this"`
	P95      reading.Figure `json:"p95_us" doc:"95 % of all I/Os were in cells at or below this"`
	P99      reading.Figure `json:"p99_us" doc:"99 % of all I/Os were in cells at or below this"`
	Worst    reading.Figure `json:"worst_us" doc:"Worst cell"`
	WorstAt  *time.Time     `json:"worst_at" doc:"When that cell began; null where nothing is known"`
	Usual    reading.Figure `json:"usual_us" doc:"Before the change; null where there is none"`
	During   reading.Figure `json:"during_us" doc:"During the change"`
	Ordinary *normal.Usual  `json:"ordinary,omitempty" doc:"µs that the same I/Os would take if each disk took what is usual for it at that hour; absent where nothing was learned yet"`
}

// Change is the stretch in which latency stood above what was usual.
type Change struct {
	Direction string         `json:"direction" doc:"Reads or writes, whichever gained more in flight" enum:"read,write"`
	From      time.Time      `json:"from" doc:"It began in the cell that starts here"`
	To        time.Time      `json:"to" doc:"It ended here"`
	UsualFrom time.Time      `json:"usual_from" doc:"What is usual rests on the cells from here to its begin"`
	Persists  bool           `json:"persists" doc:"It lasts to the end of the readings"`
	Usual     reading.Figure `json:"usual_us" doc:"Mean before"`
	During    reading.Figure `json:"during_us" doc:"Mean within"`
	Layer     estate.Layer   `json:"layer" doc:"The layer that added most"`
	Added     reading.Figure `json:"added_us" doc:"What that layer added"`
	Component string         `json:"component,omitempty" doc:"Where it arises, kind:id@source, where a component's own readings tell"`
	Name      string         `json:"component_name,omitempty" doc:"That component's name"`
	Why       string         `json:"why,omitempty" doc:"What its readings say"`
	Shared    int            `json:"shared_by" doc:"VMs that depend on the component"`
	Cleared   []estate.Layer `json:"cleared" doc:"Layers that added next to nothing"`
}

// Basis says what a boundary between two layers rests on.
type Basis struct {
	Point    string         `json:"point" doc:"Where the I/O is timed"`
	Source   string         `json:"source" doc:"Who timed it"`
	Objects  int            `json:"objects" doc:"How many objects are summed"`
	Interval float64        `json:"interval_s" doc:"The source's interval in s"`
	Coverage reading.Figure `json:"coverage" doc:"Part of the window covered, 0–1"`
}

// Strata is the latency of an object's virtual disks, split by layer over time.
type Strata struct {
	Of        string          `json:"of" doc:"The object, kind:id@source"`
	Name      string          `json:"name" doc:"Its name"`
	Kind      estate.Kind     `json:"kind" doc:"Its kind"`
	From      time.Time       `json:"from" doc:"Start of the first cell"`
	Step      float64         `json:"step_s" doc:"Length of a cell in s"`
	N         int             `json:"n" doc:"Number of cells"`
	Disks     int             `json:"disks" doc:"Virtual disks summed"`
	Read      Direction       `json:"read" doc:"Reads"`
	Write     Direction       `json:"write" doc:"Writes"`
	Coverage  reading.Figure  `json:"coverage" doc:"Part of the window in which the virtual disks were read, 0–1"`
	Change    *Change         `json:"change,omitempty" doc:"When it hurt, where something stands out"`
	Verdict   string          `json:"verdict" doc:"What was found" enum:"layer,cleared,unknown"`
	Statement []phrase.Phrase `json:"statement" doc:"What one would say on the phone"`
	Basis     []Basis         `json:"basis" doc:"What it rests on"`
	Notes     []string        `json:"notes" doc:"What limits it"`
	Conflicts []Contradiction `json:"contradictions" doc:"Places that time the same I/O and cannot both be right"`
}

// Verdicts of a Strata.
const (
	ArisesInLayer = "layer"
	Cleared       = "cleared"
	Unknown       = "unknown"
)

// nested is the order in which the points of measurement enclose one another: a datastore is timed
// around the host's device, although it is drawn below it.
var nested = []estate.Layer{estate.LayerGuest, estate.LayerDatastore, estate.LayerHost, estate.LayerFabric, estate.LayerFrontEnd, estate.LayerBackEnd}

// Indexes: the layers as in nested, then merged.
const (
	layers = 6
	above  = 6 // guest to fabric
	inside = 7 // front and back end
	across = 8 // on both sides of the array's border
	bands  = 9

	frontEnd = 4 // index in nested
)

// sum collects occupancy by layer, and the rate it belongs to. Division comes last.
type sum struct {
	occupancy [bands][]float64 // in flight, by layer
	total     []float64
	rate      []float64
	bytes     []float64
}

func newSum(n int) *sum {
	s := &sum{total: make([]float64, n), rate: make([]float64, n), bytes: make([]float64, n)}
	for k := range s.occupancy {
		s.occupancy[k] = make([]float64, n)
	}
	return s
}

// Compute splits the latency of the object's virtual disks over g by layer. The result shows cells
// [first, g.N); those before help to know what is usual. Moments must be in order and cover g; each
// cell uses the topology of its own moment. The object must be in the last moment.
func Compute(g reading.Grid, first int, moments []route.Moment, of estate.Key, r route.Readings) (Strata, error) {
	latest := moments[len(moments)-1].Map
	at, ok := latest.Estate().Position(of)
	if !ok {
		return Strata{}, fmt.Errorf("%s is not in the estate at %s", of, g.End().Format(time.RFC3339))
	}
	o := latest.Estate().At(at)
	return compute(g, first, moments, subject{
		of: of.String(), name: o.Title(), kind: of.Ref.Kind,
		disks: func(m *route.Map) ([]int32, bool) {
			_, ok := m.Estate().Position(of)
			return DisksOf(of)(m), ok
		},
		at: func(onset.Episode) estate.Key { return of },
	}, r), nil
}

// subject is what is looked at: an object, or an application, which is none.
type subject struct {
	of, name string
	kind     estate.Kind
	disks    func(m *route.Map) ([]int32, bool) // those of a moment; false where it was not there
	at       func(e onset.Episode) estate.Key   // the object from which the component is looked for in which a change arises
}

func compute(g reading.Grid, first int, moments []route.Moment, of subject, r route.Readings) Strata {
	latest := moments[len(moments)-1].Map
	c := &computation{first: first, g: g, r: r, memo: make(map[memoKey]reading.Cells), basis: make(map[string]*Basis), seen: make(map[estate.Key]bool)}
	read, write := newSum(g.N), newSum(g.N)
	disks := 0
	for _, m := range moments {
		lo, hi := m.Cells(g)
		drawn, ok := of.disks(m.Map)
		if !ok || lo >= hi {
			c.blank(read, write, lo, hi)
			continue
		}
		if m.Map == latest {
			disks = len(drawn)
		}
		if len(drawn) > manyDisks {
			drawn = measured(m.Map, drawn, r)
		}
		if len(drawn) == 0 {
			c.blank(read, write, lo, hi)
		}
		for _, d := range drawn {
			c.disk(m.Map, d, "read", read, lo, hi)
			c.disk(m.Map, d, "write", write, lo, hi)
		}
	}
	s := Strata{Of: of.of, Name: of.name, Kind: of.kind, From: g.At(first), Step: g.Step.Seconds(), N: g.N - first, Disks: disks,
		Notes: []string{}, Basis: []Basis{}}
	s.Read, s.Write = direction(g, read, first), direction(g, write, first)
	s.Coverage = coverage(read.total, write.total, first)
	s.Basis = c.bases()
	s.judge(g, first, read, write, moments, of.at, r)
	s.Notes = append(s.Notes, c.notes...)
	s.Conflicts = c.contradictions()
	s.Statement = s.statement(g, latest, of, r)
	return s
}

// manyDisks is how many disks are looked at one by one, whether they have readings or not: each says what is missing.
const manyDisks = 500

// measured keeps the disks of which there are readings at all.
func measured(m *route.Map, disks []int32, r route.Readings) []int32 {
	return slices.DeleteFunc(disks, func(d int32) bool {
		k := m.Estate().At(d).Key
		return len(r.Runs(k, "read_iops")) == 0 && len(r.Runs(k, "write_iops")) == 0
	})
}

func active(reached []route.Reached) []int32 {
	var at []int32
	for _, d := range reached {
		if d.State == route.Active {
			at = append(at, d.At)
		}
	}
	return at
}

func (c *computation) blank(read, write *sum, lo, hi int) {
	for i := lo; i < hi; i++ {
		read.total[i], write.total[i] = math.NaN(), math.NaN()
		read.rate[i], write.rate[i] = math.NaN(), math.NaN()
	}
}

func coverage(read, write []float64, first int) reading.Figure {
	known := 0
	for i := first; i < len(read); i++ {
		if !math.IsNaN(read[i]) || !math.IsNaN(write[i]) {
			known++
		}
	}
	return reading.Figure(float64(known) / float64(max(1, len(read)-first)))
}

// perIO divides occupancy by rate: µs per I/O, NaN where there is none.
func perIO(occupancy, rate float64) float64 {
	if !(rate > 0) {
		return math.NaN()
	}
	return occupancy / rate * 1e6
}

func quotient(occupancy, rate []float64, i, j int) reading.Figure {
	n, x := reading.PairMeans(occupancy, rate, i, j)
	return reading.Figure(perIO(n, x))
}

// bandOrder maps the layers as they are drawn, from above down, to their place in nested. What is above the array stands above it, and what
// nobody tells apart from what is in it below.
func bandOrder() (layers []estate.Layer, place []int) {
	for _, l := range estate.Layers {
		if l == estate.LayerFrontEnd {
			layers, place = append(layers, estate.LayerAboveArray), append(place, above)
		}
		layers, place = append(layers, l), append(place, slices.Index(nested, l))
	}
	return append(layers, estate.LayerInArray, estate.LayerUnsplit), append(place, inside, across)
}

func direction(g reading.Grid, s *sum, first int) Direction {
	n := len(s.total)
	row := func(occupancy []float64) reading.Row {
		out := make(reading.Row, 0, n-first)
		for i := first; i < n; i++ {
			out = append(out, perIO(occupancy[i], s.rate[i]))
		}
		return out
	}
	d := Direction{Total: row(s.total), IOPS: slices.Clone(s.rate[first:]), BytesS: slices.Clone(s.bytes[first:]), InFlight: slices.Clone(s.total[first:]),
		Mean: quotient(s.total, s.rate, first, n), Usual: reading.Missing, During: reading.Missing}
	d.P50, d.P95, d.P99 = quantile(d.Total, d.IOPS, 0.50), quantile(d.Total, d.IOPS, 0.95), quantile(d.Total, d.IOPS, 0.99)
	if worst := worstOf(d.Total); worst >= 0 {
		t := g.At(first + worst)
		d.Worst, d.WorstAt = reading.Figure(d.Total[worst]), &t
	} else {
		d.Worst = reading.Missing
	}
	layers, place := bandOrder()
	for k, l := range layers {
		occupancy := s.occupancy[place[k]]
		if place[k] >= above && !anyAbove(occupancy) {
			continue
		}
		d.Bands = append(d.Bands, Band{Layer: l, Time: row(occupancy), Mean: quotient(occupancy, s.rate, first, n),
			Usual: reading.Missing, During: reading.Missing, Added: reading.Missing})
	}
	return d
}

func anyAbove(values []float64) bool {
	return slices.ContainsFunc(values, func(v float64) bool { return v > 0 })
}

// quantile of the known values, each counted as often as I/Os were done; missing where none is known.
func quantile(values, rate []float64, q float64) reading.Figure {
	order := make([]int, 0, len(values))
	var all float64
	for i, v := range values {
		if !math.IsNaN(v) && rate[i] > 0 {
			order = append(order, i)
			all += rate[i]
		}
	}
	slices.SortFunc(order, func(a, b int) int { return cmp.Compare(values[a], values[b]) })
	var sum float64
	for _, i := range order {
		if sum += rate[i]; sum >= q*all {
			return reading.Figure(values[i])
		}
	}
	return reading.Missing
}

// worstOf is the place of the largest known value, -1 where none is known.
func worstOf(values []float64) int {
	worst := -1
	for i, v := range values {
		if !math.IsNaN(v) && (worst < 0 || v > values[worst]) {
			worst = i
		}
	}
	return worst
}

// Then returns the estate in the middle of a change, limits and paths as they were, and where an object is in it: the last estate
// that has the object if that one has not.
func Then(moments []route.Moment, key estate.Key, t time.Time) (*route.Map, int32) {
	m := moments[len(moments)-1].Map
	at, _ := m.Estate().Position(key)
	for _, x := range moments {
		if i, ok := x.Map.Estate().Position(key); ok && !t.Before(x.From) && t.Before(x.To) {
			return x.Map, i
		}
	}
	return m, at
}

// noticed is what people notice: a fifth more, and a quarter of a millisecond.
var noticed = onset.Rules{Factor: 1.2, Floor: 250}

// judge finds the change that weighs most, and where it arises.
func (s *Strata) judge(g reading.Grid, first int, read, write *sum, moments []route.Moment, from func(onset.Episode) estate.Key, r route.Readings) {
	s.Verdict = Unknown
	if float64(s.Coverage) < 0.5 {
		return
	}
	var best onset.Episode
	var of *sum
	var gained float64
	for _, d := range []*sum{read, write} {
		latency := make([]float64, g.N)
		for i := range latency {
			latency[i] = perIO(d.total[i], d.rate[i])
		}
		e, ok := onset.Shown(latency, first, noticed)
		if !ok {
			continue
		}
		gain := reading.MeanOver(d.rate, e.Begin, e.End) * (e.During - e.Usual)
		if gain > gained {
			best, of, gained = e, d, gain
		}
	}
	if of == nil {
		s.Verdict = Cleared
		return
	}
	for _, pair := range []struct {
		d *Direction
		s *sum
	}{{&s.Read, read}, {&s.Write, write}} {
		pair.d.Usual, pair.d.During = quotient(pair.s.total, pair.s.rate, best.UsualFrom, best.Begin), quotient(pair.s.total, pair.s.rate, best.Begin, best.End)
		for k := range pair.d.Bands {
			b := &pair.d.Bands[k]
			occupancy := pair.s.occupancy[placeOf(b.Layer)]
			b.Usual, b.During = quotient(occupancy, pair.s.rate, best.UsualFrom, best.Begin), quotient(occupancy, pair.s.rate, best.Begin, best.End)
			b.Added = b.During - b.Usual
		}
	}
	d, name := &s.Read, "read"
	if of == write {
		d, name = &s.Write, "write"
	}
	s.Verdict = ArisesInLayer
	ch := &Change{Direction: name, From: g.At(best.Begin), To: g.At(best.End), UsualFrom: g.At(best.UsualFrom), Persists: best.Persists, Usual: d.Usual, During: d.During, Added: reading.Figure(0), Cleared: []estate.Layer{}}
	added := d.During - d.Usual
	for _, b := range d.Bands {
		if b.Added > ch.Added {
			ch.Layer, ch.Added = b.Layer, b.Added
		}
	}
	for _, b := range d.Bands {
		if b.Layer != ch.Layer && b.Layer != estate.LayerUnsplit && b.During.Known() && b.During > 0 && b.Added < 0.15*added {
			ch.Cleared = append(ch.Cleared, b.Layer)
		}
	}
	m, at := Then(moments, from(best), g.At((best.Begin+best.End)/2))
	if f, ok := congest.Pinpoint(g, m, at, ch.Layer, congest.Change{UsualFrom: best.UsualFrom, Begin: best.Begin, End: best.End}, r); ok {
		o := m.Estate().At(f.At)
		ch.Component, ch.Name, ch.Why = o.Key.String(), m.FullName(f.At), f.Words
		for _, v := range m.VMs(f.At) {
			if v.State == route.Active {
				ch.Shared++
			}
		}
	}
	s.Change = ch
}

func placeOf(l estate.Layer) int {
	if k := slices.Index(merged, l); k >= 0 {
		return above + k
	}
	return slices.Index(nested, l)
}
