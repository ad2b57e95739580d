package lab

import (
	"errors"
	"slices"
	"time"

	"dowsingrod/core/estate"
)

var errTooSmall = errors.New("the estate is too small for it: use more machines with --vms")

// neighbours are faults of one machine that takes what others need.
var neighbours = []Kind{
	{"neighbour-lun", "noisy_neighbour", "one machine uses up the I/O that its LUN is allowed, with small reads and writes; the other machines on the LUN wait", "how much it asks for", func(l *Lab, f *Fault) error {
		v, err := crowded(l, l.plain(), func(v *volume) func(d *vdisk) bool { return func(d *vdisk) bool { return d.volume == v } })
		if err != nil {
			return err
		}
		lun := pick(f.r, v)
		on := func(d *vdisk) bool { return d.volume == lun }
		l.noisy(f, on, work{threads: 48, reads: 0.7, readSize: 8 << 10, writeSize: 8 << 10, miss: 0.2})
		f.Component = lun.ref()
		// What the LUN is allowed is more than its machines ask for together, and less than what is asked for now.
		allowed := 0.0
		for _, d := range l.disks {
			if on(d) {
				allowed += float64(2.2 * d.share * (d.vm.load.reads + d.vm.load.writes))
			}
		}
		l.effects = append(l.effects, lasting(func(x *effects, _ time.Time) { x.ceiling[lun.at] = allowed }))
		l.fact(lun.array.name, "volume:"+lun.id, "iops_limit", float64(int(allowed)))
		return nil
	}},
	{"neighbour-pool", "noisy_neighbour", "one machine reads at random all over its disk, in small pieces no cache holds; the drives of the pool become busy", "how much it asks for", func(l *Lab, f *Fault) error {
		return l.noisyPool(f, work{reads: 0.95, readSize: 8 << 10, writeSize: 8 << 10, miss: 1})
	}},
	{"neighbour-pool-large", "noisy_neighbour", "one machine scans its disk in large reads; the drives of the pool become busy with few I/Os", "how much it asks for", func(l *Lab, f *Fault) error {
		return l.noisyPool(f, work{reads: 1, readSize: 512 << 10, writeSize: 64 << 10, miss: 1, sequential: 0.3})
	}},
	{"neighbour-controller", "noisy_neighbour", "one machine does so many small I/Os, answered from cache, that the processors of a controller become busy", "how much it asks for", func(l *Lab, f *Fault) error {
		c, err := crowded(l, l.frontControllers(), servedBy)
		if err != nil {
			return err
		}
		to := pick(f.r, c)
		l.noisy(f, servedBy(to), work{threads: 60, reads: 0.98, readSize: 4 << 10, writeSize: 4 << 10, miss: 0.02})
		f.Component = to.ref()
		// Per-I/O work of a data service makes the processors scarce enough for one machine to use up.
		l.effects = append(l.effects, lasting(func(x *effects, _ time.Time) { x.slow[to.at] *= 2.5 * float64(to.cores) / 8 }))
		return nil
	}},
	{"neighbour-port", "noisy_neighbour", "one machine moves so many bytes in large reads that the ports of its array's controller are full", "how much it asks for", func(l *Lab, f *Fault) error {
		return l.noisyBytes(f, false)
	}},
	{"neighbour-isl", "noisy_neighbour", "one machine moves so many bytes in large reads that the inter-switch links are full", "how much it asks for", func(l *Lab, f *Fault) error {
		return l.noisyBytes(f, true)
	}},
	{"neighbour-cache", "noisy_neighbour", "one machine writes faster than the drives take it; the write cache of its controller fills, and everybody's writes wait for room", "how much it writes", func(l *Lab, f *Fault) error {
		var slow []*controller
		for _, c := range l.frontControllers() {
			for _, p := range c.array.pools {
				if p.media == "hdd" && len(l.tenants(func(d *vdisk) bool { return d.volume.owner == c && d.volume.pool == p })) > 0 && len(l.tenants(servedBy(c))) >= 4 {
					slow = append(slow, c)
				}
			}
		}
		if len(slow) == 0 {
			return errTooSmall
		}
		to := pick(f.r, slow)
		all := servedBy(to)
		l.noisy(f, func(d *vdisk) bool { return all(d) && d.volume.pool.media == "hdd" }, work{threads: 64, reads: 0.02, readSize: 8 << 10, writeSize: 64 << 10, miss: 1})
		f.touches = all
		f.Component = to.ref()
		return nil
	}},
	{"own-demand", "own_demand", "one machine asks for more than the queue of its own LUN on its host lets through; nobody shares that queue", "how much it asks for", func(l *Lab, f *Fault) error {
		var one *vm
		var d *vdisk
		for _, x := range l.disks {
			if x.direct { // nobody else can be on its LUN
				one, d = x.vm, x
			}
		}
		f.accuse(l, one)
		f.touches = func(o *vdisk) bool { return o == d }
		queue := d.vm.host.devices[d.volume]
		f.Component = queue.ref()
		l.shallow(f, queue, 4)
		threads := 48 * f.Force
		f.do(func(x *effects, level float64, _ time.Time) {
			// Mostly reads: as many writes would fill the write cache that others use.
			x.extra[d.at] = work{threads: threads * level, think: 2e-3, reads: 0.97, readSize: 8 << 10, writeSize: 8 << 10, miss: 0.1}
		})
		return nil
	}},
}

// shallow gives a device of a host a queue of so many places, and does so from the start.
func (l *Lab) shallow(f *Fault, d *device, places float64) {
	before := d.depth
	set := func(to float64) {
		d.depth = to
		l.main.net.Stations[d.queue].Servers = to
		l.fact(d.host.source, "device:"+d.id, "queue_depth", to)
	}
	set(places)
	f.undo = append(f.undo, func() { set(before) })
	l.calm = nil
}

// noisy lets one of the machines for which keep holds do extra work.
func (l *Lab) noisy(f *Fault, keep func(d *vdisk) bool, w work) {
	v := pick(f.r, l.tenants(keep))
	f.accuse(l, v)
	f.touches = keep
	d := v.disks[0]
	threads := w.threads * f.Force
	f.do(func(x *effects, level float64, t time.Time) {
		// It is never quite the same: what it does wanders by a fifth.
		w := w
		w.threads = threads * level * (0.9 + float64(0.2*noise(l.seed, v.n, uint64(t.Unix()/60), 61)))
		x.extra[d.at] = w
	})
}

func (l *Lab) noisyPool(f *Fault, w work) error {
	pools, err := crowded(l, l.pools, inPool)
	if err != nil {
		return err
	}
	// One host's queue does not let enough through to keep flash busy, and large reads fill its ports first.
	p := pick(f.r, l.spinning(pools))
	// As many as keep every drive busy twice over, as far as its host's queue lets them through.
	w.threads = min(2.5*float64(p.drives), 1.5*l.depth())
	l.noisy(f, inPool(p), w)
	f.Component = p.ref()
	return nil
}

// noisyBytes fills what carries bytes: the links between the switches, or the ports of a controller.
func (l *Lab) noisyBytes(f *Fault, links bool) error {
	var to []*controller
	for _, c := range l.frontControllers() {
		if c.array == l.heron && len(l.tenants(servedBy(c))) >= 4 {
			to = append(to, c)
		}
	}
	if len(to) == 0 {
		return errTooSmall
	}
	c := pick(f.r, to)
	l.noisy(f, func(d *vdisk) bool { return servedBy(c)(d) && d.volume.pool.media == "flash" }, work{threads: 96, reads: 0.98, readSize: 256 << 10, writeSize: 64 << 10, miss: 0.05, sequential: 0.9})
	north := func(d *vdisk) bool { return d.vm.host.north }
	switch {
	case links:
		f.touches = north
		l.narrow(f, 0.55)
		f.Component = "isl:isl-a-1@" + l.src.fabricNorth
		for source, list := range l.objects { // both fabrics carry half each, and their links equal parts of that
			for _, o := range list {
				if o.Kind == estate.ISL {
					f.Alike = append(f.Alike, o.Ref().String()+"@"+source)
				}
			}
		}
		slices.Sort(f.Alike)
	default:
		f.touches = servedBy(c)
		l.slowPorts(f, c.ports, c.array.name, 0.45)
		f.Component = "target_port:" + c.ports[0].id + "@" + c.array.name
		for _, p := range c.ports[1:] {
			f.Alike = append(f.Alike, p.ref(c.array.name))
		}
	}
	return nil
}
