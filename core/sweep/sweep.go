// Package sweep looks for noisy neighbours in a whole estate at once: every component that machines share, every machine that uses it.
//
// It asks of each component what package suspect asks of one: did it slow, did its tenants then ask for more, and did one of them bring
// most of that. To be fast enough for tens of thousands of machines it takes rows of cells once, adds them up by component, and looks at
// tenants only where a component slowed. What it finds is where to look; the comparison of suspects tells the rest.
package sweep

import (
	"cmp"
	"math"
	"slices"
	"time"

	"dowsingrod/core/estate"
	"dowsingrod/core/internal/crew"
	"dowsingrod/core/onset"
	"dowsingrod/core/reading"
	"dowsingrod/core/route"
)

// Input is what Compute needs.
type Input struct {
	Grid  reading.Grid
	First int // the window begins at this cell; those before tell what is usual
	Map   *route.Map
	From  route.Readings // may be asked from several goroutines
}

// Metrics is what is asked of every virtual disk.
var Metrics = []string{"read_iops", "write_iops", "read_bytes_s", "write_bytes_s", "read_latency_us", "write_latency_us"}

// Tenant is a machine and its part.
type Tenant struct {
	At          int32
	Share       float64 // of the added demand, 0–1
	Rise        float64 // its demand during against before
	Correlation float64 // of its demand with the component's time per I/O, −1 to 1; NaN where not known
	InTime      bool    // whether its demand rose as the component slowed, or just before
}

// Outcome is what was found of a component that slowed.
type Outcome string

// Outcomes, as in package suspect.
const (
	Culprit   Outcome = "culprit"
	Everybody Outcome = "everybody"
	Itself    Outcome = "itself"
)

// Finding is a component that slowed.
type Finding struct {
	At           int32
	Outcome      Outcome
	Begin, End   int // cells
	Persists     bool
	Before       float64 // µs per I/O
	During       float64
	Waits        float64 // I/Os in flight more than usual: what waits, by Little's law
	Tenants      int
	Slower       int      // tenants whose own I/Os became slower
	First        []Tenant // those that brought most of the added demand, at most three
	Also         []int32  // components that slowed at the same time for the same tenants
	tenants      []int32  // indexes of machines, ascending
	demandBefore float64
	demandDuring float64
}

// Margins are those of package suspect.
const (
	culpritShare = 0.50
	runnerUp     = 2.0
	demandRise   = 1.12
	ownRise      = 1.30
	together     = 0.30 // a culprit's demand goes with the component's time: less is what unrelated rows have by chance over some forty cells
)

// A culprit's demand rises with the slowness or before it, by at most so many cells: queues fill within minutes, and clocks differ.
const (
	before = 15
	after  = 2
)

// piece is the size that costs a component as much again as an I/O: 64 KiB, as for suspects.
const piece = 64 << 10

// rows are what a machine does, per cell.
type rows struct{ demand, flight, rate []float64 }

func newRows(n int) rows {
	all := make([]float64, 3*n)
	return rows{all[:n:n], all[n : 2*n : 2*n], all[2*n:]}
}

// add adds what is known of other rows.
func (r rows) add(o rows) {
	n := len(o.flight) // all are as long: nothing is looked up beyond
	demand, rate := o.demand[:n], o.rate[:n]
	toDemand, toFlight, toRate := r.demand[:n], r.flight[:n], r.rate[:n]
	for i, v := range o.flight {
		if d := demand[i]; v == v && d == d {
			toDemand[i] += d
			toFlight[i] += v
			toRate[i] += rate[i]
		}
	}
}

func (r rows) time() []float64 {
	out := make([]float64, len(r.rate))
	for i := range out {
		out[i] = r.flight[i] / r.rate[i] * 1e6 // 0/0 is NaN
	}
	return out
}

// Compute lists the components that slowed, those for which most waits first. It uses all processors, and joins what it starts.
func Compute(in Input) []Finding {
	e := in.Map.Estate()
	vms := e.OfKind(estate.VM)
	of := make([]rows, len(vms))
	shared := make([][]int32, len(vms))
	crew.Each(len(vms), func(k int) {
		of[k] = newRows(in.Grid.N)
		known := false
		for _, d := range e.To(vms[k], estate.Uses) {
			known = in.take(of[k], e.At(d).Key) || known
			for _, c := range components(in.Map, d) {
				if !slices.Contains(shared[k], c) {
					shared[k] = append(shared[k], c)
				}
			}
		}
		if !known {
			of[k] = rows{}
		}
	})
	tenants := map[int32][]int32{} // by component, indexes of machines
	for k := range vms {
		if of[k].rate == nil {
			continue
		}
		for _, c := range shared[k] {
			tenants[c] = append(tenants[c], int32(k))
		}
	}
	list := make([]int32, 0, len(tenants))
	for c, t := range tenants {
		if len(t) > 1 {
			list = append(list, c)
		}
	}
	slices.Sort(list)
	found := make([]*Finding, len(list))
	crew.Each(len(list), func(k int) { found[k] = in.look(list[k], vms, of, tenants[list[k]]) })
	var out []Finding
	for _, f := range found {
		if f != nil {
			out = append(out, *f)
		}
	}
	slices.SortStableFunc(out, func(a, b Finding) int { return -cmp.Compare(a.Waits, b.Waits) })
	return fold(out)
}

// take adds a disk's readings to rows, and reports whether there are any.
func (in Input) take(r rows, disk estate.Key) bool {
	var runs [6][]reading.Series
	any := false
	for k, m := range Metrics {
		runs[k] = in.From.Runs(disk, m)
		any = any || len(runs[k]) > 0
	}
	if !any {
		return false
	}
	for k := range 2 {
		if len(runs[k]) == 0 {
			continue
		}
		reading.Add(r.rate, in.Grid, runs[k], 1)
		reading.AddOccupancy(r.flight, in.Grid, runs[k], runs[4+k])
		reading.Add(r.demand, in.Grid, runs[2+k], 1.0/piece)
	}
	return true
}

// components lists what a disk shares with others: the LUNs it lies on, their controllers in use, and their pools.
func components(m *route.Map, disk int32) (of []int32) {
	e := m.Estate()
	for _, v := range m.Volumes(disk) {
		of = append(of, v)
		if c := e.First(v, estate.ServedBy); c >= 0 {
			of = append(of, c)
		}
		of = append(of, e.To(v, estate.CarvedFrom)...)
	}
	return of
}

// look compares the tenants of a component, nil where it did not slow.
func (in Input) look(at int32, vms []int32, of []rows, tenants []int32) *Finding {
	whole := newRows(in.Grid.N)
	for _, t := range tenants {
		whole.add(of[t])
	}
	time := whole.time()
	ep, ok := onset.Shown(time, in.First, onset.Rules{Factor: 1.2, Floor: 250})
	if !ok {
		return nil
	}
	f := &Finding{At: at, Begin: ep.Begin, End: ep.End, Persists: ep.Persists, tenants: tenants, Before: ep.Usual, During: ep.During, Tenants: len(tenants),
		Waits: reading.MeanOver(whole.rate, ep.Begin, ep.End) * (ep.During - ep.Usual) / 1e6}
	var added float64
	parts := make([]Tenant, 0, len(tenants))
	for _, t := range tenants {
		r := of[t]
		demand := func(i, j int) float64 { return reading.MeanOver(r.demand, i, j) + reading.MeanOver(r.rate, i, j) }
		usual, during := demand(ep.UsualFrom, ep.Begin), demand(ep.Begin, ep.End)
		if math.IsNaN(usual) || math.IsNaN(during) {
			continue
		}
		f.demandBefore, f.demandDuring = f.demandBefore+usual, f.demandDuring+during
		if slower(r, ep) {
			f.Slower++
		}
		if rise := during - usual; rise > 0 {
			added += rise
			parts = append(parts, Tenant{At: vms[t], Share: rise, Rise: during / usual, Correlation: float64(t)})
		}
	}
	slices.SortFunc(parts, func(a, b Tenant) int { return cmp.Or(-cmp.Compare(a.Share, b.Share), cmp.Compare(a.At, b.At)) })
	f.First = slices.Clone(parts[:min(3, len(parts))])
	for k := range f.First {
		t := &f.First[k]
		r := of[int(t.Correlation)]
		cost := make([]float64, in.Grid.N)
		for i := range cost {
			cost[i] = r.demand[i] + r.rate[i]
		}
		t.Share /= added
		t.Correlation = reading.Correlation(cost[ep.UsualFrom:], time[ep.UsualFrom:])
		if own, ok := onset.Find(cost, max(0, ep.UsualFrom-1), onset.Rules{Factor: ownRise}); ok {
			t.InTime = own.Begin >= ep.Begin-before && own.Begin <= ep.Begin+after
		}
	}
	f.judge()
	return f
}

// slower reports whether a tenant's own I/Os became slower by what people notice.
func slower(r rows, ep onset.Episode) bool {
	of := func(i, j int) float64 {
		n, x := reading.PairMeans(r.flight, r.rate, i, j)
		return n / x * 1e6
	}
	usual, during := of(ep.UsualFrom, ep.Begin), of(ep.Begin, ep.End)
	return during > 1.2*usual && during > usual+250
}

func (f *Finding) judge() {
	switch {
	case f.demandDuring < demandRise*f.demandBefore || len(f.First) == 0:
		f.Outcome = Itself
	case f.First[0].Share >= culpritShare && f.First[0].Rise >= ownRise && f.First[0].Correlation >= together && f.First[0].InTime &&
		(len(f.First) == 1 || f.First[0].Share >= runnerUp*f.First[1].Share):
		f.Outcome = Culprit
	default:
		f.Outcome = Everybody
	}
}

// fold keeps one of the components that slowed at the same time for the same machines: a LUN, its pool and its controller are used by the
// same ones, and that for which most waits is the one to look at. Where somebody stands out at both it must be the same one.
func fold(of []Finding) []Finding {
	var out []Finding
	for _, f := range of {
		k := slices.IndexFunc(out, func(o Finding) bool {
			near := f.Begin-o.Begin <= 3 && o.Begin-f.Begin <= 3
			return near && shares(o.tenants, f.tenants) && (f.lead() < 0 || f.lead() == o.lead())
		})
		if k >= 0 {
			out[k].Also = append(out[k].Also, f.At)
			continue
		}
		out = append(out, f)
	}
	return out
}

// lead is who stands out, -1 where nobody does.
func (f Finding) lead() int32 {
	if f.Outcome != Culprit {
		return -1
	}
	return f.First[0].At
}

// shares reports whether half of the fewer of two ordered lists are in both.
func shares(a, b []int32) bool {
	if len(a) > len(b) {
		a, b = b, a
	}
	both := 0
	for _, v := range a {
		if _, found := slices.BinarySearch(b, v); found {
			both++
		}
	}
	return 2*both >= len(a)
}

// Window returns when a finding began and ended.
func (f Finding) Window(g reading.Grid) (from, to time.Time) { return g.At(f.Begin), g.At(f.End) }
