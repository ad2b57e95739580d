package lab

import (
	"cmp"
	"math"
	"slices"
	"time"
)

// judge compares the estate with what it would be without its faults, machine by machine, while they last.
type judge struct {
	of      []harm // by machine
	seconds float64
}

type harm struct{ rate, time, calmRate, calmTime float64 } // sums over seconds

// compare adds a step.
func (j *judge) compare(l *Lab, lasts time.Duration) {
	if len(j.of) == 0 {
		j.of = make([]harm, len(l.vms))
	}
	s := lasts.Seconds()
	j.seconds += s
	for _, d := range l.disks {
		if d.hidden {
			continue
		}
		h := &j.of[d.vm.at]
		is, was := &l.main.net.Tenants[d.tenant[0]], &l.calm.net.Tenants[d.tenant[0]]
		if is.Threads > 0 {
			h.rate += float64(is.Rate * s)
			h.time += float64(is.Rate * (is.Response + is.Throttled) * s)
		}
		if was.Threads > 0 {
			h.calmRate += float64(was.Rate * s)
			h.calmTime += float64(was.Rate * was.Response * s)
		}
	}
}

// Sufferer is a machine that a fault hurt, and how much.
type Sufferer struct {
	VM       string  `json:"vm"`
	Added    float64 `json:"added_us"`  // µs per I/O more than without the fault, mean while it lasts
	LostIOPS float64 `json:"lost_iops"` // I/Os per second fewer than without it
}

// A machine is hurt where its I/Os take longer by a fifth and by a quarter of a millisecond, which is what people notice.
const (
	hurtShare = 0.20
	hurtTime  = 250e-6
)

// Sufferers lists the machines that a fault hurt, worst first; its culprits are left out, but for who hurts only itself.
func (l *Lab) Sufferers(f *Fault) []Sufferer {
	out := []Sufferer{}
	if l.judge == nil || l.judge.seconds == 0 || f.touches == nil {
		return out
	}
	for k, h := range l.judge.of {
		v := l.vms[k]
		if h.rate <= 0 || h.calmRate <= 0 || f.Class != "own_demand" && slices.Contains(f.culprits, v) || !slices.ContainsFunc(v.disks, f.touches) {
			continue
		}
		was, is := h.calmTime/h.calmRate, h.time/h.rate
		if is-was < hurtTime || is-was < hurtShare*was {
			continue
		}
		out = append(out, Sufferer{l.refOf(v), math.Round((is - was) * 1e6), math.Round((h.calmRate-h.rate)/l.judge.seconds*10) / 10})
	}
	slices.SortStableFunc(out, func(a, b Sufferer) int { return cmp.Compare(b.Added, a.Added) })
	return out
}
