package lab

import (
	"time"

	"dowsingrod/core/estate"
	"dowsingrod/internal/feed"
)

// The scenario, relative to the anchor ("now").
const (
	noisyBegins  = -46 * time.Minute // sonar-tiles-05 begins large random reads
	noisyLasts   = 8 * time.Hour
	slowBegins   = -9 * time.Hour // gannet's controller 1 becomes slow by itself
	slowLasts    = 70 * time.Minute
	stealBegins  = -75 * time.Minute // berth-plan-01 is kept from its processors
	stealLasts   = 8 * time.Hour
	movesAt      = -5 * time.Hour // crew-roster-03 moves to another host
	silentBegins = -3*time.Hour - 40*time.Minute
	silentLasts  = 12 * time.Minute // petrel answers nobody
	rosterBegins = -50 * time.Minute
)

const (
	noisyVM, busiestVM, victimVM = "sonar-tiles-05", "radar-replay-02", "manifest-db-02"
	clearedVM, movingVM          = "berth-plan-01", "crew-roster-03"
	slowController               = 1
	slowFactor                   = 12.0
)

// Truth is a fault of the scenario as it really was, against which findings are held.
type Truth struct {
	What      string // "noisy", "slow", "cleared"
	Component string // kind:id@source
	Culprit   string // the VM, "" where there is none
	Sufferer  string // a VM that complains
	From, To  time.Time
}

// Truths lists the faults of the scenario.
func (l *Lab) Truths() []Truth {
	at := func(begins, lasts time.Duration) (time.Time, time.Time) {
		return l.anchor.Add(begins), l.anchor.Add(begins + lasts)
	}
	noisy := Truth{What: "noisy", Component: "pool:p2@" + Heron, Culprit: "vm:" + noisyVM + "@" + HypNorth, Sufferer: "vm:" + victimVM + "@" + HypNorth}
	noisy.From, noisy.To = at(noisyBegins, noisyLasts)
	slow := Truth{What: "slow", Component: "controller:c1@" + Gannet, Sufferer: "vm:ticket-gate-12@" + HypSouth}
	slow.From, slow.To = at(slowBegins, slowLasts)
	cleared := Truth{What: "cleared", Sufferer: "vm:" + clearedVM + "@" + HypNorth}
	cleared.From, cleared.To = at(stealBegins, stealLasts)
	return []Truth{noisy, slow, cleared}
}

func (l *Lab) within(t time.Time, begins, lasts time.Duration) bool {
	d := t.Sub(l.anchor)
	return d >= begins && d < begins+lasts
}

// apply lets the scenario change what a VM asks for.
func (l *Lab) apply(v *vm, o *offer, t time.Time) {
	o.burstRate = l.bursts[v.n]
	switch v.name {
	case noisyVM:
		if l.within(t, noisyBegins, noisyLasts) {
			o.threads, o.burst = 110*(1+0.25*wander(l.seed, v.n+1000, t)), 256<<10
		}
	case clearedVM:
		if l.within(t, stealBegins, stealLasts) {
			o.cpu, o.steal = 0.97, 0.31
		}
	case "crew-roster-01": // a rise that happens to come at the same time, and costs little
		if l.within(t, rosterBegins, noisyLasts) {
			o.reads *= 7
		}
	}
}

// slowdown is the factor on a controller's service time.
func (l *Lab) slowdown(c *controller, t time.Time) float64 {
	if c.array == l.gannet && c == l.gannet.controllers[slowController] && l.within(t, slowBegins, slowLasts) {
		return slowFactor
	}
	return 1
}

func (l *Lab) silent(source string, t time.Time) bool {
	return source == Petrel && l.within(t, silentBegins, silentLasts)
}

// migrate moves a VM when its time has come, and records what its source would say.
func (l *Lab) migrate(t time.Time, moves map[string][]feed.Record) {
	if l.moved || t.Before(l.anchor.Add(movesAt)) {
		return
	}
	l.moved = true
	for _, v := range l.vms {
		if v.name != movingVM {
			continue
		}
		from := v.host
		v.host = l.hosts[(indexOf(l.hosts, from)+3)%northHosts]
		var uses []string
		for _, d := range v.disks {
			uses = append(uses, "vdisk:"+d.id)
		}
		o := l.vmObject(v, uses)
		for k, old := range l.objects[v.source] {
			if old.Kind == estate.VM && old.ID == v.name {
				l.objects[v.source][k] = o // a later inventory lists it where it is
				if !l.warm {
					return // it moved before the readings begin
				}
			}
		}
		moves[v.source] = append(moves[v.source],
			feed.Record{Header: &feed.Header{Version: feed.Version, Source: v.source, Time: t}},
			feed.Record{Object: o},
			feed.Record{Event: &feed.Event{Of: "vm:" + v.name, Time: t, What: "migrated", Detail: "from " + from.name + " to " + v.host.name}})
	}
}

func indexOf(hosts []*host, h *host) int {
	for i, x := range hosts {
		if x == h {
			return i
		}
	}
	return 0
}
