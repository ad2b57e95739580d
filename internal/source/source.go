// Package source says what a source of facts is. One package below it speaks one protocol; the collector calls
// them all alike, and sourcetest holds every one of them to the contract written here.
package source

import (
	"context"
	"strings"
	"time"

	"dowsingrod/internal/feed"
)

// Source is something that can be asked what there is and how it does.
//
// Who calls it. The collector, from one goroutine: Open makes a Source, passes follow one another, and Close ends it.
// A pass is Inventory and then Readings. Watch runs beside the passes, in a goroutine of its own; nothing else is
// called concurrently. Probe is called on a Source that is opened for it alone and closed after it.
//
// When. A pass is due at each border of the source's intervals (Settings.Border) and soon after Watch has heard of a
// change. Passes may therefore come closer than an interval, and, after a failure, further apart. A Source never
// sleeps until it is time: it answers now, with what it has.
//
// Connections. A Source connects when it first needs to and again when a connection is lost; Open connects to
// nothing. It keeps what it needs between passes and nothing on disk.
//
// Cancellation. Every method returns soon after its context ends, with an error, and leaves the Source usable: the
// next call may succeed. Close may be called at any time, also twice.
//
// Answers. Inventory lists everything there is, as of one moment; what a full listing no longer holds is gone.
// Where a part could not be asked it says so in Partial and nothing is taken to be gone. Readings returns the
// intervals that were completed since the last call, each value once, null where it is not known: after a restart, a
// reset, a silence. It never returns a zero that was not read, and never a rate over a longer time than its interval.
// A pass that fails returns an error and loses only the intervals it fell into.
//
// Errors are *Trouble, in words an operator can act on. They never hold a secret.
//
// A Source only reads. It changes nothing at the other end.
type Source interface {
	// Probe tries all there is to try, step by step, and stops at the first step that fails.
	Probe(ctx context.Context) Report
	// Inventory lists the objects there are now.
	Inventory(ctx context.Context) (Inventory, error)
	// Readings returns what was completed since it was last called.
	Readings(ctx context.Context) (Readings, error)
	// Watch calls heard for whatever happens, until ctx ends or the connection is lost. A Source that is told
	// nothing of its own accord returns nil once ctx ends. It may also watch what must be looked at often.
	Watch(ctx context.Context, heard func(Happening)) error
	// Close ends connections. It does not wait for the other end.
	Close() error
}

// Kind names a protocol.
type Kind string

// Kinds of source.
const (
	Libvirt Kind = "libvirt"
	Target  Kind = "iscsi-target"
	Feed    Kind = "feed"
)

// KindOf tells the kind of a source by its address.
func KindOf(address string) Kind {
	switch scheme, _, _ := strings.Cut(address, ":"); scheme {
	case "tgt":
		return Target
	case "http", "https":
		return Feed
	}
	return Libvirt
}

// Settings say where a source is and how it is asked.
type Settings struct {
	// Name of the source, by which its objects are told from others': lower-case letters, digits and hyphens.
	Name string
	Kind Kind
	// Address in the notation of the protocol. It holds no secret.
	Address string
	// Interval between borders, from 1 s to 1 h.
	Interval time.Duration
	// Pin is the SHA-256 of the one certificate that is accepted, in hexadecimal, whoever signed it. "" asks for a
	// certificate that verifies.
	Pin string
	// Authorities are PEM certificates that are trusted besides those of this machine.
	Authorities string
	Secrets     Secrets
	// Now tells the time, with a monotonic reading; nil takes time.Now.
	Now func() time.Time
}

// Secrets open a source. They are kept encrypted and never shown.
type Secrets struct {
	Token       string `json:"token,omitempty" doc:"Bearer token of a feed"`
	Certificate string `json:"certificate,omitempty" doc:"Client certificate, PEM"`
	Key         string `json:"key,omitempty" doc:"Key of the client certificate, PEM"`
}

// Clock returns the time by the settings.
func (s Settings) Clock() time.Time {
	if s.Now != nil {
		return s.Now()
	}
	return time.Now()
}

// Phase is by how much the borders of a source lie after full multiples of its interval since the epoch. It is
// fixed by the name, so that sources do not all come at once and a source's intervals always line up.
func (s Settings) Phase() time.Duration {
	h := uint64(14695981039346656037) // FNV-1a
	for _, c := range []byte(s.Name) {
		h = (h ^ uint64(c)) * 1099511628211
	}
	seconds := max(int64(s.Interval/time.Second), 1)
	return time.Duration(h%uint64(seconds)) * time.Second
}

// Border returns the last border at or before t.
func (s Settings) Border(t time.Time) time.Time {
	return time.Unix(0, t.UnixNano()-int64(s.Phase())).UTC().Truncate(s.Interval).Add(s.Phase())
}

// Inventory is all that a source lists.
type Inventory struct {
	// At is the moment it is true of, by our clock.
	At time.Time
	// Objects in any order; each reference once. Nil where Unchanged.
	Objects []feed.Object
	// Unchanged says that all is as it was at the last call.
	Unchanged bool
	// Partial lists, in words, what could not be asked; empty for a full listing.
	Partial []string
}

// Readings are what was measured.
type Readings struct {
	Runs       []feed.Reading
	Histograms []feed.Histogram
	Events     []feed.Event
	// Notes say, in words, why something is missing: "counters of 2 disks were reset".
	Notes []string
}

// Happening is something a source told of by itself.
type Happening struct {
	// Event is kept where it names an object.
	Event feed.Event
	// Changed says that the inventory may differ now.
	Changed bool
}

// Trouble is an error that says what to do.
type Trouble struct {
	// What failed, in words, with the address.
	What string
	// Try says what to do about it.
	Try string
	// Err is the cause, for the log.
	Err error
}

func (t *Trouble) Error() string {
	if t.Try == "" {
		return t.What
	}
	return t.What + "; " + t.Try
}

func (t *Trouble) Unwrap() error { return t.Err }

// Totals is what a Source can also be that can say what it carries in all, apart from its inventory and readings. It
// is used to hold what was stored against what the other end says itself.
type Totals interface {
	// Totals asks the other end for its own totals, between two passes.
	Totals(ctx context.Context) (Total, time.Time, error)
}

// Total is what the other end says of itself.
type Total struct {
	Capacity   float64 // bytes of all virtual disks or volumes
	Operations float64 // reads and writes completed, since ever
	Bytes      float64 // read and written, since ever
}
