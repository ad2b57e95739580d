package lab

import (
	"fmt"
	"math"
	"time"

	"dowsingrod/core/estate"
)

// load is what a VM asks for when nothing holds it back.
type load struct {
	reads, writes         float64 // 1/s at its busiest hour
	readSize, writeSize   float64 // bytes
	think                 float64 // s between I/Os of one thread
	night                 float64 // part of the load that is there at night
	peak                  float64 // hour of the day at which it is highest
	wander, locality, cpu float64
	sequential            float64 // part of its reads that follow the one before
	weekend               float64 // part of the load that is there on Saturdays and Sundays
	batch                 float64 // hour at which a nightly run begins; 0 for none
}

// The applications of Tidewrack Ferries.
var applications = []struct {
	name, prefix string
	tier         int
	load         load
}{
	{"manifests", "manifest-db", 1, load{150, 70, 12 << 10, 16 << 10, 6e-3, 0.25, 15.5, 0.12, 1.0, 0.45, 0.05, 0.9, 2}},
	{"berth plans", "berth-plan", 1, load{60, 30, 8 << 10, 8 << 10, 8e-3, 0.30, 10, 0.12, 1.0, 0.40, 0.05, 0.8, 0}},
	{"ticket gates", "ticket-gate", 1, load{90, 60, 8 << 10, 8 << 10, 8e-3, 0.10, 9, 0.20, 1.0, 0.35, 0, 1, 0}},
	{"tide model", "tide-model", 2, load{120, 60, 64 << 10, 64 << 10, 10e-3, 0.80, 4, 0.15, 0.9, 0.60, 0.3, 1, 0}},
	{"sonar tiles", "sonar-tiles", 3, load{70, 15, 32 << 10, 32 << 10, 15e-3, 0.40, 12, 0.20, 0.8, 0.30, 0.4, 0.5, 0}},
	{"radar replay", "radar-replay", 2, load{210, 30, 64 << 10, 32 << 10, 12e-3, 0.85, 14, 0.10, 0.9, 0.35, 0.5, 1, 0}},
	{"crew roster", "crew-roster", 2, load{45, 20, 8 << 10, 8 << 10, 12e-3, 0.15, 8, 0.20, 1.1, 0.25, 0.05, 0.4, 1.5}},
	{"lamp telemetry", "lamp-telemetry", 3, load{25, 80, 4 << 10, 8 << 10, 12e-3, 0.95, 22, 0.10, 1.0, 0.30, 0, 1, 0}},
}

// placement of the VMs that the scenario speaks of; all others are spread by their number.
var placement = map[string]struct {
	store string
	host  int
}{
	"manifest-db-02":  {"ds-dulse-03", 7},
	"sonar-tiles-05":  {"ds-dulse-01", 4},
	"radar-replay-02": {"ds-dulse-02", 6},
	"crew-roster-01":  {"ds-dulse-04", 2},
	"berth-plan-01":   {"ds-kelp-02", 5},
	"ticket-gate-12":  {"ds-wrack-02", 10},
}

func (l *Lab) buildGuests() {
	for n := range l.size.vms {
		app := applications[n%len(applications)]
		v := &vm{name: fmt.Sprintf("%s-%02d", app.prefix, l.size.vmsBefore/len(applications)+n/len(applications)+1), app: app.name, tier: app.tier, load: app.load, n: uint64(l.size.vmsBefore + n), at: n}
		scale := 1.2 + 2*noise(l.seed, v.n, 1)
		v.load.reads *= scale
		v.load.writes *= scale
		if l.demo && v.name == "radar-replay-02" { // the busiest of all, always
			v.load.reads, v.load.night = 1150, 0.95
		}
		l.place(v, n)
		l.vms = append(l.vms, v)
	}
	for _, v := range l.vms {
		l.describe(v)
	}
}

// place puts two thirds of the VMs on Northmole, on all datastores there in turn.
func (l *Lab) place(v *vm, n int) {
	north := n%3 != 2
	var stores []*datastore
	for _, d := range l.stores {
		if d.both || d.north == north {
			stores = append(stores, d)
		}
	}
	store := stores[(n*7+n/5)%len(stores)]
	at := n % l.size.north
	if !north {
		at = l.size.north + n/3%l.size.south
	}
	if p, ok := placement[v.name]; ok && l.demo {
		at = p.host - 1
		for _, d := range l.stores {
			if d.name == p.store {
				store = d
			}
		}
	}
	v.host = l.hosts[at]
	v.source = v.host.source
	v.disks = []*vdisk{{vm: v, share: 1, volume: store.volume}}
	if v.app == "manifests" { // a disk for the log beside the one for data
		v.disks[0].share = 0.8
		v.disks = append(v.disks, &vdisk{vm: v, share: 0.2, volume: store.volume})
	}
	if l.demo && v.name == "tide-model-01" || !l.demo && n == 3 { // and one raw LUN
		raw := l.volume(l.heron, "vol-0199", 1, l.heron.pools[2], 0.5)
		l.openOn(raw, true)
		v.disks[0].share = 0.5
		v.disks = append(v.disks, &vdisk{vm: v, share: 0.5, volume: raw, direct: true})
	}
}

// describe writes the VM's objects and opens their readings.
func (l *Lab) describe(v *vm) {
	var uses []string
	for k, d := range v.disks {
		d.id = fmt.Sprintf("%s-%d", v.name, k)
		uses = append(uses, "vdisk:"+d.id)
		on := ""
		for _, s := range l.stores {
			if s.volume == d.volume {
				on = "datastore:" + s.id
			}
		}
		facts := estate.Facts{"uuid": uuid(d.id), "bytes": 200.0 * gib, "format": "thin", "raw": "none"}
		if d.direct {
			facts["raw"] = "physical"
			// The array's object is not this source's to link to: the device is, and its NAA joins them.
			on = "datastore:raw-" + d.id
			l.object(v.source, estate.Datastore, "raw-"+d.id, "raw LUN of "+v.name, estate.Facts{"extents": []any{"naa." + d.volume.naa}, "filesystem": "direct"}, nil)
		}
		l.object(v.source, estate.VDisk, d.id, fmt.Sprintf("%s disk %d", v.name, k+1), facts, links{"stored_on": {on}})
		d.out = l.ioEntity(v.source, "vdisk:"+d.id)
		d.at = len(l.disks)
		l.disks = append(l.disks, d)
	}
	l.objects[v.source] = append(l.objects[v.source], l.vmObject(v, uses))
	l.tagFlows(v)
	v.cpu = l.entity(v.source, "vm:"+v.name, "busy_share", "steal_share")
}

// demand is the part of a VM's busiest load that it asks for at an hour of the day, before its noise: a hill around its peak.
func (ld load) demand(hour float64) float64 {
	const halfWidth = 9.0 // hours from the top of the hill to its foot
	d := math.Abs(math.Mod(hour-ld.peak+36, 24)-12) / halfWidth
	if d >= 1 {
		return ld.night
	}
	hill := 1 - float64(d*d)
	return ld.night + float64((1-ld.night)*float64(hill*float64(hill*hill)))
}

// clock returns the hour of the scenario's day at t. The moment the demo was made is twenty past four
// in the afternoon, whatever the wall says, so that every demo shows the same day; other
// estates keep UTC.
func (l *Lab) clock(t time.Time) float64 {
	if !l.demo {
		return float64(t.Unix()%86400) / 3600
	}
	h := 16 + 20.0/60 + t.Sub(l.anchor).Hours()
	return h - 24*math.Floor(h/24)
}

// tagged tells the hosts whose switch ports mark frames with the machine they belong to: some do, most do not.
func (l *Lab) tagged(h *host) bool { return !l.demo && h.at%5 == 1 }

// tagFlows lists the flows of a machine that its host's switch ports tell apart.
func (l *Lab) tagFlows(v *vm) {
	if !l.tagged(v.host) {
		return
	}
	for _, d := range v.disks {
		if d.volume.share != "" {
			continue
		}
		to := l.front(v.host, d.volume)
		for k, near := range v.host.ports {
			id := fmt.Sprintf("%s-%d", d.id, k)
			l.object(near.sw.source, estate.Flow, id, "", estate.Facts{"initiator": near.wwpn, "target": to.ports[k].wwpn, "lun": float64(d.volume.number), "vm_uuid": uuid(v.name)}, nil)
			d.flows[k] = l.ioEntity(near.sw.source, "flow:"+id)
		}
		d.flowsOf = v.host
	}
}
