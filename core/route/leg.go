package route

import (
	"slices"

	"dowsingrod/core/estate"
)

// Leg is one backing of a virtualizer's volume.
type Leg struct {
	Device int32 // the virtualizer's view of the back-end LUN, -1 where its source names the volume itself
	Volume int32 // the back-end volume, -1 where it is not known
	Mirror bool  // it holds the same data as the other legs, so one of them is enough
	State  State // Dead where its source says it is lost, else Active
}

// Backing returns what a virtualizer's volume lies on, in the order of its source.
func (m *Map) Backing(volume int32) (legs []Leg) {
	backed := m.e.To(volume, estate.BackedBy)
	for _, b := range backed {
		leg := Leg{Device: -1, Volume: -1, State: Active}
		if m.e.Kind(b) == estate.Device {
			leg.Device = b
			leg.Volume = m.e.First(b, estate.Opens)
		} else {
			leg.Volume = b
		}
		if lost(m.e.At(b)) {
			leg.State = Dead
		}
		for _, other := range backed {
			leg.Mirror = leg.Mirror || other != b && m.mirrored(b, other)
		}
		legs = append(legs, leg)
	}
	return legs
}

func (m *Map) mirrored(a, b int32) bool {
	return slices.Contains(m.e.To(a, estate.MirroredTo), b) || slices.Contains(m.e.To(b, estate.MirroredTo), a)
}

// lost reports whether an object's source says that it no longer works.
func lost(o *estate.Node) bool {
	switch o.Facts.Text("state") {
	case "dead", "failed", "lost", "offline", "missing", "disabled":
		return true
	}
	return false
}
