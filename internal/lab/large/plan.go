package large

import (
	"fmt"
	"math"
)

// plan decides how many there are of everything, and what lies where.
func (e *Estate) plan() {
	e.hosts = max(2, int(math.Ceil(float64(e.o.VMs)/vmsPerHost)))
	n := (e.hosts + hostsPerCluster - 1) / hostsPerCluster
	for c := range max(2, n) {
		e.clusters = append(e.clusters, cluster{n: c, site: c % 2})
	}
	for h := range e.hosts {
		e.clusters[h%len(e.clusters)].hosts++
	}
	host, vm := 0, 0
	for c := range e.clusters {
		cl := &e.clusters[c]
		cl.firstHost, cl.firstVM = host, vm
		host += cl.hosts
		end := int(float64(e.o.VMs) * float64(host) / float64(e.hosts))
		cl.vms = end - vm
		vm = end
	}
	for s := range 2 {
		hosts := 0
		for _, c := range e.clusters {
			if c.site == s {
				hosts += c.hosts
			}
		}
		for l := range 2 {
			letter := string(rune('a' + 2*s + l))
			e.fabrics[s][l] = &fabric{id: "fabric-" + letter, name: sites[s] + " fabric " + letter, site: s, letter: l, edges: (hosts + hostsPerEdge - 1) / hostsPerEdge, used: map[string]int{}}
		}
	}
	e.planArrays()
	for c := range e.clusters {
		e.planCluster(&e.clusters[c])
	}
}

func (e *Estate) planArrays() {
	perSite := max(1, int(math.Round(float64(e.o.VMs)/vmsPerArray/2)))
	for n := range 2 * perSite {
		e.arrays = append(e.arrays, &array{name: fmt.Sprintf("%s-%02d", birds[n%len(birds)], n/len(birds)+1), site: n % 2, pools: 3, n: n})
	}
	for n := range max(1, perSite/10) {
		e.arrays = append(e.arrays, &array{name: fmt.Sprintf("stormpetrel-%02d", n+1), site: 2, virtualizer: true, n: 2*perSite + n})
	}
}

// at returns an array of a site; -1 asks for a virtualizer.
func (e *Estate) at(site, n int) *array {
	var of []*array
	for _, a := range e.arrays {
		if a.virtualizer == (site < 0) && (site < 0 || a.site == site) {
			of = append(of, a)
		}
	}
	return of[n%len(of)]
}

func (e *Estate) carve(a *array) *volume {
	v := &volume{array: a, number: len(a.volumes) + 1}
	v.naa, v.pool, v.owner = e.naa("lun", a.name, v.number), v.number%max(1, a.pools), v.number%2
	a.volumes = append(a.volumes, v)
	return v
}

// crowdedClusters all lie on one pool of one array: large estates have a place like that.
const crowdedClusters = 13

// planCluster gives a cluster its datastores: fourteen, of which twelve on blocks (one over two LUNs, one stretched over
// both sites), two on file shares; and a LUN for raw disks. Some LUNs have replicas at the other site, some snapshots.
func (e *Estate) planCluster(c *cluster) {
	k := 3 * c.n / 2
	for d := range 14 {
		s := store{id: fmt.Sprintf("ds-%d-%02d", c.n, d), name: fmt.Sprintf("ds-%s-%03d-%02d", seaweeds[c.n%len(seaweeds)], c.n, d)}
		own := e.at(c.site, k+d%3)
		if c.site == 0 && c.n < 2*crowdedClusters {
			own = e.at(0, 0)
		}
		switch {
		case d == 13:
			virt := e.at(-1, c.n)
			v := e.carve(virt)
			for site := range 2 {
				leg := e.carve(e.at(site, k))
				leg.device = fmt.Sprintf("be-%s-%d", leg.array.name, leg.number)
				v.legs = append(v.legs, leg)
			}
			s.extents = []*volume{v}
		case d >= 11:
			s.export = fmt.Sprintf("%s.tidewrack.example:/c%d-%d", own.name, c.n, d)
			own.shares = append(own.shares, s)
		default:
			for range 1 + (14-d)/14 { // the first is spread over two
				v := e.carve(own)
				if c.site == 0 && c.n < 2*crowdedClusters {
					v.pool = 0
				}
				s.extents = append(s.extents, v)
			}
			if d < 5 {
				far := e.carve(e.at(1-c.site, k+d))
				s.extents[0].copy = far
			}
			if d >= 7 {
				e.carve(own).of = s.extents[0]
			}
		}
		c.stores = append(c.stores, s)
		c.luns = append(c.luns, s.extents...)
	}
	raw := e.carve(e.at(c.site, k))
	raw.raw = true
	c.luns = append(c.luns, raw)
	e.carve(e.at(c.site, k+1)) // one that nobody uses
}
