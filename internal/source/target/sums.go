package target

import (
	"math"
	"slices"
	"strings"
	"time"

	"dowsingrod/internal/feed"
	"dowsingrod/internal/source/meter"
)

// sums gathers the intervals of sessions into those of flows, volumes, ports, pools and the daemon.
type sums struct {
	step    time.Duration
	rows    map[row]*sum
	flights map[row]meter.Interval
	spoiled map[row]bool
}

type row struct {
	of   string // reference, or the id of a LUN for flights
	from time.Time
}

type sum struct {
	reads, readBytes, writes, writeBytes float64
	readNS, writeNS                      float64 // in flight × time
	timed                                bool
}

func newSums(step time.Duration) *sums {
	return &sums{step, make(map[row]*sum), make(map[row]meter.Interval), make(map[row]bool)}
}

func (s *sums) at(of string, from time.Time) *sum {
	key := row{of, from}
	if s.rows[key] == nil {
		s.rows[key] = &sum{}
	}
	return s.rows[key]
}

func (x *sum) count(g []float64) {
	x.reads += g[0]
	x.readBytes += g[1]
	x.writes += g[2]
	x.writeBytes += g[3]
}

func (s *sums) add(t *portal, c count, in meter.Interval) {
	for _, u := range t.luns {
		if u.number != c.lun || u.kind != "disk" {
			continue
		}
		id := t.lunID(u.number)
		s.at("volume:"+id, in.From).count(in.Grown)
		s.at("target_port:"+strings.ToLower(t.name), in.From).count(in.Grown)
		if shelf := u.shelf(); shelf != "" {
			s.at("pool:"+shelf, in.From).count(in.Grown)
		}
		if initiator := t.sessions[c.session]; initiator != "" && c.moved() {
			s.at("flow:"+flowID(initiator, id), in.From).count(in.Grown)
		}
	}
}

func (s *sums) spoil(lun string, from time.Time) { s.spoiled[row{lun, from}] = true }

func (s *sums) fly(lun string, in meter.Interval) { s.flights[row{lun, in.From}] = in }

// seen is the least part of an interval in which what is in flight was looked at, for times to be told.
const seen = 0.5

// runs makes readings of all sums. A volume's time per command is what was in flight over what completed; those of
// a pool and a port follow from their volumes, where all of them are known.
func (s *sums) runs(src *Source) []feed.Reading {
	unknown := map[row]bool{}
	var froms []time.Time
	for key := range s.rows {
		if !slices.Contains(froms, key.from) {
			froms = append(froms, key.from)
		}
	}
	for i := range src.targets {
		t := &src.targets[i]
		for _, u := range t.luns {
			id := t.lunID(u.number)
			above := []string{"target_port:" + strings.ToLower(t.name)}
			if shelf := u.shelf(); shelf != "" {
				above = append(above, "pool:"+shelf)
			}
			for _, from := range froms {
				key := row{"volume:" + id, from}
				x := s.rows[key]
				if x == nil {
					continue
				}
				if s.spoiled[row{id, key.from}] {
					unknown[key] = true
					for _, a := range above {
						unknown[row{a, key.from}] = true
					}
					continue
				}
				f, ok := s.flights[row{id, key.from}]
				x.timed = ok && f.Grown[2] >= seen*float64(s.step)
				if !x.timed {
					continue
				}
				scale := float64(s.step) / f.Grown[2] // what was looked at stands for the whole interval
				x.readNS, x.writeNS = f.Grown[0]*scale, f.Grown[1]*scale
				// Where no look caught a command, they took less than about a look together; half a look stands for that.
				half := f.Grown[2] / f.Grown[3] / 2 * scale
				if x.reads >= 1 {
					x.readNS = math.Max(x.readNS, half)
				}
				if x.writes >= 1 {
					x.writeNS = math.Max(x.writeNS, half)
				}
				for _, a := range above {
					y := s.at(a, key.from)
					y.readNS, y.writeNS, y.timed = y.readNS+x.readNS, y.writeNS+x.writeNS, true
				}
			}
		}
	}
	var out []feed.Reading
	step := s.step.Seconds()
	for key, x := range s.rows {
		if unknown[key] {
			continue
		}
		v := map[string]feed.Values{"read_iops": {x.reads / step}, "write_iops": {x.writes / step}, "read_bytes_s": {x.readBytes / step}, "write_bytes_s": {x.writeBytes / step}}
		if x.timed && !strings.HasPrefix(key.of, "flow:") {
			v["outstanding"] = feed.Values{(x.readNS + x.writeNS) / 1e9 / step}
			v["read_latency_us"], v["write_latency_us"] = per(x.readNS, x.reads), per(x.writeNS, x.writes)
		}
		out = append(out, feed.Reading{Of: key.of, From: key.from, Step: step, Values: v})
	}
	slices.SortFunc(out, func(a, b feed.Reading) int {
		if c := a.From.Compare(b.From); c != 0 {
			return c
		}
		return strings.Compare(a.Of, b.Of)
	})
	return out
}

// per is the time of a command in µs, null where none completed.
func per(ns, n float64) feed.Values {
	if n < 1 || ns <= 0 {
		return feed.Values{math.NaN()}
	}
	return feed.Values{ns / n / 1e3}
}
