package lab

import "dowsingrod/core/queueing"

// Fixed times on the way, in s, where nothing waits.
const (
	guestTime  = 90e-6  // the virtual disk's emulation
	hostTime   = 25e-6  // the host's own part of its queue
	fabricTime = 70e-6  // two or three hops and the cable
	cacheTime  = 110e-6 // a cache lookup, and the copy to the mirrored cache
	networkRTT = 180e-6 // the file share's network
)

const (
	frame       = 2048.0 // bytes a buffer credit stands for
	linkCredits = 48     // of an inter-switch link
	portCredits = 64     // of an edge port
	drainTarget = 10.0   // s in which a write cache wants to be empty
	cacheBytes  = 2.0 * gib
	// parityCost is how many visits to a drive a write costs after coalescing: RAID 6 reads and writes three drives each, which
	// full stripes spare five writes in six.
	parityCost = 0.96
)

// layout of a tenant's visits and uses in the network.
const (
	atController = iota
	atLimiter
	atPool // of the near leg, where the volume is stretched
	atNear
	atFar
	atNearAside
	atSite
)

const (
	useRead = iota
	useWrite
	useBackRead
	useBackFar
	useBackNear
)

// wire builds the queueing network of the estate: a station for whatever I/O can wait at.
func (l *Lab) wire() {
	n := &l.main.net
	*n = &queueing.Network{}
	for _, s := range l.switches {
		if _, known := l.trunks[s.fabric]; known {
			continue
		}
		t := &trunk{links: s.isls}
		for dir := range 2 {
			t.link[dir] = (*n).AddStation(float64(len(s.isls)), 0.5)
			t.credits[dir] = (*n).AddStation(float64(linkCredits*len(s.isls)), 1)
		}
		l.trunks[s.fabric] = t
	}
	plug := func(p *port) {
		p.sends, p.takes = (*n).AddStation(1, 0.5), (*n).AddStation(1, 0.5)
		p.at = l.ports
		l.ports++
	}
	for _, h := range l.hosts {
		plug(h.ports[0])
		plug(h.ports[1])
	}
	l.site = (*n).AddStation(1, 0.5)
	for _, a := range l.arrays {
		for _, c := range a.controllers {
			c.at, c.station = len(l.controllers), (*n).AddStation(float64(c.cores), 1)
			l.controllers = append(l.controllers, c)
			plug(c.ports[0])
			plug(c.ports[1])
		}
		for _, p := range a.pools {
			p.at, p.station, p.destage = len(l.pools), (*n).AddStation(float64(p.drives), 1), map[*controller]int32{}
			l.pools = append(l.pools, p)
		}
	}
	for k, v := range l.volumes {
		v.at, v.limiter = k, (*n).AddStation(1, 0.5)
	}
	for _, d := range l.devices {
		d.queue = (*n).AddStation(d.depth, 1)
	}
	for _, d := range l.disks {
		for k := range d.tenant {
			d.tenant[k] = l.admit(d)
			l.point(*n, d.tenant[k], d)
		}
	}
	for _, a := range l.arrays {
		for _, p := range a.pools {
			p.rebuild = l.alone(p.station)
			for _, c := range a.controllers {
				p.destage[c] = l.alone(p.station)
			}
		}
	}
	l.main.caches = make([]cache, len(l.controllers))
	for k, c := range l.controllers {
		l.main.caches[k].pending = make([]float64, len(c.array.pools))
		l.main.caches[k].inflow = make([]float64, len(c.array.pools))
		l.main.caches[k].size = make([]float64, len(c.array.pools))
	}
	l.main.fx.fit(l)
}

// alone adds a tenant with one visit, as what a pool does by itself.
func (l *Lab) alone(station int32) int32 {
	n := l.main.net
	n.Visits = append(n.Visits, queueing.Visit{Station: station, Count: 1})
	v, u := int32(len(n.Visits)), int32(len(n.Uses))
	n.Tenants = append(n.Tenants, queueing.Tenant{Holder: -1, From: v - 1, To: v, UseFrom: u, UseTo: u})
	return int32(len(n.Tenants) - 1)
}

// admit adds a tenant for a disk.
func (l *Lab) admit(d *vdisk) int32 {
	n := l.main.net
	visits, uses := atPool+1, useWrite+1
	switch {
	case len(d.volume.legs) > 0:
		visits, uses = atSite+1, useBackNear+1
	case d.volume.share != "":
		uses = 0
	}
	t := queueing.Tenant{Holder: -1, From: int32(len(n.Visits)), UseFrom: int32(len(n.Uses))}
	n.Visits = append(n.Visits, make([]queueing.Visit, visits)...)
	n.Uses = append(n.Uses, make([]queueing.Use, uses)...)
	t.To, t.UseTo = int32(len(n.Visits)), int32(len(n.Uses))
	n.Tenants = append(n.Tenants, t)
	return int32(len(n.Tenants) - 1)
}

// point leads a tenant of a disk to where the disk lies and its machine runs now.
func (l *Lab) point(n *queueing.Network, tenant int32, d *vdisk) {
	t := &n.Tenants[tenant]
	v := d.volume
	visits, uses := n.Visits[t.From:t.To], n.Uses[t.UseFrom:t.UseTo]
	t.Holder = -1
	if dev := d.vm.host.devices[v]; dev != nil {
		t.Holder = dev.queue
	}
	visits[atController].Station, visits[atLimiter].Station = v.owner.station, v.limiter
	if len(uses) > 0 {
		front := l.front(d.vm.host, v)
		leg := l.leg(n, d.vm.host, front)
		uses[useRead].Leg, uses[useWrite].Leg = leg[0], leg[1]
	}
	if len(v.legs) == 0 {
		visits[atPool].Station = v.pool.station
		return
	}
	visits[atController].Station = l.front(d.vm.host, v).station
	near, far := v.near()
	visits[atPool].Station, visits[atNear].Station, visits[atFar].Station, visits[atNearAside].Station, visits[atSite].Station = near.pool.station, near.owner.station, far.owner.station, near.owner.station, l.site
	visits[atNearAside].Aside = true
	backNear, backFar := l.back(n, v.owner, near.owner), l.back(n, l.homeOf(far), far.owner)
	uses[useBackRead].Leg, uses[useBackFar].Leg, uses[useBackNear].Leg = backNear[0], backFar[1], backNear[1]
	uses[useBackNear].Aside = true
}

// near tells which leg of a stretched volume answers reads, and which lies beyond the site link.
func (v *volume) near() (near, far *volume) {
	if v.owner.north {
		return v.legs[0], v.legs[1]
	}
	return v.legs[1], v.legs[0]
}

// homeOf is the virtualizer's node that stands where a leg does.
func (l *Lab) homeOf(leg *volume) *controller {
	home := l.petrel.controllers[:2]
	if leg.array == l.gannet {
		home = l.petrel.controllers[2:]
	}
	return home[leg.number%2]
}

// front is the controller to which a host sends its I/O for a volume.
func (l *Lab) front(h *host, v *volume) *controller {
	if v.array != l.petrel {
		return v.owner
	}
	local := l.petrel.controllers[:2]
	if !h.north {
		local = l.petrel.controllers[2:]
	}
	return local[v.number%2]
}

type ends struct{ near, far any }

// leg returns the way of reads and of writes between a host and a controller.
func (l *Lab) leg(n *queueing.Network, h *host, c *controller) [2]int32 {
	key := ends{h, c}
	if at, ok := l.legs[key]; ok {
		return at
	}
	read, write := queueing.Leg{Fixed: fabricTime}, queueing.Leg{Fixed: fabricTime}
	for k := range 2 {
		near, far := h.ports[k], c.ports[k]
		t := l.trunks[near.sw.fabric]
		isl := 1 / l.islSpeed
		read.Visits = append(read.Visits,
			queueing.LegVisit{Station: far.sends, Part: 0.5, PerByte: 1 / far.speed, Next: -1},
			queueing.LegVisit{Station: t.credits[1], Part: 0.5, Next: near.takes, Frame: frame, Drain: 1 / near.speed},
			queueing.LegVisit{Station: t.link[1], Part: 0.5, PerByte: isl, Next: -1},
			queueing.LegVisit{Station: near.takes, Part: 0.5, PerByte: 1 / near.speed, Next: -1})
		write.Visits = append(write.Visits,
			queueing.LegVisit{Station: near.sends, Part: 0.5, PerByte: 1 / near.speed, Next: -1},
			queueing.LegVisit{Station: t.credits[0], Part: 0.5, Next: far.takes, Frame: frame, Drain: 1 / far.speed},
			queueing.LegVisit{Station: t.link[0], Part: 0.5, PerByte: isl, Next: -1},
			queueing.LegVisit{Station: far.takes, Part: 0.5, PerByte: 1 / far.speed, Next: -1})
	}
	at := [2]int32{int32(len(n.Legs)), int32(len(n.Legs) + 1)}
	n.Legs = append(n.Legs, read, write)
	l.legs[key] = at
	l.fronts = append(l.fronts, frontLeg{h, c, at})
	return at
}

// Visits of a front leg, per fabric.
const (
	legPort = iota
	legTrunkCredits
	legTrunk
	legTaker
	legVisits
)

// back returns the way between a virtualizer's node and a controller behind it; both are on the same switches.
func (l *Lab) back(n *queueing.Network, node, c *controller) [2]int32 {
	key := ends{node, c}
	if at, ok := l.legs[key]; ok {
		return at
	}
	read, write := queueing.Leg{Fixed: fabricTime / 2}, queueing.Leg{Fixed: fabricTime / 2}
	for k := range 2 {
		near, far := node.ports[k], c.ports[k]
		read.Visits = append(read.Visits, queueing.LegVisit{Station: far.sends, Part: 0.5, PerByte: 1 / far.speed, Next: -1}, queueing.LegVisit{Station: near.takes, Part: 0.5, PerByte: 1 / near.speed, Next: -1})
		write.Visits = append(write.Visits, queueing.LegVisit{Station: near.sends, Part: 0.5, PerByte: 1 / near.speed, Next: -1}, queueing.LegVisit{Station: far.takes, Part: 0.5, PerByte: 1 / far.speed, Next: -1})
	}
	at := [2]int32{int32(len(n.Legs)), int32(len(n.Legs) + 1)}
	n.Legs = append(n.Legs, read, write)
	l.legs[key] = at
	return at
}

type frontLeg struct {
	host *host
	to   *controller
	at   [2]int32
}
