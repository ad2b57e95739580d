package lab

import (
	"time"
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
	noisy := Truth{What: "noisy", Component: "pool:p2@" + l.src.heron, Culprit: "vm:" + noisyVM + "@" + l.src.hypNorth, Sufferer: "vm:" + victimVM + "@" + l.src.hypNorth}
	noisy.From, noisy.To = at(noisyBegins, noisyLasts)
	slow := Truth{What: "slow", Component: "controller:c1@" + l.src.gannet, Sufferer: "vm:ticket-gate-12@" + l.src.hypSouth}
	slow.From, slow.To = at(slowBegins, slowLasts)
	cleared := Truth{What: "cleared", Sufferer: "vm:" + clearedVM + "@" + l.src.hypNorth}
	cleared.From, cleared.To = at(stealBegins, stealLasts)
	return []Truth{noisy, slow, cleared}
}

func (l *Lab) within(t time.Time, begins, lasts time.Duration) bool {
	d := t.Sub(l.anchor)
	return d >= begins && d < begins+lasts
}

func (l *Lab) named(name string) *vm {
	for _, v := range l.vms {
		if v.name == name {
			return v
		}
	}
	panic("lab: no machine " + name)
}

// programme makes a fault of the programme that begins and ends where the anchor says.
func (l *Lab) programme(kind, class string, begins, lasts time.Duration, do func(x *effects, level float64, t time.Time)) *Fault {
	f := &Fault{Kind: kind, Class: class, From: l.anchor.Add(begins), To: l.anchor.Add(begins + lasts), Force: 1}
	f.do(do)
	l.effects, l.faults = append(l.effects, f), append(l.faults, f)
	return f
}

// buildProgramme lays out what goes wrong in the demo: what a visitor finds at the start, what lies in the week before, and what
// begins while they look.
func (l *Lab) buildProgramme() {
	noisy := l.named(noisyVM)
	disk := noisy.disks[0]
	l.programme("neighbour-pool-large", "noisy_neighbour", noisyBegins, noisyLasts, func(x *effects, _ float64, t time.Time) {
		d := drift{from: noise(l.seed, noisy.n+1000, uint64(t.Unix()/420)), to: noise(l.seed, noisy.n+1000, uint64(t.Unix()/420)+1)}
		f := float64(t.Unix()%420) / 420
		wander := 2*(float64(d.from*(1-f))+float64(d.to*f)) - 1
		x.extra[disk.at] = work{threads: 110 * (1 + float64(0.25*wander)), reads: 1, readSize: 256 << 10, miss: 1}
	})
	l.programme("controller-slow", "degraded", slowBegins, slowLasts, func(x *effects, _ float64, _ time.Time) {
		x.slow[l.gannet.controllers[slowController].at] *= slowFactor
	})
	cleared := l.named(clearedVM)
	l.programme("guest", "cleared", stealBegins, stealLasts, func(x *effects, _ float64, _ time.Time) {
		x.cpu[cleared.at], x.steal[cleared.at] = 0.97, 0.31
	})
	roster := l.named("crew-roster-01") // a rise that happens to come at the same time, and costs little
	l.effects = append(l.effects, lasting(func(x *effects, t time.Time) {
		if l.within(t, rosterBegins, noisyLasts) {
			x.factor[roster.at] *= 2.8
		}
	}))
	l.programme("site-link", "site_link", siteBegins, siteLasts, func(x *effects, _ float64, _ time.Time) { x.roundTrip = 5e-3 })
	l.programme("rebuild", "degraded", rebuildBegins, rebuildLasts, func(x *effects, _ float64, _ time.Time) {
		p := l.gannet.pools[1]
		x.rebuild[p.at] = 1.5 * float64(p.drives)
	})
	l.programme("backup-window", "crowd", backupBegins, backupLasts, func(x *effects, _ float64, _ time.Time) {
		for _, v := range l.vms {
			if d := v.disks[0]; d.volume.pool == l.heron.pools[1] && v.at%2 == 0 {
				x.extra[d.at] = work{threads: 4, think: 1e-3, reads: 1, readSize: 256 << 10, miss: 1, sequential: 0.8}
			}
		}
	})
	// What begins while a visitor looks: a host's port takes its frames slowly.
	slow := l.named(receiverVM).host.ports[0]
	l.programme("slow-receiver", "slow_receiver", receiverBegins, receiverLasts, func(x *effects, _ float64, _ time.Time) {
		x.drain[slow.at] *= 40
		x.bent = true
	})
}

// The rest of the programme, in the week before and the hour after the anchor.
const (
	backupBegins   = -2*Day - 14*time.Hour // in the night two days ago
	backupLasts    = 2 * time.Hour
	rebuildBegins  = -4*Day - 6*time.Hour
	rebuildLasts   = 5 * time.Hour
	siteBegins     = -5*Day - 3*time.Hour
	siteLasts      = 90 * time.Minute
	receiverBegins = 5 * time.Minute
	receiverLasts  = 25 * time.Minute
	receiverVM     = "radar-replay-10"
)
