package lab

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"strings"
	"time"

	"dowsingrod/core/estate"
	"dowsingrod/internal/feed"
)

// Names of the sources of the demo estate.
const (
	HypNorth    = "hyp-northmole"
	HypSouth    = "hyp-southmole"
	FabricNorth = "fabric-northmole"
	FabricSouth = "fabric-southmole"
	Heron       = "heron"
	Gannet      = "gannet"
	Petrel      = "petrel"
)

// Sources lists them in the order in which they are written.
var Sources = []Source{
	{Name: HypNorth, Interval: 20 * time.Second}, {Name: HypSouth, Interval: 60 * time.Second}, {Name: FabricNorth, Interval: 60 * time.Second},
	{Name: FabricSouth, Interval: 60 * time.Second}, {Name: Heron, Interval: 60 * time.Second}, {Name: Gannet, Interval: 60 * time.Second},
	{Name: Petrel, Interval: 120 * time.Second},
}

// queueDepth is that of a host's device.
const queueDepth = 64.0

const (
	gib = 1 << 30
	tib = 1 << 40
)

// The parts of the simulated estate. Fields hold what the model needs; what feeds need is in objects.
type (
	vm struct {
		name, app, source string
		tier              int
		host              *host
		disks             []*vdisk
		load              load
		cpu               *entity
		n                 uint64 // for its noise
		at                int    // among the machines of its lab
	}
	vdisk struct {
		id     string
		vm     *vm
		share  float64 // of the VM's I/O
		volume *volume
		direct bool // raw: stored on the volume itself
		hidden bool // no disk of a machine: what the estate does by itself, as copying one
		out    *entity

		flows   [2]*entity // as the switch ports of its host see it, where they tell machines apart
		flowsOf *host      // the host whose ports those are

		at     int      // among the disks of its lab
		tenant [2]int32 // its own load, and what a fault adds
		seen   [2]flow  // what either does, found last
	}
	host struct {
		name, id, source string
		north            bool
		ports            [2]*port
		devices          map[*volume]*device
		busy             *entity
		at               int
	}
	device struct {
		id     string
		host   *host
		volume *volume
		depth  float64
		queue  int32 // its station
		out    *entity

		io sums
	}
	port struct {
		id, name, wwpn string
		kind           string // hba_port or target_port
		sw             *swtch
		index          int
		speed          float64
		out, peer      *entity // the port itself, and the switch port it is logged in to
		sends, takes   int32   // stations of its two directions
		at             int
	}
	swtch struct {
		name, fabric, source string
		isls                 []*islink
		ports                int
	}
	islink struct {
		out [2]*entity
	}
	// trunk is all inter-switch links of a fabric: frames are spread over them evenly.
	trunk struct {
		links         []*islink
		link, credits [2]int32 // stations toward the arrays, and toward the hosts
	}
	array struct {
		name        string
		controllers []*controller
		pools       []*pool
		volumes     []*volume
	}
	controller struct {
		id, name string
		array    *array
		north    bool
		ports    [2]*port
		cores    int
		service  float64 // s per I/O
		perByte  float64
		out      *entity

		at      int
		station int32
		io      sums
		hits    float64
	}
	pool struct {
		id, name string
		array    *array
		media    string
		drives   int
		seek     float64 // s per I/O
		perByte  float64 // s per byte
		groups   []*group
		out      *entity

		at      int
		station int32
		io      sums
		destage map[*controller]int32 // tenants
		rebuild int32                 // tenant
	}
	group struct {
		id     string
		weight float64
		out    *entity
		drives []*entity
	}
	volume struct {
		id, name, naa string
		number        int
		array         *array
		owner         *controller
		pool          *pool
		legs          []*volume // a virtualizer's volume lies on these
		hit           float64
		bytes         float64
		share         string // the export, where it is a file share
		out           *entity
		device        *entity // the virtualizer's view of it, where it is a leg
		deviceID      string

		at      int
		limiter int32 // station
		io      sums
		service [2]float64 // s spent inside the array by all reads, and all writes, of a second
		hits    float64
	}
	datastore struct {
		id, name string
		volume   *volume
		north    bool
		both     bool
		out      *entity
	}
)

func digest(parts ...any) []byte {
	h := sha256.Sum256([]byte(fmt.Sprint(parts...)))
	return h[:]
}

func uuid(parts ...any) string {
	h := hex.EncodeToString(digest(parts...)[:16])
	return h[:8] + "-" + h[8:12] + "-" + h[12:16] + "-" + h[16:20] + "-" + h[20:]
}

func naa(parts ...any) string { return "600d05e" + hex.EncodeToString(digest(parts...))[:25] }

func wwn(prefix string, parts ...any) string {
	h := prefix + hex.EncodeToString(digest(parts...))[:16-len(prefix)]
	var pairs []string
	for i := 0; i < 16; i += 2 {
		pairs = append(pairs, h[i:i+2])
	}
	return strings.Join(pairs, ":")
}

// switches, north first: fabric a and b of each harbour, each with a host side and an array side.
func (l *Lab) buildFabrics() {
	for _, f := range []struct{ fabric, letter, source string }{
		{"northmole fabric a", "a", l.src.fabricNorth}, {"northmole fabric b", "b", l.src.fabricNorth},
		{"southmole fabric a", "c", l.src.fabricSouth}, {"southmole fabric b", "d", l.src.fabricSouth},
	} {
		id := "fabric-" + f.letter
		l.object(f.source, estate.Fabric, id, f.fabric, estate.Facts{"wwnn": wwn("1000", l.tag(id))}, nil)
		var pair [2]*swtch
		for k := range 2 {
			s := &swtch{name: l.skerry(f.letter, k+1), fabric: id, source: f.source, ports: 2}
			pair[k] = s
			l.switches = append(l.switches, s)
			l.object(f.source, estate.Switch, s.name, s.name, estate.Facts{"wwnn": wwn("1000", s.name), "firmware": "4.2.1", "model": "48-port 32G"}, links{"member_of": {"fabric:" + id}})
		}
		for n := range 2 { // two inter-switch links
			link := &islink{}
			var ends []any
			for k, s := range pair {
				id := fmt.Sprintf("%s-%02d", s.name, 46+n)
				w := wwn("2000", id)
				ends = append(ends, w)
				l.object(f.source, estate.SwitchPort, id, fmt.Sprintf("%02d", 46+n), estate.Facts{"wwpn": w, "speed_bytes_s": l.size.isl, "role": "isl", "index": float64(46 + n)}, links{"part_of": {"switch:" + s.name}})
				link.out[k] = l.portEntity(f.source, "switch_port:"+id)
			}
			pair[0].isls, pair[1].isls = append(pair[0].isls, link), append(pair[1].isls, link)
			l.isls = append(l.isls, link)
			l.object(f.source, estate.ISL, fmt.Sprintf("isl-%s-%d", f.letter, n+1), fmt.Sprintf("%s – %s, link %d", pair[0].name, pair[1].name, n+1), estate.Facts{"ends": ends, "cost": 500.0}, nil)
		}
	}
}

// plug logs a port in to the next free port of a switch.
func (l *Lab) plug(p *port, s *swtch) {
	p.sw, p.index = s, s.ports
	s.ports++
	id := fmt.Sprintf("%s-%02d", s.name, p.index)
	l.object(s.source, estate.SwitchPort, id, fmt.Sprintf("%02d", p.index), estate.Facts{"wwpn": wwn("2000", id), "speed_bytes_s": p.speed, "role": "edge",
		"index": float64(p.index), "attached": []any{strings.ToUpper(p.wwpn)}}, links{"part_of": {"switch:" + s.name}})
	p.peer = l.portEntity(s.source, "switch_port:"+id)
}

// skerry names a switch.
func (l *Lab) skerry(letter string, side int) string {
	if l.n == 0 {
		return fmt.Sprintf("skerry-%s%d", letter, side)
	}
	return fmt.Sprintf("skerry-%d%s%d", l.n+1, letter, side)
}

func (l *Lab) sw(letter string, side int) *swtch {
	for _, s := range l.switches {
		if s.name == l.skerry(letter, side) {
			return s
		}
	}
	panic("lab: no switch " + letter)
}

func (l *Lab) buildHosts() {
	for _, site := range []struct{ source, harbour string }{{l.src.hypNorth, "Northmole"}, {l.src.hypSouth, "Southmole"}} {
		id := strings.ToLower(site.harbour)
		l.object(site.source, estate.Site, id, site.harbour, nil, nil)
		l.object(site.source, estate.Cluster, id, id+" cluster", estate.Facts{"uuid": uuid(l.tag(id))}, links{"member_of": {"site:" + id}})
	}
	for n := range l.size.north + l.size.south {
		h := &host{name: fmt.Sprintf("lighthouse-%02d", l.size.hostsBefore+n+1), id: fmt.Sprintf("h-%02d", n+1), north: n < l.size.north, at: n, source: l.src.hypNorth, devices: map[*volume]*device{}}
		site, letters := "northmole", []string{"a", "b"}
		if !h.north {
			h.source, site, letters = l.src.hypSouth, "southmole", []string{"c", "d"}
		}
		l.hosts = append(l.hosts, h)
		l.object(h.source, estate.Host, h.id, h.name, estate.Facts{"uuid": uuid(h.name), "cores": 32.0, "memory_bytes": 512.0 * gib}, links{"member_of": {"cluster:" + site}})
		h.busy = l.entity(h.source, "host:"+h.id, "busy_share")
		for k := range 2 {
			p := &port{kind: "hba_port", id: fmt.Sprintf("%s-hba%d", h.id, k), name: fmt.Sprintf("hba%d", k), wwpn: wwn("1000", h.name, k), speed: l.size.ports}
			h.ports[k] = p
			l.object(h.source, estate.HBAPort, p.id, p.name, estate.Facts{"wwpn": strings.ReplaceAll(p.wwpn, ":", ""), "speed_bytes_s": p.speed}, links{"part_of": {"host:" + h.id}})
			p.out = l.portEntity(h.source, "hba_port:"+p.id)
			l.plug(p, l.sw(letters[k], 1))
		}
	}
}

func (l *Lab) buildArrays() {
	l.heron = l.array(l.src.heron, "array", 2, l.scaled(8), 70e-6, func(k int) [2]string { return [2]string{"a", "b"} })
	l.pool(l.heron, 1, "flash", l.scaled(2), 8, 180e-6, 0.7e-9)
	l.pool(l.heron, 2, "hdd", l.scaled(4), 8, 4.6e-3, 5e-9)
	l.pool(l.heron, 3, "flash", l.scaled(2), 8, 220e-6, 0.8e-9)
	l.gannet = l.array(l.src.gannet, "array", 2, l.scaled(4), 85e-6, func(k int) [2]string { return [2]string{"c", "d"} })
	l.pool(l.gannet, 1, "flash", l.scaled(2), 8, 200e-6, 0.8e-9)
	l.pool(l.gannet, 2, "hdd", l.scaled(3), 8, 5.0e-3, 5e-9)
	l.petrel = l.array(l.src.petrel, "virtualizer", 4, l.scaled(6), 60e-6, func(k int) [2]string {
		if k < 2 {
			return [2]string{"a", "b"}
		}
		return [2]string{"c", "d"}
	})
	for _, s := range []string{"northmole", "southmole"} {
		l.object(l.src.petrel, estate.Site, s, strings.ToUpper(s[:1])+s[1:], nil, nil)
	}
	l.object(l.src.petrel, estate.SiteLink, "nm-sm", "Northmole – Southmole", estate.Facts{"round_trip_us": 900.0}, links{"member_of": {"site:northmole", "site:southmole"}})
	l.siteLink = l.entity(l.src.petrel, "site_link:nm-sm", "round_trip_us", "tx_bytes_s", "rx_bytes_s")
}

func (l *Lab) array(name, role string, controllers, cores int, service float64, letters func(int) [2]string) *array {
	a := &array{name: name}
	l.arrays = append(l.arrays, a)
	l.object(name, estate.Array, name, name, estate.Facts{"serial": strings.ToUpper(hex.EncodeToString(digest(name, "serial"))[:10]), "role": role,
		"model": map[string]string{"array": "dual-controller hybrid", "virtualizer": "four-node stretched"}[role], "firmware": "7.3.0"}, links{"member_of": l.siteOf(name)})
	for _, s := range l.siteOf(name) {
		id := strings.TrimPrefix(s, "site:")
		l.object(name, estate.Site, id, strings.ToUpper(id[:1])+id[1:], nil, nil)
	}
	for k := range controllers {
		c := &controller{id: fmt.Sprintf("c%d", k), name: fmt.Sprintf("controller %d", k), array: a, cores: cores, service: service, perByte: 0.16e-9, north: name == l.src.heron || name == l.src.petrel && k < 2}
		if role == "virtualizer" {
			c.name = fmt.Sprintf("node %s%d", map[bool]string{true: "n", false: "s"}[k < 2], k%2+1)
		}
		a.controllers = append(a.controllers, c)
		lk := links{"part_of": {"array:" + name}}
		if role == "virtualizer" {
			lk["member_of"] = []string{map[bool]string{true: "site:northmole", false: "site:southmole"}[c.north]}
		}
		l.object(name, estate.Controller, c.id, c.name, estate.Facts{"cores": float64(cores)}, lk)
		c.out = l.ioEntity(name, "controller:"+c.id, "busy_share", "write_pending_share", "cache_hit_share")
		for n, letter := range letters(k) {
			p := &port{kind: "target_port", id: fmt.Sprintf("c%d-p%d", k, n), name: fmt.Sprintf("%d%c", k, 'A'+n), wwpn: wwn("500d", name, k, n), speed: l.size.targets}
			c.ports[n] = p
			l.object(name, estate.TargetPort, p.id, p.name, estate.Facts{"wwpn": p.wwpn, "speed_bytes_s": p.speed}, links{"part_of": {"controller:" + c.id}})
			p.out = l.portEntity(name, "target_port:"+p.id)
			l.plug(p, l.sw(letter, 2))
		}
	}
	return a
}

// siteOf names the site an array stands at; a virtualizer stands at both, and its controllers say which.
func (l *Lab) siteOf(array string) []string {
	switch array {
	case l.src.heron:
		return []string{"site:northmole"}
	case l.src.gannet:
		return []string{"site:southmole"}
	}
	return nil
}

func (l *Lab) pool(a *array, n int, media string, groups, drives int, seek, perByte float64) {
	p := &pool{id: fmt.Sprintf("p%d", n), name: fmt.Sprintf("pool %d", n), array: a, media: media, drives: groups * drives, seek: seek, perByte: perByte}
	a.pools = append(a.pools, p)
	var made []string
	for g := range groups {
		id := fmt.Sprintf("rg-%d%d", n, g)
		made = append(made, "raid_group:"+id)
		group := &group{id: id, weight: 0.97 + float64(0.03*float64(g%3))}
		p.groups = append(p.groups, group)
		var of []string
		for d := range drives {
			drive := fmt.Sprintf("d-%d%d%02d", n, g, d)
			of = append(of, "drive:"+drive)
			l.object(a.name, estate.Drive, drive, fmt.Sprintf("drive %d.%d.%02d", n, g, d), estate.Facts{"serial": strings.ToUpper(hex.EncodeToString(digest(a.name, drive))[:12]),
				"media": media, "bytes": 1.8 * tib, "state": "online"}, links{"part_of": {"enclosure:e" + fmt.Sprint(n)}})
			group.drives = append(group.drives, l.entity(a.name, "drive:"+drive, "busy_share"))
		}
		l.object(a.name, estate.RAIDGroup, id, fmt.Sprintf("rg-%d", 10*n+g), estate.Facts{"raid": "6+2", "media": media}, links{"made_of": of, "part_of": {"array:" + a.name}})
		group.out = l.entity(a.name, "raid_group:"+id, "busy_share")
	}
	enclosure := fmt.Sprintf("e%d", n)
	l.object(a.name, estate.Enclosure, enclosure, fmt.Sprintf("enclosure %d", n), estate.Facts{"state": "ok"}, links{"part_of": {"array:" + a.name}})
	for k := range 2 {
		state := "ok"
		if l.demo && a == l.gannet && n == 2 && k == 1 {
			state = "failed"
		}
		l.object(a.name, estate.Fan, fmt.Sprintf("%s-fan%d", enclosure, k), fmt.Sprintf("fan %d.%d", n, k), estate.Facts{"state": state}, links{"part_of": {"enclosure:" + enclosure}})
		l.object(a.name, estate.PowerSupply, fmt.Sprintf("%s-psu%d", enclosure, k), fmt.Sprintf("power supply %d.%d", n, k), estate.Facts{"state": "ok"}, links{"part_of": {"enclosure:" + enclosure}})
	}
	l.object(a.name, estate.Pool, p.id, p.name, estate.Facts{"media": media, "bytes": float64(groups*drives) * 1.3 * tib, "used_bytes": float64(groups*drives) * 0.8 * tib, "promised_bytes": float64(groups*drives) * 1.6 * tib},
		links{"made_of": made, "part_of": {"array:" + a.name}})
	p.out = l.ioEntity(a.name, "pool:"+p.id, "busy_share")
}

// volume carves a volume from a pool, or puts one of a virtualizer on its legs.
func (l *Lab) volume(a *array, name string, owner int, p *pool, hit float64, legs ...*volume) *volume {
	n := len(a.volumes) + 1
	v := &volume{id: fmt.Sprintf("v%d", n), name: name, number: n, array: a, owner: a.controllers[owner], pool: p, hit: hit, bytes: 4 * tib, naa: naa(a.name, n), legs: legs}
	a.volumes = append(a.volumes, v)
	l.volumes = append(l.volumes, v)
	lk := links{"part_of": {"array:" + a.name}}
	peer := owner ^ 1
	lk["served_by"] = []string{"controller:" + a.controllers[owner].id, "controller:" + a.controllers[peer].id}
	for _, c := range a.controllers {
		if a == l.petrel || c == v.owner || c == a.controllers[peer] {
			for _, p := range c.ports {
				lk["exposed_on"] = append(lk["exposed_on"], "target_port:"+p.id)
			}
		}
	}
	if p != nil {
		lk["carved_from"] = []string{"pool:" + p.id}
	}
	for _, leg := range legs {
		site, home := "northmole", a.controllers[:2]
		if leg.array == l.gannet {
			site, home = "southmole", a.controllers[2:]
		}
		leg.deviceID = fmt.Sprintf("be-%s-%d", leg.array.name, leg.number)
		lk["backed_by"] = append(lk["backed_by"], "device:"+leg.deviceID)
		deviceLinks := links{"part_of": {"array:" + a.name}, "member_of": {"site:" + site}}
		if leg != legs[0] {
			deviceLinks["mirrored_to"] = []string{"device:" + legs[0].deviceID}
		}
		l.object(a.name, estate.Device, leg.deviceID, fmt.Sprintf("back-end LUN %d at %s", leg.number, site), estate.Facts{"naa": "0x" + leg.naa, "queue_depth": 128.0, "state": "active"}, deviceLinks)
		leg.device = l.ioEntity(a.name, "device:"+leg.deviceID)
		for _, c := range home {
			for k, p := range c.ports {
				for m, t := range []*controller{leg.owner, leg.array.controllers[0], leg.array.controllers[1]} {
					if m > 0 && t == leg.owner {
						continue
					}
					state := "active"
					if m > 0 {
						state = "standby"
					}
					l.object(a.name, estate.Path, fmt.Sprintf("%s-%s-%s", leg.deviceID, p.id, t.ports[k].id), "", estate.Facts{"initiator": p.wwpn, "target": t.ports[k].wwpn,
						"lun": float64(leg.number), "state": state}, links{"part_of": {"device:" + leg.deviceID}})
				}
			}
		}
	}
	facts := estate.Facts{"naa": strings.ToUpper(v.naa), "number": float64(n), "bytes": v.bytes, "written_bytes": 0.6 * v.bytes, "thin": true}
	if p != nil {
		facts["raid"] = "6+2"
	}
	if len(legs) > 0 {
		facts["preferred_site"] = []string{"northmole", "southmole"}[owner%2]
	}
	l.object(a.name, estate.Volume, v.id, v.name, facts, lk)
	v.out = l.ioEntity(a.name, "volume:"+v.id, "cache_hit_share", "read_service_us", "write_service_us")
	return v
}

// openOn makes the devices and paths by which hosts of a harbour reach a volume.
func (l *Lab) openOn(v *volume, north bool) {
	for _, h := range l.hosts {
		if h.north != north {
			continue
		}
		d := &device{id: h.id + "-" + v.array.name + "-" + v.id, host: h, volume: v, depth: l.depth()}
		h.devices[v] = d
		l.devices = append(l.devices, d)
		l.object(h.source, estate.Device, d.id, "naa."+v.naa, estate.Facts{"naa": "naa." + v.naa, "queue_depth": d.depth, "path_policy": "round-robin"}, links{"part_of": {"host:" + h.id}})
		d.out = l.ioEntity(h.source, "device:"+d.id, "queue_latency_us")
		owners := v.array.controllers
		if v.array == l.petrel {
			owners = owners[:2]
			if !north {
				owners = v.array.controllers[2:]
			}
		}
		for _, c := range owners {
			for k, t := range c.ports {
				state := "standby"
				if c == v.owner || v.array == l.petrel && c == owners[v.number%2] {
					state = "active"
				}
				if l.unzoned(h, v.array, t) {
					continue
				}
				if l.demo && h.name == "lighthouse-03" && v.array == l.heron && t.name == "1B" {
					state = "dead"
				}
				l.object(h.source, estate.Path, fmt.Sprintf("%s-%d%s", d.id, k, t.name), "", estate.Facts{"initiator": h.ports[k].wwpn, "target": "0x" + strings.ReplaceAll(t.wwpn, ":", ""),
					"lun": float64(v.number), "state": state}, links{"part_of": {"device:" + d.id}})
			}
		}
	}
}

func (l *Lab) buildDatastores() {
	add := func(name string, v *volume, north, both bool) {
		d := &datastore{id: "ds-" + fmt.Sprint(len(l.stores)+1), name: name, volume: v, north: north, both: both}
		l.stores = append(l.stores, d)
		sources := []string{l.src.hypNorth}
		switch {
		case both:
			sources = []string{l.src.hypNorth, l.src.hypSouth}
		case !north:
			sources = []string{l.src.hypSouth}
		}
		for k, source := range sources {
			facts := estate.Facts{"bytes": v.bytes, "used_bytes": v.bytes * 0.7, "filesystem": "block", "extents": []any{"naa." + v.naa}}
			if v.share != "" {
				delete(facts, "extents")
				facts["filesystem"], facts["export"] = "nfs", v.share
			} else {
				l.openOn(v, source == l.src.hypNorth)
			}
			l.object(source, estate.Datastore, d.id, name, facts, nil)
			if k == 0 {
				d.out = l.entity(source, "datastore:"+d.id, "used_bytes")
			}
		}
	}
	for n := range 4 {
		add(fmt.Sprintf("ds-kelp-%02d", 4*l.n+n+1), l.volume(l.heron, fmt.Sprintf("vol-%04d", 101+n), n%2, l.heron.pools[0], 0.72), true, false)
	}
	for n := range 4 {
		add(fmt.Sprintf("ds-dulse-%02d", 4*l.n+n+1), l.volume(l.heron, fmt.Sprintf("vol-%04d", 141+2*n), n%2, l.heron.pools[1], 0.60), true, false)
	}
	for n := range 4 {
		add(fmt.Sprintf("ds-laver-%02d", 4*l.n+n+1), l.volume(l.heron, fmt.Sprintf("vol-%04d", 181+n), n%2, l.heron.pools[2], 0.70), true, false)
	}
	for n := range 4 {
		add(fmt.Sprintf("ds-wrack-%02d", 4*l.n+n+1), l.volume(l.gannet, fmt.Sprintf("lun-%03d", 21+n), n%2, l.gannet.pools[n/2], 0.65), false, false)
	}
	for n := range 3 {
		legs := []*volume{l.volume(l.heron, fmt.Sprintf("petrel-leg-%d", n+1), n%2, l.heron.pools[0], 0.40), l.volume(l.gannet, fmt.Sprintf("petrel-leg-%d", n+1), (n+1)%2, l.gannet.pools[0], 0.40)}
		add(fmt.Sprintf("ds-carrageen-%02d", 3*l.n+n+1), l.volume(l.petrel, fmt.Sprintf("stretched-%d", n+1), n%2, nil, 0.55, legs...), true, true)
	}
	l.buildShare(add)
	if l.demo {
		l.buildStray()
	}
}

// buildStray lists a datastore on a LUN of an array that nobody watches.
func (l *Lab) buildStray() {
	stray := "600c0ff" + naa("stray")[7:]
	l.object(l.src.hypNorth, estate.Datastore, "ds-stray", "ds-tangle-01", estate.Facts{"bytes": 2.0 * tib, "used_bytes": 0.3 * tib, "filesystem": "block", "extents": []any{"naa." + stray}}, nil)
}

// buildShare makes the one datastore on a file share.
func (l *Lab) buildShare(add func(string, *volume, bool, bool)) {
	p := l.gannet.pools[0]
	v := &volume{id: "s1", name: "drift", array: l.gannet, owner: l.gannet.controllers[0], pool: p, hit: 0.7, bytes: 8 * tib, share: l.src.gannet + ".tidewrack.example:/drift"}
	l.volumes = append(l.volumes, v)
	l.object(l.src.gannet, estate.Share, v.id, v.name, estate.Facts{"export": l.src.gannet + ".tidewrack.example:/drift/", "bytes": v.bytes, "used_bytes": 0.5 * v.bytes},
		links{"part_of": {"array:" + l.src.gannet}, "carved_from": {"pool:" + p.id}, "served_by": {"controller:" + v.owner.id}})
	v.out = l.ioEntity(l.src.gannet, "share:"+v.id)
	add(fmt.Sprintf("ds-bladder-%02d", l.n+1), v, false, false)
}

// unzoned tells the one pair of ports that somebody forgot when zoning.
func (l *Lab) unzoned(h *host, a *array, t *port) bool {
	return l.demo && h.name == "lighthouse-06" && a == l.heron && t.name == "1B"
}

func (l *Lab) buildZones() {
	for _, h := range l.hosts {
		for k, p := range h.ports {
			members := []any{p.wwpn}
			for _, a := range l.arrays {
				for _, c := range a.controllers {
					if c.ports[k].sw.fabric == p.sw.fabric && !l.unzoned(h, a, c.ports[k]) {
						members = append(members, c.ports[k].wwpn)
					}
				}
			}
			l.object(p.sw.source, estate.Zone, "z-"+p.id, fmt.Sprintf("z_%s_%s", h.name, p.name), estate.Facts{"members": members}, links{"member_of": {"fabric:" + p.sw.fabric}})
		}
	}
}

type links = map[string][]string

func (l *Lab) object(source string, kind estate.Kind, id, name string, facts estate.Facts, lk links) {
	l.objects[source] = append(l.objects[source], &feed.Object{Kind: kind, ID: id, Name: name, Facts: facts, Links: lk})
}
