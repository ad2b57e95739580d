package target

import (
	"bufio"
	"fmt"
	"strconv"
	"strings"
)

// Bounds on what a daemon lists.
const (
	maxTargets  = 20_000
	maxSessions = 100_000
	maxLUNs     = 200_000
	maxLine     = 64 << 10
)

// portal is a target as the daemon lists it.
type portal struct {
	number   int
	name     string
	sessions map[int]string // initiator by session
	luns     []lun
}

type lun struct {
	number  int
	kind    string
	id      string
	serial  string
	bytes   float64 // as the daemon rounds it, to 1 MB
	online  bool
	thin    bool
	backing string
	store   string
}

// parseTargets reads the listing of all targets. The text is an outline by indentation: "Key: value" lines under
// "Target n: name", "I_T nexus: n" and "LUN: n".
func parseTargets(text string) ([]portal, error) {
	var all []portal
	var current *portal
	session, unit := -1, -1
	sessions, luns := 0, 0
	lines := bufio.NewScanner(strings.NewReader(text))
	lines.Buffer(make([]byte, 0, 4096), maxLine)
	for n := 1; lines.Scan(); n++ {
		key, value, ok := strings.Cut(strings.TrimSpace(lines.Text()), ":")
		value = strings.TrimSpace(value)
		if !ok {
			continue
		}
		if number, is := strings.CutPrefix(key, "Target "); is {
			id, err := strconv.Atoi(number)
			if err != nil || id < 0 || value == "" {
				return nil, fmt.Errorf("line %d of the listing: %.60q is no target", n, lines.Text())
			}
			if len(all) >= maxTargets {
				return nil, fmt.Errorf("more than %d targets are listed", maxTargets)
			}
			all = append(all, portal{number: id, name: value, sessions: make(map[int]string)})
			current, session, unit = &all[len(all)-1], -1, -1
			continue
		}
		if current == nil {
			continue
		}
		switch key {
		case "I_T nexus":
			id, err := strconv.Atoi(value)
			if sessions++; err != nil || sessions > maxSessions {
				return nil, fmt.Errorf("line %d of the listing: %.60q is no session, or there are more than %d", n, lines.Text(), maxSessions)
			}
			session, unit = id, -1
			current.sessions[id] = ""
		case "LUN":
			id, err := strconv.Atoi(value)
			if luns++; err != nil || id < 0 || luns > maxLUNs {
				return nil, fmt.Errorf("line %d of the listing: %.60q is no LUN, or there are more than %d", n, lines.Text(), maxLUNs)
			}
			session, unit = -1, len(current.luns)
			current.luns = append(current.luns, lun{number: id})
		case "Initiator":
			if session >= 0 {
				name, _, _ := strings.Cut(value, " alias:")
				current.sessions[session] = strings.TrimSpace(name)
			}
		}
		if unit < 0 {
			continue
		}
		u := &current.luns[unit]
		switch key {
		case "Type":
			u.kind = value
		case "SCSI ID":
			u.id = value
		case "SCSI SN":
			u.serial = value
		case "Size":
			number, _, _ := strings.Cut(value, " MB")
			if mb, err := strconv.ParseFloat(number, 64); err == nil && mb >= 0 && mb < 1e12 {
				u.bytes = mb * 1e6
			}
		case "Online":
			u.online = value == "Yes"
		case "Thin-provisioning":
			u.thin = value == "Yes"
		case "Backing store type":
			u.store = value
		case "Backing store path":
			u.backing = value
		}
	}
	return all, lines.Err()
}

// count is what one session did with one LUN since it began.
type count struct {
	target, lun, session                             int
	readBytes, reads, writeBytes, writes             uint64 // completed
	readsSent, writesSent, readBytesSent, writeBSent uint64 // submitted
}

func (c count) inFlight() (reads, writes float64) {
	if c.readsSent > c.reads {
		reads = float64(c.readsSent - c.reads)
	}
	if c.writesSent > c.writes {
		writes = float64(c.writesSent - c.writes)
	}
	return reads, writes
}

func (c count) moved() bool { return c.readsSent+c.writesSent > 0 }

// parseCounts reads the table of statistics: target, LUN, session, then bytes and commands of reads submitted, reads
// done, writes submitted, writes done, and errors.
func parseCounts(text string) ([]count, error) {
	var out []count
	for n, line := range strings.Split(text, "\n") {
		if n == 0 || strings.TrimSpace(line) == "" {
			continue
		}
		f := strings.Fields(line)
		if len(f) != 12 {
			return nil, fmt.Errorf("line %d of the statistics has %d columns; 12 are expected", n+1, len(f))
		}
		var v [12]uint64
		for i, text := range f {
			x, err := strconv.ParseUint(text, 10, 64)
			if err != nil {
				return nil, fmt.Errorf("line %d of the statistics: %.40q is no number", n+1, text)
			}
			v[i] = x
		}
		if v[0] > 1<<31 || v[1] > 1<<31 || v[2] > 1<<31 {
			return nil, fmt.Errorf("line %d of the statistics: a number of a target, LUN or session is out of range", n+1)
		}
		if len(out) >= maxLUNs {
			return nil, fmt.Errorf("the statistics have more than %d lines", maxLUNs)
		}
		out = append(out, count{target: int(v[0]), lun: int(v[1]), session: int(v[2]), readBytesSent: v[3], readsSent: v[4], readBytes: v[5], reads: v[6],
			writeBSent: v[7], writesSent: v[8], writeBytes: v[9], writes: v[10]})
	}
	return out, nil
}
