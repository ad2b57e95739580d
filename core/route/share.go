package route

import (
	"slices"

	"dowsingrod/core/estate"
)

// Through returns the part of a virtual disk's I/O that goes through an object, 0 to 1, as far as the map tells: all of it
// below the paths, and of what lies on the paths as many parts as active paths lead over it, which hosts use evenly. Of
// parallel inter-switch links each counts for its part. It is 0 for an object that the disk depends on by standby paths only.
func (m *Map) Through(vdisk, object int32) float64 {
	switch m.e.Kind(object) {
	case estate.HBAPort, estate.SwitchPort, estate.Switch, estate.ISL, estate.TargetPort, estate.Controller, estate.Path, estate.Fabric:
	default:
		return 1
	}
	sum, n := 0.0, 0.0
	for _, d := range m.Devices(vdisk) {
		m.eachPath(d, func(p int32) {
			if m.pathState(p) != Active {
				return
			}
			n++
			sum += m.passes(p, object)
		})
	}
	if n == 0 {
		return 0
	}
	return sum / n
}

// passes returns the part of a path's frames that pass an object.
func (m *Map) passes(path, object int32) float64 {
	if path == object {
		return 1
	}
	w := m.way(path)
	within := func(at int32) bool {
		for range 6 {
			if at < 0 {
				return false
			}
			if at == object {
				return true
			}
			next := m.e.First(at, estate.PartOf)
			if next < 0 && m.e.Kind(at) == estate.Switch {
				next = m.e.First(at, estate.MemberOf)
			}
			at = next
		}
		return false
	}
	for _, at := range []int32{w.initiator, w.nearPort, w.farPort, w.target} {
		if within(at) {
			return 1
		}
	}
	if len(w.between) == 0 {
		return 0
	}
	switch m.e.Kind(object) {
	case estate.ISL:
		if !slices.Contains(w.between, object) {
			return 0
		}
		parallel := 0
		for _, l := range w.between {
			if m.sameEnds(l, object) {
				parallel++
			}
		}
		return 1 / float64(parallel)
	case estate.Switch, estate.SwitchPort: // in the middle of the way
		for _, l := range w.between {
			for _, end := range m.e.To(l, estate.Joins) {
				if within(end) {
					if m.e.Kind(object) == estate.SwitchPort {
						return m.passes(path, l)
					}
					return 1
				}
			}
		}
	}
	return 0
}

// sameEnds reports whether two inter-switch links join the same two switches.
func (m *Map) sameEnds(a, b int32) bool {
	ends := func(l int32) (out [2]int32) {
		for k, end := range m.e.To(l, estate.Joins) {
			if sw, ok := m.e.Owner(end, estate.Switch); ok && k < 2 {
				out[k] = sw
			}
		}
		slices.Sort(out[:])
		return out
	}
	return ends(a) == ends(b)
}
