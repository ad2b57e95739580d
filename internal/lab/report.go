package lab

import (
	"math"
	"time"

	"dowsingrod/core/queueing"
)

// jitter is the small error of any measurement: within 2 %.
func (l *Lab) jitter(n uint64, cell uint64, salt uint64) float64 {
	return 1 + float64(0.04*(noise(l.seed, n, cell, salt)-0.5))
}

// gather adds up what every load does at every place it passes.
func (l *Lab) gather() {
	s := &l.main
	for _, v := range l.volumes {
		v.io, v.service, v.hits = sums{}, [2]float64{}, 0
	}
	for _, d := range l.devices {
		d.io = sums{}
	}
	for _, c := range l.controllers {
		c.io, c.hits = sums{}, 0
	}
	for _, p := range l.pools {
		p.io = sums{}
	}
	for _, d := range l.disks {
		for k := range d.tenant {
			f := &d.seen[k]
			*f = l.trace(s, d, k)
			if f.reads+f.writes <= 0 {
				continue
			}
			v := d.volume
			v.carry(f, f.front, f.inside, f.missed)
			if dev := d.vm.host.devices[v]; dev != nil {
				dev.io.add(f, f.host)
			}
			if len(v.legs) == 0 {
				drives := s.net.Stations[v.pool.station].Wait + s.net.Visits[s.net.Tenants[d.tenant[k]].From+atPool].Work
				v.pool.reads(f.missed, f.readBytes, drives, f.reads)
				if !s.fx.writeBack[v.owner.at] {
					v.pool.io.add(&flow{writes: f.writes, writeBytes: f.writeBytes}, [2]float64{0, drives})
				}
				continue
			}
			near, far := v.near()
			size := f.readBytes / max(f.reads, 1e-12)
			below := flow{reads: f.missed, readBytes: float64(f.missed * size)}
			deeper := float64(f.missed * min(1, 1-near.hit))
			near.carry(&below, f.behind, f.behind, deeper)
			near.pool.reads(deeper, below.readBytes, s.net.Stations[near.pool.station].Wait+s.net.Visits[s.net.Tenants[d.tenant[k]].From+atPool].Work, f.missed)
			written := flow{writes: f.writes, writeBytes: f.writeBytes}
			far.carry(&written, f.behind, f.behind, 0)
			near.carry(&written, f.behind, f.behind, 0)
		}
	}
	for _, v := range l.volumes {
		c := v.owner
		c.io.reads += v.io.reads
		c.io.writes += v.io.writes
		c.io.readBytes += v.io.readBytes
		c.io.writeBytes += v.io.writeBytes
		c.io.readTime += v.service[0]
		c.io.writeTime += v.service[1]
		c.hits += v.hits
	}
	for _, c := range l.controllers { // what the caches write out goes to the drives
		for i, p := range c.array.pools {
			t := &s.net.Tenants[p.destage[c]]
			if t.Threads <= 0 {
				continue
			}
			visit := s.net.Visits[t.From]
			p.io.writes += t.Rate
			p.io.writeBytes += float64(t.Rate * s.caches[c.at].size[i])
			p.io.writeTime += float64(t.Rate * (s.net.Stations[p.station].Wait + visit.Work))
		}
	}
}

// carry adds a flow to a volume.
func (v *volume) carry(f *flow, front, inside [2]float64, missed float64) {
	v.io.add(f, front)
	v.service[0] += float64(f.reads * inside[0])
	v.service[1] += float64(f.writes * inside[1])
	v.hits += f.reads - missed
}

// reads adds reads to a pool; bytes are those of all reads, of which those missed go to the drives.
func (p *pool) reads(missed, bytes, time, all float64) {
	if all <= 0 {
		return
	}
	p.io.reads += missed
	p.io.readBytes += float64(bytes * missed / all)
	p.io.readTime += float64(missed * time)
}

// report hands the solved step to what is reported.
func (l *Lab) report(t time.Time) {
	l.gather()
	cell := uint64(t.Unix() / int64(Step/time.Second))
	net := l.main.net
	clear(l.cpu)
	for _, d := range l.disks {
		if d.hidden {
			continue
		}
		j := l.jitter(uint64(d.at), cell, 11)
		var io sums
		for k := range d.seen {
			f := &d.seen[k]
			io.add(f, [2]float64{f.read, f.write})
		}
		d.out.addIO(&io, j)
		d.out.tick()
		if d.flowsOf != nil {
			l.reportFlows(d, j)
		}
	}
	for k, v := range l.vms {
		o := &l.offers[k]
		cpu := min(1, max(o.cpu, l.main.fx.cpu[k]))
		v.cpu.add(0, min(1, cpu*l.jitter(v.n, cell, 12)), 1)
		v.cpu.add(1, float64(l.main.fx.steal[k]*l.jitter(v.n, cell, 13))+0.002, 1)
		v.cpu.tick()
		l.cpu[v.host.at] += cpu * 4 / 32 / 1.6
	}
	for k, d := range l.devices {
		d.out.addIO(&d.io, l.jitter(uint64(k), cell, 14))
		d.out.add(7, net.Stations[d.queue].Wait*1e6, d.io.reads+d.io.writes)
		d.out.tick()
	}
	for k, v := range l.volumes {
		j := l.jitter(uint64(k), cell, 15)
		v.out.addIO(&v.io, j)
		if v.share == "" {
			hit := 0.0
			if v.io.reads > 0 {
				hit = v.hits / v.io.reads
			}
			v.out.add(7, min(1, hit*l.jitter(uint64(k), cell, 16)), v.io.reads)
			v.out.add(8, v.service[0]/max(v.io.reads, 1e-12)*1e6*j, v.io.reads)
			v.out.add(9, v.service[1]/max(v.io.writes, 1e-12)*1e6*j, v.io.writes)
		}
		v.out.tick()
		if v.device != nil {
			seen := v.io
			seen.readTime += float64(v.io.reads * fabricTime / 2)
			seen.writeTime += float64(v.io.writes * fabricTime / 2)
			v.device.addIO(&seen, j)
			v.device.tick()
		}
	}
	for k, p := range l.pools {
		l.reportPool(p, uint64(k), cell)
	}
	for k, c := range l.controllers {
		c.out.addIO(&c.io, l.jitter(uint64(k), cell, 18))
		c.out.add(7, min(1, net.Stations[c.station].Busy/float64(c.cores)*l.jitter(uint64(k), cell, 19)), 1)
		pending := 0.0
		for _, bytes := range l.main.caches[c.at].pending {
			pending += bytes
		}
		c.out.add(8, min(1, pending/l.cacheOf(c)), 1)
		c.out.add(9, c.hits/max(c.io.reads, 1e-12), c.io.reads)
		c.out.tick()
	}
	l.reportPorts()
	for k, s := range l.stores {
		s.out.add(0, math.Round(float64(s.volume.bytes*(0.62+float64(0.001*float64(k))))+float64(float64(t.Sub(l.anchor)/time.Minute)*2e6)), 1)
		s.out.tick()
	}
	for k, h := range l.hosts {
		h.busy.add(0, min(1, l.cpu[k]*l.jitter(uint64(k), cell, 20)), 1)
		h.busy.tick()
	}
	l.siteLink.add(0, (l.roundTrip+l.main.fx.roundTrip)*1e6*l.jitter(0, cell, 21), 1)
	north, south := 0.0, 0.0
	for _, v := range l.petrel.volumes {
		if v.owner.north {
			north += v.io.writeBytes
		} else {
			south += v.io.writeBytes
		}
	}
	l.siteLink.add(1, north+l.main.fx.siteBytes/2, 1)
	l.siteLink.add(2, south+l.main.fx.siteBytes/2, 1)
	l.siteLink.tick()
}

// reportFlows tells what the switch ports of a host see of a disk: half on either fabric, timed without the host's queue. Once its
// machine has moved they see nothing of it.
func (l *Lab) reportFlows(d *vdisk, j float64) {
	var io sums
	if d.vm.host == d.flowsOf {
		queue := l.main.net.Stations[d.vm.host.devices[d.volume].queue].Wait + hostTime
		for k := range d.seen {
			f := &d.seen[k]
			io.add(f, [2]float64{max(0, f.host[0]-queue), max(0, f.host[1]-queue)})
		}
	}
	for k, out := range d.flows {
		part := l.main.fx.weights[d.flowsOf.at][k]
		of := sums{io.reads * part, io.writes * part, io.readBytes * part, io.writeBytes * part, io.readTime * part, io.writeTime * part}
		out.addIO(&of, j)
		out.tick()
	}
}

func (l *Lab) reportPool(p *pool, n, cell uint64) {
	p.out.addIO(&p.io, l.jitter(n, cell, 17))
	busy := l.main.net.Stations[p.station].Busy / float64(p.drives)
	p.out.add(7, min(1, busy*l.jitter(n, cell, 22)), 1)
	p.out.tick()
	for g, group := range p.groups {
		busy := min(1, busy*group.weight*l.jitter(uint64(g), cell, 23))
		group.out.add(0, busy, 1)
		group.out.tick()
		for d, drive := range group.drives {
			drive.add(0, min(1, busy*l.jitter(uint64(d), cell, 24)), 1)
			drive.tick()
		}
	}
}

func (l *Lab) reportPorts() {
	net := l.main.net
	// A port's bytes are its stations' work: a server is busy for as long as its bytes take. A slow receiver takes them in more
	// slowly, which makes it busier, not its bytes more.
	bytes := func(station int32, speed, drain float64) float64 { return net.Stations[station].Busy * speed / drain }
	out := func(e *entity, tx, rx, zero, errors float64) {
		e.add(0, tx, 1)
		e.add(1, rx, 1)
		e.add(2, zero, 1)
		e.add(3, errors, 1)
		e.tick()
	}
	both := func(p *port, toHosts int, taken float64) { // taken is the drain of what it takes in
		tx, rx := bytes(p.sends, p.speed, 1), bytes(p.takes, p.speed, taken)
		lost := l.main.fx.errors[p.at] * 1e-6 * rx / frame
		// A receiver whose buffers stay full gives its switch no credits.
		starved := min(1, net.Stations[p.takes].Full*max(0, taken-1)/taken)
		// What it sends waits in the switch while the links there have no credits, and holds the port's own meanwhile.
		t := l.trunks[p.sw.fabric]
		held := tx / frame * (net.Stations[t.credits[toHosts]].Wait + net.Stations[t.link[toHosts]].Wait)
		out(p.out, tx, rx, queueing.Blocked(held/portCredits, portCredits), lost)
		out(p.peer, rx, tx, starved, float64(l.main.fx.errors[p.at]*1e-6*tx/frame))
	}
	for _, h := range l.hosts {
		for _, p := range h.ports {
			both(p, 0, l.main.fx.drain[p.at])
		}
	}
	for _, c := range l.controllers {
		for _, p := range c.ports {
			both(p, 1, l.main.fx.drain[p.at])
		}
	}
	for _, fabric := range l.order {
		t := l.trunks[fabric]
		for k, i := range t.links {
			part := 1 / float64(len(t.links))
			up, down := bytes(t.link[0], l.islSpeed, 1)*part, bytes(t.link[1], l.islSpeed, 1)*part
			zero := [2]float64{net.Stations[t.credits[0]].Full, net.Stations[t.credits[1]].Full}
			for end := range zero {
				zero[end] *= 1 - float64(0.1*float64(k)*(1-zero[end])) // frames are never spread quite evenly
			}
			out(i.out[0], up, down, zero[0], 0)
			out(i.out[1], down, up, zero[1], 0)
		}
	}
}
