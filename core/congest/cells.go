package congest

import (
	"math"

	"dowsingrod/core/estate"
	"dowsingrod/core/reading"
	"dowsingrod/core/route"
)

// Needs appends the readings by which an object is judged.
func Needs(needs []route.Need, e *estate.Estate, i int32) []route.Need {
	key := e.At(i).Key
	var names []string
	for _, l := range defaults(e, i) {
		switch l.Metric {
		case Utilization:
			names = append(names, "tx_bytes_s", "rx_bytes_s")
		case AllowedShare:
			if most, ok := e.At(i).Facts.Number("iops_limit"); ok && most > 0 {
				names = append(names, "read_iops", "write_iops")
			}
		case UsedShare:
			names = append(names, "used_bytes")
		case UnevenShare:
			for _, p := range peers(e, i) {
				needs = append(needs, route.Need{Key: e.At(p).Key, Metrics: []string{"tx_bytes_s", "rx_bytes_s"}})
			}
		default:
			names = append(names, l.Metric)
		}
	}
	return append(needs, route.Need{Key: key, Metrics: names})
}

// Cells returns the figures that a limit judges, on a grid.
func Cells(g reading.Grid, e *estate.Estate, i int32, metric string, r route.Readings) reading.Cells {
	o := e.At(i)
	switch metric {
	case Utilization:
		return utilization(g, o, r)
	case AllowedShare:
		return allowed(g, o, r)
	case UnevenShare:
		return uneven(g, e, i, r)
	case UsedShare:
		return used(g, o, r)
	}
	return reading.Align(g, r.Runs(o.Key, metric))
}

func utilization(g reading.Grid, o *estate.Node, r route.Readings) reading.Cells {
	speed, ok := o.Facts.Number("speed_bytes_s")
	if !ok || speed <= 0 {
		return reading.NewCells(g.N)
	}
	tx, rx := reading.Align(g, r.Runs(o.Key, "tx_bytes_s")), reading.Align(g, r.Runs(o.Key, "rx_bytes_s"))
	for i := range tx.Value {
		if v := rx.Value[i]; math.IsNaN(tx.Value[i]) || v > tx.Value[i] {
			tx.Value[i], tx.Cover[i] = v, rx.Cover[i]
		}
		tx.Value[i] /= speed
	}
	return tx
}

// allowed is what an object does against the I/Os per second it is allowed.
func allowed(g reading.Grid, o *estate.Node, r route.Readings) reading.Cells {
	most, ok := o.Facts.Number("iops_limit")
	if !ok || most <= 0 {
		return reading.NewCells(g.N)
	}
	reads, writes := reading.Align(g, r.Runs(o.Key, "read_iops")), reading.Align(g, r.Runs(o.Key, "write_iops"))
	for i := range reads.Value {
		reads.Value[i] = (reads.Value[i] + writes.Value[i]) / most
	}
	return reads
}

// used is how full an object is. Where nothing is read of it, what its source states of it counts for every cell.
func used(g reading.Grid, o *estate.Node, r route.Readings) reading.Cells {
	have, ok := o.Facts.Number("bytes")
	if !ok || have <= 0 {
		return reading.NewCells(g.N)
	}
	c := reading.Align(g, r.Runs(o.Key, "used_bytes"))
	stated, says := o.Facts.Number("used_bytes")
	for i := range c.Value {
		if math.IsNaN(c.Value[i]) && says && c.Covered() == 0 {
			c.Value[i] = stated
		}
		c.Value[i] /= have
	}
	return c
}

// peers lists the other ports of a port's host.
func peers(e *estate.Estate, i int32) (of []int32) {
	host, ok := e.Owner(i, estate.Host)
	if !ok {
		return nil
	}
	for _, p := range e.From(host, estate.PartOf) {
		if p != i && e.Kind(p) == estate.HBAPort {
			of = append(of, p)
		}
	}
	return of
}

// uneven is how much more of its line a port uses than its peers do of theirs, on average.
func uneven(g reading.Grid, e *estate.Estate, i int32, r route.Readings) reading.Cells {
	of := peers(e, i)
	own := utilization(g, e.At(i), r)
	if len(of) == 0 {
		return reading.NewCells(g.N)
	}
	sum, n := make([]float64, g.N), make([]float64, g.N)
	for _, p := range of {
		for k, v := range utilization(g, e.At(p), r).Value {
			if !math.IsNaN(v) {
				sum[k] += v
				n[k]++
			}
		}
	}
	for k := range own.Value {
		own.Value[k] = math.Max(0, own.Value[k]-sum[k]/n[k]) // NaN where no peer is known
	}
	return own
}
