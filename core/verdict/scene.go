package verdict

import (
	"math"
	"slices"
	"time"

	"dowsingrod/core/congest"
	"dowsingrod/core/estate"
	"dowsingrod/core/reading"
	"dowsingrod/core/route"
	"dowsingrod/core/strata"
)

// Input is what an explanation rests on.
type Input struct {
	Grid    reading.Grid
	First   int            // the window asked about begins at this cell; those before tell what is usual
	Moments []route.Moment // in order, covering the grid
	Of      estate.Key
	From    route.Readings
	Events  []Event
}

// Event is something that happened to an object.
type Event struct {
	Of   estate.Key
	Time time.Time
	What string
}

// scene is what is looked at: the estate while it hurt and before, and the stretch of cells.
type scene struct {
	in      Input
	s       *strata.Strata
	m, was  *route.Map // soon after it began to hurt, and before it
	at      int32      // the subject in m
	before  int        // cells [before, begin) are usual
	begin   int
	end     int
	gain    map[estate.Layer]float64 // I/Os in flight added by layer
	gainOf  map[string]float64       // by direction
	total   float64
	volumes []int32
	below   []int32 // all the subject depends on by ways in use, itself included
}

func newScene(in Input, s *strata.Strata) *scene {
	c := s.Change
	x := &scene{in: in, s: s, before: in.Grid.Cell(c.UsualFrom), begin: in.Grid.Cell(c.From), end: in.Grid.Cell(c.To), gain: map[estate.Layer]float64{}, gainOf: map[string]float64{}}
	x.m, x.at = strata.Then(in.Moments, in.Of, c.From.Add(c.To.Sub(c.From)/4))
	x.was, _ = strata.Then(in.Moments, in.Of, later(in.Grid.From, c.UsualFrom.Add(-time.Hour)))
	for name, d := range map[string]*strata.Direction{"read": &s.Read, "write": &s.Write} {
		shown := s.N
		rate := reading.MeanOver(d.IOPS, max(0, x.begin-(in.Grid.N-shown)), x.end-(in.Grid.N-shown))
		if !(rate > 0) {
			continue
		}
		for _, b := range d.Bands {
			if added := float64(b.Added); added > 0 {
				x.gain[b.Layer] += added * rate / 1e6
				x.gainOf[name] += added * rate / 1e6
				x.total += added * rate / 1e6
			}
		}
	}
	x.below = []int32{x.at}
	seen := map[int32]bool{x.at: true}
	volumes := map[int32]bool{}
	for _, d := range x.m.VDisks(x.at) {
		for _, v := range x.m.Volumes(d.At) {
			if !volumes[v] {
				volumes[v] = true
				x.volumes = append(x.volumes, v)
			}
		}
		if !seen[d.At] {
			seen[d.At] = true
			x.below = append(x.below, d.At)
		}
	}
	for _, r := range x.m.Below(x.below...) {
		if r.State == route.Active && !seen[r.At] {
			seen[r.At] = true
			x.below = append(x.below, r.At)
		}
	}
	return x
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// fit is the part of the added time that arose in any of the layers, by where a cause of its kind adds time. A band that several
// layers share counts for each of them.
func (x *scene) fit(layers ...estate.Layer) float64 {
	if x.total <= 0 {
		return 0
	}
	have := map[estate.Layer]bool{}
	for _, l := range layers {
		have[l] = true
		switch l {
		case estate.LayerGuest, estate.LayerHost, estate.LayerDatastore, estate.LayerFabric:
			have[estate.LayerAboveArray] = true
		case estate.LayerFrontEnd, estate.LayerBackEnd:
			have[estate.LayerInArray] = true
		}
		have[estate.LayerUnsplit] = true
	}
	sum := 0.0
	for l, g := range x.gain {
		if have[l] {
			sum += g
		}
	}
	return sum / x.total
}

// share is the part of the added time that is of one direction.
func (x *scene) share(direction string) float64 {
	if x.total <= 0 {
		return 0
	}
	return x.gainOf[direction] / x.total
}

// pair returns the mean of a metric before and during the change. Utilization and AllowedShare are derived as for conditions.
func (x *scene) pair(i int32, metric string) (before, during float64) {
	v := congest.Cells(x.in.Grid, x.m.Estate().At(i), metric, x.in.From).Value
	return reading.MeanOver(v, x.before, x.begin), reading.MeanOver(v, x.begin, x.end)
}

// most returns what a metric reached in a quarter of the cells of the change, NaN where none is known.
func (x *scene) most(i int32, metric string) float64 {
	v := congest.Cells(x.in.Grid, x.m.Estate().At(i), metric, x.in.From).Value
	during := slices.DeleteFunc(slices.Clone(v[x.begin:x.end]), math.IsNaN)
	if len(during) == 0 {
		return math.NaN()
	}
	slices.Sort(during)
	return during[len(during)*3/4]
}

// latency returns an object's own µs per I/O in a direction before and during the change.
func (x *scene) latency(i int32, direction string) (before, during float64) {
	return x.timed(i, direction+"_iops", direction+"_latency_us")
}

func (x *scene) timed(i int32, rateOf, timeOf string) (before, during float64) {
	key := x.m.Estate().At(i).Key
	rate := x.in.From.Runs(key, rateOf)
	occupancy, cells := reading.Occupancy(x.in.Grid, rate, x.in.From.Runs(key, timeOf)).Value, reading.Align(x.in.Grid, rate).Value
	of := func(a, b int) float64 {
		n, r := reading.PairMeans(occupancy, cells, a, b)
		if !(r > 0) {
			return math.NaN()
		}
		return n / r * 1e6
	}
	return of(x.before, x.begin), of(x.begin, x.end)
}

// rate returns a sum of metrics of an object before and during the change.
func (x *scene) rate(i int32, metrics ...string) (before, during float64) {
	for _, m := range metrics {
		b, d := x.pair(i, m)
		if !math.IsNaN(b) {
			before += b
		}
		if !math.IsNaN(d) {
			during += d
		}
	}
	return before, during
}

// fact returns a number stated of an object before and during the change.
func (x *scene) fact(i int32, name string) (before, during float64, ok bool) {
	o := x.m.Estate().At(i)
	during, ok = o.Facts.Number(name)
	before = math.NaN()
	if k, found := x.was.Estate().Position(o.Key); found {
		if v, has := x.was.Estate().At(k).Facts.Number(name); has {
			before = v
		}
	}
	return before, during, ok
}

func (x *scene) stated(i int32) (before, during string) {
	o := x.m.Estate().At(i)
	if k, found := x.was.Estate().Position(o.Key); found {
		before = x.was.Estate().At(k).Facts.Text("state")
	}
	return before, o.Facts.Text("state")
}
