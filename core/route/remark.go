package route

import (
	"slices"

	"dowsingrod/core/estate"
)

// mostRemarked bounds for how many devices the ways not taken are looked at: remarks are for sections of few.
const mostRemarked = 40

// remark notes what to know of the ways of a section: hosts that reach a volume by one path or one fabric only, and ways
// that cables allow and zones or hosts do not use. Those ways are drawn where the section is that of one machine or disk.
func (c *cutter) remark(focus int32) {
	switch c.kind(focus) {
	case estate.VM, estate.VDisk, estate.Host, estate.HBAPort:
	default:
		return
	}
	var devices []int32
	for _, p := range c.places {
		if c.kind(p.at) == estate.VDisk {
			for _, d := range c.Devices(p.at) {
				if !slices.Contains(devices, d) {
					devices = append(devices, d)
				}
			}
		}
		if len(devices) > mostRemarked {
			return
		}
	}
	slices.Sort(devices)
	for _, d := range devices {
		c.remarkDevice(d)
	}
}

// PathStates returns the state of each path of a device, as its host says.
func (m *Map) PathStates(device int32) []State {
	var out []State
	m.eachPath(device, func(p int32) { out = append(out, m.pathState(p)) })
	return out
}

// Usable counts the paths of a device by which I/O can go, and the fabrics they lead through.
func (m *Map) Usable(device int32) (paths int, fabrics []int32) {
	m.eachPath(device, func(p int32) {
		w := m.way(p)
		if w.state != Active && w.state != Standby || w.severed {
			return
		}
		paths++
		if w.nearPort >= 0 {
			if sw, ok := m.e.Owner(w.nearPort, estate.Switch); ok {
				if f := m.e.First(sw, estate.MemberOf); f >= 0 && !slices.Contains(fabrics, f) {
					fabrics = append(fabrics, f)
				}
			}
		}
	})
	return paths, fabrics
}

func (c *cutter) remarkDevice(d int32) {
	v := c.e.First(d, estate.Opens)
	host, ok := c.e.Owner(d, estate.Host)
	if v < 0 || !ok {
		return
	}
	paths, fabrics := c.Usable(d)
	hostName, volume := c.e.At(host).Title(), c.e.At(v).Title()
	switch {
	case paths == 1:
		c.note("single_path", host, "%s reaches %s by a single path", hostName, volume)
	case paths > 1 && len(fabrics) == 1:
		c.note("single_fabric", host, "%s reaches %s through one fabric only, %s", hostName, volume, c.e.At(fabrics[0]).Title())
	}
	for _, u := range c.Unzoned(d) {
		if u.Zoned {
			continue // it may be masked on purpose: the array's side decides
		}
		initiator, target := c.e.At(u.Initiator).Title(), c.e.At(u.Target).Title()
		c.note("not_zoned", host, "%s of %s and %s of %s are cabled to one fabric, and no zone holds both", initiator, hostName, target, c.OwnerName(u.Target))
		c.unzoned(u)
	}
}

// unzoned draws a way that is not zoned.
func (c *cutter) unzoned(u Unused) {
	w := c.wayBetween(u.Initiator, u.Target, NotZoned, c.fabric())
	var stops []int32
	for _, i := range w.stops() {
		row, layer := rowISL, estate.LayerFabric
		switch i {
		case w.initiator:
			row, layer = rows[estate.HBAPort], estate.LayerHost
		case w.nearPort:
			row = rowNearPort
		case w.farPort:
			row = rowFarPort
		case w.target:
			row, layer = rows[estate.TargetPort], estate.LayerFrontEnd
		}
		c.put(i, layer, row)
		stops = append(stops, i)
	}
	c.chain(stops, NotZoned, "")
}
