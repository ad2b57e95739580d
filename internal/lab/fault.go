package lab

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"time"
)

// Fault is something that goes wrong in an estate, or nothing, and what is true of it.
type Fault struct {
	Kind  string
	Class string        // what an honest answer calls it
	From  time.Time     // when it begins
	To    time.Time     // when it ends
	Ramp  time.Duration // how long it takes to reach its full force
	Force float64       // 1 is the usual

	Component string   // where the delay arises, kind:id@source; "" for nowhere in the storage
	Alike     []string // components that share its load to equal parts, so that each is as right an answer
	Culprits  []string // machines that did it; none where nobody did
	Complains string   // whose complaint it is where the storage is well

	does     []func(x *effects, level float64, t time.Time)
	touches  func(d *vdisk) bool // what can suffer from it
	culprits []*vm
	ground   []effect // what was laid out with it
	undo     []func() // sets back what was built otherwise for it
	r        *rand.Rand
}

// level is how much of the fault there is at a moment, 0 to 1.
func (f *Fault) level(t time.Time) float64 {
	if t.Before(f.From) || !t.Before(f.To) {
		return 0
	}
	if f.Ramp <= 0 {
		return 1
	}
	return min(1, (t.Sub(f.From)+Step).Seconds()/f.Ramp.Seconds())
}

func (f *Fault) apply(_ *Lab, x *effects, t time.Time) bool {
	level := f.level(t)
	if level <= 0 {
		return false
	}
	for _, do := range f.does {
		do(x, level, t)
	}
	return len(f.does) > 0
}

func (f *Fault) do(what func(x *effects, level float64, t time.Time)) { f.does = append(f.does, what) }

func (f *Fault) accuse(l *Lab, vms ...*vm) {
	for _, v := range vms {
		f.culprits = append(f.culprits, v)
		f.Culprits = append(f.Culprits, l.refOf(v))
	}
}

func (l *Lab) refOf(v *vm) string    { return "vm:" + v.name + "@" + v.source }
func (p *pool) ref() string          { return "pool:" + p.id + "@" + p.array.name }
func (c *controller) ref() string    { return "controller:" + c.id + "@" + c.array.name }
func (v *volume) ref() string        { return "volume:" + v.id + "@" + v.array.name }
func (d *device) ref() string        { return "device:" + d.id + "@" + d.host.source }
func (p *port) ref(at string) string { return p.kind + ":" + p.id + "@" + at }

// Kind is a kind of fault that the lab knows.
type Kind struct {
	Name, Class, Says, Force string
	begin                    func(l *Lab, f *Fault) error
}

// Kinds lists the faults.
func Kinds() []Kind {
	return slices.Concat(neighbours, crowds, slowness, ways, limits, innocents)
}

// KindOf finds a kind of fault by name.
func KindOf(name string) (Kind, error) {
	for _, k := range Kinds() {
		if k.Name == name {
			return k, nil
		}
	}
	return Kind{}, fmt.Errorf("no fault is called %q: dowse lab faults lists them", name)
}

// Begin lays out a fault in the estate: it chooses who and where by the seed. A lasting time of zero or less means until ended.
func (l *Lab) Begin(kind string, seed uint64, from, to time.Time, ramp time.Duration, force float64) (*Fault, error) {
	k, err := KindOf(kind)
	if err != nil {
		return nil, err
	}
	f := &Fault{Kind: kind, Class: k.Class, From: from, To: to, Ramp: ramp, Force: force, r: rand.New(rand.NewPCG(seed, nameSalt(kind)))}
	before := len(l.faults)
	if err := k.begin(l, f); err != nil {
		return nil, fmt.Errorf("%s: %w", kind, err)
	}
	l.effects = append(l.effects, f)
	l.faults = slices.Insert(l.faults, before, f) // first, where it brought another with it
	return f, nil
}

// pick chooses one of a list.
func pick[T any](r *rand.Rand, of []T) T { return of[r.IntN(len(of))] }

// tenants lists machines with a disk for which keep holds, but not those that a fault has taken already.
func (l *Lab) tenants(keep func(d *vdisk) bool) []*vm {
	var out []*vm
	for _, v := range l.vms {
		if len(v.disks) > 0 && keep(v.disks[0]) && !l.taken(v) {
			out = append(out, v)
		}
	}
	return out
}

func (l *Lab) taken(v *vm) bool {
	return slices.ContainsFunc(l.faults, func(f *Fault) bool { return slices.Contains(f.culprits, v) }) || slices.Contains(l.decoys, v)
}

// ioBound lists the faults of what carries I/Os and not bytes or seeks: there, many cheap I/Os are no decoy but another cause.
var ioBound = map[string]bool{"neighbour-lun": true, "neighbour-controller": true, "own-demand": true, "limit": true, "limit-lun": true, "host-queue": true,
	"guest": true, "application": true, "quiet": true}

func inPool(p *pool) func(d *vdisk) bool {
	return func(d *vdisk) bool { return d.volume.pool == p && d.volume.share == "" }
}

func servedBy(c *controller) func(d *vdisk) bool {
	return func(d *vdisk) bool { return d.volume.owner == c && d.volume.share == "" }
}

// crowded returns the places with enough tenants to have both culprits and sufferers.
func crowded[T any](l *Lab, of []T, keep func(T) func(d *vdisk) bool) ([]T, error) {
	var out []T
	for _, x := range of {
		if len(l.tenants(keep(x))) >= 4 {
			out = append(out, x)
		}
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("the estate is too small for it: nothing is shared by four machines; use more with --vms")
	}
	return out, nil
}

// Decoys lets innocent machines look like culprits of a fault: one that is the busiest all the time, some that ask for more by chance as
// it begins, and three that then do more I/Os than who did it, which the cache holds and which cost next to nothing.
func (l *Lab) Decoys(f *Fault) {
	near := l.tenants(func(d *vdisk) bool { return f.touches != nil && f.touches(d) })
	if len(near) < 4 {
		near = l.tenants(func(d *vdisk) bool { return d.volume.share == "" })
	}
	if len(near) < 4 {
		return
	}
	f.r.Shuffle(len(near), func(a, b int) { near[a], near[b] = near[b], near[a] })
	busiest := near[0]
	l.decoys = append(l.decoys, busiest)
	d := busiest.disks[0]
	l.effects = append(l.effects, lasting(func(x *effects, _ time.Time) {
		// Small reads that its cache holds: many, and cheap.
		x.extra[d.at] = work{threads: 24, think: usualTime, reads: 0.95, readSize: 4 << 10, writeSize: 4 << 10, miss: 0.05}
	}))
	if !ioBound[f.Kind] && len(near) > 6 {
		for k := range 3 {
			riser := near[len(near)-1-k]
			l.decoys = append(l.decoys, riser)
			// Its job begins when the fault is felt, which with a ramp is later than when it begins.
			begins, d := f.From.Add((f.Ramp*time.Duration(4+f.r.IntN(5))/10).Truncate(Step)+time.Duration(f.r.IntN(3)-1)*Step), riser.disks[0]
			l.effects = append(l.effects, lasting(func(x *effects, t time.Time) {
				if !t.Before(begins) {
					x.extra[d.at] = work{threads: 16 * l.size.scale, think: 2e-3, reads: 0.99, readSize: 4 << 10, writeSize: 4 << 10, miss: 0.01}
				}
			}))
		}
		near = near[:len(near)-3]
	}
	for _, v := range near[1:min(len(near)-1, 2+f.r.IntN(2))] {
		l.decoys = append(l.decoys, v)
		begins := f.From.Add(time.Duration(f.r.IntN(121)-60) * time.Second)
		more := 2 + 2*f.r.Float64()
		at := v.at
		l.effects = append(l.effects, lasting(func(x *effects, t time.Time) {
			if !t.Before(begins) {
				x.factor[at] *= more
			}
		}))
	}
}

// always is an effect that is no fault: it is there with and without them.
type always struct{ do func(x *effects, t time.Time) }

func lasting(do func(x *effects, t time.Time)) *always { return &always{do} }

func (a *always) apply(_ *Lab, x *effects, t time.Time) bool {
	a.do(x, t)
	return false
}
