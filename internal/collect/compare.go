package collect

import (
	"context"
	"math"
	"time"

	"dowsingrod/core/estate"
	"dowsingrod/internal/source"
)

// comparedEvery is how many passes lie between two comparisons.
const comparedEvery = 6

// comparison gathers what is needed to hold our figures against the source's own.
type comparison struct {
	since    time.Time // of the counters below
	counters map[string]float64
	passes   int
	ops      float64 // that our readings say were done since
	bytes    float64
	covered  map[string]float64 // seconds of readings by object
	capacity float64
}

// compareNow adds what a pass brought, and compares now and then. Ours is what was handed to the sink, theirs what the
// source's own totals grew by.
func (w *worker) compareNow(ctx context.Context, b Batch) {
	totals, ok := w.src.(source.Totals)
	if !ok {
		return
	}
	c := &w.compare
	if !b.Unchanged {
		c.capacity = 0
		for i := range b.Objects {
			if o := &b.Objects[i]; o.Kind == estate.VDisk || o.Kind == estate.Volume {
				bytes, _ := o.Facts.Number("bytes")
				c.capacity += bytes
			}
		}
	}
	if !c.since.IsZero() {
		for _, r := range b.Readings {
			ref, err := estate.ParseRef(r.Of)
			if err != nil || ref.Kind != estate.VDisk && ref.Kind != estate.Volume {
				continue
			}
			for metric, values := range r.Values {
				sum := 0.0
				for _, v := range values {
					if !math.IsNaN(v) {
						sum += v * r.Step
					}
				}
				switch metric {
				case "read_iops", "write_iops":
					c.ops += sum
				case "read_bytes_s", "write_bytes_s":
					c.bytes += sum
				}
				if metric == "read_iops" {
					c.covered[r.Of] += float64(len(values)) * r.Step
				}
			}
		}
	}
	if c.passes++; c.passes%comparedEvery != 2 {
		return
	}
	theirs, at, err := totals.Totals(ctx)
	if err != nil {
		return
	}
	defer func() {
		c.since, c.counters, c.ops, c.bytes, c.covered = at, map[string]float64{"ops": theirs.Operations, "bytes": theirs.Bytes}, 0, 0, map[string]float64{}
	}()
	out := []Comparison{agree("capacity of all disks", "B", c.capacity, theirs.Capacity)}
	covered := 0.0
	for _, s := range c.covered {
		covered = max(covered, s)
	}
	if c.counters != nil && covered > 0 {
		elapsed := at.Sub(c.since).Seconds()
		out = append(out, agree("I/O completed", "1/s", c.ops/covered, (theirs.Operations-c.counters["ops"])/elapsed),
			agree("bytes moved", "B/s", c.bytes/covered, (theirs.Bytes-c.counters["bytes"])/elapsed))
	}
	w.Health.Compared, w.Health.ComparedAt = out, at.UTC()
}

func agree(what, unit string, ours, theirs float64) Comparison {
	return Comparison{what, unit, ours, theirs, math.Abs(ours-theirs) <= 0.05*math.Max(math.Abs(ours), math.Abs(theirs))+1e-9}
}
