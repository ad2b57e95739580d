package incident

import (
	"cmp"
	"slices"
	"time"

	"dowsingrod/core/estate"
	"dowsingrod/core/route"
	"dowsingrod/core/verdict"
)

// Incident is a bounded stretch of time in which something hurt, for one reason.
type Incident struct {
	ID        int64               // 0 for one that is not kept yet
	Component string              // kind:id@source; "" where it is not known
	Onset     time.Time           // when it began
	Last      time.Time           // when it was last seen
	Ended     *time.Time          // nil while it lasts
	Harm      float64             // I/O-seconds waited so far: I/Os in flight more than usual, summed over time
	Sufferers map[string]Suffered // by VM, all that ever were part of it
	Verdict   verdict.Explanation
	Judged    time.Time // when the verdict was reached
}

// Suffered is what a VM suffered.
type Suffered struct {
	Added float64 `json:"added_us"` // µs per I/O more than usual, the most there was
	Harm  float64 `json:"harm"`     // I/O-seconds waited
}

const (
	perPass = 6                // explanations sought in a pass
	mature  = 10 * time.Minute // after so long a verdict is looked at again
	quiet   = 5 * time.Minute  // without sufferers: it is over
)

// Explain explains why a VM hurts.
type Explain func(vm estate.Key) (verdict.Explanation, error)

// Fold brings open incidents up to a cell that ends at now and is so long: what hurts and depends on an incident's component is part of it,
// for the rest a reason is sought. It returns the incidents that changed or are new; those that are over carry when they ended.
func Fold(m *route.Map, hurts []Hurt, open []*Incident, now time.Time, cell time.Duration, explain Explain) ([]*Incident, error) {
	e := m.Estate()
	left := map[int32][]Hurt{} // by VM
	var order []int32
	for _, h := range hurts {
		d, ok := e.Position(h.Disk)
		if !ok {
			continue
		}
		for _, vm := range e.From(d, estate.Uses) {
			if left[vm] == nil {
				order = append(order, vm)
			}
			left[vm] = append(left[vm], h)
		}
	}
	changed := map[*Incident]bool{}
	for _, x := range open {
		if x.take(m, left, now, cell) {
			changed[x] = true
		}
	}
	tried := 0
	for _, vm := range order {
		if left[vm] == nil || tried == perPass {
			continue
		}
		tried++
		why, err := explain(e.At(vm).Key)
		if err != nil {
			return nil, err
		}
		if why, err = witnessed(m, why, left, order, explain); err != nil {
			return nil, err
		}
		if why.Verdict.Class == verdict.Cleared || why.Onset == nil {
			continue
		}
		if why.Verdict.Component == nil && !worth(left[vm], now) {
			continue
		}
		x := &Incident{Onset: *why.Onset, Verdict: why, Judged: now, Sufferers: map[string]Suffered{}}
		if c := why.Verdict.Component; c != nil {
			x.Component = c.Ref
		}
		if same := slices.IndexFunc(open, func(o *Incident) bool { return o.Component == x.Component }); same >= 0 {
			// It depended on the component when it began to hurt and no longer does, or waits for it by another way. What no reason is known
			// for is one incident.
			open[same].add(e.At(vm).Key.String(), left[vm], now, cell)
			changed[open[same]] = true
			delete(left, vm)
			continue
		}
		x.take(m, left, now, cell)
		x.add(e.At(vm).Key.String(), left[vm], now, cell)
		delete(left, vm)
		open = append(open, x)
		changed[x] = true
	}
	for _, x := range open {
		over := now.Sub(x.Last) >= quiet
		if over {
			ended := x.Last
			x.Ended = &ended
			changed[x] = true
		}
		// The slowest sources say what was only minutes later, and what is done then makes it clearer: a verdict is looked at again while it
		// is young, then more seldom, and once it is over.
		again := max(mature, x.Judged.Sub(x.Onset)/2)
		if changed[x] && (now.Sub(x.Judged) >= again || over && now.Sub(x.Judged) >= quiet) {
			if at, ok := e.Position(keyOf(x.Verdict.Subject)); ok {
				why, err := explain(e.At(at).Key)
				if err != nil {
					return nil, err
				}
				x.Judged = now
				same := why.Verdict.Component != nil && why.Verdict.Component.Ref == x.Component
				if same && why.Onset != nil && why.Onset.Before(x.Last) {
					x.Verdict, x.Onset = why, *why.Onset
				}
			}
		}
	}
	out := make([]*Incident, 0, len(changed))
	for x := range changed {
		out = append(out, x)
	}
	slices.SortFunc(out, func(a, b *Incident) int {
		return cmp.Or(a.Onset.Compare(b.Onset), cmp.Compare(a.Component, b.Component))
	})
	return out, nil
}

// witnessed is the same trouble told by somebody who did not do it: who asks for so much that others wait, waits most itself, and is seldom
// who complains. Where nobody else waits, or would tell another story, it stays as it is.
func witnessed(m *route.Map, why verdict.Explanation, left map[int32][]Hurt, order []int32, explain Explain) (verdict.Explanation, error) {
	did := slices.ContainsFunc(why.Suspects, func(s verdict.Accused) bool { return s.Accused && s.Ref == why.Subject })
	if !did || why.Verdict.Class != verdict.NoisyNeighbour || why.Verdict.Component == nil {
		return why, nil
	}
	e := m.Estate()
	at, ok := e.Position(keyOf(why.Verdict.Component.Ref))
	if !ok {
		return why, nil
	}
	depends := map[int32]bool{}
	for _, vm := range m.VMs(at) {
		depends[vm.At] = true
	}
	for _, vm := range order {
		ref := e.At(vm).Key.String()
		if left[vm] == nil || !depends[vm] || slices.ContainsFunc(why.Suspects, func(s verdict.Accused) bool { return s.Accused && s.Ref == ref }) {
			continue
		}
		other, err := explain(e.At(vm).Key)
		if err != nil {
			return why, err
		}
		if c := other.Verdict.Component; c != nil && c.Ref == why.Verdict.Component.Ref && other.Verdict.Class == why.Verdict.Class && other.Onset != nil {
			return other, nil
		}
		break
	}
	return why, nil
}

// worth reports whether what no component accounts for is worth declaring: it lasts, and at least a millisecond is added.
func worth(hurts []Hurt, now time.Time) bool {
	for _, h := range hurts {
		if h.Now-h.Usual >= 1000 && now.Sub(h.Since) >= mature {
			return true
		}
	}
	return false
}

func keyOf(ref string) estate.Key {
	key, _ := estate.ParseKey(ref)
	return key
}

// take moves all that hurts and depends on the incident's component from what is left into it.
func (x *Incident) take(m *route.Map, left map[int32][]Hurt, now time.Time, cell time.Duration) bool {
	e := m.Estate()
	took := false
	if x.Component == "" {
		if vm, ok := e.Position(keyOf(x.Verdict.Subject)); ok && left[vm] != nil {
			x.add(e.At(vm).Key.String(), left[vm], now, cell)
			delete(left, vm)
			took = true
		}
		return took
	}
	at, ok := e.Position(keyOf(x.Component))
	if !ok {
		return false
	}
	for _, vm := range m.VMs(at) {
		if of := left[vm.At]; of != nil {
			x.add(e.At(vm.At).Key.String(), of, now, cell)
			delete(left, vm.At)
			took = true
		}
	}
	return took
}

func (x *Incident) add(vm string, hurts []Hurt, now time.Time, cell time.Duration) {
	s := x.Sufferers[vm]
	for _, h := range hurts {
		s.Added = max(s.Added, h.Now-h.Usual)
		s.Harm += h.InFlight * cell.Seconds()
		x.Harm += h.InFlight * cell.Seconds()
	}
	x.Sufferers[vm] = s
	x.Last = now
}
