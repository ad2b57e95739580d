package large

import (
	"fmt"

	"dowsingrod/core/estate"
)

// wires writes the sources of the fabrics, one a site: two fabrics, each of two core switches, which the arrays are plugged
// in to, and edge switches for the hosts, each joined to both cores by two links.
func (e *Estate) wires() {
	for site := range 2 {
		e.begin("fabrics-" + sites[site])
		for _, f := range e.fabrics[site] {
			e.fabric(f)
		}
	}
}

func (f *fabric) core(n int) string {
	return fmt.Sprintf("skerry-%s-core%d", f.id[len("fabric-"):], n+1)
}

func (f *fabric) edge(n int) string { return fmt.Sprintf("skerry-%s-%02d", f.id[len("fabric-"):], n+1) }

func (e *Estate) fabric(f *fabric) {
	e.object(estate.Fabric, f.id, f.name, estate.Facts{"wwnn": e.wwn("1000", f.id)}, nil)
	sw := func(name string, ports int) {
		e.object(estate.Switch, name, name, estate.Facts{"wwnn": e.wwn("1000", name), "model": fmt.Sprintf("%d-port 32G", ports), "firmware": "4.2.1"}, links{"member_of": {"fabric:" + f.id}})
	}
	for n := range 2 {
		sw(f.core(n), corePorts)
	}
	for n := range f.edges {
		sw(f.edge(n), edgePorts)
	}
	for n := range f.edges {
		for core := range 2 {
			for k := range 2 {
				e.isl(f, f.edge(n), f.core(core), k)
			}
		}
	}
	e.isl(f, f.core(0), f.core(1), 0)
	e.logins(f)
	for n := range f.edges {
		e.spare(f, f.edge(n), edgePorts)
	}
	for n := range 2 {
		e.spare(f, f.core(n), corePorts)
	}
}

func (e *Estate) port(f *fabric, sw, role string, attached ...any) string {
	n := f.used[sw]
	f.used[sw]++
	id := fmt.Sprintf("%s-%02d", sw, n)
	facts := estate.Facts{"wwpn": e.wwn("2000", id), "speed_bytes_s": 3.2e9, "role": role, "index": float64(n)}
	if len(attached) > 0 {
		facts["attached"] = attached
	}
	e.object(estate.SwitchPort, id, fmt.Sprintf("%02d", n), facts, links{"part_of": {"switch:" + sw}})
	return facts["wwpn"].(string)
}

func (e *Estate) isl(f *fabric, from, to string, k int) {
	a, b := e.port(f, from, "isl"), e.port(f, to, "isl")
	e.object(estate.ISL, fmt.Sprintf("%s-%s-%d", from, to, k), fmt.Sprintf("%s – %s, link %d", from, to, k+1), estate.Facts{"ends": []any{a, b}, "cost": 500.0}, nil)
}

// logins plugs in the ports of hosts and arrays, and writes a zone for each host port.
func (e *Estate) logins(f *fabric) {
	plugged := 0
	for c := range e.clusters {
		cl := &e.clusters[c]
		if cl.site != f.site {
			continue
		}
		for h := cl.firstHost; h < cl.firstHost+cl.hosts; h++ {
			e.port(f, f.edge(plugged/hostsPerEdge), "edge", colons(e.hostPort(h, f.letter)))
			plugged++
			members := []any{e.hostPort(h, f.letter)}
			seen := map[string]bool{}
			for _, v := range cl.luns {
				for pair := range 2 {
					if t := e.targetPort(v.array, v.owner, f.letter, pair, h); !seen[t] {
						seen[t] = true
						members = append(members, t)
					}
				}
			}
			e.object(estate.Zone, fmt.Sprintf("z-%s-%d", hostID(h), f.letter), fmt.Sprintf("z_lighthouse-%04d_hba%d", h+1, f.letter), estate.Facts{"members": members}, links{"member_of": {"fabric:" + f.id}})
		}
	}
	for _, a := range e.arrays {
		for c := range a.controllers() {
			for k := range portsPerController {
				if k%2 == f.letter && a.homeOf(c) == f.site {
					e.port(f, f.core(k/2%2), "edge", colons(e.arrayPort(a, c, k)))
				}
			}
		}
	}
}

// spare writes the ports of a switch that nothing is plugged in to.
func (e *Estate) spare(f *fabric, sw string, ports int) {
	for f.used[sw] < ports {
		e.port(f, sw, "edge")
	}
}
