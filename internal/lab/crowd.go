package lab

import (
	"slices"
	"time"
)

// crowds are faults of many at once, and of nobody in particular.
var crowds = []Kind{
	{"backup-window", "crowd", "half of the machines on a pool are backed up at the same time: long reads in order, from all of them", "how much each reads", func(l *Lab, f *Fault) error {
		return l.crowd(f, 0.5, work{threads: 8, think: 1e-3, reads: 1, readSize: 256 << 10, writeSize: 8 << 10, miss: 1, sequential: 0.8})
	}},
	{"patch-night", "crowd", "most machines on a pool install updates at the same time: small writes and reads", "how much each does", func(l *Lab, f *Fault) error {
		return l.crowd(f, 0.8, work{threads: 7, think: 2e-3, reads: 0.45, readSize: 16 << 10, writeSize: 32 << 10, miss: 0.9})
	}},
	{"boot-storm", "crowd", "most machines on a pool start at the same time: small reads at random that no cache holds yet", "how much each reads", func(l *Lab, f *Fault) error {
		return l.crowd(f, 0.8, work{threads: 8, think: 1e-3, reads: 0.9, readSize: 16 << 10, writeSize: 8 << 10, miss: 0.8})
	}},
	{"growth", "growth", "everybody on a pool has come to ask for a little more, until its drives are busy; nobody did it", "how much the load grows", func(l *Lab, f *Fault) error {
		pools, err := crowded(l, l.pools, inPool)
		if err != nil {
			return err
		}
		p := pick(f.r, l.spinning(pools))
		of := inPool(p)
		f.touches, f.Component = of, p.ref()
		f.Ramp = max(f.Ramp, 40*time.Minute)
		f.do(func(x *effects, level float64, _ time.Time) {
			for _, v := range l.vms {
				if of(v.disks[0]) {
					x.factor[v.at] *= 1 + float64(1.6*f.Force*level)
				}
			}
		})
		// It stood near its knee before.
		l.effects = append(l.effects, lasting(func(x *effects, _ time.Time) { x.drives[p.at] *= 1.5 }))
		return nil
	}},
}

// spinning prefers pools of disk drives, where there are any.
func (l *Lab) spinning(of []*pool) []*pool {
	var out []*pool
	for _, p := range of {
		if p.media == "hdd" {
			out = append(out, p)
		}
	}
	if len(out) == 0 {
		return of
	}
	return out
}

// crowd lets part of the machines on a pool do the same, each from its own moment on.
func (l *Lab) crowd(f *Fault, part float64, w work) error {
	pools, err := crowded(l, l.pools, inPool)
	if err != nil {
		return err
	}
	pools = l.spinning(pools)
	p := pools[0] // where there is a choice, one with ten and more
	for _, other := range pools {
		if len(l.tenants(inPool(other))) > len(l.tenants(inPool(p))) {
			p = other
		}
	}
	if many := slices.DeleteFunc(slices.Clone(pools), func(p *pool) bool { return len(l.tenants(inPool(p))) < 10 }); len(many) > 0 {
		p = pick(f.r, many)
	}
	all := l.tenants(inPool(p))
	f.r.Shuffle(len(all), func(a, b int) { all[a], all[b] = all[b], all[a] })
	some := all[:min(len(all), max(6, int(part*float64(len(all)))))] // fewer are no crowd
	// Together they keep the drives busy three times over.
	w.threads = 3 * float64(p.drives) / float64(len(some)) * f.Force
	late := make([]time.Duration, len(some))
	for k := range late {
		late[k] = time.Duration(f.r.IntN(90)) * time.Second
	}
	f.touches, f.Component = inPool(p), p.ref()
	f.do(func(x *effects, level float64, t time.Time) {
		for k, v := range some {
			if t.Before(f.From.Add(late[k])) && k > 0 {
				continue
			}
			w := w
			w.threads *= level
			x.extra[v.disks[0].at] = w
		}
	})
	return nil
}
