package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"os/exec"
	"runtime"
	"sync"
	"syscall"
	"time"

	"dowsingrod/core/queueing"
	"dowsingrod/internal/feed"
	"dowsingrod/internal/lab"
	"dowsingrod/internal/lab/live"
)

// labs measures how fast the lab makes what diagnosis is held against, each question in a process of its own.
func labs(ctx context.Context) error {
	exe, err := os.Executable()
	if err != nil {
		return err
	}
	for _, part := range []string{"lab-week", "lab-live", "lab-incidents", "lab-cost"} {
		c := exec.CommandContext(ctx, exe, part)
		c.Stdout, c.Stderr = os.Stdout, os.Stderr
		if err := c.Run(); err != nil {
			return fmt.Errorf("%s: %w", part, err)
		}
	}
	return nil
}

func labPart(part string) error {
	switch part {
	case "lab-week":
		return labWeek()
	case "lab-live":
		return labLive()
	case "lab-incidents":
		return labIncidents()
	}
	return labCost()
}

var labNoon = time.Date(2026, 3, 2, 12, 0, 0, 0, time.UTC)

// labWeek times a week of 1,000 machines every 20 s, as records and as compressed files.
func labWeek() error {
	o := lab.Options{VMs: 1000, Seed: 1, From: labNoon.Add(-7 * 24 * time.Hour), To: labNoon, Fault: "quiet"}
	f, err := lab.Grow(o)
	if err != nil {
		return err
	}
	var mu sync.Mutex
	samples := 0
	began := time.Now()
	err = f.Write(func(_ string, r feed.Record) error {
		if r.Reading == nil {
			return nil
		}
		n := 0
		for _, v := range r.Reading.Values {
			n += len(v)
		}
		mu.Lock()
		samples += n
		mu.Unlock()
		return nil
	})
	if err != nil {
		return err
	}
	bench("lab.week_1000.time", time.Since(began).Seconds(), "s")
	bench("lab.week_1000.samples", float64(samples), "samples")
	_, peak := memory(os.Getpid())
	bench("lab.week_1000.peak_memory", peak/1e6, "MB")
	dir, err := os.MkdirTemp("", "dowse-measure-*")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	if f, err = lab.Grow(o); err != nil {
		return err
	}
	began = time.Now()
	if _, err := f.WriteFolder(dir); err != nil {
		return err
	}
	bench("lab.week_1000.files.time", time.Since(began).Seconds(), "s")
	_, peak = memory(os.Getpid())
	bench("lab.week_1000.files.peak_memory", peak/1e6, "MB")
	return nil
}

// labLive measures what share of a core 100,000 machines take that go on at intervals of a minute.
func labLive() error {
	l, err := live.New(lab.Options{VMs: 100_000, Seed: 1, From: labNoon, To: labNoon.Add(24 * time.Hour), Every: time.Minute}, time.Minute)
	if err != nil {
		return err
	}
	if err := l.Advance(labNoon.Add(2 * time.Minute)); err != nil { // the first steps find their state from nothing
		return err
	}
	used := processorTime()
	const minutes = 10
	if err := l.Advance(labNoon.Add((2 + minutes) * time.Minute)); err != nil {
		return err
	}
	bench("lab.live_100k.share", (processorTime()-used)/(minutes*60), "core")
	used = processorTime()
	sources := l.Sources()
	for _, s := range sources[:min(len(sources), 140)] {
		if err := l.Feed(s.Name, io.Discard); err != nil {
			return err
		}
	}
	bench("lab.live_100k.feed", (processorTime()-used)/float64(min(len(sources), 140))*1e3, "ms")
	now, _ := memory(os.Getpid())
	bench("lab.live_100k.memory", now/1e6, "MB")
	return nil
}

// processorTime is the processor time this process has used, in s.
func processorTime() float64 {
	var u syscall.Rusage
	if syscall.Getrusage(syscall.RUSAGE_SELF, &u) != nil {
		return math.NaN()
	}
	return float64(u.Utime.Nano()+u.Stime.Nano()) / 1e9
}

// labIncidents times 600 incidents of two hours and 200 machines, as feeds in memory.
func labIncidents() error {
	kinds := lab.Kinds()
	next := make(chan int)
	failed := make([]error, runtime.GOMAXPROCS(0))
	var wait sync.WaitGroup
	began := time.Now()
	for k := range failed {
		wait.Go(func() {
			for n := range next {
				if err := labIncident(kinds[n%len(kinds)].Name, uint64(n)); err != nil {
					failed[k] = err
				}
			}
		})
	}
	for n := range 600 {
		next <- n
	}
	close(next)
	wait.Wait()
	bench("lab.incidents_600.time", time.Since(began).Seconds(), "s")
	_, peak := memory(os.Getpid())
	bench("lab.incidents_600.peak_memory", peak/1e6, "MB")
	return errors.Join(failed...)
}

func labIncident(kind string, seed uint64) error {
	f, err := lab.Grow(lab.Options{VMs: 200, Seed: seed, From: labNoon.Add(-2 * time.Hour), To: labNoon, Fault: kind})
	if err != nil {
		return err
	}
	w := feed.NewWriter(io.Discard)
	if err := f.Write(func(_ string, r feed.Record) error { return w.Write(r) }); err != nil {
		return err
	}
	f.Truth()
	return w.Flush()
}

// labCost measures what a simulated hour of a machine costs, and the same of one station event by event.
func labCost() error {
	for _, c := range []struct {
		vms   int
		hours float64
		name  string
	}{{100, 24, "100"}, {1000, 4, "1k"}, {10_000, 1, "10k"}} {
		f, err := lab.Grow(lab.Options{VMs: c.vms, Seed: 1, From: labNoon.Add(-time.Duration(c.hours * float64(time.Hour))), To: labNoon, Fault: "quiet"})
		if err != nil {
			return err
		}
		used := processorTime()
		if err := f.Write(func(string, feed.Record) error { return nil }); err != nil {
			return err
		}
		bench("lab.cost_"+c.name+".vm_hour", (processorTime()-used)/(float64(c.vms)*c.hours)*1e6, "µs")
	}
	return labPlain()
}

// labPlain is one station with 32 servers and 100 tenants of four threads each, event by event for five simulated seconds, and the
// same solved; what an hour of a tenant costs either way, and how far they are apart.
func labPlain() error {
	const tenants, threads, servers, service, think, simulated = 100, 4, 32, 0.005, 0.05, 20.0
	used := processorTime()
	rate, response := queueing.ByEvents(tenants*threads, servers, service, think, simulated, 1)
	plain := (processorTime() - used) / (tenants * simulated / 3600) * 1e6
	bench("lab.station.vm_hour.plain", plain, "µs")
	n := &queueing.Network{}
	s := n.AddStation(servers, 1)
	for i := range tenants {
		n.Visits = append(n.Visits, queueing.Visit{Station: s, Count: 1, Work: service})
		n.Tenants = append(n.Tenants, queueing.Tenant{Threads: threads, Think: think, Holder: -1, From: int32(i), To: int32(i + 1)})
	}
	used = processorTime()
	const steps = 2000
	for range steps {
		n.Tenants[0].Think *= 1.0001 // something to do
		n.Solve(5e-4, 300)
	}
	cost := (processorTime() - used) / (tenants * steps * 20 / 3600.0) * 1e6
	bench("lab.station.vm_hour", cost, "µs")
	bench("lab.station.vm_hour.ratio", plain/cost, "x")
	x, r := 0.0, n.Tenants[50].Response
	for _, t := range n.Tenants {
		x += t.Rate
	}
	bench("lab.station.rate.apart", math.Abs(x-rate)/rate*100, "%")
	bench("lab.station.response.apart", math.Abs(r-response)/response*100, "%")
	return nil
}
