package strata

import (
	"math"

	"dowsingrod/core/estate"
	"dowsingrod/core/onset"
	"dowsingrod/core/reading"
	"dowsingrod/core/route"
)

// Application is what stands for the kind of an application: no object of an estate, but all machines that state it.
const Application estate.Kind = "application"

// Machines lists the machines of an application, in the order of the estate.
func Machines(m *route.Map, application string) (vms []int32) {
	e := m.Estate()
	for _, vm := range e.OfKind(estate.VM) {
		if e.At(vm).Facts.Text("application") == application {
			vms = append(vms, vm)
		}
	}
	return vms
}

// ComputeApplication splits the latency of all disks of an application's machines by layer, as [Compute] does for an object. The component in
// which a change arises is looked for from the machine that gained most by it.
func ComputeApplication(g reading.Grid, first int, moments []route.Moment, application string, r route.Readings) Strata {
	return compute(g, first, moments, subject{
		of: string(Application) + ":" + application, name: application, kind: Application,
		disks: func(m *route.Map) ([]int32, bool) {
			return DisksOfApplication(application)(m), len(Machines(m, application)) > 0
		},
		at: func(e onset.Episode) estate.Key {
			return worstDuring(g, moments[len(moments)-1].Map, application, e, r)
		},
	}, r)
}

// machine is what the disks of a machine do together in a direction, per cell.
type machine struct{ flight, rate []float64 }

func machineOf(g reading.Grid, m *route.Map, vm int32, dir string, r route.Readings) machine {
	x := machine{make([]float64, g.N), make([]float64, g.N)}
	for _, d := range active(m.VDisks(vm)) {
		key := m.Estate().At(d).Key
		rates := r.Runs(key, dir+"_iops")
		for i, v := range reading.Occupancy(g, rates, r.Runs(key, dir+"_latency_us")).Value {
			x.flight[i] += v
		}
		for i, v := range reading.Align(g, rates).Value {
			x.rate[i] += v
		}
	}
	return x
}

// gained is how many more I/Os are in flight during an episode because each takes longer than before.
func (x machine) gained(e onset.Episode) float64 {
	mean := func(i, j int) (us, rate float64) {
		flight, rate := reading.PairMeans(x.flight, x.rate, i, j)
		return perIO(flight, rate), rate
	}
	before, _ := mean(e.UsualFrom, e.Begin)
	during, rate := mean(e.Begin, e.End)
	return rate * (during - before) / 1e6
}

// worstDuring is the machine of an application that gained most in flight during an episode.
func worstDuring(g reading.Grid, m *route.Map, application string, e onset.Episode, r route.Readings) (worst estate.Key) {
	most := math.Inf(-1)
	for _, vm := range Machines(m, application) {
		gain := 0.0
		for _, dir := range []string{"read", "write"} {
			if v := machineOf(g, m, vm, dir, r).gained(e); !math.IsNaN(v) {
				gain += v
			}
		}
		if gain > most {
			worst, most = m.Estate().At(vm).Key, gain
		}
	}
	return worst
}

// Worst is the machine of an application that waits most: the one that gained most in flight since it became slow. Where none became slow it
// is the one that holds most in flight, and slow is false. The key is empty where the application has no machine of which anything is read.
func Worst(g reading.Grid, first int, moments []route.Moment, application string, r route.Readings) (worst estate.Key, slow bool) {
	m := moments[len(moments)-1].Map
	most := 0.0
	for _, vm := range Machines(m, application) {
		for _, dir := range []string{"read", "write"} {
			x := machineOf(g, m, vm, dir, r)
			latency := make([]float64, g.N)
			for i := range latency {
				latency[i] = perIO(x.flight[i], x.rate[i])
			}
			e, ok := onset.Shown(latency, first, noticed)
			weight := reading.MeanOver(x.flight, first, g.N)
			if ok {
				weight = x.gained(e)
			}
			if math.IsNaN(weight) || slow && !ok || weight <= most && slow == ok {
				continue
			}
			worst, most, slow = m.Estate().At(vm).Key, weight, ok
		}
	}
	return worst, slow
}

// ApplicationNeeds lists the readings that [ComputeApplication] asks for.
func ApplicationNeeds(moments []route.Moment, application string) (needs []route.Need) {
	machines, have := map[estate.Key]bool{}, map[estate.Key]bool{}
	for _, m := range moments {
		for _, vm := range Machines(m.Map, application) {
			key := m.Map.Estate().At(vm).Key
			if machines[key] {
				continue
			}
			machines[key] = true
			for _, n := range Needs(moments, key) {
				if !have[n.Key] {
					have[n.Key] = true
					needs = append(needs, n)
				}
			}
		}
	}
	return needs
}
