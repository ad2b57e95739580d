package lab

import (
	"fmt"
	"math"
	"time"

	"dowsingrod/core/estate"
	"dowsingrod/internal/feed"
)

// limits are faults of queues, ceilings and distance.
var limits = []Kind{
	{"host-queue", "host_queue", "the queue depth of a host's LUNs was set too small; I/Os wait in the host for a place while the array idles", "how small: 1 leaves three places", func(l *Lab, f *Fault) error {
		h, _, err := l.reader(f, work{threads: 40, think: 2e-3, reads: 0.8, readSize: 8 << 10, writeSize: 8 << 10, miss: 0.1})
		if err != nil {
			return err
		}
		depth := max(1, math.Round(3/f.Force))
		f.touches = func(d *vdisk) bool { return d.vm.host == h && d.volume.share == "" }
		busiest, most := (*device)(nil), 0
		for _, d := range l.devices {
			if n := len(l.tenants(func(o *vdisk) bool { return o.vm.host.devices[o.volume] == d })); d.host == h && n > most {
				busiest, most = d, n
			}
		}
		f.Component = busiest.ref()
		for _, d := range l.devices { // all its LUNs were set so
			if d.host == h && d != busiest {
				f.Alike = append(f.Alike, d.ref())
			}
		}
		f.do(func(x *effects, _ float64, _ time.Time) {
			x.depth[h.at] = depth / l.depth()
			x.bent = true
		})
		for _, d := range l.devices {
			if d.host == h {
				l.tell(f, h.source, "device:"+d.id, "queue_depth", fmt.Sprintf("from %g to %g", d.depth, depth), estate.Facts{"queue_depth": depth}, estate.Facts{"queue_depth": d.depth})
			}
		}
		return nil
	}},
	{"limit", "limit", "a machine has reached the I/Os per second that its disk is allowed", "how far below what it asks for the limit is", func(l *Lab, f *Fault) error {
		v := pick(f.r, l.tenants(func(d *vdisk) bool { return d.volume.share == "" }))
		d := v.disks[0]
		f.touches = func(o *vdisk) bool { return o == d }
		f.Component = "vdisk:" + d.id + "@" + v.source
		limit := math.Round(0.35 / f.Force * d.share * (v.load.reads + v.load.writes) * (v.load.night + 0.3))
		f.do(func(x *effects, _ float64, _ time.Time) { x.limit[d.at] = limit })
		l.tell(f, v.source, "vdisk:"+d.id, "limited", fmt.Sprintf("to %g I/Os per second", limit), estate.Facts{"iops_limit": limit}, estate.Facts{"iops_limit": nil})
		return nil
	}},
	{"limit-lun", "limit", "a LUN has reached the I/Os per second that it is allowed, by the sum of all its machines", "how far below what they ask for the limit is", func(l *Lab, f *Fault) error {
		some, err := crowded(l, l.plain(), func(v *volume) func(d *vdisk) bool { return func(d *vdisk) bool { return d.volume == v } })
		if err != nil {
			return err
		}
		v := pick(f.r, some)
		f.touches = func(d *vdisk) bool { return d.volume == v }
		f.Component = v.ref()
		sum := 0.0
		for _, d := range l.disks {
			if d.volume == v {
				sum += float64(d.share * (d.vm.load.reads + d.vm.load.writes) * d.vm.load.demand(l.clock(f.From)))
			}
		}
		limit := math.Round(0.7 / f.Force * sum)
		f.do(func(x *effects, _ float64, _ time.Time) { x.ceiling[v.at] = limit })
		l.tell(f, v.array.name, "volume:"+v.id, "limited", fmt.Sprintf("to %g I/Os per second", limit), estate.Facts{"iops_limit": limit}, estate.Facts{"iops_limit": nil})
		return nil
	}},
	{"site-link", "site_link", "the link between the harbours takes a longer way; every write to a stretched volume waits for it", "how much longer it is", func(l *Lab, f *Fault) error {
		f.touches = func(d *vdisk) bool { return len(d.volume.legs) > 0 }
		f.Component = "site_link:nm-sm@" + l.src.petrel
		f.do(func(x *effects, level float64, _ time.Time) { x.roundTrip = 6e-3 * f.Force * level })
		return nil
	}},
	{"disk-move", "noisy_neighbour", "a disk is moved from one LUN to another: the copy's own reads and writes, which no machine asked for, take the drives", "how hard it copies", func(l *Lab, f *Fault) error {
		pools, err := crowded(l, l.pools, inPool)
		if err != nil {
			return err
		}
		p := pick(f.r, l.spinning(pools))
		v := pick(f.r, l.tenants(inPool(p)))
		from := v.disks[0]
		f.accuse(l, v)
		f.touches, f.Component = servedBy(from.volume.owner), from.volume.owner.ref()
		copying := l.copier(from)
		threads := min(2*float64(p.drives), l.depth()) * f.Force
		f.do(func(x *effects, level float64, _ time.Time) {
			x.extra[copying.at] = work{threads: threads * level, reads: 0.5, readSize: 256 << 10, writeSize: 256 << 10, miss: 1, sequential: 0.4}
		})
		l.turns = append(l.turns, eventTurn(f.From.Sub(l.anchor), v.source, "vdisk:"+from.id, "move_begun", "to another datastore"),
			eventTurn(f.To.Sub(l.anchor), v.source, "vdisk:"+from.id, "move_ended", ""))
		l.sortTurns()
		return nil
	}},
}

// copier is a disk that is none: the estate's own copying beside a disk.
func (l *Lab) copier(beside *vdisk) *vdisk {
	d := &vdisk{id: beside.id + "-copy", vm: beside.vm, volume: beside.volume, hidden: true, at: len(l.disks)}
	l.disks = append(l.disks, d)
	for k := range d.tenant {
		d.tenant[k] = l.admit(d)
		l.point(l.main.net, d.tenant[k], d)
	}
	l.main.fx.fit(l)
	l.calm = nil
	return d
}

// innocents are faults in which the storage is well, or in which more than one thing happens.
var innocents = []Kind{
	{"migration", "noisy_neighbour", "one machine takes the drives of a pool, and moves to another host in the middle of it", "how much it asks for", func(l *Lab, f *Fault) error {
		if err := l.noisyPool(f, work{reads: 0.95, readSize: 16 << 10, writeSize: 8 << 10, miss: 1}); err != nil {
			return err
		}
		v := f.culprits[0]
		var others []*host
		for _, h := range l.hosts {
			if h != v.host && h.north == v.host.north {
				others = append(others, h)
			}
		}
		if len(others) == 0 {
			return errTooSmall
		}
		l.migrateAt(f.From.Add(f.To.Sub(f.From)/2).Truncate(Step), v, pick(f.r, others))
		return nil
	}},
	{"two-at-once", "noisy_neighbour", "one machine takes the drives of a pool at a time when, elsewhere, a controller becomes slow by itself", "how much of both", func(l *Lab, f *Fault) error {
		if err := l.noisyPool(f, work{reads: 0.95, readSize: 8 << 10, writeSize: 8 << 10, miss: 1}); err != nil {
			return err
		}
		var other []*controller
		for _, c := range l.frontControllers() {
			if f.Component != "" && c.array.name != arrayOf(f.Component) {
				other = append(other, c)
			}
		}
		other, err := crowded(l, other, servedBy)
		if err != nil {
			return err
		}
		to := pick(f.r, other)
		second := &Fault{Kind: "controller-slow", Class: "degraded", From: f.From.Add(time.Duration(f.r.IntN(10)) * time.Minute), To: f.To, Ramp: f.Ramp, Force: f.Force, r: f.r,
			Component: to.ref(), touches: servedBy(to)}
		second.do(func(x *effects, level float64, _ time.Time) { x.slow[to.at] *= 1 + float64(14*f.Force*level) })
		l.effects, l.faults = append(l.effects, second), append(l.faults, second)
		return nil
	}},
	{"guest", "cleared", "a machine is kept waiting for processors by its host; its application is slow, and its storage is not", "how long it waits", func(l *Lab, f *Fault) error {
		v := pick(f.r, l.tenants(func(d *vdisk) bool { return d.volume.share == "" }))
		f.accuseNobody(l, v)
		f.do(func(x *effects, level float64, _ time.Time) {
			x.cpu[v.at], x.steal[v.at] = 0.97, 0.3*f.Force*level
		})
		return nil
	}},
	{"application", "cleared", "an application waits for a lock of its own; it does less I/O, and each I/O is as fast as ever", "how much less it does", func(l *Lab, f *Fault) error {
		v := pick(f.r, l.tenants(func(d *vdisk) bool { return d.volume.share == "" }))
		f.accuseNobody(l, v)
		f.do(func(x *effects, level float64, _ time.Time) {
			x.factor[v.at] *= 1 - float64(min(0.9, 0.6*f.Force)*level)
		})
		return nil
	}},
	{"quiet", "cleared", "nothing goes wrong on a busy day", "", func(l *Lab, f *Fault) error {
		l.effects = append(l.effects, lasting(func(x *effects, _ time.Time) {
			for k := range x.factor {
				x.factor[k] *= 1.25
			}
		}))
		return nil
	}},
}

// accuseNobody notes whose complaint it is where the storage is well.
func (f *Fault) accuseNobody(l *Lab, v *vm) {
	d := v.disks[0]
	f.touches = func(o *vdisk) bool { return o == d }
	f.Complains = l.refOf(v)
}

func arrayOf(ref string) string {
	for k := range ref {
		if ref[k] == '@' {
			return ref[k+1:]
		}
	}
	return ""
}

// plain lists volumes that are not stretched, no leg of one, and no share.
func (l *Lab) plain() []*volume {
	var out []*volume
	for _, v := range l.volumes {
		if v.pool != nil && v.device == nil && v.share == "" {
			out = append(out, v)
		}
	}
	return out
}

// frontControllers lists the controllers of arrays that are no virtualizers.
func (l *Lab) frontControllers() []*controller {
	var out []*controller
	for _, c := range l.controllers {
		if c.array != l.petrel {
			out = append(out, c)
		}
	}
	return out
}

func (l *Lab) depth() float64 {
	if l.demo {
		return queueDepth
	}
	return 2 * queueDepth
}

// narrow makes all inter-switch links slower from the start, until a fault that needs it is ended.
func (l *Lab) narrow(f *Fault, part float64) {
	before := l.islSpeed
	l.setLinks(before * part)
	f.undo = append(f.undo, func() { l.setLinks(before) })
}

func (l *Lab) setLinks(speed float64) {
	l.islSpeed = speed
	n := l.main.net
	for _, f := range l.fronts {
		for _, at := range f.at {
			x := n.Legs[at].Visits
			for k := range 2 {
				x[k*legVisits+legTrunk].PerByte = 1 / l.islSpeed
			}
		}
	}
	for source, list := range l.objects {
		for _, o := range list {
			if o.Kind == estate.SwitchPort && o.Facts["role"] == "isl" {
				l.fact(source, o.Ref().String(), "speed_bytes_s", l.islSpeed)
			}
		}
	}
}

// slowPorts makes ports of an array or a host slower from the start, until the fault that needs it is ended.
func (l *Lab) slowPorts(f *Fault, ports [2]*port, source string, part float64) {
	for _, p := range ports {
		before := p.speed
		l.setPort(p, source, before*part)
		f.undo = append(f.undo, func() { l.setPort(p, source, before) })
	}
}

func (l *Lab) setPort(p *port, source string, speed float64) {
	p.speed = speed
	n := l.main.net
	for _, f := range l.fronts {
		for dir, at := range f.at {
			for k := range 2 {
				near, far := f.host.ports[k], f.to.ports[k]
				taker, sender := near, far
				if dir == 1 {
					taker, sender = far, near
				}
				x := n.Legs[at].Visits[k*legVisits : (k+1)*legVisits]
				x[legPort].PerByte = 1 / sender.speed
				x[legTrunkCredits].Drain, x[legTaker].PerByte = 1/taker.speed, 1/taker.speed
			}
		}
	}
	l.fact(source, p.kind+":"+p.id, "speed_bytes_s", p.speed)
	l.fact(p.sw.source, p.peer.of, "speed_bytes_s", p.speed)
}

// migrateAt moves a machine to another host.
func (l *Lab) migrateAt(at time.Time, v *vm, to *host) {
	from := v.host
	l.turns = append(l.turns, turn{at.Sub(l.anchor), v.source, "vm:" + v.name, func(o *feed.Object) {
		o.Links["runs_on"] = []string{"host:" + to.id}
		v.host = to
		l.repoint(v)
	}, "migrated", "from " + from.name + " to " + to.name})
	l.sortTurns()
}
