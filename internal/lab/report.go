package lab

import (
	"math"
	"time"
)

// jitter is the small error of any measurement: within 2 %.
func (l *Lab) jitter(n uint64, cell uint64, salt uint64) float64 {
	return 1 + 0.04*(noise(l.seed, n, cell, salt)-0.5)
}

// report hands the solved step to the entities.
func (l *Lab) report(t time.Time) {
	cell := uint64(t.Unix() / int64(Step.Seconds()))
	for _, h := range l.hosts {
		for _, p := range h.ports {
			p.tx, p.rx = 0, 0
		}
	}
	for _, a := range l.arrays {
		for _, c := range a.controllers {
			for _, p := range c.ports {
				p.tx, p.rx = 0, 0
			}
		}
	}
	for _, i := range l.isls {
		i.tx, i.rx = 0, 0
	}
	cpu := make(map[*host]float64, len(l.hosts))
	for _, d := range l.devices {
		d.below = 0
	}
	for k, d := range l.disks {
		o := &l.offers[d.vm.n]
		burst := o.burstRate * d.burst()
		j := l.jitter(uint64(k), cell, 11)
		d.out.addIO(d.readRate+burst, d.writeRate, d.readRate*o.readSize+burst*o.burst, d.writeRate*o.writeSize, d.read*j, d.write*j)
		d.out.tick()
		if dev := d.vm.host.devices[d.volume]; dev != nil { // what a host times is the mean of its own VMs' I/O
			dev.below += (d.readRate + burst) * d.below
		}
	}
	for _, v := range l.vms {
		o := &l.offers[v.n]
		v.cpu.add(0, math.Min(1, o.cpu*l.jitter(v.n, cell, 12)), 1)
		v.cpu.add(1, o.steal*l.jitter(v.n, cell, 13)+0.002, 1)
		v.cpu.tick()
		cpu[v.host] += o.cpu * 4 / 32 / 1.6
	}
	for k, d := range l.devices {
		rate := d.readRate + d.writeRate
		j := l.jitter(uint64(k), cell, 14)
		read := 0.0
		if d.readRate > 0 {
			read = d.below / d.readRate
		}
		d.out.addIO(d.readRate, d.writeRate, d.readBytes, d.writeBytes, read*j, (d.queue+fabricTime+d.volume.writeTime)*j)
		d.out.add(7, d.queue*1e6, rate)
		d.out.tick()
		l.carry(d)
	}
	for k, v := range l.volumes {
		j := l.jitter(uint64(k), cell, 15)
		v.out.addIO(v.readRate, v.writeRate, v.readBytes, v.writeBytes, v.readTime*j, v.writeTime*j)
		if v.share == "" {
			v.out.add(7, math.Min(1, (1-v.miss())*l.jitter(uint64(k), cell, 16)), v.readRate)
			v.out.add(8, v.readService*1e6*j, v.readRate)
			v.out.add(9, v.writeService*1e6*j, v.writeRate)
		}
		v.out.tick()
		if v.device != nil {
			v.device.addIO(v.readRate, v.writeRate, v.readBytes, v.writeBytes, (fabricTime+v.readTime)*j, (fabricTime+v.writeTime)*j)
			v.device.tick()
		}
	}
	for _, a := range l.arrays {
		for k, p := range a.pools {
			l.reportPool(p, uint64(k), cell)
		}
		for k, c := range a.controllers {
			j := l.jitter(uint64(k), cell, 18)
			service := c.response + cacheTime
			c.out.addIO(c.readRate, c.writeRate, c.readBytes, c.writeByte, service*j+l.missTime(c), (service+cacheTime)*j)
			c.out.add(7, math.Min(1, c.busy*l.jitter(uint64(k), cell, 19)), 1)
			c.out.add(8, c.pending, 1)
			hit := 0.0
			if c.readRate > 0 {
				hit = c.hits / c.readRate
			}
			c.out.add(9, hit, c.readRate)
			c.out.tick()
		}
	}
	l.reportPorts()
	for k, s := range l.stores {
		s.out.add(0, math.Round(s.volume.bytes*(0.62+0.001*float64(k))+float64(t.Sub(l.anchor)/time.Minute)*2e6), 1)
		s.out.tick()
	}
	for k, h := range l.hosts {
		h.busy.add(0, math.Min(1, cpu[h]*l.jitter(uint64(k), cell, 20)), 1)
		h.busy.tick()
	}
	l.siteLink.add(0, l.roundTrip*1e6*l.jitter(0, cell, 21), 1)
	var north, south float64
	for _, v := range l.petrel.volumes {
		if v.owner.north {
			north += v.writeBytes
		} else {
			south += v.writeBytes
		}
	}
	l.siteLink.add(1, north, 1)
	l.siteLink.add(2, south, 1)
	l.siteLink.tick()
}

// missTime is what the back end adds to a mean read of a controller.
func (l *Lab) missTime(c *controller) float64 {
	var time, rate float64
	for _, v := range c.array.volumes {
		if v.owner == c && v.pool != nil {
			time += v.missRate * v.pool.response
			rate += v.readRate
		}
	}
	if rate == 0 {
		return 0
	}
	return time / rate
}

func (l *Lab) reportPool(p *pool, n, cell uint64) {
	j := l.jitter(n, cell, 17)
	// Writes are destaged side by side with reads and take as long at the drives.
	p.out.addIO(p.readRate, p.writeRate, p.readBytes, p.writeBytes, p.response*j, p.response*j)
	p.out.add(7, math.Min(1, p.busy*l.jitter(n, cell, 22)), 1)
	p.out.tick()
	for g, group := range p.groups {
		busy := math.Min(1, p.busy*group.weight*l.jitter(uint64(g), cell, 23))
		group.out.add(0, busy, 1)
		group.out.tick()
		for d, drive := range group.drives {
			drive.add(0, math.Min(1, busy*l.jitter(uint64(d), cell, 24)), 1)
			drive.tick()
		}
	}
}

// carry spreads a device's bytes over its active paths.
func (l *Lab) carry(d *device) {
	v := d.volume
	targets := []*controller{v.owner}
	if v.array == l.petrel {
		local := l.petrel.controllers[:2]
		if !d.host.north {
			local = l.petrel.controllers[2:]
		}
		targets = []*controller{local[v.number%2]}
		if v.owner.north == d.host.north && v.owner != targets[0] {
			targets = append(targets, v.owner)
		}
	}
	part := 1 / float64(2*len(targets))
	for _, c := range targets {
		for k := range 2 {
			h, t := d.host.ports[k], c.ports[k]
			h.tx += d.writeBytes * part
			h.rx += d.readBytes * part
			t.rx += d.writeBytes * part
			t.tx += d.readBytes * part
		}
	}
}

func (l *Lab) reportPorts() {
	out := func(e *entity, tx, rx float64) {
		e.add(0, tx, 1)
		e.add(1, rx, 1)
		e.add(2, 0, 1)
		e.add(3, 0, 1)
		e.tick()
	}
	for _, h := range l.hosts {
		for _, p := range h.ports {
			out(p.out, p.tx, p.rx)
			out(p.peer, p.rx, p.tx)
			for _, i := range p.sw.isls { // all that hosts carry crosses to the arrays' switch
				i.tx += p.tx / 2
				i.rx += p.rx / 2
			}
		}
	}
	for _, a := range l.arrays {
		for _, c := range a.controllers {
			for _, p := range c.ports {
				out(p.out, p.tx, p.rx)
				out(p.peer, p.rx, p.tx)
			}
		}
	}
	for _, i := range l.isls {
		out(i.out[0], i.tx, i.rx)
		out(i.out[1], i.rx, i.tx)
	}
}
