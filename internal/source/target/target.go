// Package target reads Debian's iSCSI target daemon, tgtd: its targets, LUNs, sessions and counters, as an array with
// ports, volumes and flows. It speaks the daemon's management protocol on its socket, and only reads.
//
// The daemon counts commands and bytes but times nothing. How long a command took follows from how many were in
// flight, which its counters show at any moment: Watch looks often, and by Little's law the mean number in flight
// over the rate of completion is the mean time.
package target

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math"
	"os"
	"path"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"dowsingrod/core/estate"
	"dowsingrod/core/phrase"
	"dowsingrod/internal/feed"
	"dowsingrod/internal/source"
	"dowsingrod/internal/source/meter"
)

// Source is a target daemon. It keeps to the contract of source.Source.
type Source struct {
	settings source.Settings
	at       endpoint

	targets []portal
	listing string // as it was answered, to see whether anything changed
	listed  bool
	counts  []count
	readAt  time.Time
	process int
	started string // tells one run of the daemon from the next
	before  map[[3]int]bool
	lastAt  time.Time
	meter   *meter.Meter

	mu      sync.Mutex // guards the sums Watch adds to
	flights map[[2]int]*flight
	watched time.Time // when Watch last looked
}

// flight sums up how many commands were in flight on a LUN, over time.
type flight struct {
	reads, writes, looked float64 // ns
	looks                 uint64
}

// Open makes a source of settings. It connects to nothing yet.
func Open(s source.Settings) (*Source, error) {
	e, err := parseAddress(s.Address)
	if err != nil {
		return nil, err
	}
	return &Source{settings: s, at: e, meter: meter.New(s.Interval, s.Phase()), flights: make(map[[2]int]*flight), before: make(map[[3]int]bool)}, nil
}

// Close implements source.Source. There is no connection to end: each request has its own.
func (s *Source) Close() error { return nil }

// Inventory implements source.Source.
func (s *Source) Inventory(ctx context.Context) (source.Inventory, error) {
	s.counts = nil
	shown, err := s.at.ask(ctx, modeTarget, opShow)
	if err != nil {
		return source.Inventory{}, trouble(err)
	}
	text := shown.text
	if shown.process > 0 {
		s.process, s.started = shown.process, startOf(shown.process)
	}
	asked := s.settings.Clock()
	numbers, err := s.at.ask(ctx, modeSystem, opStat)
	if err != nil {
		return source.Inventory{}, trouble(err)
	}
	now := s.settings.Clock()
	s.readAt = asked.Add(now.Sub(asked) / 2)
	targets, err := parseTargets(text)
	if err != nil {
		return source.Inventory{}, unreadable(err)
	}
	counts, err := parseCounts(numbers.text)
	if err != nil {
		return source.Inventory{}, unreadable(err)
	}
	s.targets, s.counts = targets, counts
	text += s.movers()
	inv := source.Inventory{At: s.readAt.Round(0).UTC(), Unchanged: s.listed && text == s.listing}
	s.listing, s.listed = text, true
	if !inv.Unchanged {
		inv.Objects = s.objects()
	}
	return inv, nil
}

func trouble(err error) error {
	var d *denied
	if errors.As(err, &d) {
		return d.trouble()
	}
	return err
}

func unreadable(err error) error {
	return &source.Trouble{What: "what the daemon answers cannot be read: " + err.Error(), Try: "check that it is tgtd of version 1.0; what it counted meanwhile is missing", Err: err}
}

// startOf returns when a process began, in the kernel's clock ticks; "" where that cannot be told.
func startOf(pid int) string {
	if f := procStat(fmt.Sprintf("/proc/%d/stat", pid)); len(f) > 19 {
		return f[19]
	}
	return ""
}

// procStat returns the fields of a stat file after the command's name, the first of which is the state.
func procStat(file string) []string {
	text, err := os.ReadFile(file)
	if err != nil {
		return nil
	}
	if i := bytes.LastIndexByte(text, ')'); i >= 0 {
		return strings.Fields(string(text[i+1:]))
	}
	return nil
}

func (p *portal) lunID(u int) string { return strings.ToLower(p.name) + "/" + strconv.Itoa(u) }

func short(iqn string) string {
	if _, name, ok := strings.Cut(iqn, ":"); ok && name != "" {
		return name
	}
	return iqn
}

// store names what a LUN's backing lies in: the directory of a file, the volume group of a logical volume, or the
// device itself.
func (u lun) shelf() string {
	switch {
	case u.backing == "" || u.backing == "None":
		return ""
	case strings.HasPrefix(u.backing, "/dev/") && path.Dir(u.backing) == "/dev":
		return u.backing
	}
	return path.Dir(u.backing)
}

func (s *Source) objects() []feed.Object {
	facts := estate.Facts{"role": "array", "model": "Linux iSCSI target"}
	name := s.settings.Name
	out := []feed.Object{{Kind: estate.Array, ID: "daemon", Name: name, Facts: facts},
		{Kind: estate.Controller, ID: "daemon", Name: "daemon", Links: map[string][]string{"part_of": {"array:daemon"}}}}
	shelves, bases := map[string]bool{}, s.bases()
	for i := range s.targets {
		t := &s.targets[i]
		port := strings.ToLower(t.name)
		out = append(out, feed.Object{Kind: estate.TargetPort, ID: port, Name: "target " + strconv.Itoa(t.number), Facts: estate.Facts{"iqn": t.name},
			Links: map[string][]string{"part_of": {"controller:daemon"}}})
		initiators := map[string]bool{}
		for _, initiator := range t.sessions {
			initiators[initiator] = initiator != ""
		}
		for _, u := range t.luns {
			if u.kind != "disk" {
				continue
			}
			id := t.lunID(u.number)
			v := feed.Object{Kind: estate.Volume, ID: id, Name: short(t.name) + " LUN " + strconv.Itoa(u.number),
				Facts: estate.Facts{"luns": []any{id}, "number": strconv.Itoa(u.number), "serial": u.serial, "scsi_id": u.id, "bytes": u.size(), "thin": u.thin, "online": u.online, "backing": u.backing},
				Links: map[string][]string{"part_of": {"array:daemon"}, "served_by": {"controller:daemon"}, "exposed_on": {"target_port:" + port}}}
			if shelf := u.shelf(); shelf != "" {
				v.Links["carved_from"] = []string{"pool:" + shelf}
				if !shelves[shelf] {
					shelves[shelf] = true
					out = append(out, feed.Object{Kind: estate.Pool, ID: shelf, Name: bases[shelf], Facts: space(shelf), Links: map[string][]string{"part_of": {"array:daemon"}}})
				}
			}
			out = append(out, v)
			for initiator := range initiators {
				if s.uses(t, u.number, initiator) {
					out = append(out, feed.Object{Kind: estate.Flow, ID: flowID(initiator, id), Name: short(initiator) + " to " + v.Name,
						Facts: estate.Facts{"initiator": initiator, "target": t.name, "lun": strconv.Itoa(u.number)}})
				}
			}
		}
	}
	return out
}

func flowID(initiator, lun string) string { return initiator + "|" + lun }

// bases gives every shelf the last part of its path as name, where that tells it from the others.
func (s *Source) bases() map[string]string {
	names, count := map[string]string{}, map[string]int{}
	for i := range s.targets {
		for _, u := range s.targets[i].luns {
			if shelf := u.shelf(); shelf != "" && names[shelf] == "" {
				names[shelf] = path.Base(shelf)
				count[names[shelf]]++
			}
		}
	}
	for shelf, name := range names {
		if count[name] > 1 {
			names[shelf] = shelf
		}
	}
	return names
}

// uses reports whether any session of an initiator has moved anything to or from a LUN.
func (s *Source) uses(t *portal, lun int, initiator string) bool {
	return slices.ContainsFunc(s.counts, func(c count) bool {
		return c.target == t.number && c.lun == lun && c.moved() && t.sessions[c.session] == initiator
	})
}

// movers tells which initiators have used which LUNs, which the listing does not show.
func (s *Source) movers() string {
	var b strings.Builder
	for _, c := range s.counts {
		if c.moved() {
			fmt.Fprint(&b, " ", c.target, "/", c.lun, "/", c.session)
		}
	}
	return b.String()
}

// size is that of the backing file where it can be seen from here: the daemon rounds to 1 MB.
func (u lun) size() float64 {
	if info, err := os.Stat(u.backing); err == nil && info.Mode().IsRegular() && math.Abs(float64(info.Size())-u.bytes) <= 1e6 {
		return float64(info.Size())
	}
	return u.bytes
}

// space is the size of the file system of a directory, where it can be seen from here.
func space(dir string) estate.Facts {
	var st unix.Statfs_t
	facts := estate.Facts{"path": dir}
	if info, err := os.Stat(dir); err != nil || !info.IsDir() || unix.Statfs(dir, &st) != nil {
		return facts
	}
	facts["bytes"] = float64(st.Blocks) * float64(st.Bsize)
	return facts
}

// Watch implements source.Source. The daemon tells nothing by itself; this looks at what is in flight.
func (s *Source) Watch(ctx context.Context, heard func(source.Happening)) error {
	const closest = 10 * time.Millisecond
	timer := time.NewTimer(0)
	defer timer.Stop()
	sessions, failed := -1, 0
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-timer.C:
		}
		began := s.settings.Clock()
		numbers, err := s.at.ask(ctx, modeSystem, opStat)
		took := s.settings.Clock().Sub(began)
		// At most a fiftieth of the time is spent looking, on either side.
		pause := max(closest, 50*took)
		if err != nil {
			if ctx.Err() != nil {
				return nil
			}
			if failed++; failed > 3 {
				return trouble(err) // the passes say what is wrong
			}
			pause = time.Second
		} else if counts, err := parseCounts(numbers.text); err == nil {
			failed = 0
			s.look(began.Add(took/2), counts)
			if sessions >= 0 && len(counts) != sessions {
				heard(source.Happening{Changed: true})
			}
			sessions = len(counts)
		}
		timer.Reset(pause)
	}
}

// look adds what is in flight to the sums, for the time since the last look.
func (s *Source) look(at time.Time, counts []count) {
	s.mu.Lock()
	defer s.mu.Unlock()
	elapsed := float64(at.Sub(s.watched))
	fresh := s.watched.IsZero() || elapsed > float64(2*time.Second) || elapsed <= 0
	s.watched = at
	if fresh {
		return // nobody looked for a while: that time stays unknown
	}
	for _, f := range s.flights {
		f.looked += elapsed
		f.looks++
	}
	for _, c := range counts {
		key := [2]int{c.target, c.lun}
		f := s.flights[key]
		if f == nil {
			f = &flight{}
			s.flights[key] = f
		}
		reads, writes := c.inFlight()
		f.reads += reads * elapsed
		f.writes += writes * elapsed
	}
}

// Readings implements source.Source.
func (s *Source) Readings(ctx context.Context) (source.Readings, error) {
	var out source.Readings
	if s.counts == nil && !s.listed {
		return out, &source.Trouble{What: "there is no inventory to read for", Try: "ask for the inventory first"}
	}
	step := s.settings.Interval
	sums := newSums(step)
	byNumber := make(map[int]*portal, len(s.targets))
	for i := range s.targets {
		byNumber[s.targets[i].number] = &s.targets[i]
	}
	present := make(map[[3]int]bool, len(s.counts))
	usual := !s.lastAt.IsZero() && s.readAt.Sub(s.lastAt) < step*3/2
	for _, c := range s.counts {
		key := [3]int{c.target, c.lun, c.session}
		present[key] = true
		t := byNumber[c.target]
		if t == nil {
			continue
		}
		name := fmt.Sprint("session ", t.name, key)
		if usual && !s.before[key] && len(s.before) > 0 {
			s.meter.Observe(name, s.lastAt, s.started, make([]uint64, 4)) // it began since, at nothing
		}
		for _, in := range s.meter.Observe(name, s.readAt, s.started, []uint64{c.reads, c.readBytes, c.writes, c.writeBytes}) {
			sums.add(t, c, in)
		}
	}
	for key := range s.before {
		if t := byNumber[key[0]]; t != nil && !present[key] {
			sums.spoil(t.lunID(key[1]), s.settings.Border(s.readAt)) // what a session that ended did last is not known
		}
	}
	s.readFlights(byNumber, sums)
	out.Runs = sums.runs(s)
	s.daemonReadings(&out)
	s.meter.EndRound()
	resets, silences, steps := s.meter.Lost()
	if resets > 0 {
		out.Notes = append(out.Notes, fmt.Sprintf("%d counters began anew, by a restart of the daemon or a reset: the intervals they fell into are missing", resets))
	}
	if silences > 0 {
		out.Notes = append(out.Notes, fmt.Sprintf("%d counters were not read for longer than an interval: that time is missing", silences))
	}
	if steps > 0 {
		out.Notes = append(out.Notes, "this machine's clock was set: the intervals around it are missing")
	}
	s.before, s.lastAt = present, s.readAt
	return out, nil
}

// readFlights takes the sums of Watch as counters of their own.
func (s *Source) readFlights(byNumber map[int]*portal, sums *sums) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for key, f := range s.flights {
		t := byNumber[key[0]]
		if t == nil {
			delete(s.flights, key)
			continue
		}
		id := t.lunID(key[1])
		for _, in := range s.meter.Observe("flight "+id, s.readAt, s.started, []uint64{uint64(f.reads), uint64(f.writes), uint64(f.looked), f.looks}) {
			sums.fly(id, in)
		}
	}
}

// daemonReadings reads how busy the daemon is. All commands pass its one main thread.
func (s *Source) daemonReadings(out *source.Readings) {
	if s.process == 0 || runtime.GOOS != "linux" {
		return
	}
	f := procStat(fmt.Sprintf("/proc/%d/task/%d/stat", s.process, s.process))
	if len(f) < 13 {
		return
	}
	user, errU := strconv.ParseUint(f[11], 10, 64)
	system, errS := strconv.ParseUint(f[12], 10, 64)
	if errU != nil || errS != nil {
		return
	}
	const ticks = 100 // a second, as the kernel shows it to user space
	for _, in := range s.meter.Observe("daemon", s.settings.Clock(), s.started, []uint64{user + system}) {
		busy := math.Min(1, in.Grown[0]/ticks/s.settings.Interval.Seconds())
		out.Runs = append(out.Runs, feed.Reading{Of: "controller:daemon", From: in.From, Step: s.settings.Interval.Seconds(), Values: map[string]feed.Values{"busy_share": {busy}}})
	}
}

// Probe implements source.Source.
func (s *Source) Probe(ctx context.Context) source.Report {
	var r source.Report
	r.Begin()
	r.Pass(source.StepAddress, "the management socket "+s.at.socket)
	inv, err := s.Inventory(ctx)
	if err != nil {
		var d *denied
		if errors.As(err, &d) || errors.As(errors.Unwrap(err), &d) {
			r.Pass(source.StepReachable, "the socket is there")
			r.Skip(source.StepCertificate, "a socket of this machine has none")
			r.Fail(source.StepSignedIn, err)
			return r
		}
		r.Fail(source.StepReachable, err)
		return r
	}
	r.Pass(source.StepReachable, "the daemon answers, process "+strconv.Itoa(s.process))
	r.Skip(source.StepCertificate, "a socket of this machine has none")
	r.Pass(source.StepSignedIn, "the daemon accepts the user this service runs as")
	r.Pass(source.StepPermissions, "targets, sessions and counters can be read")
	luns, sessions, capacity := 0, 0, 0.0
	for _, t := range s.targets {
		sessions += len(t.sessions)
		for _, u := range t.luns {
			if u.kind == "disk" {
				luns++
				capacity += u.size()
			}
		}
	}
	r.Calls = "iSCSI target daemon"
	r.Objects = inv.Objects
	r.Pass(source.StepRecognised, fmt.Sprintf("%s with %s of %.3g GiB in all, %s", phrase.Count(len(s.targets), "target", "targets"), phrase.Count(luns, "LUN", "LUNs"), capacity/(1<<30), phrase.Count(sessions, "session", "sessions")))
	r.Skip(source.StepClock, "its readings carry no time; ours is used")
	return r
}

// Totals implements source.Totals.
func (s *Source) Totals(ctx context.Context) (source.Total, time.Time, error) {
	var t source.Total
	shown, err := s.at.ask(ctx, modeTarget, opShow)
	if err != nil {
		return t, time.Time{}, err
	}
	numbers, err := s.at.ask(ctx, modeSystem, opStat)
	at := s.settings.Clock()
	if err != nil {
		return t, at, err
	}
	targets, err := parseTargets(shown.text)
	if err != nil {
		return t, at, err
	}
	counts, err := parseCounts(numbers.text)
	for _, p := range targets {
		for _, u := range p.luns {
			if u.kind == "disk" {
				t.Capacity += u.size()
			}
		}
	}
	for _, c := range counts {
		t.Operations += float64(c.reads + c.writes)
		t.Bytes += float64(c.readBytes + c.writeBytes)
	}
	return t, at, err
}
