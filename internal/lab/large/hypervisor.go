package large

import (
	"fmt"

	"dowsingrod/core/estate"
)

// hypervisors writes the sources of hosts and guests: a manager for some eleven clusters of one site each.
func (e *Estate) hypervisors() {
	perSource := vmsPerHypervisor * 10 / (hostsPerCluster * 286)
	for site := range 2 {
		n := 0
		for c := range e.clusters {
			if e.clusters[c].site != site {
				continue
			}
			if n%perSource == 0 {
				e.begin(fmt.Sprintf("hyp-%s-%02d", sites[site], n/perSource+1))
				e.object(estate.Site, sites[site], title(sites[site]), nil, nil)
			}
			n++
			e.cluster(&e.clusters[c])
		}
	}
}

func title(s string) string { return string(s[0]-'a'+'A') + s[1:] }

func hostID(n int) string { return fmt.Sprintf("h-%04d", n+1) }

func (e *Estate) hostPort(host, k int) string { return e.wwn("1000", "hba", host, k) }

func (e *Estate) cluster(c *cluster) {
	id := fmt.Sprintf("c-%03d", c.n+1)
	e.object(estate.Cluster, id, fmt.Sprintf("%s cluster %d", sites[c.site], c.n/2+1), estate.Facts{"uuid": e.uuid(id)}, links{"member_of": {"site:" + sites[c.site]}})
	for _, s := range c.stores {
		facts := estate.Facts{"bytes": 8.0 * tib, "used_bytes": (3 + float64(e.draw(40, "used", s.id))/10) * tib}
		if s.export != "" {
			facts["filesystem"], facts["export"] = "nfs", s.export
		} else {
			var extents []any
			for _, v := range s.extents {
				extents = append(extents, "naa."+v.naa)
			}
			facts["filesystem"], facts["extents"] = "block", extents
		}
		e.object(estate.Datastore, s.id, s.name, facts, nil)
	}
	for h := c.firstHost; h < c.firstHost+c.hosts; h++ {
		e.host(c, h)
	}
	for v := c.firstVM; v < c.firstVM+c.vms; v++ {
		e.guest(c, v)
	}
}

func (e *Estate) host(c *cluster, h int) {
	id := hostID(h)
	e.object(estate.Host, id, fmt.Sprintf("lighthouse-%04d", h+1), estate.Facts{"uuid": e.uuid("host", h), "cores": 64.0, "memory_bytes": 1024.0 * gib},
		links{"member_of": {fmt.Sprintf("cluster:c-%03d", c.n+1)}})
	for k := range 2 {
		e.object(estate.HBAPort, fmt.Sprintf("%s-hba%d", id, k), fmt.Sprintf("hba%d", k), estate.Facts{"wwpn": e.hostPort(h, k), "speed_bytes_s": 3.2e9}, links{"part_of": {"host:" + id}})
	}
	for _, v := range c.luns {
		e.device(id, h, v)
	}
}

func (e *Estate) device(id string, h int, v *volume) {
	device := fmt.Sprintf("%s-%s-%d", id, v.array.name, v.number)
	e.object(estate.Device, device, "naa."+v.naa, estate.Facts{"naa": "naa." + v.naa, "queue_depth": 64.0, "path_policy": "round-robin"}, links{"part_of": {"host:" + id}})
	for k := range 2 { // a path in each fabric
		state := "active"
		if e.happens(0.001, "dead", device, k) || e.changed("path", device, k) {
			state = "dead"
		}
		e.object(estate.Path, fmt.Sprintf("%s-p%d", device, k), "", estate.Facts{"initiator": e.hostPort(h, k), "target": "0x" + e.targetPort(v.array, v.owner, k, h/hostsPerCluster%2, h),
			"lun": float64(v.number), "state": state}, links{"part_of": {"device:" + device}})
	}
}

func (e *Estate) guest(c *cluster, n int) {
	app := applications[e.draw(len(applications), "app", n)]
	id := fmt.Sprintf("vm-%06d", n+1)
	host := c.firstHost + e.draw(c.hosts, "host", n)
	if e.changed("vm", n) {
		host = c.firstHost + (host-c.firstHost+1)%c.hosts
	}
	name := fmt.Sprintf("%s-%06d", app.name, n+1)
	disks := 1
	if e.happens(0.4, "disks", n) {
		disks = 2
	}
	var uses []string
	for d := range disks {
		disk := fmt.Sprintf("%s-%d", id, d)
		uses = append(uses, "vdisk:"+disk)
		facts := estate.Facts{"uuid": e.uuid("disk", n, d), "bytes": float64(40*(1+e.draw(12, "size", n, d))) * gib, "format": []string{"thin", "thick"}[e.draw(4, "format", n, d)/3],
			"mode": "persistent", "raw": "none"}
		if e.changed("disk", n, d) {
			facts["bytes"] = facts["bytes"].(float64) + 20*gib
		}
		s := c.stores[e.draw(len(c.stores), "store", n)]
		e.object(estate.VDisk, disk, fmt.Sprintf("%s disk %d", name, d+1), facts, links{"stored_on": {"datastore:" + s.id}})
	}
	e.object(estate.VM, id, name, estate.Facts{"uuid": e.uuid("vm", n), "tier": app.tier, "application": app.name, "vcpus": float64(int(2) << e.draw(4, "cpu", n)), "memory_bytes": float64(int(8)<<e.draw(4, "mem", n)) * gib, "power": "on"},
		links{"runs_on": {"host:" + hostID(host)}, "uses": uses})
}
