// Package trial plays one story on a rig, with Dowsing Rod watching: a quiet stretch, a machine that turns noisy, a
// limit put on it by hand. Dowsing Rod is told two addresses and nothing else.
package trial

import (
	"context"
	"fmt"
	"math"
	"time"

	"dowsingrod/core/strata"
	"dowsingrod/core/suspect"
	"dowsingrod/internal/client"
	"dowsingrod/internal/collect"
	"dowsingrod/internal/rig"
	"dowsingrod/internal/service"
)

// Names the two sources are added by.
const (
	Hypervisor = "hyp-farne"
	Array      = "shags"
)

// Trial is a rig and a service that watches it.
type Trial struct {
	Rig    *rig.Rig
	Client *client.Client
	// Interval is how often the sources are asked.
	Interval time.Duration
	// Stretch is how long each part of the story lasts.
	Stretch time.Duration
	// Say is told what happens.
	Say func(format string, args ...any)

	began, noisy, limited time.Time
}

// Component is what the machines share: the shelf their LUNs lie on.
func (t *Trial) Component() string { return "pool:" + t.Rig.Dir + "/shelf@" + Array }

// Watch adds the two sources and waits until both give rates.
func (t *Trial) Watch(ctx context.Context) error {
	for _, s := range []service.SourceSpec{
		{Name: Array, Address: t.Rig.TargetAddress(), Interval: t.Interval.Seconds()},
		{Name: Hypervisor, Address: t.Rig.LibvirtAddress(), Interval: t.Interval.Seconds()},
	} {
		t.Say("dowse source add %s %s", s.Name, s.Address)
		if _, err := t.Client.AddSource(ctx, s, false); err != nil {
			return fmt.Errorf("add %s: %w", s.Name, err)
		}
	}
	for _, name := range []string{Array, Hypervisor} {
		if _, err := t.Await(ctx, name, time.Minute, func(h *collect.Health) bool { return h.State == collect.Collecting && h.Series > 0 }); err != nil {
			return err
		}
	}
	return nil
}

// Await waits until the health of a source is as wanted, and returns it.
func (t *Trial) Await(ctx context.Context, name string, limit time.Duration, wanted func(*collect.Health) bool) (*collect.Health, error) {
	ctx, cancel := context.WithTimeout(ctx, limit)
	defer cancel()
	for {
		s, err := t.Client.Source(ctx, name)
		if err != nil {
			return nil, err
		}
		if s.Health != nil && wanted(s.Health) {
			return s.Health, nil
		}
		if err := Wait(ctx, 250*time.Millisecond); err != nil {
			return s.Health, fmt.Errorf("%s is not as awaited within %s: it is %s, %s", name, limit, s.Health.State, s.Health.Words)
		}
	}
}

// Wait waits for d or ctx.
func Wait(ctx context.Context, d time.Duration) error {
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-timer.C:
		return nil
	}
}

// Quiet lets all machines work as on an ordinary day, for a stretch.
func (t *Trial) Quiet(ctx context.Context) error {
	for _, m := range t.Rig.Machines {
		if err := m.Quiet(); err != nil {
			return err
		}
	}
	if err := Wait(ctx, 2*time.Second); err != nil { // the machines' start is no part of the story
		return err
	}
	t.began = time.Now()
	t.Say("all %d machines work quietly for %s", len(t.Rig.Machines), t.Stretch)
	return Wait(ctx, t.Stretch)
}

// Noisy lets one machine move as much as it can, for a stretch.
func (t *Trial) Noisy(ctx context.Context, m *rig.Machine) error {
	t.Say("%s turns noisy for %s", m.Name, t.Stretch)
	t.noisy = time.Now()
	if err := m.Noisy(); err != nil {
		return err
	}
	return Wait(ctx, t.Stretch)
}

// Limit puts a limit on the noisy machine, through libvirt, and waits a stretch.
func (t *Trial) Limit(ctx context.Context, m *rig.Machine, iops int) error {
	t.Say("virsh blkdeviotune %s vda --total-iops-sec %d", m.Name, iops)
	if err := t.Rig.Limit(ctx, m, iops); err != nil {
		return err
	}
	t.limited = time.Now()
	return Wait(ctx, t.Stretch)
}

// window is from the story's begin to a moment, with what was not stored yet left out.
func (t *Trial) window(from, to time.Time) client.Window {
	if from.IsZero() {
		from = t.began
	}
	return client.Window{From: from.UTC().Format(time.RFC3339Nano), To: to.UTC().Format(time.RFC3339Nano)}
}

// Suspects compares the tenants of the shelf from the quiet stretch until now.
func (t *Trial) Suspects(ctx context.Context) (suspect.Suspects, error) {
	return t.Client.Suspects(ctx, t.Component(), t.window(time.Time{}, time.Now()))
}

// Strata splits a machine's latency from the quiet stretch until now.
func (t *Trial) Strata(ctx context.Context, m *rig.Machine) (strata.Strata, error) {
	return t.Client.Strata(ctx, m.Name, t.window(time.Time{}, time.Now()))
}

// Recovery says how much of a machine's added latency a limit took away: 1 all of it, 0 nothing.
type Recovery struct{ Quiet, Noisy, Limited time.Duration }

// Share is 1 − (limited − quiet)/(noisy − quiet).
func (r Recovery) Share() float64 {
	return 1 - float64(r.Limited-r.Quiet)/float64(r.Noisy-r.Quiet)
}

// Recovery compares a machine's mean latency in the three parts of the story. The first seconds of each part belong to
// the change, not to the part; of the last it is the latest half of a stretch that counts.
func (t *Trial) Recovery(ctx context.Context, m *rig.Machine) (Recovery, error) {
	s, err := t.Strata(ctx, m)
	if err != nil {
		return Recovery{}, err
	}
	const settle = 10 * time.Second
	end := s.From.Add(time.Duration(float64(s.N) * s.Step * float64(time.Second)))
	limited := t.limited.Add(settle)
	if latest := end.Add(-t.Stretch / 2); latest.After(limited) {
		limited = latest
	}
	return Recovery{Quiet: Mean(s, t.began, t.noisy), Noisy: Mean(s, t.noisy.Add(settle), t.limited), Limited: Mean(s, limited, end)}, nil
}

// Mean is the mean latency of all reads and writes between two moments, weighted by I/O.
func Mean(s strata.Strata, from, to time.Time) time.Duration {
	var inFlight, rate float64
	for _, d := range []strata.Direction{s.Read, s.Write} {
		for i := range s.N {
			begins := s.From.Add(time.Duration(float64(i) * s.Step * float64(time.Second)))
			ends := begins.Add(time.Duration(s.Step * float64(time.Second)))
			if begins.Before(from) || ends.After(to) || math.IsNaN(d.InFlight[i]) || math.IsNaN(d.IOPS[i]) {
				continue
			}
			inFlight += d.InFlight[i]
			rate += d.IOPS[i]
		}
	}
	if rate == 0 {
		return 0
	}
	return time.Duration(inFlight / rate * float64(time.Second))
}
