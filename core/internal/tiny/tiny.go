// Package tiny is a small estate with readings for the tests of the core: two hosts, two fabrics of
// two switches, an array of two controllers, one volume on one pool, and what VMs the test adds.
package tiny

import (
	"fmt"
	"math"
	"time"

	"dowsingrod/core/estate"
	"dowsingrod/core/reading"
	"dowsingrod/core/route"
)

// Start is when the readings begin.
var Start = time.Date(2026, 3, 2, 14, 0, 0, 0, time.UTC)

// Step is their interval.
const Step = time.Minute

// Estate collects objects and readings.
type Estate struct {
	Objects []estate.Object
	data    map[string][]reading.Series
	N       int // readings per series
}

// Key addresses an object of one of the sources hyp, fab, array.
func Key(source, ref string) estate.Key {
	r, err := estate.ParseRef(ref)
	if err != nil {
		panic(err)
	}
	return estate.Key{Source: source, Ref: r}
}

// Add adds an object; links are pairs of kind and reference.
func (e *Estate) Add(source, ref, name string, facts estate.Facts, links ...string) {
	o := estate.Object{Key: Key(source, ref), Name: name, Facts: facts, Links: estate.Links{}}
	for i := 0; i+1 < len(links); i += 2 {
		k := estate.LinkKind(links[i])
		o.Links[k] = append(o.Links[k], Key(source, links[i+1]).Ref)
	}
	e.Objects = append(e.Objects, o)
}

// Set gives an object readings: f is called for each.
func (e *Estate) Set(k estate.Key, metric string, f func(i int) float64) {
	values := make([]float64, e.N)
	for i := range values {
		values[i] = f(i)
	}
	e.data[k.String()+" "+metric] = []reading.Series{{From: Start, Step: Step, Values: values}}
}

// Drop removes an object's readings.
func (e *Estate) Drop(k estate.Key, metric string) { delete(e.data, k.String()+" "+metric) }

// Runs is route.Readings.
func (e *Estate) Runs(k estate.Key, metric string) []reading.Series {
	return e.data[k.String()+" "+metric]
}

// Always is a constant reading.
func Always(v float64) func(int) float64 { return func(int) float64 { return v } }

// From is one value before cell i and another from there on.
func From(i int, before, after float64) func(int) float64 {
	return func(k int) float64 {
		if k < i {
			return before
		}
		return after
	}
}

// Missing is no reading.
var Missing = Always(math.NaN())

// WWN of a numbered port.
func WWN(n int) string { return fmt.Sprintf("500d0000000000%02x", n) }

const naa = "naa.600d05e0000000000000000000000001"

// New builds the estate with n readings per series, no VMs.
func New(n int) *Estate {
	e := &Estate{data: make(map[string][]reading.Series), N: n}
	for f, letter := range []string{"a", "b"} {
		e.Add("fab", "fabric:"+letter, "fabric "+letter, nil)
		for s := 1; s <= 2; s++ {
			e.Add("fab", fmt.Sprintf("switch:%s%d", letter, s), fmt.Sprintf("skerry-%s%d", letter, s), nil, "member_of", "fabric:"+letter)
			e.Add("fab", fmt.Sprintf("switch_port:%s%d-9", letter, s), "9", estate.Facts{"wwpn": WWN(0x80 + 10*f + s)}, "part_of", fmt.Sprintf("switch:%s%d", letter, s))
		}
		e.Add("fab", "isl:"+letter, "link", estate.Facts{"ends": []any{WWN(0x80 + 10*f + 1), WWN(0x80 + 10*f + 2)}})
	}
	port := func(source, ref, owner, sw string, n int) {
		e.Add(source, ref, ref[len(ref)-2:], estate.Facts{"wwpn": WWN(n), "speed_bytes_s": 1e9}, "part_of", owner)
		e.Add("fab", fmt.Sprintf("switch_port:p%d", n), fmt.Sprint(n), estate.Facts{"wwpn": WWN(0xa0 + n), "attached": []any{WWN(n)}}, "part_of", "switch:"+sw)
	}
	e.Add("array", "array:x", "heron", estate.Facts{"serial": "X1"})
	for c := range 2 {
		id := fmt.Sprintf("controller:c%d", c)
		e.Add("array", id, fmt.Sprintf("controller %d", c), nil, "part_of", "array:x")
		port("array", fmt.Sprintf("target_port:t%dA", c), id, "a2", 20+c)
		port("array", fmt.Sprintf("target_port:t%dB", c), id, "b2", 30+c)
	}
	e.Add("array", "drive:d1", "drive 1", estate.Facts{"media": "flash"})
	e.Add("array", "raid_group:r1", "rg-1", nil, "made_of", "drive:d1")
	e.Add("array", "raid_group:r2", "rg-2", nil)
	e.Add("array", "pool:p", "pool 1", estate.Facts{"media": "flash"}, "made_of", "raid_group:r1", "made_of", "raid_group:r2", "part_of", "array:x")
	e.Add("array", "volume:v", "vol-1", estate.Facts{"naa": naa, "number": 14.0}, "part_of", "array:x", "carved_from", "pool:p",
		"served_by", "controller:c0", "served_by", "controller:c1")
	e.Add("hyp", "datastore:ds", "ds-dulse-01", estate.Facts{"extents": []any{naa}})
	for h := range 2 {
		host := fmt.Sprintf("host:h%d", h)
		e.Add("hyp", host, fmt.Sprintf("lighthouse-%d", h), nil)
		port("hyp", fmt.Sprintf("hba_port:h%d-0", h), host, "a1", 2*h+1)
		port("hyp", fmt.Sprintf("hba_port:h%d-1", h), host, "b1", 2*h+2)
		device := fmt.Sprintf("device:h%d-v", h)
		e.Add("hyp", device, "", estate.Facts{"naa": naa}, "part_of", host)
		for c := range 2 {
			for f, t := range []int{20 + c, 30 + c} {
				state := "active"
				if c == 1 {
					state = "standby"
				}
				e.Add("hyp", fmt.Sprintf("path:h%d-%d%d", h, c, f), "", estate.Facts{"initiator": WWN(2*h + 1 + f), "target": WWN(t), "lun": 14.0, "state": state}, "part_of", device)
			}
		}
	}
	return e
}

// AddVM puts a VM with one disk on a host.
func (e *Estate) AddVM(name string, host int) {
	e.Add("hyp", "vm:"+name, name, estate.Facts{"tier": "1"}, "runs_on", fmt.Sprintf("host:h%d", host), "uses", "vdisk:"+name)
	e.Add("hyp", "vdisk:"+name, name+" disk", nil, "stored_on", "datastore:ds")
}

// IO gives an object reads and writes: rates in 1/s, bytes each, µs each.
func (e *Estate) IO(k estate.Key, reads, size, readMicros func(int) float64) {
	e.Set(k, "read_iops", reads)
	e.Set(k, "read_bytes_s", func(i int) float64 { return reads(i) * size(i) })
	e.Set(k, "read_latency_us", readMicros)
	e.Set(k, "write_iops", Always(0))
	e.Set(k, "write_bytes_s", Always(0))
	e.Set(k, "write_latency_us", Missing)
}

// Moments returns one moment that covers all readings.
func (e *Estate) Moments() []route.Moment {
	return []route.Moment{{From: Start, To: Start.Add(time.Duration(e.N) * Step), Map: route.NewMap(estate.Build(e.Objects))}}
}

// Grid covers all readings, a cell each.
func (e *Estate) Grid() reading.Grid { return reading.Grid{From: Start, Step: Step, N: e.N} }
