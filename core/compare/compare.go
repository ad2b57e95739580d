// Package compare puts two stretches of time, or two objects, side by side and says what differs most.
package compare

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"dowsingrod/core/congest"
	"dowsingrod/core/estate"
	"dowsingrod/core/phrase"
	"dowsingrod/core/reading"
	"dowsingrod/core/route"
)

// Side is one of the two.
type Side struct {
	Grid reading.Grid
	Map  *route.Map
	At   int32 // the object in the map
	From route.Readings
}

// Contrast is a figure on both sides.
type Contrast struct {
	Ref    string         `json:"ref" doc:"The object on the first side, kind:id@source"`
	Other  string         `json:"other" doc:"The object on the second side; the same where windows are compared"`
	Name   string         `json:"name" doc:"Its name; of two objects in the same place both"`
	Kind   estate.Kind    `json:"kind" doc:"Its kind"`
	Metric string         `json:"metric" doc:"The metric, or utilization for a port's busier direction against its speed"`
	Unit   reading.Unit   `json:"unit" doc:"Its unit" enum:"1/s,B/s,µs,share,count,B"`
	First  reading.Figure `json:"first" doc:"Mean on the first side"`
	Second reading.Figure `json:"second" doc:"Mean on the second side"`
	Apart  reading.Figure `json:"apart" doc:"How clearly the two differ: 0 where values of one side are as often above as below those of the other, 1 where always"`
	Weight reading.Figure `json:"weight" doc:"What they are ordered by: by what factor I/O waits longer or more is done, as a logarithm, as far as it is more than what readings scatter by"`
	Words  string         `json:"words" doc:"In words"`
}

// metrics are what is compared of each kind, beside what its condition is judged by.
var metrics = map[estate.Kind][]string{
	estate.VDisk: {"read_latency_us", "write_latency_us", "read_iops", "write_iops", "read_bytes_s", "write_bytes_s", "outstanding"},
	estate.VM:    {"busy_share", "steal_share"}, estate.Host: {"busy_share"},
	estate.Device:     {"queue_latency_us", "read_latency_us", "write_latency_us"},
	estate.HBAPort:    {congest.Utilization, "credit_zero_share", "crc_errors_s"},
	estate.SwitchPort: {congest.Utilization, "credit_zero_share", "crc_errors_s"},
	estate.TargetPort: {congest.Utilization, "credit_zero_share", "crc_errors_s"},
	estate.Volume:     {"read_latency_us", "write_latency_us", "read_iops", "write_iops", "cache_hit_share"},
	estate.Share:      {"read_latency_us", "write_latency_us", "read_iops", "write_iops"},
	estate.Controller: {"busy_share", "write_pending_share"},
	estate.Pool:       {"busy_share", "read_latency_us", "write_latency_us", "read_iops", "write_iops"},
	estate.RAIDGroup:  {"busy_share"}, estate.SiteLink: {"round_trip_us"},
}

// members lists the object, its disks and all they depend on by ways in use.
func members(m *route.Map, i int32) []int32 {
	out := []int32{i}
	starts := []int32{i}
	for _, d := range m.VDisks(i) {
		if d.At != i {
			out, starts = append(out, d.At), append(starts, d.At)
		}
	}
	for _, r := range m.Below(starts...) {
		if r.State == route.Active && !slices.Contains(out, r.At) {
			out = append(out, r.At)
		}
	}
	return out
}

// Needs lists the readings of a side that Compute asks for.
func Needs(m *route.Map, i int32) (needs []route.Need) {
	for _, at := range members(m, i) {
		var names []string
		for _, name := range metrics[m.Estate().Kind(at)] {
			switch {
			case name == congest.Utilization:
				names = append(names, "tx_bytes_s", "rx_bytes_s")
			case strings.HasSuffix(name, "_latency_us"):
				names = append(names, name, "read_iops", "write_iops")
			default:
				names = append(names, name)
			}
		}
		if len(names) > 0 {
			needs = append(needs, route.Need{Key: m.Estate().At(at).Key, Metrics: names})
		}
	}
	return needs
}

// placed tells which members stand in a place of their own: a machine's disks and what they depend on, and of a component what lies below it. Who
// uses a component is in no place: the first user of one pool is no peer of the first user of another.
func placed(m *route.Map, i int32) map[int32]bool {
	out := map[int32]bool{i: true}
	below := []int32{i}
	if m.Estate().Kind(i) == estate.VM {
		for _, d := range m.VDisks(i) {
			out[d.At] = true
			below = append(below, d.At)
		}
	}
	for _, r := range m.Below(below...) {
		out[r.At] = true
	}
	return out
}

// Compute compares everything that both sides have: of two windows every object on the routes in both, of two objects what both use, and what
// stands in the same place of its kind. What differs most comes first.
func Compute(a, b Side) []Contrast {
	out := []Contrast{}
	for _, pair := range pairs(a, b) {
		for _, metric := range metrics[a.Map.Estate().Kind(pair[0])] {
			if d, ok := differ(a, b, pair[0], pair[1], metric); ok {
				out = append(out, d)
			}
		}
	}
	slices.SortStableFunc(out, func(x, y Contrast) int { return -cmp.Compare(x.Weight, y.Weight) })
	return out
}

func pairs(a, b Side) (out [][2]int32) {
	first, second := members(a.Map, a.At), members(b.Map, b.At)
	ea, eb := a.Map.Estate(), b.Map.Estate()
	placedA, placedB := placed(a.Map, a.At), placed(b.Map, b.At)
	taken := map[int32]bool{}
	for _, i := range first { // the same object on both
		if k, ok := eb.Position(ea.At(i).Key); ok && slices.Contains(second, k) {
			taken[k] = true
			out = append(out, [2]int32{i, k})
		}
	}
	for _, i := range first {
		if k, ok := eb.Position(ea.At(i).Key); !placedA[i] || ok && slices.Contains(second, k) {
			continue
		}
		for _, k := range second {
			if placedB[k] && !taken[k] && eb.Kind(k) == ea.Kind(i) {
				if _, both := ea.Position(eb.At(k).Key); both && slices.ContainsFunc(first, func(f int32) bool { return ea.At(f).Key == eb.At(k).Key }) {
					continue
				}
				taken[k] = true
				out = append(out, [2]int32{i, k})
				break
			}
		}
	}
	return out
}

func differ(a, b Side, i, k int32, metric string) (Contrast, bool) {
	x, first := values(a, i, metric)
	y, second := values(b, k, metric)
	if len(x) < 3 || len(y) < 3 || !(first > 0) && !(second > 0) {
		return Contrast{}, false
	}
	o := a.Map.Estate().At(i)
	unit := reading.SharePart
	if m, ok := reading.Lookup(metric); ok {
		unit = m.Unit
	}
	name, other := a.Map.FullName(i), b.Map.FullName(k)
	if o.Key != b.Map.Estate().At(k).Key {
		name += " / " + other
	}
	xs, ys := scatter(x), scatter(y) // in the order of time, which above changes
	apart := math.Abs(2*above(x, y) - 1)
	weight := size(metric, unit, first, second) * clarity(second-first, xs, ys)
	d := Contrast{Ref: o.Key.String(), Other: b.Map.Estate().At(k).Key.String(), Name: name, Kind: o.Key.Ref.Kind, Metric: metric, Unit: unit,
		First: reading.Figure(first), Second: reading.Figure(second), Apart: reading.Figure(apart), Weight: reading.Figure(weight)}
	switch {
	case weight < 0.05:
		d.Words = "much the same"
	case first > 0 && second >= 2*first:
		d.Words = fmt.Sprintf("%s times as much", phrase.Rate(second/first))
	case first > 0 && second >= first:
		d.Words = phrase.Percent(second/first-1) + " more"
	case first > 0:
		d.Words = phrase.Percent(1-second/first) + " less"
	default:
		d.Words = "from nothing"
	}
	return d, true
}

// size is how much a difference matters, on one scale for all metrics: the logarithm of the factor by which I/O waits longer, or more is
// done. In any queue the response grows with 1 ÷ (1 − ρ), so a port that is used for two thousandths of its line instead of one is next to
// no difference. Of reads that a cache answers those that it does not answer count. What is too little to notice is added to both sides, so
// that a multiple of next to nothing counts for little.
func size(metric string, unit reading.Unit, first, second float64) float64 {
	floor := map[reading.Unit]float64{
		reading.Microseconds:   50,       // µs: a fifth of what people notice
		reading.PerSecond:      1,        // the mean of fewer is chance
		reading.BytesPerSecond: 64 << 10, // one usual piece a second
		reading.Count:          0.05,
	}[unit]
	switch {
	case metric == "crc_errors_s" || metric == "discards_s":
		floor = 0.01 // what strains a port
	case metric == "cache_hit_share":
		first, second, floor = 1-first, 1-second, 0.01
	case unit == reading.SharePart:
		first, second, floor = 1-math.Min(first, 1), 1-math.Min(second, 1), 0.01
	}
	return math.Abs(math.Log((second + floor) / (first + floor)))
}

// spread is what single readings scatter by, and how many there are.
type spread struct {
	variance float64
	n        int
}

// scatter is the variance of readings about whatever course they take: half the mean square successive difference (J. von Neumann, 1941),
// which a rise within the window does not enlarge as it does the usual variance.
func scatter(values []float64) spread {
	sum := 0.0
	for i := 1; i < len(values); i++ {
		sum += (values[i] - values[i-1]) * (values[i] - values[i-1])
	}
	return spread{sum / 2 / float64(len(values)-1), len(values)}
}

// clarity is the probability that two means differ by less than this through scatter alone, 0–1: by the normal distribution with the
// standard error √(σ²₁/n₁ + σ²₂/n₂).
func clarity(difference float64, a, b spread) float64 {
	e := math.Sqrt(a.variance/float64(a.n) + b.variance/float64(b.n))
	if e == 0 {
		if difference == 0 {
			return 0
		}
		return 1
	}
	return math.Erf(math.Abs(difference) / e / math.Sqrt2)
}

// values returns the known cells of a metric, and its mean: of latencies weighted by I/O.
func values(s Side, i int32, metric string) (known []float64, mean float64) {
	o := s.Map.Estate().At(i)
	cells := congest.Cells(s.Grid, s.Map.Estate(), i, metric, s.From).Value
	mean = reading.MeanOver(cells, 0, s.Grid.N)
	if dir, ok := strings.CutSuffix(metric, "_latency_us"); ok && dir != "queue" {
		rate := s.From.Runs(o.Key, dir+"_iops")
		flight, x := reading.PairMeans(reading.Occupancy(s.Grid, rate, s.From.Runs(o.Key, metric)).Value, reading.Align(s.Grid, rate).Value, 0, s.Grid.N)
		if x > 0 {
			mean = flight / x * 1e6
		}
	}
	for _, v := range cells {
		if !math.IsNaN(v) {
			known = append(known, v)
		}
	}
	return known, mean
}

// above is the probability that a value of y exceeds one of x, ties counted half (McGraw and Wong, 1992).
func above(x, y []float64) float64 {
	slices.Sort(x)
	wins := 0.0
	for _, v := range y {
		low, _ := slices.BinarySearch(x, v)
		high, _ := slices.BinarySearchFunc(x, v, func(e, t float64) int {
			if e <= t {
				return -1
			}
			return 1
		})
		wins += float64(low) + float64(high-low)/2
	}
	return wins / float64(len(x)*len(y))
}
