package libvirt

import (
	"slices"
	"strconv"
	"strings"

	"dowsingrod/core/estate"
	"dowsingrod/internal/feed"
)

func diskID(vm, dev string) string { return vm + "/" + dev }

func (s *Source) hostID() string {
	if s.host.uuid != "" {
		return s.host.uuid
	}
	return s.host.name
}

func isDisk(d *diskXML) bool {
	return (d.Device == "disk" || d.Device == "lun" || d.Device == "") && d.Target.Dev != ""
}

var powers = map[int64]string{0: "unknown", 1: "on", 2: "blocked", 3: "paused", 4: "shutting down", 5: "off", 6: "crashed", 7: "suspended"}

// listing gathers objects, each reference once.
type listing struct {
	objects []feed.Object
	at      map[estate.Ref]int
}

func (l *listing) add(o feed.Object) *feed.Object {
	if i, ok := l.at[o.Ref()]; ok {
		return &l.objects[i]
	}
	l.at[o.Ref()] = len(l.objects)
	l.objects = append(l.objects, o)
	return &l.objects[len(l.objects)-1]
}

// objects lists the estate of the daemon as feed objects.
func (s *Source) objects() []feed.Object {
	l := &listing{at: make(map[estate.Ref]int)}
	host := estate.Facts{"cores": float64(s.host.cores), "memory_bytes": s.host.memory}
	if s.host.uuid != "" {
		host["uuid"] = s.host.uuid
	}
	if s.host.iqn != "" {
		host["iqn"] = s.host.iqn
	}
	l.add(feed.Object{Kind: estate.Host, ID: s.hostID(), Name: s.host.name, Facts: host})
	for _, p := range s.pools {
		s.addPool(l, p)
	}
	capacities := map[string]diskStats{}
	for _, st := range s.stats {
		for _, d := range st.disks {
			capacities[diskID(st.uuid, d.name)] = d
		}
	}
	for id, d := range s.domains {
		s.addDomain(l, id, d, capacities)
	}
	slices.SortFunc(l.objects, func(a, b feed.Object) int {
		return strings.Compare(a.Ref().String(), b.Ref().String())
	})
	return l.objects
}

func (s *Source) addPool(l *listing, p *pool) {
	facts := estate.Facts{"bytes": p.capacity, "pool_type": p.xml.Type}
	kind := estate.Datastore
	switch p.xml.Type {
	case "netfs":
		facts["filesystem"] = "nfs"
		if len(p.xml.Source.Hosts) > 0 && p.xml.Source.Dir.Path != "" {
			facts["export"] = p.xml.Source.Hosts[0].Name + ":" + p.xml.Source.Dir.Path
		}
	case "iscsi", "iscsi-direct":
		kind = estate.DatastoreGroup // each LUN of it is a datastore of its own
	default:
		facts["filesystem"] = "block"
		var extents []any
		for _, d := range p.xml.Source.Devices {
			if b := place(d.Path); b.naa != "" {
				extents = append(extents, b.naa)
			} else if b.lun != "" {
				extents = append(extents, b.lun)
			}
		}
		if extents != nil {
			facts["extents"] = extents
		}
	}
	if p.xml.Target.Path != "" {
		facts["path"] = p.xml.Target.Path
	}
	l.add(feed.Object{Kind: kind, ID: p.xml.UUID, Name: p.xml.Name, Facts: facts})
}

func (s *Source) addDomain(l *listing, id string, d *domain, capacities map[string]diskStats) {
	vcpus, _ := strconv.ParseFloat(strings.TrimSpace(d.xml.VCPU), 64)
	power := powers[d.state]
	if power == "" {
		power = "unknown"
	}
	vm := feed.Object{Kind: estate.VM, ID: id, Name: d.xml.Name, Facts: estate.Facts{"uuid": id, "vcpus": vcpus, "memory_bytes": d.xml.Memory.bytes(), "power": power},
		Links: map[string][]string{}}
	if d.state != 5 && d.state != 0 { // a domain that is off runs nowhere
		vm.Links["runs_on"] = []string{"host:" + s.hostID()}
	}
	for k := range d.xml.Disks {
		disk := &d.xml.Disks[k]
		if !isDisk(disk) {
			continue
		}
		b, ok := find(disk, id, s.pools)
		if !ok {
			continue
		}
		ref := diskID(id, disk.Target.Dev)
		vm.Links["uses"] = append(vm.Links["uses"], "vdisk:"+ref)
		s.addDisk(l, ref, d, disk, b, capacities[ref])
	}
	l.add(vm)
}

func (s *Source) addDisk(l *listing, ref string, d *domain, disk *diskXML, b backing, st diskStats) {
	facts := estate.Facts{}
	if st.capacity > 0 {
		facts["bytes"] = st.capacity
	}
	switch disk.Driver.Type {
	case "":
	case "raw":
		facts["format"] = "thick"
	default:
		facts["format"] = "thin"
	}
	if disk.Driver.Type != "" {
		facts["image_format"] = disk.Driver.Type
	}
	if b.path != "" {
		facts["path"] = b.path
	}
	limits := map[string]float64{"iops_limit": disk.Tune.TotalIOPS, "read_iops_limit": disk.Tune.ReadIOPS, "write_iops_limit": disk.Tune.WriteIOPS,
		"bytes_s_limit": disk.Tune.TotalBytes, "read_bytes_s_limit": disk.Tune.ReadBytes, "write_bytes_s_limit": disk.Tune.WriteBytes}
	for name, v := range limits {
		if v > 0 {
			facts[name] = v
		}
	}
	o := feed.Object{Kind: estate.VDisk, ID: ref, Name: d.xml.Name + " " + disk.Target.Dev, Facts: facts, Links: map[string][]string{}}
	if on := s.addStore(l, b); on != "" {
		o.Links["stored_on"] = []string{on}
	}
	l.add(o)
}

// addStore lists what a disk lies on, with the host's way to it, and returns its reference; "" where nothing is
// known that others could know too.
func (s *Source) addStore(l *listing, b backing) string {
	host := "host:" + s.hostID()
	switch {
	case b.lun != "":
		facts := estate.Facts{"filesystem": "direct", "extents": []any{b.lun}}
		o := feed.Object{Kind: estate.Datastore, ID: b.lun, Name: shortLUN(b.lun), Facts: facts}
		if p := s.pools[b.pool]; p != nil {
			o.Links = map[string][]string{"member_of": {"datastore_group:" + b.pool}}
		}
		l.add(o)
		device := l.add(feed.Object{Kind: estate.Device, ID: b.lun, Name: shortLUN(b.lun), Facts: estate.Facts{"lun": b.lun},
			Links: map[string][]string{"part_of": {host}}})
		if b.initiator != "" {
			target, number, _ := cutLast(b.lun, "/")
			l.add(feed.Object{Kind: estate.HBAPort, ID: b.initiator, Name: shortIQN(b.initiator), Facts: estate.Facts{"iqn": b.initiator},
				Links: map[string][]string{"part_of": {host}}})
			l.add(feed.Object{Kind: estate.Path, ID: b.initiator + "|" + b.lun, Facts: estate.Facts{"initiator": b.initiator, "target": target, "lun": number, "state": "active"},
				Links: map[string][]string{"part_of": {"device:" + device.ID}}})
		}
		return "datastore:" + b.lun
	case b.pool != "":
		return "datastore:" + b.pool
	case b.naa != "":
		l.add(feed.Object{Kind: estate.Datastore, ID: b.naa, Name: "naa." + b.naa, Facts: estate.Facts{"filesystem": "direct", "extents": []any{b.naa}}})
		l.add(feed.Object{Kind: estate.Device, ID: b.naa, Name: "naa." + b.naa, Facts: estate.Facts{"naa": b.naa}, Links: map[string][]string{"part_of": {host}}})
		return "datastore:" + b.naa
	case b.export != "":
		l.add(feed.Object{Kind: estate.Datastore, ID: b.export, Name: b.export, Facts: estate.Facts{"filesystem": "nfs", "export": b.export}})
		return "datastore:" + b.export
	case b.protocol != "":
		name := b.protocol + " " + b.path
		l.add(feed.Object{Kind: estate.Datastore, ID: name, Name: name, Facts: estate.Facts{"filesystem": "direct", "protocol": b.protocol}})
		return "datastore:" + name
	case b.path != "":
		// Files outside every pool: their directory stands for what they lie on.
		dir, _, _ := cutLast(b.path, "/")
		if dir == "" {
			dir = "/"
		}
		l.add(feed.Object{Kind: estate.Datastore, ID: s.host.name + ":" + dir, Name: dir + " of " + s.host.name, Facts: estate.Facts{"filesystem": "block", "path": dir}})
		return "datastore:" + s.host.name + ":" + dir
	}
	return ""
}

func cutLast(s, sep string) (before, after string, found bool) {
	if i := strings.LastIndex(s, sep); i >= 0 {
		return s[:i], s[i+len(sep):], true
	}
	return s, "", false
}

// shortLUN is what people call a LUN behind a target: the last part of the target's name and the number.
func shortLUN(lun string) string {
	target, number, _ := cutLast(lun, "/")
	return shortIQN(target) + " LUN " + number
}

func shortIQN(iqn string) string {
	if _, name, ok := strings.Cut(iqn, ":"); ok && name != "" {
		return name
	}
	return iqn
}
