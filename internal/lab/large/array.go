package large

import (
	"fmt"
	"strings"

	"dowsingrod/core/estate"
)

const portsPerController = 4

// controllers returns how many an array has: a virtualizer two at each site.
func (a *array) controllers() int {
	if a.virtualizer {
		return 4
	}
	return 2
}

// homeOf returns the site of a controller.
func (a *array) homeOf(c int) int {
	if a.virtualizer {
		return c / 2
	}
	return a.site
}

func (e *Estate) arrayPort(a *array, controller, k int) string {
	return e.wwn("500d", a.name, controller, k)
}

// targetPort is where a host port of a fabric letter finds a volume: at the controller that owns it, or, at a
// virtualizer, at one of the host's own site.
func (e *Estate) targetPort(a *array, owner, letter, pair, host int) string {
	c := owner
	if a.virtualizer {
		c = 2*e.siteOfHost(host) + owner
	}
	return e.arrayPort(a, c, letter+2*pair)
}

func (e *Estate) siteOfHost(h int) int {
	for _, c := range e.clusters {
		if h >= c.firstHost && h < c.firstHost+c.hosts {
			return c.site
		}
	}
	return 0
}

func (e *Estate) array(a *array) {
	e.begin(a.name)
	role, model := "array", "dual-controller hybrid"
	if a.virtualizer {
		role, model = "virtualizer", "four-node stretched"
	}
	lk := links{}
	for s := range 2 {
		if a.site == s || a.virtualizer {
			e.object(estate.Site, sites[s], title(sites[s]), nil, nil)
		}
	}
	if !a.virtualizer {
		lk["member_of"] = []string{"site:" + sites[a.site]}
	} else {
		e.object(estate.SiteLink, "between", "Northmole – Southmole", estate.Facts{"round_trip_us": 900.0}, links{"member_of": {"site:northmole", "site:southmole"}})
	}
	firmware := "7.3.0"
	if e.changed("firmware", a.name) {
		firmware = "7.3.1"
	}
	e.object(estate.Array, a.name, a.name, estate.Facts{"serial": fmt.Sprintf("TW%08X", uint32(e.hash("serial", a.name))), "role": role, "model": model, "firmware": firmware}, lk)
	for c := range a.controllers() {
		id := fmt.Sprintf("c%d", c)
		e.object(estate.Controller, id, fmt.Sprintf("controller %d", c), estate.Facts{"cores": 16.0}, links{"part_of": {"array:" + a.name}, "member_of": {"site:" + sites[a.homeOf(c)]}})
		for k := range portsPerController {
			e.object(estate.TargetPort, fmt.Sprintf("c%d-p%d", c, k), fmt.Sprintf("%d%c", c, 'A'+k), estate.Facts{"wwpn": colons(e.arrayPort(a, c, k)), "speed_bytes_s": 3.2e9}, links{"part_of": {"controller:" + id}})
		}
	}
	if !a.virtualizer {
		e.media(a)
	}
	for _, s := range a.shares {
		e.object(estate.Share, s.id, s.name[len("ds-"):], estate.Facts{"export": s.export + "/", "bytes": 8.0 * tib, "used_bytes": 5.0 * tib},
			links{"part_of": {"array:" + a.name}, "carved_from": {"pool:p1"}, "served_by": {"controller:c0", "controller:c1"}})
	}
	for _, v := range a.volumes {
		e.volume(v)
	}
}

// media writes enclosures, drives, RAID groups and pools: flash, flash, disk.
func (e *Estate) media(a *array) {
	shelves := drivesPerArray / drivesPerShelf
	for s := range shelves {
		id := fmt.Sprintf("e%d", s)
		e.object(estate.Enclosure, id, fmt.Sprintf("enclosure %d", s), estate.Facts{"serial": fmt.Sprintf("EN%010X", e.hash("shelf", a.name, s)>>24), "state": "ok"}, links{"part_of": {"array:" + a.name}})
		for k := range 2 {
			e.object(estate.Fan, fmt.Sprintf("%s-fan%d", id, k), fmt.Sprintf("fan %d.%d", s, k), estate.Facts{"state": "ok"}, links{"part_of": {"enclosure:" + id}})
			e.object(estate.PowerSupply, fmt.Sprintf("%s-psu%d", id, k), fmt.Sprintf("power supply %d.%d", s, k), estate.Facts{"state": "ok"}, links{"part_of": {"enclosure:" + id}})
		}
	}
	groups := drivesPerArray / drivesPerGroup
	for p := range a.pools {
		media := []string{"flash", "flash", "hdd"}[p%3]
		var made []string
		for g := p; g < groups; g += a.pools {
			id := fmt.Sprintf("rg-%02d", g)
			made = append(made, "raid_group:"+id)
			var of []string
			for d := range drivesPerGroup {
				n := d*groups + g // a group is spread over the enclosures
				drive := fmt.Sprintf("d-%03d", n)
				of = append(of, "drive:"+drive)
				state := "online"
				if e.happens(0.0005, "failed", a.name, n) || e.changed("drive", a.name, n) {
					state = "failed"
				}
				e.object(estate.Drive, drive, fmt.Sprintf("drive %d.%02d", n/drivesPerShelf, n%drivesPerShelf), estate.Facts{"serial": fmt.Sprintf("DR%010X", e.hash("drive", a.name, n)>>24), "media": media, "bytes": 3.84e12, "state": state},
					links{"part_of": {fmt.Sprintf("enclosure:e%d", n/drivesPerShelf)}})
			}
			e.object(estate.RAIDGroup, id, id, estate.Facts{"raid": "6+2", "media": media}, links{"made_of": of})
		}
		e.object(estate.Pool, fmt.Sprintf("p%d", p), fmt.Sprintf("pool %d", p), estate.Facts{"media": media, "bytes": 190.0 * tib, "used_bytes": 120.0 * tib, "promised_bytes": 260.0 * tib},
			links{"made_of": made, "part_of": {"array:" + a.name}})
	}
}

func (e *Estate) volume(v *volume) {
	a := v.array
	lk := links{"part_of": {"array:" + a.name}, "served_by": {fmt.Sprintf("controller:c%d", v.owner), fmt.Sprintf("controller:c%d", 1-v.owner)}}
	bytes := 8.0 * tib
	if e.changed("volume", a.name, v.number) {
		bytes += tib
	}
	facts := estate.Facts{"naa": strings.ToUpper(v.naa), "number": float64(v.number), "bytes": bytes, "written_bytes": 5.0 * tib, "thin": true}
	switch {
	case v.of != nil:
		lk["snapshot_of"] = []string{fmt.Sprintf("volume:v%d", v.of.number)}
	case v.copy != nil: // a replica lies on another array, so it is named by identifier
		facts["replicas"] = []any{v.copy.naa}
	}
	if a.virtualizer {
		for n, leg := range v.legs {
			lk["backed_by"] = append(lk["backed_by"], "device:"+leg.device)
			device := links{"part_of": {"array:" + a.name}, "member_of": {"site:" + sites[n]}}
			if n == 0 {
				device["mirrored_to"] = []string{"device:" + v.legs[1].device}
			}
			e.object(estate.Device, leg.device, fmt.Sprintf("back-end LUN %d at %s", leg.number, sites[n]), estate.Facts{"naa": "0x" + leg.naa, "queue_depth": 128.0}, device)
			for c := 2 * n; c < 2*n+2; c++ {
				for k := range 2 {
					e.object(estate.Path, fmt.Sprintf("%s-%d%d", leg.device, c, k), "", estate.Facts{"initiator": e.arrayPort(a, c, k), "target": e.arrayPort(leg.array, leg.owner, k),
						"lun": float64(leg.number), "state": "active"}, links{"part_of": {"device:" + leg.device}})
				}
			}
		}
		facts["preferred_site"] = sites[v.number%2]
	} else {
		lk["carved_from"] = []string{fmt.Sprintf("pool:p%d", v.pool)}
		facts["raid"] = "6+2"
		for k := range portsPerController {
			lk["exposed_on"] = append(lk["exposed_on"], fmt.Sprintf("target_port:c%d-p%d", v.owner, k))
		}
	}
	e.object(estate.Volume, fmt.Sprintf("v%d", v.number), fmt.Sprintf("vol-%04d", v.number), facts, lk)
}
