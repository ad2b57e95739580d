package lab

import (
	"fmt"
	"maps"
	"time"

	"dowsingrod/core/estate"
)

// slowness are faults of components that become slower by themselves.
var slowness = []Kind{
	{"rebuild", "degraded", "a drive has failed and its RAID group is rebuilt: the rebuild's own I/O takes its part of the drives", "how hard the rebuild works", func(l *Lab, f *Fault) error {
		return l.degradedPool(f, func(x *effects, p *pool, level float64) {
			x.rebuild[p.at] = 1.6 * float64(p.drives) * f.Force * level
			x.drives[p.at] *= 1 + float64(0.15*level)
		})
	}},
	{"drive-failed", "degraded", "a drive has failed and no spare is there: reads of what was on it are computed from all others", "how much slower the drives are", func(l *Lab, f *Fault) error {
		return l.degradedPool(f, func(x *effects, p *pool, level float64) { x.drives[p.at] *= 1 + float64(1.1*f.Force*level) })
	}},
	{"cache-off", "degraded", "the write cache of a controller is off, as after a battery fault: every write waits for the drives", "", func(l *Lab, f *Fault) error {
		c, err := crowded(l, l.frontControllers(), servedBy)
		if err != nil {
			return err
		}
		to := pick(f.r, c)
		f.touches, f.Component = servedBy(to), to.ref()
		f.do(func(x *effects, _ float64, _ time.Time) { x.writeBack[to.at] = false })
		l.tell(f, to.array.name, "controller:"+to.id, "cache_off", "write-through until the battery is replaced", nil, nil)
		return nil
	}},
	{"controller-slow", "degraded", "a controller needs many times longer for every I/O, and no load explains it", "how much slower it is", func(l *Lab, f *Fault) error {
		c, err := crowded(l, l.frontControllers(), servedBy)
		if err != nil {
			return err
		}
		to := pick(f.r, c)
		f.touches, f.Component = servedBy(to), to.ref()
		f.do(func(x *effects, level float64, _ time.Time) { x.slow[to.at] *= 1 + float64(14*f.Force*level) })
		return nil
	}},
	{"failover", "degraded", "a controller has failed; the one beside it does the work of both, without a mirrored cache", "how much slower the survivor is", func(l *Lab, f *Fault) error {
		c, err := crowded(l, l.frontControllers(), servedBy)
		if err != nil {
			return err
		}
		gone := pick(f.r, c)
		stays := gone.array.controllers[0]
		if stays == gone {
			stays = gone.array.controllers[1]
		}
		f.touches = func(d *vdisk) bool { return servedBy(gone)(d) || servedBy(stays)(d) }
		f.Component = stays.ref()
		f.do(func(x *effects, level float64, _ time.Time) {
			// The survivor's processors and cache serve both halves, and what was mirrored is written through.
			x.slow[stays.at] *= 1 + float64(2.5*f.Force*level)
			x.slow[gone.at] *= 1 + float64(2.5*f.Force*level)
			x.writeBack[stays.at], x.writeBack[gone.at] = false, false
		})
		l.tell(f, gone.array.name, "controller:"+gone.id, "failed", "its volumes are served by "+stays.name, estate.Facts{"state": "failed"}, estate.Facts{"state": "online"})
		for _, v := range l.volumes {
			if v.owner == gone {
				l.owned(f, v, gone, stays)
			}
		}
		return nil
	}},
	{"optics", "degraded", "the optics of a controller's port lose frames; what was in them is sent again after a timeout", "how many frames are lost", func(l *Lab, f *Fault) error {
		c, err := crowded(l, l.frontControllers(), servedBy)
		if err != nil {
			return err
		}
		to := pick(f.r, c)
		p := to.ports[f.r.IntN(2)]
		f.touches, f.Component = servedBy(to), p.ref(to.array.name)
		f.do(func(x *effects, level float64, _ time.Time) {
			x.errors[p.at] = 9000 * f.Force * level
			x.bent = true
		})
		return nil
	}},
	{"pool-full", "degraded", "a pool is nearly full: every write must first find and clean a place", "how much a write costs", func(l *Lab, f *Fault) error {
		return l.degradedPool(f, func(x *effects, p *pool, level float64) {
			x.writes[p.at] *= 1 + float64(7*f.Force*level)
			x.drives[p.at] *= 1 + float64(0.4*level)
		})
	}},
}

func (l *Lab) degradedPool(f *Fault, what func(x *effects, p *pool, level float64)) error {
	pools, err := crowded(l, l.pools, inPool)
	if err != nil {
		return err
	}
	p := pick(f.r, l.spinning(pools))
	f.touches, f.Component = inPool(p), p.ref()
	f.do(func(x *effects, level float64, _ time.Time) { what(x, p, level) })
	switch f.Kind {
	case "rebuild", "drive-failed":
		d := p.groups[0].drives[f.r.IntN(len(p.groups[0].drives))]
		state := map[string]string{"rebuild": "rebuilding", "drive-failed": "failed"}[f.Kind]
		l.tell(f, p.array.name, d.of, f.Kind, "", estate.Facts{"state": state}, estate.Facts{"state": "online"})
	case "pool-full":
		full := 0.0
		for _, o := range l.objects[p.array.name] {
			if o.Ref().String() == "pool:"+p.id {
				full, _ = o.Facts["bytes"].(float64)
				l.tell(f, p.array.name, "pool:"+p.id, "nearly_full", "97 % used", estate.Facts{"used_bytes": 0.97 * full}, estate.Facts{"used_bytes": o.Facts["used_bytes"]})
			}
		}
	}
	return nil
}

// ways are faults of the ways between hosts and arrays.
var ways = []Kind{
	{"slow-receiver", "slow_receiver", "a port of a host takes its frames slowly; the switch holds them, the inter-switch link runs out of credits, and hosts that share only that link wait", "how slow it is", func(l *Lab, f *Fault) error {
		h, fabric, err := l.reader(f, streams)
		if err != nil {
			return err
		}
		p := h.ports[fabric]
		f.touches = func(d *vdisk) bool { return d.vm.host.north == h.north && d.volume.share == "" }
		f.Component = p.ref(h.source)
		f.do(func(x *effects, level float64, _ time.Time) {
			x.drain[p.at] *= 1 + float64(24*f.Force*level)
			x.bent = true
		})
		return nil
	}},
	{"path-loss", "path", "all paths of a host over one fabric are gone; the other carries everything, over a port that is too slow for it", "", func(l *Lab, f *Fault) error {
		h, gone, err := l.oneSided(f, 0)
		if err != nil {
			return err
		}
		for _, o := range l.objects[h.source] {
			if o.Kind == estate.Path && o.Facts["initiator"] == gone.wwpn && o.Facts["state"] == "active" {
				l.tell(f, h.source, o.Ref().String(), "path_down", "no answer from the target", estate.Facts{"state": "dead"}, estate.Facts{"state": "active"})
			}
		}
		return nil
	}},
	{"lopsided-paths", "path", "a host sends nearly all its I/O over one of its two fabrics although both stand; that port is full while the other idles", "", func(l *Lab, f *Fault) error {
		_, _, err := l.oneSided(f, 0.04)
		return err
	}},
}

// oneSided lets a host whose ports are slow send only a part of its I/O over one of its fabrics. It returns the host, and the port
// that idles.
func (l *Lab) oneSided(f *Fault, part float64) (*host, *port, error) {
	h, fabric, err := l.reader(f, streams)
	if err != nil {
		return nil, nil, err
	}
	l.slowPorts(f, h.ports, h.source, 0.10)
	f.touches = func(d *vdisk) bool { return d.vm.host == h && d.volume.share == "" }
	f.Component = h.ports[1-fabric].ref(h.source)
	f.do(func(x *effects, _ float64, _ time.Time) {
		x.weights[h.at][fabric], x.weights[h.at][1-fabric] = part, 1-part
		x.bent = true
	})
	return h, h.ports[fabric], nil
}

// streams is what machines do that read much, in order.
var streams = work{threads: 2, think: 1e-3, reads: 0.95, readSize: 64 << 10, writeSize: 32 << 10, miss: 0.1, sequential: 0.8}

// reader chooses a host whose machines read much, and one of its fabrics; they are given enough to carry.
func (l *Lab) reader(f *Fault, does work) (*host, int, error) {
	var some []*host
	for _, h := range l.hosts {
		if len(l.tenants(func(d *vdisk) bool { return d.vm.host == h && d.volume.share == "" })) >= 4 {
			some = append(some, h)
		}
	}
	if len(some) == 0 {
		return nil, 0, errTooSmall
	}
	h := pick(f.r, some)
	for k, v := range l.tenants(func(d *vdisk) bool {
		return d.vm.host == h && d.volume.share == "" && d.volume.pool != nil && d.volume.pool.media == "flash"
	}) {
		if k >= 4 {
			break
		}
		d := v.disks[0]
		l.effects = append(l.effects, lasting(func(x *effects, _ time.Time) {
			x.extra[d.at] = does
		}))
	}
	return h, f.r.IntN(2), nil
}

// fact changes what is said of an object from the start.
func (l *Lab) fact(source, ref, name string, value any) {
	for k, o := range l.objects[source] {
		if o.Ref().String() == ref {
			changed := *o // somebody may be reading what it was
			changed.Facts = maps.Clone(o.Facts)
			changed.Facts[name] = value
			l.objects[source][k] = &changed
		}
	}
}

// tell lets a source say that something happened to an object when a fault begins, and that it is over when it ends.
func (l *Lab) tell(f *Fault, source, ref, what, detail string, begun, over estate.Facts) {
	set := func(to estate.Facts) func(map[string]any) {
		return func(facts map[string]any) {
			for k, v := range to {
				facts[k] = v
			}
		}
	}
	l.turns = append(l.turns, factTurn(f.From.Sub(l.anchor), source, ref, set(begun), what, detail))
	if over != nil {
		l.turns = append(l.turns, factTurn(f.To.Sub(l.anchor), source, ref, set(over), what+"_over", "as before"))
	}
	l.sortTurns()
}

// owned hands a volume over to another controller while a fault lasts.
func (l *Lab) owned(f *Fault, v *volume, from, to *controller) {
	links := func(first, second *controller) []string {
		return []string{"controller:" + first.id, "controller:" + second.id}
	}
	l.turns = append(l.turns,
		linkTurn(f.From.Sub(l.anchor), v.array.name, "volume:"+v.id, "served_by", links(to, from), "failed_over", fmt.Sprintf("to %s", to.name)),
		linkTurn(f.To.Sub(l.anchor), v.array.name, "volume:"+v.id, "served_by", links(from, to), "failed_back", fmt.Sprintf("to %s", from.name)))
	l.sortTurns()
}
