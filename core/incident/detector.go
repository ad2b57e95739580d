// Package incident finds stretches of time in which something hurt, without being asked: it watches every virtual disk's latency as it
// comes in, and folds what hurts at the same time for the same reason into one incident.
package incident

import (
	"cmp"
	"math"
	"slices"
	"time"

	"dowsingrod/core/estate"
)

// When a disk counts as hurt, and when no longer. Explanations see smaller things; what is declared unasked must be worth a look.
const (
	factor  = 1.5  // times what is usual, at least
	floor   = 500  // and so many µs more
	begins  = 3    // cells on end before it is declared: one is chance, two may be a job's start
	over    = 1.25 // times what is usual: below, it has recovered
	ends    = 5    // cells on end before it is over
	fewest  = 1    // I/Os per second; the mean of fewer is chance
	learned = 15   // cells before anything is usual
)

// What is usual follows each cell by a small step toward it, which makes it a running median (H. Robbins and S. Monro, 1951): half a
// per cent a cell, so that a day's rhythm is followed and an hour's trouble is not. While it hurts it follows ten times as slowly.
const (
	follow      = 0.005
	followHurts = 0.0005
	followFirst = 0.2 // the first cells
)

// watch is what is remembered of a direction of a disk: 32 bytes, so that a million fit.
type watch struct {
	level       float32 // ln of the usual µs
	now         float32 // ln of the last
	rate        float32
	seen        uint16
	above, well uint8
	hurts       bool
	since, last int64 // Unix seconds
}

// Detector watches disks. It is for one goroutine.
type Detector struct {
	disks map[estate.Key]*[2]watch
	cell  time.Duration
}

// NewDetector returns a detector that is fed cells of a length.
func NewDetector(cell time.Duration) *Detector {
	return &Detector{disks: map[estate.Key]*[2]watch{}, cell: cell}
}

// Cell sets the length of the cells to come.
func (d *Detector) Cell(length time.Duration) { d.cell = length }

// Seed tells what was usual for a disk before anything was seen of it, µs per read and per write; NaN is not known. Without it, what is seen
// first is taken to be usual, even in the middle of trouble.
func (d *Detector) Seed(disk estate.Key, usual [2]float64) {
	w := &[2]watch{}
	for k, us := range usual {
		if us > 0 {
			w[k].level, w[k].seen = float32(math.Log(us)), learned
		}
	}
	d.disks[disk] = w
}

// Sample is what a disk did in a cell, reads and writes: I/Os per second and µs each. NaN is not known.
type Sample struct{ Rate, Time [2]float64 }

// Observe takes a disk's cell that begins at t.
func (d *Detector) Observe(disk estate.Key, t time.Time, s Sample) {
	w := d.disks[disk]
	if w == nil {
		w = &[2]watch{}
		d.disks[disk] = w
	}
	for k := range w {
		w[k].observe(t.Unix(), s.Rate[k], s.Time[k])
	}
}

func (w *watch) observe(t int64, rate, us float64) {
	if !(us > 0) || !(rate >= fewest) {
		if w.hurts && t-w.last > int64(10*time.Minute/time.Second) { // it no longer does anything: nobody waits
			w.hurts, w.above = false, 0
		}
		return
	}
	v := float32(math.Log(us))
	if w.seen == 0 {
		w.level = v
	}
	w.now, w.rate, w.last = v, float32(rate), t
	usual, is := math.Exp(float64(w.level)), us
	if w.seen < math.MaxUint16 {
		w.seen++
	}
	switch high := is >= factor*usual && is-usual >= floor; {
	case w.seen < learned:
	case high:
		if w.above == 0 && !w.hurts {
			w.since = t
		}
		w.above = min(w.above+1, 250)
		w.well = 0
		w.hurts = w.hurts || w.above >= begins
	case w.hurts && is < over*usual:
		w.above = 0
		if w.well++; w.well >= ends {
			w.hurts, w.well = false, 0
		}
	case !w.hurts:
		w.above = 0
	}
	step := float32(follow)
	switch {
	case w.seen < learned:
		step = followFirst
	case w.hurts || w.above > 0:
		step = followHurts
	}
	w.level += max(-step, min(step, v-w.level))
}

// Hurt is a disk that hurts.
type Hurt struct {
	Disk     estate.Key
	Since    time.Time
	Usual    float64 // µs per I/O in the direction that hurts more
	Now      float64
	InFlight float64 // I/Os in flight more than usual: what waits because of it, by Little's law
	Write    bool
}

// Hurts lists the disks that hurt now, worst first.
func (d *Detector) Hurts() (out []Hurt) {
	for key, w := range d.disks {
		h := Hurt{Disk: key}
		for k := range w {
			if !w[k].hurts {
				continue
			}
			usual, now := math.Exp(float64(w[k].level)), math.Exp(float64(w[k].now))
			since := time.Unix(w[k].since, 0).UTC()
			if waits := float64(w[k].rate) * math.Max(0, now-usual) / 1e6; h.Since.IsZero() || waits > h.InFlight {
				h.Usual, h.Now, h.Write = usual, now, k == 1
			}
			h.InFlight += float64(w[k].rate) * math.Max(0, now-usual) / 1e6
			if h.Since.IsZero() || since.Before(h.Since) {
				h.Since = since
			}
		}
		if !h.Since.IsZero() {
			out = append(out, h)
		}
	}
	slices.SortFunc(out, func(a, b Hurt) int {
		return cmp.Or(-cmp.Compare(a.InFlight, b.InFlight), cmp.Compare(a.Disk.String(), b.Disk.String()))
	})
	return out
}
