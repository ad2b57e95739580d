// Package large writes the inventory of made-up estates of any size: Tidewrack Ferries grown to as many
// virtual machines as asked for, with hosts, fabrics, arrays and drives in the proportions of large
// estates. There are no readings in it. The same sizes and seed always give the same bytes.
package large

import (
	"fmt"
	"hash/fnv"
	"math"
	"strconv"
	"time"

	"dowsingrod/core/estate"
	"dowsingrod/internal/feed"
)

// Options say what estate to write.
type Options struct {
	VMs     int       // at least 1
	Seed    uint64    // of everything drawn at random
	Time    time.Time // of all feeds
	Changed float64   // share of virtual machines, disks, paths and volumes that differ from what is written without it, 0 to 1
}

const (
	vmsPerHost       = 28.6
	hostsPerCluster  = 16
	hostsPerEdge     = 40
	vmsPerArray      = 1700
	vmsPerHypervisor = 5000 // managers of hypervisors, each a source of its own
	drivesPerArray   = 200
	drivesPerGroup   = 8
	drivesPerShelf   = 25
	edgePorts        = 64
	corePorts        = 256
	gib              = 1 << 30
	tib              = 1 << 40
)

var sites = []string{"northmole", "southmole"}

var applications = []struct {
	name string
	tier string
}{
	{"ticket-gate", "1"}, {"manifest", "1"}, {"berth-plan", "1"}, {"crew-roster", "2"}, {"radar-replay", "2"}, {"lamp-telemetry", "3"}, {"sonar-tiles", "3"}, {"tide-model", "3"},
}

var (
	birds    = []string{"heron", "gannet", "petrel", "curlew", "dunlin", "fulmar", "guillemot", "kittiwake", "plover", "razorbill", "shearwater", "skua", "tern", "turnstone", "whimbrel"}
	seaweeds = []string{"kelp", "dulse", "laver", "wrack", "carrageen", "tangle", "sloke", "oarweed"}
)

// Estate is the plan of an estate to be written. It holds sizes and the parts that others refer to, not objects.
type Estate struct {
	o        Options
	hosts    int // of both sites
	clusters []cluster
	arrays   []*array
	fabrics  [2][2]*fabric // by site and letter
	write    func(feed.Record) error
	err      error
	written  int
}

type cluster struct {
	n, site      int
	firstHost    int
	hosts        int
	firstVM, vms int
	luns         []*volume // that its hosts open
	stores       []store
}

type store struct {
	id, name string
	extents  []*volume
	export   string
}

type volume struct {
	array  *array
	number int
	naa    string
	pool   int
	owner  int
	raw    bool
	legs   []*volume
	copy   *volume // replica on the other site
	of     *volume // what it is a snapshot of
	device string  // where it is a leg: the virtualizer's device
}

type array struct {
	name        string
	site        int // 2 for a virtualizer over both
	virtualizer bool
	volumes     []*volume
	pools       int
	n           int
	shares      []store
}

type fabric struct {
	id, name string
	site     int
	letter   int
	edges    int
	used     map[string]int // ports of each switch
}

type links = map[string][]string

// Write writes the feeds of all sources, each full, and returns how many objects they list.
func Write(o Options, write func(feed.Record) error) (objects int, err error) {
	if o.VMs < 1 {
		return 0, fmt.Errorf("an estate has at least one virtual machine, not %d", o.VMs)
	}
	if o.Changed < 0 || o.Changed > 1 || math.IsNaN(o.Changed) {
		return 0, fmt.Errorf("the share that changed is between 0 and 1, not %g", o.Changed)
	}
	e := &Estate{o: o, write: write}
	e.plan()
	e.hypervisors()
	e.wires()
	for _, a := range e.arrays {
		e.array(a)
	}
	return e.written, e.err
}

// draw is a number in [0, n) that depends on the seed and the words alone.
func (e *Estate) draw(n int, words ...any) int { return int(e.hash(words...) % uint64(n)) }

// happens is true with the probability given.
func (e *Estate) happens(p float64, words ...any) bool {
	return float64(e.hash(words...)>>11)/(1<<53) < p
}

// changed tells whether a thing differs from the estate written without changes.
func (e *Estate) changed(words ...any) bool {
	return e.o.Changed > 0 && e.happens(e.o.Changed, append([]any{"changed"}, words...)...)
}

func (e *Estate) hash(words ...any) uint64 {
	h := fnv.New64a()
	var b [64]byte
	text := strconv.AppendUint(b[:0], e.o.Seed, 10)
	for _, w := range words {
		text = append(text, '/')
		switch w := w.(type) {
		case string:
			text = append(text, w...)
		case int:
			text = strconv.AppendInt(text, int64(w), 10)
		default:
			text = fmt.Append(text, w)
		}
	}
	_, _ = h.Write(text)
	x := h.Sum64() // FNV's high bits move little for short texts
	x ^= x >> 33
	x *= 0xff51afd7ed558ccd
	x ^= x >> 33
	x *= 0xc4ceb9fe1a85ec53
	return x ^ x>>33
}

func (e *Estate) uuid(words ...any) string {
	a, b := e.hash(append([]any{"a"}, words...)...), e.hash(append([]any{"b"}, words...)...)
	return fmt.Sprintf("%08x-%04x-4%03x-9%03x-%012x", uint32(a>>32), uint16(a>>16), a&0xfff, b>>52, b&0xffffffffffff)
}

func (e *Estate) naa(words ...any) string {
	return fmt.Sprintf("600d05e%09x%016x", e.hash(append([]any{"n"}, words...)...)>>28, e.hash(words...))
}

func (e *Estate) wwn(prefix string, words ...any) string {
	return prefix + fmt.Sprintf("%016x", e.hash(append([]any{prefix}, words...)...))[:16-len(prefix)]
}

func colons(hex string) string {
	out := make([]byte, 0, 23)
	for i := 0; i < len(hex); i += 2 {
		if i > 0 {
			out = append(out, ':')
		}
		out = append(out, hex[i:i+2]...)
	}
	return string(out)
}

func (e *Estate) begin(source string) {
	e.put(feed.Record{Header: &feed.Header{Version: feed.Version, Source: source, Time: e.o.Time, Full: true}})
}

func (e *Estate) put(r feed.Record) {
	if e.err == nil {
		e.err = e.write(r)
	}
}

func (e *Estate) object(kind estate.Kind, id, name string, facts estate.Facts, l links) {
	e.written++
	e.put(feed.Record{Object: &feed.Object{Kind: kind, ID: id, Name: name, Facts: facts, Links: l}})
}
