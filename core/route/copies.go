package route

import "dowsingrod/core/estate"

// Copy is a second place where the data of a volume is kept.
type Copy struct {
	Disk   int32 // the virtual disk, -1 where none is stored there
	Volume int32 // what is copied
	To     int32 // where to: the replica, or the volume of the other leg
	Mirror bool  // kept in step by a mirror, rather than replicated after
}

// Copies returns where the volumes of an object's disks are copied to, and, of a volume that is a copy itself, what of.
func (m *Map) Copies(i int32) (out, of []Copy) {
	add := func(disk, v int32) {
		for _, to := range m.e.To(v, estate.ReplicatedTo) {
			out = append(out, Copy{disk, v, to, false})
		}
		for _, l := range m.Backing(v) {
			if l.Mirror && l.Volume >= 0 {
				out = append(out, Copy{disk, v, l.Volume, true})
			}
		}
		for _, to := range append(m.e.To(v, estate.MirroredTo), m.e.From(v, estate.MirroredTo)...) {
			out = append(out, Copy{disk, v, to, true})
		}
	}
	switch m.e.Kind(i) {
	case estate.VM, estate.VDisk:
		for _, d := range m.VDisks(i) {
			for _, v := range m.Volumes(d.At) {
				add(d.At, v)
			}
		}
	case estate.Volume:
		add(-1, i)
		for _, from := range m.e.From(i, estate.ReplicatedTo) {
			of = append(of, Copy{-1, from, i, false})
		}
		for _, from := range m.e.To(i, estate.SnapshotOf) {
			of = append(of, Copy{-1, from, i, false})
		}
	}
	return out, of
}
