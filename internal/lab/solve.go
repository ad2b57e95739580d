package lab

import (
	"math"
	"time"

	"dowsingrod/core/queueing"
)

// side is the estate as it is, or as it would be without its faults.
type side struct {
	net    *queueing.Network
	caches []cache
	fx     effects
	bent   bool // legs and queues differ from what was built
}

// cache is the write cache of a controller.
type cache struct {
	pending, inflow, size []float64 // bytes, bytes per second and bytes per write, by pool of its array
	wait                  float64   // s a write waits for room
}

// clone returns a side of its own in the same state.
func (s *side) clone(l *Lab) side {
	c := side{net: s.net.Clone(), caches: make([]cache, len(s.caches)), bent: s.bent}
	for k, x := range s.caches {
		c.caches[k] = cache{append([]float64(nil), x.pending...), append([]float64(nil), x.inflow...), append([]float64(nil), x.size...), x.wait}
	}
	c.fx.fit(l)
	return c
}

// The steady state of a step is sought until no response time moves by more than a 2,000th.
const (
	tolerance  = 5e-4
	mostRounds = 300
)

// step solves one step of the model: what every VM asks for, what of it is done, and how long it takes at every place. All
// latency follows from load and service times; faults change only those.
func (l *Lab) step(t time.Time, lasts time.Duration) {
	l.ask(t)
	l.main.fx.reset()
	wrong := false
	for _, e := range l.effects {
		if e.apply(l, &l.main.fx, t) {
			wrong = true
		}
	}
	if l.judge != nil && wrong {
		if l.calm == nil {
			c := l.main.clone(l)
			l.calm = &c
		}
		l.calm.fx.reset()
		for _, e := range l.effects {
			if _, fault := e.(*Fault); !fault {
				e.apply(l, &l.calm.fx, t)
			}
		}
		l.settle(l.calm, lasts)
	} else {
		l.calm = nil
	}
	l.settle(&l.main, lasts)
	if l.judge != nil && wrong {
		l.judge.compare(l, lasts)
	}
	l.warm = true
}

// settle finds the steady state of a side, and lets its write caches fill or drain over the step.
func (l *Lab) settle(s *side, lasts time.Duration) {
	l.load(s, lasts)
	for range 8 {
		s.net.Solve(tolerance, mostRounds)
		if !l.throttle(s, lasts) {
			break
		}
		l.admitWrites(s)
	}
	l.fill(s, lasts)
}

// load tells the network what every disk, cache and pool asks for.
func (l *Lab) load(s *side, lasts time.Duration) {
	if s.fx.bent || s.bent {
		l.bend(s)
		s.bent = s.fx.bent
	}
	for _, d := range l.disks {
		l.loadDisk(s, d)
	}
	for _, c := range l.controllers {
		k := &s.caches[c.at]
		for i, p := range c.array.pools {
			t := &s.net.Tenants[p.destage[c]]
			visit := &s.net.Visits[t.From]
			t.Threads = 0
			ahead := k.pending[i] + float64(k.inflow[i]*lasts.Seconds())
			if k.size[i] <= 0 || ahead <= 0 {
				continue
			}
			// What is pending drains with a time constant, followed implicitly: steps may be longer than it.
			rate := ahead / (1 + lasts.Seconds()/drainTarget) / drainTarget / k.size[i]
			visit.Count = parityCost * s.fx.writes[p.at]
			visit.Work = s.fx.drives[p.at] * (p.seek + float64(p.perByte*k.size[i]))
			t.Threads = 3 * float64(p.drives)
			t.Think = max(0, t.Threads/rate-float64(visit.Count*visit.Work))
		}
	}
	for _, p := range l.pools {
		t := &s.net.Tenants[p.rebuild]
		t.Threads, t.Think = s.fx.rebuild[p.at], 0
		s.net.Visits[t.From].Work = p.seek + float64(p.perByte*(256<<10))
	}
}

// loadDisk sets both tenants of a disk.
func (l *Lab) loadDisk(s *side, d *vdisk) {
	o := &l.offers[d.vm.at]
	factor := s.fx.factor[d.vm.at] * d.share
	rate := (o.reads + o.writes) * factor
	w := work{think: d.vm.load.think, reads: 1, readSize: o.readSize, writeSize: o.writeSize, miss: min(1, (1-d.volume.hit)*o.miss), sequential: o.sequential}
	if rate > 0 && !d.hidden {
		w.reads = o.reads / (o.reads + o.writes)
		w.threads = rate * (usualTime + w.think)
	}
	l.set(s, d, 0, w)
	l.set(s, d, 1, s.fx.extra[d.at])
}

// set tells the network of a load of a disk.
func (l *Lab) set(s *side, d *vdisk, k int, w work) {
	t := &s.net.Tenants[d.tenant[k]]
	t.Threads = w.threads
	if w.threads <= 0 {
		return
	}
	v := d.volume
	visits, uses := s.net.Visits[t.From:t.To], s.net.Uses[t.UseFrom:t.UseTo]
	reads, writes := w.reads, 1-w.reads
	t.Think = w.think
	t.Limit = s.fx.limit[d.at]
	t.Before = guestTime * (1 + float64(4*s.fx.steal[d.vm.at]))
	t.Inner = hostTime + float64(cacheTime*(reads+float64(2*writes)))
	if v.share != "" {
		t.Inner += networkRTT
	}
	bytes := float64(reads*w.readSize) + float64(writes*w.writeSize)
	front := l.front(d.vm.host, v)
	visits[atController].Count, visits[atController].Work = 1, s.fx.slow[front.at]*(front.service+float64(front.perByte*bytes))
	visits[atLimiter].Count, visits[atLimiter].Work = 0, 0
	if c := s.fx.ceiling[v.at]; c > 0 {
		visits[atLimiter].Count, visits[atLimiter].Work = 1, 1/c
	}
	if len(uses) > 0 {
		uses[useRead].Count, uses[useRead].Bytes = reads, w.readSize
		uses[useWrite].Count, uses[useWrite].Bytes = writes, w.writeSize
	}
	if len(v.legs) == 0 {
		t.Inner += float64(writes * s.caches[v.owner.at].wait)
		drive(&visits[atPool], s, v, reads*w.miss, writes, w)
		return
	}
	near, far := v.near()
	missed := reads * w.miss
	second := min(1, 1-near.hit)
	t.Inner += float64(writes*(l.roundTrip+s.fx.roundTrip+2*cacheTime+s.caches[far.owner.at].wait)) + float64(missed*cacheTime)
	drive(&visits[atPool], s, near, missed*second, 0, w)
	visits[atNear].Count, visits[atNear].Work = missed, s.fx.slow[near.owner.at]*(near.owner.service+float64(near.owner.perByte*w.readSize))
	visits[atFar].Count, visits[atFar].Work = writes, s.fx.slow[far.owner.at]*(far.owner.service+float64(far.owner.perByte*w.writeSize))
	visits[atNearAside].Count, visits[atNearAside].Work = writes, s.fx.slow[near.owner.at]*(near.owner.service+float64(near.owner.perByte*w.writeSize))
	visits[atSite].Count, visits[atSite].Work = writes, w.writeSize/max(siteSpeed-s.fx.siteBytes, siteSpeed/50)
	uses[useBackRead].Count, uses[useBackRead].Bytes = missed, w.readSize
	uses[useBackFar].Count, uses[useBackFar].Bytes = writes, w.writeSize
	uses[useBackNear].Count, uses[useBackNear].Bytes = writes, w.writeSize
}

const siteSpeed = 1.25e9 // bytes per second between the harbours

// drive sets a visit to the drives under a volume: reads that no cache holds, and writes too where there is no write cache.
func drive(visit *queueing.Visit, s *side, v *volume, missed, writes float64, w work) {
	p := v.pool
	read := float64(p.seek*(1-float64(0.9*w.sequential))) + float64(p.perByte*w.readSize)
	visit.Count, visit.Work = missed, s.fx.drives[p.at]*read
	if !s.fx.writeBack[v.owner.at] && writes > 0 {
		cost := parityCost * s.fx.writes[p.at]
		write := p.seek + float64(p.perByte*w.writeSize)
		visit.Count = missed + float64(writes*cost)
		visit.Work = s.fx.drives[p.at] * (float64(missed*read) + float64(float64(writes*cost)*write)) / visit.Count
	}
}

// admitWrites brings a changed wait for the write caches into the loads.
func (l *Lab) admitWrites(s *side) {
	for _, d := range l.disks {
		l.loadDisk(s, d)
	}
}

// bytesIn adds up what is written to each cache, in bytes per second, by pool.
func (l *Lab) bytesIn(s *side) {
	for k := range s.caches {
		clear(s.caches[k].inflow)
		clear(s.caches[k].size)
	}
	for _, d := range l.disks {
		for k := range d.tenant {
			t := &s.net.Tenants[d.tenant[k]]
			if t.Threads <= 0 {
				continue
			}
			writes, size := l.writesOf(s, d, k, t)
			if writes <= 0 {
				continue
			}
			legs := d.volume.legs
			if len(legs) == 0 {
				l.into(s, d.volume, writes, size)
			}
			for _, leg := range legs {
				l.into(s, leg, writes, size)
			}
		}
	}
	for k := range s.caches {
		c := &s.caches[k]
		for i := range c.size {
			if c.size[i] > 0 { // it held writes per second so far
				c.size[i] = c.inflow[i] / c.size[i]
			}
		}
	}
}

func (l *Lab) into(s *side, v *volume, writes, size float64) {
	if !s.fx.writeBack[v.owner.at] {
		return
	}
	c := &s.caches[v.owner.at]
	for i, p := range v.array.pools {
		if p == v.pool {
			c.inflow[i] += float64(writes * size)
			c.size[i] += writes
		}
	}
}

// writesOf returns the writes per second of a tenant of a disk, and their size.
func (l *Lab) writesOf(s *side, d *vdisk, k int, t *queueing.Tenant) (rate, size float64) {
	if t.UseTo > t.UseFrom {
		u := &s.net.Uses[t.UseFrom+useWrite]
		return t.Rate * u.Count, u.Bytes
	}
	o := &l.offers[d.vm.at]
	if k == 0 {
		return t.Rate * o.writes / max(o.reads+o.writes, 1e-9), o.writeSize
	}
	x := s.fx.extra[d.at]
	return t.Rate * (1 - x.reads), x.writeSize
}

// throttle lets writes wait for room where a cache would overflow within the step, so long that what comes in is what fits, and
// reports whether it changed a wait by much.
func (l *Lab) throttle(s *side, lasts time.Duration) bool {
	l.bytesIn(s)
	changed := false
	for _, c := range l.controllers {
		k := &s.caches[c.at]
		in, out, held := 0.0, 0.0, 0.0
		for i, p := range c.array.pools {
			in += k.inflow[i]
			out += float64(s.net.Tenants[p.destage[c]].Rate * k.size[i])
			held += k.pending[i]
		}
		room := out + (float64(0.95*l.cacheOf(c))-held)/lasts.Seconds()
		if in <= 0 || k.wait == 0 && in <= room {
			continue
		}
		// Writers that wait w more per write do N/(Z+R+w): the cycle must grow as much as the rate must fall.
		const cycle = 3e-3
		wait := max(0, (k.wait+cycle)*in/max(room, in/20)-cycle)
		if math.Abs(wait-k.wait) > 0.03*(wait+20e-6) {
			changed = true
		}
		k.wait = wait
		if wait < 5e-6 {
			k.wait = 0
		}
	}
	return changed
}

// cacheOf returns the bytes of a controller's write cache.
func (l *Lab) cacheOf(c *controller) float64 { return cacheBytes * l.size.scale }

// fill moves what is pending by what came in, as throttle added it up, and what was destaged over the step.
func (l *Lab) fill(s *side, lasts time.Duration) {
	for _, c := range l.controllers {
		k := &s.caches[c.at]
		for i, p := range c.array.pools {
			out := float64(s.net.Tenants[p.destage[c]].Rate * k.size[i])
			k.pending[i] = max(0, k.pending[i]+float64((k.inflow[i]-out)*lasts.Seconds()))
			k.pending[i] = min(k.pending[i], l.cacheOf(c))
			if !s.fx.writeBack[c.at] { // a cache that is off is written down and not filled again
				k.pending[i] = 0
			}
		}
	}
}

// bend brings changed ways, queues and ports into the network.
func (l *Lab) bend(s *side) {
	n := s.net
	for _, f := range l.fronts {
		for dir, at := range f.at {
			leg := &n.Legs[at]
			leg.Fixed = fabricTime
			for k := range 2 {
				near, far := f.host.ports[k], f.to.ports[k]
				part := s.fx.weights[f.host.at][k]
				taker, sender := near, far
				if dir == 1 {
					taker, sender = far, near
				}
				x := leg.Visits[k*legVisits : (k+1)*legVisits]
				for v := range x {
					x[v].Part = part
				}
				drain := s.fx.drain[taker.at] / taker.speed
				x[legTrunkCredits].Drain, x[legTaker].PerByte = drain, drain
				// A lost frame costs the I/O the time until it is sent again.
				const again = 0.4
				lost := (s.fx.errors[taker.at] + s.fx.errors[sender.at]) * 1e-6
				leg.Fixed += float64(part * float64(lost*again))
			}
		}
	}
	for _, d := range l.devices {
		n.Stations[d.queue].Servers = max(1, d.depth*s.fx.depth[d.host.at])
	}
}
