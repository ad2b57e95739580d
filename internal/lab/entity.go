package lab

import (
	"math"
	"strings"
	"time"

	"dowsingrod/core/estate"
	"dowsingrod/internal/feed"
)

// entity collects what one object reports: sums over the model's steps, turned into one value per
// interval of its source. There are tens of thousands, and each is touched at every step: what is written then lies together.
type entity struct {
	of      string
	specs   []spec
	metrics []metric
	rows    []float64 // one value per metric and interval, interval by interval
	every   int       // steps of the model per interval
	steps   int
	seconds float64 // per interval
}

// spec is how a metric is measured. Objects that report the same share theirs.
type spec struct {
	name     string
	decimals float64 // 10^n
	weighted bool    // a mean over I/O, not over time
	unit     float64 // of the counter that a device has instead of a mean; 0 for none
	mask     uint64  // of its width
}

type metric struct {
	sum, weight float64
	left        float64 // part of a unit that waits for the counter's next reading
	count       uint64
}

// counted counts a mean rate over an interval, as devices do that have counters instead: numbers of some unit that only grow,
// and begin anew at their width. It returns what two readings tell, by the arithmetic of that width: a wrap leaves no trace.
func (m *metric) counted(s *spec, rate, seconds float64) float64 {
	total := m.left + float64(rate*seconds/s.unit)
	whole := math.Floor(total)
	m.left = total - whole
	before := m.count
	m.count = (m.count + uint64(whole)) & s.mask
	return float64((m.count-before)&s.mask) * s.unit / seconds
}

var ioMetrics = []string{"read_iops", "write_iops", "read_bytes_s", "write_bytes_s", "outstanding", "read_latency_us", "write_latency_us"}

func specOf(name string) spec {
	s := spec{name: name, decimals: 1}
	switch name {
	case "read_iops", "write_iops": // 32 bits of I/Os
		s.decimals, s.unit, s.mask = 10, 1, math.MaxUint32
	case "read_bytes_s", "write_bytes_s": // 32 bits of blocks
		s.unit, s.mask = 512, math.MaxUint32
	case "tx_bytes_s", "rx_bytes_s": // 64 bits of words: ports would wrap 32 within an interval
		s.unit, s.mask = 4, math.MaxUint64
	case "outstanding":
		s.decimals = 100
	case "busy_share", "steal_share", "write_pending_share", "cache_hit_share", "credit_zero_share":
		s.decimals = 1e4
	case "crc_errors_s", "discards_s", "link_resets_s":
		s.decimals = 1e3
	}
	switch name {
	case "read_latency_us", "write_latency_us", "queue_latency_us", "cache_hit_share", "read_service_us", "write_service_us":
		s.weighted = true
	}
	return s
}

func (l *Lab) entity(source, of string, names ...string) *entity {
	key := strings.Join(names, " ")
	specs := l.specs[key]
	if specs == nil {
		for _, n := range names {
			specs = append(specs, specOf(n))
		}
		l.specs[key] = specs
	}
	e := &entity{of: of, specs: specs, metrics: make([]metric, len(names))}
	for k := range e.metrics {
		e.metrics[k].count = uint64(noise(l.seed, nameSalt(source+of+names[k])) * math.MaxUint32)
	}
	l.entities[source] = append(l.entities[source], e)
	return e
}

func (l *Lab) ioEntity(source, of string, more ...string) *entity {
	return l.entity(source, of, append(append([]string{}, ioMetrics...), more...)...)
}

func (l *Lab) portEntity(source, of string) *entity {
	return l.entity(source, of, "tx_bytes_s", "rx_bytes_s", "credit_zero_share", "crc_errors_s")
}

// add adds a value of metric k for one step; w is the I/O it is a mean over, for weighted metrics.
func (e *entity) add(k int, v, w float64) {
	m := &e.metrics[k]
	if !e.specs[k].weighted {
		w = 1
	}
	m.sum += float64(v * w)
	m.weight += w
}

// addIO adds what was done in one step, with times that err by a factor.
func (e *entity) addIO(s *sums, err float64) {
	m := e.metrics[:7]
	m[0].sum += s.reads
	m[1].sum += s.writes
	m[2].sum += s.readBytes
	m[3].sum += s.writeBytes
	m[4].sum += float64((s.readTime + s.writeTime) * err) // Little's law: I/O in flight
	m[5].sum += float64(s.readTime * err * 1e6)
	m[6].sum += float64(s.writeTime * err * 1e6)
	for k := range 5 {
		m[k].weight++
	}
	m[5].weight += s.reads
	m[6].weight += s.writes
}

// tick ends a step, and the interval where it is full.
func (e *entity) tick() {
	if e.steps++; e.steps < e.every {
		return
	}
	e.steps = 0
	for k := range e.metrics {
		m, s := &e.metrics[k], &e.specs[k]
		v := math.NaN()
		if m.weight > 0 {
			v = m.sum
			if m.weight != 1 {
				v /= m.weight
			}
			if s.unit > 0 {
				v = m.counted(s, v, e.seconds)
			}
			if s.decimals == 1 {
				v = math.Floor(v + 0.5)
			} else {
				v = math.Floor(float64(v*s.decimals)+0.5) / s.decimals
			}
			if s.decimals == 1e4 {
				v = min(v, 1)
			}
		}
		e.rows = append(e.rows, v)
		m.sum, m.weight = 0, 0
	}
}

// take returns what was collected since, as one reading record whose first interval begins at from; nil where there is nothing.
func (e *entity) take(from time.Time, interval time.Duration, silent []bool) *feed.Reading {
	if len(e.rows) == 0 {
		return nil
	}
	n := len(e.rows) / len(e.specs)
	all := make(feed.Values, len(e.rows))
	r := &feed.Reading{Of: e.of, From: from, Step: interval.Seconds(), Values: make(map[string]feed.Values, len(e.specs))}
	for k := range e.specs {
		values := all[k*n : (k+1)*n : (k+1)*n]
		for i := range values {
			if values[i] = e.rows[i*len(e.specs)+k]; i < len(silent) && silent[i] {
				values[i] = math.NaN()
			}
		}
		r.Values[e.specs[k].name] = values
	}
	e.rows = e.rows[:0]
	return r
}

// noise is a number in [0, 1) that depends on its arguments alone.
func noise(seed uint64, parts ...uint64) float64 {
	h := seed ^ 0x9e3779b97f4a7c15
	for _, p := range parts {
		h ^= p + 0x9e3779b97f4a7c15 + h<<6 + h>>2
		h ^= h >> 30 // the finaliser of SplitMix64 (Steele, Lea and Flood, 2014)
		h *= 0xbf58476d1ce4e5b9
		h ^= h >> 27
		h *= 0x94d049bb133111eb
		h ^= h >> 31
	}
	return float64(h>>11) / (1 << 53)
}

func (l *Lab) vmObject(v *vm, uses []string) *feed.Object {
	facts := estate.Facts{"uuid": uuid(v.name), "tier": string(rune('0' + v.tier)), "application": v.app, "vcpus": 4.0, "memory_bytes": 16.0 * gib, "power": "on"}
	return &feed.Object{Kind: estate.VM, ID: v.name, Name: v.name, Facts: facts, Links: links{"runs_on": {"host:" + v.host.id}, "uses": uses}}
}
