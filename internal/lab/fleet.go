package lab

import (
	"errors"
	"fmt"
	"runtime"
	"sync"
	"time"

	"dowsingrod/internal/feed"
)

// Options are what an estate of the lab is made from. The same options give the same bytes.
type Options struct {
	VMs    int       // number of virtual machines, 40 at least
	Seed   uint64    // of all that is drawn at random
	From   time.Time // when readings begin
	To     time.Time // when they end
	Fault  string    // kind of fault, "quiet" for none
	Onset  time.Time // when it begins; zero for five twelfths of the way
	Lasts  time.Duration
	Ramp   time.Duration
	Force  float64       // 1 where zero
	Clean  bool          // no decoys
	Steady bool          // sources without gaps, restarts and wrong clocks
	Every  time.Duration // interval of the hypervisors, 20 s where zero
}

// mostPerPart bounds the machines of a part: two clusters, their fabrics, two arrays and a virtualizer.
const mostPerPart = 250

// fewest is how many machines an estate needs for anything to be shared.
const fewest = 40

// Fleet is an estate made of parts that share nothing but the harbours. It is for one goroutine.
type Fleet struct {
	Options
	Parts []*Lab
	hurt  *Lab // the part with the fault
}

var birds = []string{"heron", "gannet", "petrel", "curlew", "turnstone", "kittiwake", "fulmar", "shearwater", "plover", "dunlin", "avocet", "guillemot"}

// Grow makes an estate.
func Grow(o Options) (*Fleet, error) {
	if err := o.check(); err != nil {
		return nil, err
	}
	n := (o.VMs + mostPerPart - 1) / mostPerPart
	f := &Fleet{Options: o, Parts: make([]*Lab, n)}
	vms, hosts := 0, 0
	for k := range n {
		size := size{vms: o.VMs*(k+1)/n - o.VMs*k/n, vmsBefore: vms, hostsBefore: hosts, ports: 3.2e9, targets: 3.2e9, isl: 3.2e9}
		size.north, size.south = max(3, size.vms*2/75), max(2, size.vms/75)
		size.scale = float64(size.vms) / 120
		vms, hosts = vms+size.vms, hosts+size.north+size.south
		l := build(o.Seed, o.From, k, size, namesOf(k), false)
		l.sources = o.sources(l.src, k)
		f.Parts[k] = l
	}
	if err := f.each(func(l *Lab) error { l.open(); return nil }); err != nil {
		return nil, err
	}
	f.hurt = f.Parts[int(noise(o.Seed, 71)*float64(n))]
	if f.Fault != "" {
		fault, err := f.hurt.Begin(o.Fault, o.Seed, o.Onset, o.Onset.Add(o.Lasts), o.Ramp, o.Force)
		if err != nil {
			return nil, err
		}
		if !o.Clean {
			f.hurt.Decoys(fault)
		}
		f.hurt.judge = &judge{}
	}
	return f, nil
}

func (o *Options) check() error {
	switch {
	case o.VMs < fewest:
		return fmt.Errorf("an estate of the lab has %d machines at least, not %d", fewest, o.VMs)
	case o.VMs > 1_000_000:
		return fmt.Errorf("an estate of the lab has 1,000,000 machines at most, not %d", o.VMs)
	case !o.To.After(o.From):
		return errors.New("readings must end after they begin")
	case o.Every < 0 || o.Every%Step != 0:
		return fmt.Errorf("an interval is a multiple of %s, not %s", Step, o.Every)
	}
	o.From, o.To = alignDown(o.From), alignDown(o.To)
	if o.Force == 0 {
		o.Force = 1
	}
	if o.Force < 0.1 || o.Force > 5 {
		return fmt.Errorf("a force is from 0.1 to 5, not %g", o.Force)
	}
	if o.Every == 0 {
		o.Every = Step
	}
	if o.Onset.IsZero() {
		o.Onset = o.From.Add(o.To.Sub(o.From) * 5 / 12).Truncate(Step)
	}
	if o.Lasts <= 0 {
		o.Lasts = o.To.Sub(o.Onset) * 3 / 4
	}
	if o.Onset.Before(o.From) || !o.Onset.Before(o.To) {
		return fmt.Errorf("the fault begins at %s, which is not between %s and %s", o.Onset.Format(time.RFC3339), o.From.Format(time.RFC3339), o.To.Format(time.RFC3339))
	}
	return nil
}

// alignDown rounds down to a moment at which the intervals of all sources begin: an hour is a multiple of them all.
func alignDown(t time.Time) time.Time { return t.UTC().Truncate(10 * time.Minute) }

func namesOf(k int) names {
	suffix := ""
	if k > 0 {
		suffix = fmt.Sprintf("-%d", k+1)
	}
	bird := func(i int) string {
		n := 3*k + i
		if n < len(birds) {
			return birds[n]
		}
		return fmt.Sprintf("%s-%d", birds[n%len(birds)], n/len(birds)+1)
	}
	return names{"hyp-northmole" + suffix, "hyp-southmole" + suffix, "fabric-northmole" + suffix, "fabric-southmole" + suffix, bird(0), bird(1), bird(2)}
}

// sources are who reports a part, each in its own way: intervals, clocks that are off, gaps and restarts differ by the seed.
func (o *Options) sources(n names, part int) []Source {
	draw := func(salt uint64) float64 { return noise(o.Seed, uint64(part), 81, salt) }
	choose := func(salt uint64, of ...time.Duration) time.Duration { return of[int(draw(salt)*float64(len(of)))] }
	out := []Source{
		{Name: n.hypNorth, Interval: o.Every}, {Name: n.hypSouth, Interval: o.Every},
		{Name: n.fabricNorth, Interval: max(o.Every, choose(1, 20*time.Second, time.Minute))}, {Name: n.fabricSouth, Interval: max(o.Every, choose(2, 20*time.Second, time.Minute))},
		{Name: n.heron, Interval: max(o.Every, choose(3, time.Minute, time.Minute, 2*time.Minute))}, {Name: n.gannet, Interval: max(o.Every, choose(4, time.Minute, 2*time.Minute, 5*time.Minute))},
		{Name: n.petrel, Interval: max(o.Every, choose(5, time.Minute, 2*time.Minute))},
	}
	if o.Steady {
		return out
	}
	for k := range out {
		out[k].Ahead = time.Duration((draw(uint64(10+k))*8-4)*1000).Round(1) * time.Millisecond
		out[k].Gaps = 0.004 * draw(uint64(20+k))
		out[k].Restarts = 0.3 * draw(uint64(30+k))
	}
	return out
}

// each does something with every part, as many at a time as there are processors.
func (f *Fleet) each(do func(l *Lab) error) error {
	next := make(chan *Lab)
	failed := make([]error, min(runtime.GOMAXPROCS(0), len(f.Parts)))
	var wait sync.WaitGroup
	for k := range failed {
		wait.Go(func() {
			for l := range next {
				if err := do(l); err != nil && failed[k] == nil {
					failed[k] = err
				}
			}
		})
	}
	for _, l := range f.Parts {
		next <- l
	}
	close(next)
	wait.Wait()
	return errors.Join(failed...)
}

// Write writes the feeds of all parts. Records of one source come in order; those of several parts are written side by side, and
// write must be safe for concurrent use by sources that differ.
func (f *Fleet) Write(write func(source string, r feed.Record) error) error {
	return f.WriteSpan(f.From, f.To, true, write)
}

// WriteSpan is Write for a part of the time, both ends multiples of the sources' intervals.
func (f *Fleet) WriteSpan(from, to time.Time, inventory bool, write func(source string, r feed.Record) error) error {
	pace := f.Every
	span := window
	if f.VMs > mostPerPart {
		span = time.Hour // several parts are under way at a time
	}
	return f.each(func(l *Lab) error {
		l.pace = pace
		name := ""
		return l.write(from, to, span, inventory, func(r feed.Record) error {
			if r.Header != nil {
				name = r.Header.Source
			}
			return write(name, r)
		})
	})
}

// Truth is what is true of an estate of the lab.
type TruthFile struct {
	Fault  string       `json:"fault"`
	Seed   uint64       `json:"seed"`
	VMs    int          `json:"vms"`
	From   time.Time    `json:"from"`
	To     time.Time    `json:"to"`
	Decoys []string     `json:"decoys"` // machines that look guilty and are not
	Causes []TruthCause `json:"causes"` // what went wrong; none on a quiet day
}

// TruthCause is one thing that went wrong.
type TruthCause struct {
	Fault     string     `json:"fault"`
	Class     string     `json:"class"`
	Component string     `json:"component,omitempty"` // kind:id@source; none where the storage is well
	Alike     []string   `json:"alike,omitempty"`     // components that share its load to equal parts, each as right an answer
	Subject   string     `json:"subject,omitempty"`   // the machine whose complaint it is, where only one has reason to
	Culprits  []string   `json:"culprits"`
	Sufferers []Sufferer `json:"sufferers"` // worst first
	Onset     time.Time  `json:"onset"`
	Full      time.Time  `json:"full"` // when it reached its full force
	End       time.Time  `json:"end"`
}

// Truth returns what is true, after the readings were written: who suffered is known only then.
func (f *Fleet) Truth() TruthFile {
	t := TruthFile{Fault: f.Fault, Seed: f.Seed, VMs: f.VMs, From: f.From, To: f.To, Decoys: []string{}, Causes: []TruthCause{}}
	for _, v := range f.hurt.decoys {
		t.Decoys = append(t.Decoys, f.hurt.refOf(v))
	}
	for _, x := range f.hurt.faults {
		if x.Kind == "quiet" {
			continue
		}
		c := TruthCause{Fault: x.Kind, Class: x.Class, Component: x.Component, Alike: x.Alike, Subject: x.Complains, Culprits: x.Culprits, Sufferers: f.hurt.Sufferers(x), Onset: x.From, Full: x.From.Add(x.Ramp), End: x.To}
		if c.Culprits == nil {
			c.Culprits = []string{}
		}
		if c.End.After(f.To) {
			c.End = f.To
		}
		t.Causes = append(t.Causes, c)
	}
	return t
}
