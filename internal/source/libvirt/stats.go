package libvirt

import (
	"context"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	wire "github.com/digitalocean/go-libvirt"

	"dowsingrod/internal/feed"
	"dowsingrod/internal/source"
)

// stats are the counters of a domain as of one moment.
type stats struct {
	uuid, name string
	handle     wire.Domain
	state      int64
	mark       string
	cpu, delay uint64
	hasCPU     bool
	hasDelay   bool
	vcpus      float64
	disks      []diskStats
}

// diskStats are the counters of a virtual disk, in the order the meter follows them.
type diskStats struct {
	name     string
	counters [8]uint64 // see the indexes below
	timed    bool      // whether the driver times I/O
	capacity float64
	filled   float64
}

const (
	rdReqs = iota
	rdBytes
	rdTimes
	wrReqs
	wrBytes
	wrTimes
	flReqs
	flTimes
)

var counterNames = map[string]int{"rd.reqs": rdReqs, "rd.bytes": rdBytes, "rd.times": rdTimes, "wr.reqs": wrReqs, "wr.bytes": wrBytes,
	"wr.times": wrTimes, "fl.reqs": flReqs, "fl.times": flTimes}

const wanted = uint32(wire.DomainStatsState | wire.DomainStatsCPUTotal | wire.DomainStatsVCPU | wire.DomainStatsBlock)

// readStats takes the counters of all domains.
func (s *Source) readStats(v *session) error {
	before := s.settings.Clock()
	records, err := v.ConnectGetAllDomainStats(nil, wanted, 0)
	if unsupported(err) {
		return s.readEach(v)
	}
	if err != nil {
		return err
	}
	after := s.settings.Clock()
	s.statsAt = before.Add(after.Sub(before) / 2)
	s.stats = s.stats[:0]
	blocks := false
	for i := range records {
		st := readRecord(&records[i])
		blocks = blocks || len(st.disks) > 0
		s.stats = append(s.stats, st)
	}
	if !blocks && len(s.stats) > 0 {
		s.eachDisk(v)
	}
	return nil
}

// readEach is for drivers that have no statistics of all domains at once.
func (s *Source) readEach(v *session) error {
	handles, _, err := v.ConnectListAllDomains(1, 0)
	if err != nil {
		return err
	}
	s.statsAt = s.settings.Clock()
	s.stats = s.stats[:0]
	for _, h := range handles {
		st := stats{uuid: uuidText(h.UUID), name: h.Name, handle: h}
		if state, _, _, vcpus, cpu, err := v.DomainGetInfo(h); err == nil {
			st.state, st.vcpus, st.cpu, st.hasCPU = int64(state), float64(vcpus), cpu, true
		}
		st.mark = fmt.Sprint(h.ID, st.state, h.Name)
		s.stats = append(s.stats, st)
	}
	s.eachDisk(v)
	return nil
}

// eachDisk asks disk by disk, as the descriptions name them. Times are not told this way.
func (s *Source) eachDisk(v *session) {
	for i := range s.stats {
		st := &s.stats[i]
		d := s.domains[st.uuid]
		if d == nil || st.state != 1 {
			continue
		}
		for k := range d.xml.Disks {
			disk := &d.xml.Disks[k]
			if !isDisk(disk) {
				continue
			}
			reads, readBytes, writes, writeBytes, _, err := v.DomainBlockStats(st.handle, disk.Target.Dev)
			if err != nil || reads < 0 || writes < 0 {
				continue
			}
			b := diskStats{name: disk.Target.Dev}
			b.counters[rdReqs], b.counters[rdBytes], b.counters[wrReqs], b.counters[wrBytes] = uint64(reads), uint64(readBytes), uint64(writes), uint64(writeBytes)
			st.disks = append(st.disks, b)
		}
	}
}

// maxDisks bounds the index of a block device that is believed.
const maxDisks = 4096

func readRecord(r *wire.DomainStatsRecord) stats {
	st := stats{uuid: uuidText(r.Dom.UUID), name: r.Dom.Name, handle: r.Dom, vcpus: 1}
	byIndex := make([]diskStats, 0, 4)
	var mark strings.Builder
	fmt.Fprint(&mark, r.Dom.ID, " ", r.Dom.Name)
	for _, p := range r.Params {
		n, isNumber := number(p.Value.I)
		switch {
		case p.Field == "state.state":
			st.state = int64(n)
			fmt.Fprint(&mark, " ", st.state)
		case p.Field == "cpu.time" && isNumber:
			st.cpu, st.hasCPU = n, true
		case p.Field == "vcpu.current" && n > 0:
			st.vcpus = float64(n)
		case strings.HasPrefix(p.Field, "vcpu.") && strings.HasSuffix(p.Field, ".delay") && isNumber:
			st.delay += n
			st.hasDelay = true
		case strings.HasPrefix(p.Field, "block."):
			index, field, ok := strings.Cut(p.Field[len("block."):], ".")
			i, err := strconv.Atoi(index)
			if !ok || err != nil || i < 0 || i >= maxDisks {
				continue
			}
			for len(byIndex) <= i {
				byIndex = append(byIndex, diskStats{})
			}
			d := &byIndex[i]
			switch field {
			case "name":
				d.name, _ = p.Value.I.(string)
			case "path":
				path, _ := p.Value.I.(string)
				fmt.Fprint(&mark, " ", path)
			case "backingIndex":
				fmt.Fprint(&mark, " ", n)
			case "capacity":
				d.capacity = float64(n)
				fmt.Fprint(&mark, " ", n)
			case "allocation":
				d.filled = float64(n)
			default:
				if at, ok := counterNames[field]; ok && isNumber {
					d.counters[at] = n
					d.timed = d.timed || at == rdTimes
				}
			}
		}
	}
	for _, d := range byIndex {
		if d.name != "" {
			st.disks = append(st.disks, d)
			fmt.Fprint(&mark, " ", d.name)
		}
	}
	st.mark = mark.String()
	return st
}

// number reads a typed parameter. Negative ones are not counters.
func number(v any) (uint64, bool) {
	switch n := v.(type) {
	case int32:
		return uint64(max(n, 0)), n >= 0
	case uint32:
		return uint64(n), true
	case int64:
		return uint64(max(n, 0)), n >= 0
	case uint64:
		return n, true
	}
	return 0, false
}

// Readings implements source.Source.
func (s *Source) Readings(ctx context.Context) (source.Readings, error) {
	var out source.Readings
	if len(s.stats) == 0 && s.listed == 0 {
		return out, &source.Trouble{What: "there is no inventory to read for", Try: "ask for the inventory first"}
	}
	step := s.settings.Interval.Seconds()
	for i := range s.stats {
		st := &s.stats[i]
		if st.state != 1 || s.domains[st.uuid] == nil {
			continue // paused or off: there is nothing to read, and that is not zero
		}
		life := strconv.Itoa(int(st.handle.ID))
		if st.hasCPU {
			for _, in := range s.meter.Observe("vm "+st.uuid, s.statsAt, life, []uint64{st.cpu, st.delay}) {
				values := map[string]feed.Values{"busy_share": {share(in.Grown[0] / 1e9 / step / st.vcpus)}}
				if st.hasDelay {
					values["steal_share"] = feed.Values{share(in.Grown[1] / 1e9 / step / st.vcpus)}
				}
				out.Runs = append(out.Runs, feed.Reading{Of: "vm:" + st.uuid, From: in.From, Step: step, Values: values})
			}
		}
		for k := range st.disks {
			d := &st.disks[k]
			for _, in := range s.meter.Observe("disk "+st.uuid+" "+d.name, s.statsAt, life, d.counters[:]) {
				out.Runs = append(out.Runs, feed.Reading{Of: "vdisk:" + diskID(st.uuid, d.name), From: in.From, Step: step, Values: rates(in.Grown, step, d.timed)})
			}
		}
	}
	s.hostReadings(ctx, &out, step)
	for id, p := range s.pools {
		if p.capacity > 0 && s.poolsRead && !strings.HasPrefix(p.xml.Type, "iscsi") {
			out.Runs = append(out.Runs, feed.Reading{Of: "datastore:" + id, From: s.settings.Border(s.statsAt), Step: step, Values: map[string]feed.Values{"used_bytes": {p.allocation}}})
		}
	}
	s.meter.EndRound()
	resets, silences, steps := s.meter.Lost()
	out.Notes = notes(resets, silences, steps)
	s.stats = s.stats[:0]
	return out, nil
}

func notes(resets, silences, steps int) (out []string) {
	if resets > 0 {
		out = append(out, fmt.Sprintf("%d counters began anew, by a restart or reset: the intervals they fell into are missing", resets))
	}
	if silences > 0 {
		out = append(out, fmt.Sprintf("%d counters were not read for longer than an interval: that time is missing", silences))
	}
	if steps > 0 {
		out = append(out, "this machine's clock was set: the intervals around it are missing")
	}
	return out
}

// share bounds a part of time to 0–1; what is a little beyond comes from the edges of the reading.
func share(v float64) float64 { return math.Min(1, math.Max(0, v)) }

// enough is the least number of I/Os in an interval that a time per I/O is told for: parts of I/Os at its edges are
// none.
const enough = 0.5

// rates turns what counters grew by into the feed's metrics. Times are in ns.
func rates(g []float64, step float64, timed bool) map[string]feed.Values {
	v := map[string]feed.Values{
		"read_iops": {g[rdReqs] / step}, "write_iops": {g[wrReqs] / step},
		"read_bytes_s": {g[rdBytes] / step}, "write_bytes_s": {g[wrBytes] / step},
	}
	if !timed {
		return v
	}
	v["outstanding"] = feed.Values{(g[rdTimes] + g[wrTimes]) / 1e9 / step} // Little's law: time spent in flight over time
	per := func(times, reqs int) feed.Values {
		if g[reqs] < enough {
			return feed.Values{math.NaN()}
		}
		return feed.Values{g[times] / g[reqs] / 1e3}
	}
	v["read_latency_us"], v["write_latency_us"] = per(rdTimes, rdReqs), per(wrTimes, wrReqs)
	if g[flReqs] > 0 {
		v["flush_iops"], v["flush_latency_us"] = feed.Values{g[flReqs] / step}, per(flTimes, flReqs)
	}
	return v
}

// hostReadings reads how busy the host's processors are.
func (s *Source) hostReadings(ctx context.Context, out *source.Readings, step float64) {
	var idle, all uint64
	err := s.ask(ctx, func(v *session) error {
		_, n, err := v.NodeGetCPUStats(-1, 0, 0)
		if err != nil || n == 0 {
			return err
		}
		params, _, err := v.NodeGetCPUStats(-1, n, 0)
		for _, p := range params {
			switch p.Field {
			case "idle", "iowait":
				idle += p.Value
				all += p.Value
			case "kernel", "user", "intr":
				all += p.Value
			}
		}
		return err
	})
	if err != nil || all == 0 {
		return
	}
	at := s.settings.Clock()
	for _, in := range s.meter.Observe("host", at, "", []uint64{idle, all}) {
		if in.Grown[1] > 0 {
			out.Runs = append(out.Runs, feed.Reading{Of: "host:" + s.hostID(), From: in.From, Step: step,
				Values: map[string]feed.Values{"busy_share": {share(1 - in.Grown[0]/in.Grown[1])}}})
		}
	}
}

// Totals implements source.Totals.
func (s *Source) Totals(ctx context.Context) (source.Total, time.Time, error) {
	var t source.Total
	var at time.Time
	err := s.ask(ctx, func(v *session) error {
		records, err := v.ConnectGetAllDomainStats(nil, wanted, 0)
		at = s.settings.Clock()
		for i := range records {
			for _, d := range readRecord(&records[i]).disks {
				t.Capacity += d.capacity
				t.Operations += float64(d.counters[rdReqs] + d.counters[wrReqs])
				t.Bytes += float64(d.counters[rdBytes] + d.counters[wrBytes])
			}
		}
		return err
	})
	return t, at, err
}
