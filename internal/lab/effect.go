package lab

import "time"

// effects are what faults do to the estate at a moment. Neutral effects change nothing.
type effects struct {
	factor     []float64    // of what each machine asks for
	cpu, steal []float64    // of each machine
	extra      []work       // what each disk does besides
	limit      []float64    // I/Os per second of each disk, 0 for none
	slow       []float64    // factor on each controller's service time
	writeBack  []bool       // whether each controller's write cache works
	drives     []float64    // factor on each pool's service times
	writes     []float64    // factor on what a write costs each pool
	rebuild    []float64    // I/Os each pool keeps going for a rebuild
	ceiling    []float64    // I/Os per second of each volume, 0 for none
	weights    [][2]float64 // parts of each host's I/O that take its two fabrics
	depth      []float64    // factor on each host's device queues
	drain      []float64    // factor on the time each port needs to take bytes in
	errors     []float64    // frames per million that each port loses
	roundTrip  float64      // s added to the site link's
	siteBytes  float64      // bytes per second on the site link that are nobody's here
	bent       bool         // whether legs or queues differ from what was built
}

// work is a load of a disk.
type work struct {
	threads, think      float64
	reads               float64 // part of its I/Os
	readSize, writeSize float64
	miss                float64 // part of its reads that no cache holds
	sequential          float64 // part that follows the one before
}

// fit makes room for the estate.
func (x *effects) fit(l *Lab) {
	x.factor, x.cpu, x.steal = make([]float64, len(l.vms)), make([]float64, len(l.vms)), make([]float64, len(l.vms))
	x.extra, x.limit = make([]work, len(l.disks)), make([]float64, len(l.disks))
	x.slow, x.writeBack = make([]float64, len(l.controllers)), make([]bool, len(l.controllers))
	x.drives, x.writes, x.rebuild = make([]float64, len(l.pools)), make([]float64, len(l.pools)), make([]float64, len(l.pools))
	x.ceiling = make([]float64, len(l.volumes))
	x.weights, x.depth = make([][2]float64, len(l.hosts)), make([]float64, len(l.hosts))
	x.drain, x.errors = make([]float64, l.ports), make([]float64, l.ports)
	x.reset()
}

func (x *effects) reset() {
	fill := func(of []float64, v float64) {
		for k := range of {
			of[k] = v
		}
	}
	fill(x.factor, 1)
	fill(x.cpu, 0)
	fill(x.steal, 0)
	clear(x.extra)
	fill(x.limit, 0)
	fill(x.slow, 1)
	for k := range x.writeBack {
		x.writeBack[k] = true
	}
	fill(x.drives, 1)
	fill(x.writes, 1)
	fill(x.rebuild, 0)
	fill(x.ceiling, 0)
	for k := range x.weights {
		x.weights[k] = [2]float64{0.5, 0.5}
	}
	fill(x.depth, 1)
	fill(x.drain, 1)
	fill(x.errors, 0)
	x.roundTrip, x.siteBytes, x.bent = 0, 0, false
}

// effect is something that changes the estate while it lasts.
type effect interface {
	// apply changes effects by what it does at a moment, and reports whether it does anything.
	apply(l *Lab, x *effects, t time.Time) bool
}
