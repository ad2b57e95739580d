package lab

import (
	"math"
	"time"
)

// usualTime is the response time that applications were sized for: at it, they reach the rates of their load.
const usualTime = 2e-3

// offer is what a VM asks for.
type offer struct {
	reads, writes, readSize, writeSize float64
	miss                               float64 // its misses against the volume's usual ones
	sequential                         float64
	cpu                                float64
}

// ask sets what each VM would do at a moment if nothing were wrong.
func (l *Lab) ask(t time.Time) {
	hour := l.clock(t)
	cell := uint64(t.Unix() / int64(Step/time.Second))
	for k, v := range l.vms {
		d := v.load.demand(hour) * l.week(v, t) * (1 + float64(v.load.wander*l.drift(k, t))) * (0.95 + float64(0.1*noise(l.seed, v.n, cell, 2)))
		o := &l.offers[k]
		*o = offer{reads: v.load.reads * d, writes: v.load.writes * d, readSize: v.load.readSize, writeSize: v.load.writeSize,
			miss: v.load.locality, sequential: v.load.sequential, cpu: v.load.cpu * (0.5 + float64(0.5*d))}
		// What caches hold of it comes and goes: in its own time, and from one moment to the next.
		o.miss *= 1 + float64(0.18*l.drift((k+len(l.vms)/2)%len(l.vms), t)) + float64(0.16*(noise(l.seed, v.n, cell, 3)-0.5))
		if !l.demo {
			l.burst(v, o, t)
		}
		l.batch(v, o, hour)
	}
}

// drift is wander, with the ends of its knots remembered.
func (l *Lab) drift(k int, t time.Time) float64 {
	const knot = 7 * 60
	s := t.Unix()
	at := uint64(s / knot)
	d := &l.drifts[k]
	if d.at != at || !d.known {
		*d = drift{at, noise(l.seed, l.vms[k].n, at), noise(l.seed, l.vms[k].n, at+1), true}
	}
	f := float64(s%knot) / knot
	f = float64(f*f) * (3 - float64(2*f))
	return 2*(float64(d.from*(1-f))+float64(d.to*f)) - 1
}

type drift struct {
	at       uint64
	from, to float64
	known    bool
}

// week is the part of a weekday's load that is there on the day of t: offices rest, ferries and lamps do not.
func (l *Lab) week(v *vm, t time.Time) float64 {
	if !l.demo {
		if d := t.UTC().Weekday(); d == time.Saturday || d == time.Sunday {
			return v.load.weekend
		}
		return 1
	}
	days := t.Sub(l.anchor).Hours()/24 + 3 + 16.34/24 // the anchor's day is a Thursday, counted from Monday
	day := int(math.Floor(days)) % 7
	if (day+7)%7 < 5 {
		return 1
	}
	return v.load.weekend
}

// burst is a run of a minute or three in which a machine asks for more, at most once an hour: a report, a restart, a queue that
// was emptied.
func (l *Lab) burst(v *vm, o *offer, t time.Time) {
	hour := uint64(t.Unix() / 3600)
	if noise(l.seed, v.n, hour, 31) > 0.25 {
		return
	}
	begins := 3400 * noise(l.seed, v.n, hour, 32)
	lasts := 60 + float64(120*noise(l.seed, v.n, hour, 33))
	if s := float64(t.Unix() % 3600); s >= begins && s < begins+lasts {
		more := 1 + noise(l.seed, v.n, hour, 34)
		o.reads *= more
		o.writes *= more
	}
}

// batch is the nightly run of applications that have one: long reads in order, which caches do not hold.
func (l *Lab) batch(v *vm, o *offer, hour float64) {
	begins := v.load.batch + 0.5*noise(l.seed, v.n, 41)
	if v.load.batch == 0 || hour < begins || hour > begins+0.6 {
		return
	}
	rate := o.reads + 120
	o.readSize = (float64(o.reads*o.readSize) + 120*float64(128<<10)) / rate
	o.miss = min(2, (float64(o.reads*o.miss)+120*2)/rate)
	o.sequential = (float64(o.reads*o.sequential) + 120*0.9) / rate
	o.reads = rate
}
