package suspect

import (
	"math"

	"dowsingrod/core/estate"
	"dowsingrod/core/reading"
	"dowsingrod/core/route"
)

// flowsOf lists the fabric's flows that carry a disk: those of its VM to its LUN. Where several disks of a VM lie on one LUN the frames do
// not tell them apart, and all flows count for the first of them.
func flowsOf(m *route.Map, disk int32) (flows []int32) {
	e := m.Estate()
	vm := e.FirstFrom(disk, estate.Uses)
	if vm < 0 || e.FirstFrom(vm, estate.FlowOf) < 0 {
		return nil
	}
	volumes := m.Volumes(disk)
	if len(volumes) == 0 {
		return nil
	}
	for _, other := range e.To(vm, estate.Uses) {
		if other == disk {
			break
		}
		if of := m.Volumes(other); len(of) > 0 && of[0] == volumes[0] {
			return nil
		}
	}
	number, ok := e.At(volumes[0]).Facts.Number("number")
	array, owned := e.Owner(volumes[0], estate.Array)
	for _, f := range e.From(vm, estate.FlowOf) {
		lun, has := e.At(f).Facts.Number("lun")
		if !ok || !has || lun != number {
			continue
		}
		if target := e.First(f, estate.Target); target >= 0 && owned {
			if at, found := e.Owner(target, estate.Array); found && at != array {
				continue
			}
		}
		flows = append(flows, f)
	}
	return flows
}

// flowed is what flows carried over cells: bytes and I/Os per second and I/Os in flight, reads and writes; nil where nothing was counted.
type flowed struct{ rate, bytes, flight [2][]float64 }

func (in Input) flowed(m *route.Map, flows []int32) *flowed {
	var out *flowed
	for _, f := range flows {
		key := m.Estate().At(f).Key
		if len(in.From.Runs(key, "read_iops")) == 0 && len(in.From.Runs(key, "write_iops")) == 0 {
			continue
		}
		if out == nil {
			out = &flowed{}
			for k := range 2 {
				out.rate[k], out.bytes[k], out.flight[k] = make([]float64, in.Grid.N), make([]float64, in.Grid.N), make([]float64, in.Grid.N)
			}
		}
		for k, dir := range []string{"read", "write"} {
			rate := in.From.Runs(key, dir+"_iops")
			for row, values := range map[*[]float64][]float64{
				&out.rate[k]:   reading.Align(in.Grid, rate).Value,
				&out.bytes[k]:  reading.Align(in.Grid, in.From.Runs(key, dir+"_bytes_s")).Value,
				&out.flight[k]: reading.Occupancy(in.Grid, rate, in.From.Runs(key, dir+"_latency_us")).Value,
			} {
				for i, v := range values {
					(*row)[i] += v
				}
			}
		}
	}
	return out
}

// unseen reports whether none of the rows has a value.
func unseen(rows ...[]float64) bool {
	for _, row := range rows {
		for _, v := range row {
			if !math.IsNaN(v) {
				return false
			}
		}
	}
	return true
}
