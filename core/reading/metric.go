// Package reading holds what is measured: the catalogue of metrics with their units, series of
// readings, and their alignment on one time grid.
//
// A value that is not there is NaN, in memory, and null in JSON. It is never zero.
package reading

import (
	"slices"

	"dowsingrod/core/estate"
)

// Unit is the unit of a metric.
type Unit string

// Units of the catalogue.
const (
	PerSecond      Unit = "1/s"
	BytesPerSecond Unit = "B/s"
	Microseconds   Unit = "µs"
	SharePart      Unit = "share" // 0–1
	Count          Unit = "count"
	Bytes          Unit = "B"
)

// Metric is an entry of the catalogue. All readings are means over their interval.
type Metric struct {
	Name  string        `json:"name" doc:"Name in feeds and calls"`
	Unit  Unit          `json:"unit" doc:"Unit of its values" enum:"1/s,B/s,µs,share,count,B"`
	Doc   string        `json:"doc" doc:"What it includes"`
	Kinds []estate.Kind `json:"kinds" doc:"Kinds of object that report it"`
	// Weight names the rate by which means of this metric are weighted: a latency is averaged over
	// I/Os, not over intervals. "" weights by time.
	Weight string `json:"weight,omitempty" doc:"The rate that means of it are weighted by"`
}

var (
	busyKinds  = []estate.Kind{estate.Controller, estate.Pool, estate.RAIDGroup, estate.Drive, estate.Host, estate.VM}
	ioKinds    = []estate.Kind{estate.VDisk, estate.VM, estate.Datastore, estate.Device, estate.Flow, estate.Volume, estate.Share, estate.TargetPort, estate.Controller, estate.Pool, estate.RAIDGroup, estate.Drive}
	portKinds  = []estate.Kind{estate.HBAPort, estate.SwitchPort, estate.TargetPort}
	volumeOnly = []estate.Kind{estate.Volume}
	seen       = " per completed I/O as seen at that object, including everything below it"
)

// Catalogue lists every metric of the feed, version 1.
var Catalogue = []Metric{
	{Name: "read_iops", Unit: PerSecond, Doc: "completed reads", Kinds: ioKinds},
	{Name: "write_iops", Unit: PerSecond, Doc: "completed writes", Kinds: ioKinds},
	{Name: "read_bytes_s", Unit: BytesPerSecond, Doc: "bytes read", Kinds: ioKinds},
	{Name: "write_bytes_s", Unit: BytesPerSecond, Doc: "bytes written", Kinds: ioKinds},
	{Name: "read_latency_us", Unit: Microseconds, Doc: "time of a read" + seen, Kinds: ioKinds, Weight: "read_iops"},
	{Name: "write_latency_us", Unit: Microseconds, Doc: "time of a write" + seen, Kinds: ioKinds, Weight: "write_iops"},
	{Name: "flush_iops", Unit: PerSecond, Doc: "completed flushes", Kinds: []estate.Kind{estate.VDisk}},
	{Name: "flush_latency_us", Unit: Microseconds, Doc: "time of a flush", Kinds: []estate.Kind{estate.VDisk}, Weight: "flush_iops"},
	{Name: "outstanding", Unit: Count, Doc: "I/O sent and not yet answered", Kinds: ioKinds},
	{Name: "queue_latency_us", Unit: Microseconds, Doc: "wait in the host before being sent, part of the device's latency", Kinds: []estate.Kind{estate.Device}, Weight: "read_iops"},
	{Name: "aborts_s", Unit: PerSecond, Doc: "commands given up", Kinds: []estate.Kind{estate.Device}},
	{Name: "cache_hit_share", Unit: SharePart, Doc: "part of reads answered from cache", Kinds: []estate.Kind{estate.Volume, estate.Controller}, Weight: "read_iops"},
	{Name: "read_service_us", Unit: Microseconds, Doc: "time of a read inside the array, without its front-end port", Kinds: volumeOnly, Weight: "read_iops"},
	{Name: "write_service_us", Unit: Microseconds, Doc: "time of a write inside the array, without its front-end port", Kinds: volumeOnly, Weight: "write_iops"},
	{Name: "other_iops", Unit: PerSecond, Doc: "completed commands that are neither read nor write", Kinds: volumeOnly},
	{Name: "unaligned_share", Unit: SharePart, Doc: "part of I/O that straddles the array's block", Kinds: volumeOnly},
	{Name: "busy_share", Unit: SharePart, Doc: "part of the time in use", Kinds: busyKinds},
	{Name: "write_pending_share", Unit: SharePart, Doc: "part of the write cache not yet written down", Kinds: []estate.Kind{estate.Controller}},
	{Name: "steal_share", Unit: SharePart, Doc: "part of the time ready to run but kept waiting for a processor", Kinds: []estate.Kind{estate.VM}},
	{Name: "tx_bytes_s", Unit: BytesPerSecond, Doc: "bytes sent", Kinds: append([]estate.Kind{estate.SiteLink}, portKinds...)},
	{Name: "rx_bytes_s", Unit: BytesPerSecond, Doc: "bytes received", Kinds: append([]estate.Kind{estate.SiteLink}, portKinds...)},
	{Name: "credit_zero_share", Unit: SharePart, Doc: "part of the time without a transmit credit", Kinds: portKinds},
	{Name: "crc_errors_s", Unit: PerSecond, Doc: "frames with a wrong checksum", Kinds: portKinds},
	{Name: "discards_s", Unit: PerSecond, Doc: "frames dropped", Kinds: portKinds},
	{Name: "link_resets_s", Unit: PerSecond, Doc: "link resets", Kinds: portKinds},
	{Name: "round_trip_us", Unit: Microseconds, Doc: "round trip between the sites", Kinds: []estate.Kind{estate.SiteLink}},
	{Name: "used_bytes", Unit: Bytes, Doc: "bytes in use", Kinds: []estate.Kind{estate.Pool, estate.Datastore, estate.Volume}},
}

var byName = func() map[string]*Metric {
	m := make(map[string]*Metric, len(Catalogue))
	for i := range Catalogue {
		m[Catalogue[i].Name] = &Catalogue[i]
	}
	return m
}()

// Lookup returns the metric of that name.
func Lookup(name string) (Metric, bool) {
	m, ok := byName[name]
	if !ok {
		return Metric{}, false
	}
	return *m, true
}

// On reports whether objects of kind k report the metric.
func (m Metric) On(k estate.Kind) bool { return slices.Contains(m.Kinds, k) }
