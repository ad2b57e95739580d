package verdict

import (
	"maps"
	"math"
	"slices"
	"time"

	"dowsingrod/core/estate"
	"dowsingrod/core/internal/crew"
	"dowsingrod/core/phrase"
	"dowsingrod/core/reading"
	"dowsingrod/core/route"
)

// foreign is I/O at a LUN that comes from no virtual disk on it: a copy that the hypervisor or the array makes by itself, or a host that
// nobody watches.
type foreign struct {
	volume         int32
	before, during float64 // bytes per second
}

var moved = []string{"read_bytes_s", "write_bytes_s"}

// foreigner finds the LUN of a component with the most such I/O. It counts where it makes up an eighth of all that the component carried
// before, which is where demand counts as grown, and where half of what the LUN does is not its disks'.
func (x *scene) foreigner(component int32) (best foreign, ok bool) {
	disks := map[int32][]int32{}
	for _, d := range x.m.VDisks(component) {
		if d.State == route.Active {
			for _, v := range x.m.Volumes(d.At) {
				disks[v] = append(disks[v], d.At)
			}
		}
	}
	volumes := slices.Sorted(maps.Keys(disks))
	found := make([]foreign, len(volumes)) // of each; its volume is −1 where half of what it does is its disks'
	carried := make([]float64, len(volumes))
	crew.Large(len(volumes), func(k int) {
		found[k], carried[k] = x.foreignAt(volumes[k], disks[volumes[k]])
	})
	total := 0.0
	for k, f := range found {
		total += carried[k]
		if f.volume >= 0 && f.during-f.before > best.during-best.before {
			best, ok = f, true
		}
	}
	return best, ok && best.during-best.before >= 0.12*total
}

// foreignAt is what a LUN does that its disks do not, and what it did in all before. The disks are those of the component; others on it count
// as well.
func (x *scene) foreignAt(v int32, disks []int32) (f foreign, carried float64) {
	e := x.m.Estate()
	f.volume = -1
	if len(x.in.From.Runs(e.At(v).Key, moved[0])) == 0 {
		return f, 0
	}
	before, during := x.rate(v, moved...)
	carried = before
	for _, d := range disks {
		if len(x.in.From.Runs(e.At(d).Key, moved[0])) == 0 {
			return f, carried // what its disks do is not known
		}
	}
	least := 0.5 * during
	counted := make(map[int32]bool, len(disks))
	less := func(d int32) (more bool) { // takes off what a disk does; false once what is left is less than half
		b, w := x.rate(d, moved...)
		before, during, counted[d] = before-b, during-w, true
		return during >= least && during > 0
	}
	for _, d := range disks {
		if !less(d) {
			return f, carried // mostly here, before others are looked for
		}
	}
	for _, d := range x.m.VDisks(v) {
		if !counted[d.At] && !less(d.At) {
			return f, carried
		}
	}
	return foreign{v, math.Max(0, before), during}, carried
}

// ForeignNeeds lists what [Located.Conclude] asks for beside [suspect.Needs]: what the LUNs of the component carry themselves.
func (l *Located) ForeignNeeds() (needs []route.Need) {
	c := l.chosen()
	if c == nil {
		return nil
	}
	e := l.scene.m.Estate()
	seen := map[int32]bool{}
	for _, d := range l.scene.m.VDisks(c.at) {
		for _, v := range l.scene.m.Volumes(d.At) {
			if !seen[v] {
				seen[v] = true
				needs = append(needs, route.Need{Key: e.At(v).Key, Metrics: moved})
				for _, other := range l.scene.m.VDisks(v) {
					needs = append(needs, route.Need{Key: e.At(other.At).Key, Metrics: moved})
				}
			}
		}
	}
	return needs
}

// early is how long before it hurt something may have happened and still be what began it.
const early = 10 * time.Minute

// late is how long after it may: clocks differ.
const late = 2 * time.Minute

// copied accuses who is being copied: the machine of a disk on the LUN to which something happened as it began.
func (l *Located) copied(c *cause, out *Explanation) (Class, bool) {
	x := l.scene
	f, ok := x.foreigner(c.at)
	if !ok {
		return l.moving(c, out)
	}
	e := x.m.Estate()
	words := phrase.Bytes(f.during) + " a second at " + x.m.FullName(f.volume) + " come from no virtual disk that is known, before " + phrase.Bytes(f.before)
	out.Evidence = append([]Evidence{x.evidence(f.volume, "", f.before, f.during, c.weight, words)}, out.Evidence...)
	from, to := l.Strata.Change.From.Add(-early), l.Strata.Change.From.Add(late)
	on := map[estate.Key]int32{}
	for _, d := range x.m.VDisks(f.volume) {
		on[e.At(d.At).Key] = d.At
	}
	for _, event := range l.in.Events {
		d, here := on[event.Of]
		if !here || event.Time.Before(from) || event.Time.After(to) {
			continue
		}
		if l.lead(out, d, event, words+"; its disk "+e.At(d).Title()+" reports "+event.What) {
			return NoisyNeighbour, true
		}
	}
	out.Unseen = append(out.Unseen, words+": a copy, or a host that is not watched.")
	return NoisyNeighbour, true
}

// lead puts a disk's machine first among the suspects, accused.
func (l *Located) lead(out *Explanation, disk int32, event Event, words string) bool {
	e := l.scene.m.Estate()
	vm := e.FirstFrom(disk, estate.Uses)
	if vm < 0 {
		return false
	}
	o := e.At(vm)
	out.Suspects = slices.DeleteFunc(out.Suspects, func(a Accused) bool { return a.Ref == o.Key.String() })
	out.Suspects = append([]Accused{{Ref: o.Key.String(), Name: o.Title(), Tier: o.Tier(), Application: o.Facts.Text("application"), Accused: true,
		Score: 1, Onset: reading.Figure(event.Time.Sub(l.Strata.Change.From).Seconds()), Evidence: words}}, out.Suspects...)
	return true
}

// moveBegun is what a source reports when it begins to copy a disk elsewhere.
const moveBegun = "move_begun"

// moving accuses whose disk began to be copied as it began to hurt, where the array does not tell what its LUNs carry, so that the copy
// itself cannot be seen. One such disk is a reason; of two nobody can say which.
func (l *Located) moving(c *cause, out *Explanation) (Class, bool) {
	x := l.scene
	if !c.told {
		return "", false
	}
	e := x.m.Estate()
	on := map[estate.Key]int32{}
	for _, d := range x.m.VDisks(c.at) {
		if d.State != route.Active {
			continue
		}
		for _, v := range x.m.Volumes(d.At) {
			if len(x.in.From.Runs(e.At(v).Key, moved[0])) > 0 {
				return "", false // what it carries is known, and it is not more than its disks do
			}
		}
		on[e.At(d.At).Key] = d.At
	}
	from, to := l.Strata.Change.From.Add(-early), l.Strata.Change.From.Add(late)
	var found *Event
	for k, event := range l.in.Events {
		if _, here := on[event.Of]; !here || event.What != moveBegun || event.Time.Before(from) || event.Time.After(to) {
			continue
		}
		if found != nil && found.Of != event.Of {
			return "", false
		}
		found = &l.in.Events[k]
	}
	if found == nil {
		return "", false
	}
	d := on[found.Of]
	return NoisyNeighbour, l.lead(out, d, *found, "its disk "+e.At(d).Title()+" began to be copied elsewhere as it began; the array tells nothing of what its LUNs carry, so how much that is cannot be seen")
}
