package lab

import (
	"math"
	"time"

	"dowsingrod/core/queueing"
)

// Fixed times on the way, in s, where nothing waits.
const (
	guestTime  = 90e-6  // the virtual disk's emulation
	hostTime   = 25e-6  // the host's own part of its queue
	fabricTime = 70e-6  // two or three hops and the cable
	cacheTime  = 110e-6 // a cache lookup, and the copy to the mirrored cache
	networkRTT = 180e-6 // the file share's network
)

// The fixed point is sought in rounds: the loads follow from the times and the times from the loads.
// Each round moves part of the way, for near saturation a full step would overshoot, until no disk's
// read time has moved by more than settled in calm rounds on end.
const (
	mostRounds = 3000
	calm       = 6
	damping    = 0.18
	settled    = 0.0008
)

// step solves one step of the model: what every VM asks for, what of it is done, and how long it takes
// at every place. All latency follows from load and service times; faults change only those.
func (l *Lab) step(t time.Time) {
	l.offer(t)
	l.warm = true
	for n, still := 0, 0; still < calm && n < mostRounds; n++ {
		l.collect()
		l.serve(t)
		l.respond()
		if still++; l.moving > settled {
			still = 0
		}
	}
	l.report(t)
}

// offer sets what each VM would do at this moment, and how it is bound.
func (l *Lab) offer(t time.Time) {
	hour := l.clock(t)
	cell := uint64(t.Unix() / int64(Step.Seconds()))
	for _, v := range l.vms {
		d := v.load.demand(hour) * (1 + v.load.wander*wander(l.seed, v.n, t)) * (0.95 + 0.1*noise(l.seed, v.n, cell, 2))
		o := &l.offers[v.n]
		*o = offer{reads: v.load.reads * d, writes: v.load.writes * d, readSize: v.load.readSize, writeSize: v.load.writeSize,
			miss: v.load.locality, cpu: v.load.cpu * (0.5 + 0.5*d)}
		l.apply(v, o, t)
	}
}

// offer is what a VM asks for.
type offer struct {
	reads, writes, readSize, writeSize float64
	threads                            float64 // keeps so many reads in flight without thinking, above its offered reads
	burst                              float64 // size of those
	miss                               float64 // its misses against the volume's usual ones
	cpu, steal                         float64
	burstRate                          float64
}

// collect adds up what the disks ask of everything below them.
func (l *Lab) collect() {
	for _, v := range l.volumes {
		v.readRate, v.writeRate, v.readBytes, v.writeBytes, v.missRate, v.missBytes = 0, 0, 0, 0, 0, 0
	}
	for _, d := range l.devices {
		d.readRate, d.writeRate, d.readBytes, d.writeBytes = 0, 0, 0, 0
	}
	for _, d := range l.disks {
		o := &l.offers[d.vm.n]
		reads, writes := d.readRate, d.writeRate
		readBytes := reads*o.readSize + o.burstRate*d.burst()*o.burst
		v := d.volume
		d.miss = math.Min(1, (1-v.hit)*o.miss)
		v.missRate += reads * d.miss
		v.missBytes += reads * d.miss * o.readSize
		if burst := o.burstRate * d.burst(); burst > 0 { // reads all over the disk find nothing in cache
			v.missRate += burst
			v.missBytes += burst * o.burst
			d.miss = (reads*d.miss + burst) / (reads + burst)
			reads += burst
		}
		v.readRate += reads
		v.writeRate += writes
		v.readBytes += readBytes
		v.writeBytes += writes * o.writeSize
		if dev := d.vm.host.devices[v]; dev != nil {
			dev.readRate += reads
			dev.writeRate += writes
			dev.readBytes += readBytes
			dev.writeBytes += writes * o.writeSize
		}
	}
	for _, v := range l.volumes { // a virtualizer asks its legs for what it does not hold itself
		for k, leg := range v.legs {
			part := 0.0
			if near := v.owner.north == (k == 0); near {
				part = 1
			}
			leg.readRate += v.missRate * part
			leg.readBytes += v.missBytes * part
			leg.missRate, leg.missBytes = leg.readRate*(1-leg.hit), leg.readBytes*(1-leg.hit)
			leg.writeRate += v.writeRate
			leg.writeBytes += v.writeBytes
		}
	}
}

// burst is the part of a VM's extra threads that goes to this disk: all of it to the first.
func (d *vdisk) burst() float64 {
	if d.vm.disks[0] == d {
		return 1
	}
	return 0
}

// serve lets pools and controllers answer, and volumes with them.
func (l *Lab) serve(t time.Time) {
	for _, a := range l.arrays {
		for _, p := range a.pools {
			p.readRate, p.writeRate, p.readBytes, p.writeBytes = 0, 0, 0, 0
		}
		for _, c := range a.controllers {
			c.rate, c.readRate, c.writeRate, c.readBytes, c.writeByte, c.hits = 0, 0, 0, 0, 0, 0
		}
	}
	for _, v := range l.volumes {
		if v.pool != nil {
			v.pool.readRate += v.missRate
			v.pool.readBytes += v.missBytes
			v.pool.writeRate += v.writeRate * 0.8 // some writes meet in cache and go down as one
			v.pool.writeBytes += v.writeBytes
		}
		c := v.owner
		c.readRate += v.readRate
		c.writeRate += v.writeRate
		c.readBytes += v.readBytes
		c.writeByte += v.writeBytes
		c.hits += v.readRate - v.missRate
	}
	for _, a := range l.arrays {
		for _, p := range a.pools {
			l.servePool(p)
		}
		for _, c := range a.controllers {
			l.serveController(c, t)
		}
	}
	for _, v := range l.volumes {
		if len(v.legs) == 0 {
			l.serveVolume(v)
		}
	}
	for _, v := range l.volumes {
		if len(v.legs) > 0 {
			l.serveStretched(v)
		}
	}
}

// center answers for n servers with a mean service time: the damped utilization and response time.
func center(utilization *float64, rate, service float64, n int) float64 {
	want := queueing.Utilization(rate, service, n)
	*utilization += damping * (math.Min(want, 1.5) - *utilization)
	*utilization = math.Max(0, math.Min(0.992, *utilization))
	return service + queueing.WaitMultiserver(*utilization, service, n, 1)
}

func (l *Lab) servePool(p *pool) {
	rate := p.readRate + p.writeRate
	service := p.seek
	if rate > 0 {
		service += p.perByte * (p.readBytes + p.writeBytes) / rate
	}
	p.response = center(&p.busy, rate, service, p.drives)
}

func (l *Lab) serveController(c *controller, t time.Time) {
	c.rate = c.readRate + c.writeRate
	service := c.service
	if c.rate > 0 {
		service += c.perByte * (c.readBytes + c.writeByte) / c.rate
	}
	service *= l.slowdown(c, t)
	c.response = center(&c.busy, c.rate, service, c.cores)
	c.pending = 0.06 + 0.4*math.Pow(c.busy, 2)
}

// miss is the part of the volume's reads that its cache does not answer.
func (v *volume) miss() float64 {
	if v.readRate <= 0 {
		return 1 - v.hit
	}
	return v.missRate / v.readRate
}

func portTime(bytes, rate float64) float64 {
	if rate <= 0 {
		return 0
	}
	return bytes / rate / 3.2e9
}

func (l *Lab) serveVolume(v *volume) {
	c := v.owner
	v.readService = c.response + cacheTime + v.miss()*v.pool.response
	v.writeService = c.response + 2*cacheTime
	v.readTime = v.readService + portTime(v.readBytes, v.readRate)
	v.writeTime = v.writeService + portTime(v.writeBytes, v.writeRate)
}

func (l *Lab) serveStretched(v *volume) {
	near := v.legs[0]
	if !v.owner.north {
		near = v.legs[1]
	}
	v.readService = v.owner.response + cacheTime + v.miss()*(fabricTime+near.readTime)
	v.writeService = v.owner.response + 2*cacheTime + l.roundTrip
	v.readTime = v.readService + portTime(v.readBytes, v.readRate)
	v.writeTime = v.writeService + portTime(v.writeBytes, v.writeRate)
}

// respond lets hosts queue and VMs react: those that wait for each I/O before they ask for the next do
// less when it takes longer.
func (l *Lab) respond() {
	for _, d := range l.devices {
		rate := d.readRate + d.writeRate
		if rate <= 0 {
			d.queue, d.inner = 0, 0
			continue
		}
		v := d.volume
		d.inner = fabricTime + (d.readRate*v.readTime+d.writeRate*v.writeTime)/rate
		inside := rate * d.inner
		target := hostTime
		if inside > d.depth { // what does not fit into the queue depth waits in the host
			target += d.queue + d.inner*(inside/d.depth-1)
		} else {
			target += math.Max(0, d.queue-d.inner*(1-inside/d.depth))
		}
		d.queue += damping * (target - d.queue)
	}
	l.moving = 0
	for _, d := range l.disks {
		o := &l.offers[d.vm.n]
		v := d.volume
		before := d.read
		wait := networkRTT
		if dev := d.vm.host.devices[v]; dev != nil {
			wait = dev.queue + fabricTime
		}
		own := v.readTime // the mean over all tenants of the volume, but for this one's own misses
		if v.pool != nil {
			own += (d.miss - v.miss()) * v.pool.response
		}
		guest := guestTime * (1 + 4*o.steal)
		d.below = wait + own
		d.read, d.write = guest+d.below, guest+wait+v.writeTime
		l.moving = math.Max(l.moving, math.Abs(d.read-before)/d.read)
		// Interactive response time law, against the time the application was sized for.
		const usual = 2e-3
		think := d.vm.load.think
		d.readRate += damping * (o.reads*d.share*(usual+think)/(d.read+think) - d.readRate)
		d.writeRate += damping * (o.writes*d.share*(usual+think)/(d.write+think) - d.writeRate)
		if d.burst() > 0 {
			want := 0.0
			if o.threads > 0 {
				want = queueing.ClosedRate(o.threads, d.read, 0)
			}
			o.burstRate += damping * (want - o.burstRate)
			l.bursts[d.vm.n] = o.burstRate
		}
	}
}
