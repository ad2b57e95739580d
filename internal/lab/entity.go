package lab

import (
	"math"
	"time"

	"dowsingrod/core/estate"
	"dowsingrod/internal/feed"
)

// entity collects what one object reports: sums over the model's steps, turned into one value per
// interval of its source.
type entity struct {
	of      string
	metrics []metric
	every   int // steps of the model per interval
	steps   int
	io      bool
	seconds float64 // per interval
}

type metric struct {
	name        string
	sum, weight float64
	decimals    float64 // 10^n
	weighted    bool    // a mean over I/O, not over time
	values      feed.Values
	counter     counter // what a device counts it with; without a unit where it tells a mean itself
}

// counter is what devices have instead of rates: a number of some units that only grows, and begins anew at its width. Who reads
// it takes the difference, by the arithmetic of that width: a wrap leaves no trace, a part of a unit waits for the next reading.
type counter struct {
	unit, left float64
	at, mask   uint64
}

// rate counts a mean rate over an interval, and returns what two readings tell of it.
func (c *counter) rate(rate, seconds float64) float64 {
	total := c.left + float64(rate*seconds/c.unit)
	whole := math.Floor(total)
	c.left = total - whole
	before := c.at
	c.at = (c.at + uint64(whole)) & c.mask
	return float64((c.at-before)&c.mask) * c.unit / seconds
}

var ioMetrics = []string{"read_iops", "write_iops", "read_bytes_s", "write_bytes_s", "outstanding", "read_latency_us", "write_latency_us"}

func (l *Lab) entity(source, of string, names ...string) *entity {
	e := &entity{of: of}
	for _, n := range names {
		m := metric{name: n, decimals: 1}
		switch n {
		case "read_iops", "write_iops":
			m.decimals = 10
		case "outstanding":
			m.decimals = 100
		case "busy_share", "steal_share", "write_pending_share", "cache_hit_share", "credit_zero_share":
			m.decimals = 1e4
		case "crc_errors_s", "discards_s", "link_resets_s":
			m.decimals = 1e3
		}
		switch n {
		case "read_latency_us", "write_latency_us", "queue_latency_us", "cache_hit_share", "read_service_us", "write_service_us":
			m.weighted = true
		}
		start := noise(l.seed, nameSalt(source+of+n))
		switch n {
		case "read_iops", "write_iops": // 32 bits of I/Os
			m.counter = counter{unit: 1, mask: math.MaxUint32, at: uint64(start * math.MaxUint32)}
		case "read_bytes_s", "write_bytes_s": // 32 bits of blocks
			m.counter = counter{unit: 512, mask: math.MaxUint32, at: uint64(start * math.MaxUint32)}
		case "tx_bytes_s", "rx_bytes_s": // 64 bits of words: ports would wrap 32 within an interval
			m.counter = counter{unit: 4, mask: math.MaxUint64, at: uint64(start * math.MaxUint32)}
		}
		e.metrics = append(e.metrics, m)
	}
	l.entities[source] = append(l.entities[source], e)
	return e
}

func (l *Lab) ioEntity(source, of string, more ...string) *entity {
	e := l.entity(source, of, append(append([]string{}, ioMetrics...), more...)...)
	e.io = true
	return e
}

func (l *Lab) portEntity(source, of string) *entity {
	return l.entity(source, of, "tx_bytes_s", "rx_bytes_s", "credit_zero_share", "crc_errors_s")
}

// add adds a value of metric k for one step; w is the I/O it is a mean over, for weighted metrics.
func (e *entity) add(k int, v, w float64) {
	m := &e.metrics[k]
	if !m.weighted {
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
		m := &e.metrics[k]
		v := math.NaN()
		if m.weight > 0 {
			v = m.sum
			if m.weight != 1 {
				v /= m.weight
			}
			if m.counter.unit > 0 {
				v = m.counter.rate(v, e.seconds)
			}
			if m.decimals == 1 {
				v = math.Floor(v + 0.5)
			} else {
				v = math.Floor(float64(v*m.decimals)+0.5) / m.decimals
			}
			if m.decimals == 1e4 {
				v = min(v, 1)
			}
		}
		m.values = append(m.values, v)
		m.sum, m.weight = 0, 0
	}
}

// take returns what was collected since, as one reading record whose first interval begins at from; nil where there is nothing.
func (e *entity) take(from time.Time, interval time.Duration, silent []bool) *feed.Reading {
	if len(e.metrics) == 0 || len(e.metrics[0].values) == 0 {
		return nil
	}
	r := &feed.Reading{Of: e.of, From: from, Step: interval.Seconds(), Values: make(map[string]feed.Values, len(e.metrics))}
	for k := range e.metrics {
		m := &e.metrics[k]
		for i := range m.values {
			if i < len(silent) && silent[i] {
				m.values[i] = math.NaN()
			}
		}
		r.Values[m.name] = m.values
		m.values = make(feed.Values, 0, len(m.values)) // the next stretch is most often as long
	}
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
