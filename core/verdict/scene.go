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
	added   float64 // µs per I/O in the direction that hurts most
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
	x.added = float64(c.During - c.Usual)
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
	x.carry()
	return x
}

// under are the layers below a host's queue.
var under = []estate.Layer{estate.LayerFabric, estate.LayerFrontEnd, estate.LayerBackEnd, estate.LayerInArray}

// carry moves what was added in the host's queue to the layers below, as far as it grew because of them. Places in a queue are held for
// as long as an I/O is below, so by the utilization law (held = rate × time) the queue grew by the product of what its rate and the time
// below grew by; the part of each is its part of the logarithm. Of a host that does not tell its queue from the rest above the array
// this counts where the array takes twice as long: then its queue is what grew.
func (x *scene) carry() {
	queue, least := estate.LayerHost, math.Log(1.2) // layers are told apart to within a fifth
	if x.gain[queue] <= 0 {
		queue, least = estate.LayerAboveArray, math.Log(2)
	}
	waiting := x.gain[queue]
	below, volumes := x.slowedBelow(), x.slowedVolumes()
	slower := math.Max(below, volumes)
	into := under
	if volumes > below/2 { // the array times its volumes itself: the fabric is not in it
		into = []estate.Layer{estate.LayerFrontEnd, estate.LayerBackEnd, estate.LayerInArray}
	}
	if waiting <= 0 || !(slower > least) {
		return
	}
	moved := waiting * slower / (slower + x.asked())
	x.gain[queue] -= moved
	var gained float64
	for _, l := range into {
		gained += math.Max(0, x.gain[l])
	}
	if gained <= 0 {
		x.gain[estate.LayerInArray] += moved
		return
	}
	for _, l := range into {
		if g := x.gain[l]; g > 0 {
			x.gain[l] += moved * g / gained
		}
	}
}

// slowedBelow is the logarithm of how much longer the subject's I/Os take below the queue.
func (x *scene) slowedBelow() float64 {
	var before, during float64
	for name, d := range map[string]*strata.Direction{"read": &x.s.Read, "write": &x.s.Write} {
		if x.gainOf[name] <= 0 {
			continue
		}
		for _, b := range d.Bands {
			if slices.Contains(under, b.Layer) && b.Usual.Known() && b.During.Known() {
				before, during = before+float64(b.Usual), during+float64(b.During)
			}
		}
	}
	if !(before > 0) {
		return 0
	}
	return math.Log(during / before)
}

// slowedVolumes is the logarithm of how much longer any I/O to the subject's volumes takes: places in a queue are held by all of them.
func (x *scene) slowedVolumes() (most float64) {
	for _, v := range x.volumes {
		for _, dir := range []string{"read", "write"} {
			if b, d := x.latency(v, dir); b > 0 && d-b > 250 {
				most = math.Max(most, math.Log(d/b))
			}
		}
	}
	return most
}

// asked is the logarithm of how much more the subject's devices do, or its volumes where those do not tell.
func (x *scene) asked() (most float64) {
	var told bool
	for _, i := range x.below {
		if x.m.Estate().Kind(i) == estate.Device {
			if b, d := x.rate(i, "read_iops", "write_iops"); b > 0 {
				told = true
				most = math.Max(most, math.Log(d/b))
			}
		}
	}
	if told {
		return most
	}
	for _, v := range x.volumes {
		if b, d := x.rate(v, "read_iops", "write_iops"); b > 0 {
			most = math.Max(most, math.Log(d/b))
		}
	}
	return most
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
	if metric != congest.Utilization && metric != congest.AllowedShare {
		runs := x.in.From.Runs(x.m.Estate().At(i).Key, metric)
		return reading.Mean(x.in.Grid, runs, x.before, x.begin), reading.Mean(x.in.Grid, runs, x.begin, x.end)
	}
	v := congest.Cells(x.in.Grid, x.m.Estate(), i, metric, x.in.From).Value
	return reading.MeanOver(v, x.before, x.begin), reading.MeanOver(v, x.begin, x.end)
}

// most returns what a metric reached in a quarter of the cells of the change, NaN where none is known.
func (x *scene) most(i int32, metric string) float64 {
	v := congest.Cells(x.in.Grid, x.m.Estate(), i, metric, x.in.From).Value
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
