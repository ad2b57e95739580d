package queueing

import (
	"math"
)

// Network is a closed queueing network of tenants that keep a bounded number of I/Os under way and of stations that serve them,
// solved for its steady state by approximate mean value analysis. The zero value is empty and ready to use.
//
// A station of c servers makes an I/O wait for the work that is queued before it, and, where all servers are busy, for one of
// them to become free:
//
//	W = (V·(1−o) + B(ρ)·r) / c
//
// V is the queued work in s, o the part of it that is the arriving tenant's own (arrivals see the others: Reiser and Lavenberg 1980,
// in the approximation of Schweitzer 1979), B the probability that all are busy, here ρ^(√(2(c+1))−1) (Sakasegawa 1977), and r
// the mean residual work, variation · E[S²]/E[S] (Pollaczek and Khinchine). Many small tenants make it M/G/c; one server and one
// tenant make it Schweitzer's closed queue, which no longer has the pole at ρ = 1: queues are bounded by what the tenants keep
// under way.
//
// A station may be held while an I/O is further down, as a queue slot of a host's device or a buffer credit is: see Tenant.Holder
// and LegVisit.Next. It is for one goroutine. Products are rounded before they are added, so that every processor finds the same bits.
type Network struct {
	Stations []Station
	Tenants  []Tenant
	Visits   []Visit
	Legs     []Leg
	Uses     []Use

	asked   []legSum
	started bool
}

// Station is a service centre with one queue.
type Station struct {
	Servers   float64 // how many; capacity in server-seconds per second
	Variation float64 // (1 + cs²)/2 of its service times: 1 exponential, ½ constant

	Wait    float64 // s an I/O waits for it, solved
	Busy    float64 // servers at work, mean, solved: its utilization is Busy/Servers
	Arrives float64 // visits per second, solved
	Full    float64 // probability that all servers are busy, solved
	Backlog float64 // work that waits, in server-seconds, solved

	work, square, pull, held float64
	credit                   bool
	gain, moved              float64 // part of a step that is taken, and the last one
	table                    *[blockCells + 1]float64
}

// Tenant is somebody who keeps Threads I/Os going, thinking between them.
type Tenant struct {
	Threads float64 // I/Os under way or being thought about
	Think   float64 // s between the end of an I/O and the next
	Before  float64 // s of each I/O spent before anything that is shared
	Inner   float64 // s of each I/O spent where nothing waits, while the holder is held
	Limit   float64 // I/Os per second it may do at most; 0 for none
	Holder  int32   // station whose server each I/O holds until it is done; -1 for none

	From, To       int32 // its visits
	UseFrom, UseTo int32 // the legs it takes
	Rate           float64
	Response       float64 // s per I/O, with all waiting, solved
	Held           float64 // s of it below the holder, solved
	Throttled      float64 // s of it that the limit adds, solved
}

// Visit is work of a tenant at a station.
type Visit struct {
	Station int32
	Aside   bool    // the I/O does not wait for it: it goes on at the same time as the rest
	Count   float64 // visits per I/O
	Work    float64 // s of a server per visit
}

// Leg is a way that many tenants take alike, as the ports between a host and a controller.
type Leg struct {
	Fixed  float64 // s each I/O needs where nothing waits
	Visits []LegVisit

	Wait    float64 // s an I/O waits on it, solved
	PerByte float64 // s per byte it spends being carried
	Rate    float64 // I/Os per second, solved
	Bytes   float64 // bytes per second, solved
}

// LegVisit is a station on a leg: a link that carries bytes, or the credits of a link.
type LegVisit struct {
	Station int32
	Part    float64 // part of the I/Os that come by
	PerByte float64 // s of a server per byte; of credits it follows from the next station
	Next    int32   // for credits: the station in front of which frames hold them; -1 for a link
	Frame   float64 // bytes per credit
	Drain   float64 // s per byte at which that station takes frames in
}

// Use is a tenant's use of a leg.
type Use struct {
	Leg   int32
	Aside bool
	Count float64 // per I/O
	Bytes float64 // per use
}

type legSum struct{ rate, bytes, square, pull float64 }

const blockCells = 512

// patience is how much of a change of what credits wait for is passed on in one round: the two queues would chase each other.
const patience = 0.1

// AddStation adds a station and returns its number.
func (n *Network) AddStation(servers, variation float64) int32 {
	n.Stations = append(n.Stations, Station{Servers: servers, Variation: variation, table: blocking(servers)})
	return int32(len(n.Stations) - 1)
}

// blocking tabulates ρ^(√(2(c+1))−1), rounded so that libraries that differ in the last bit give the same table.
func blocking(servers float64) *[blockCells + 1]float64 {
	t := new([blockCells + 1]float64)
	power := math.Sqrt(2*(servers+1)) - 1
	for k := range t {
		t[k] = math.Round(math.Pow(float64(k)/blockCells, power)*1e12) / 1e12
	}
	return t
}

// Blocked approximates the probability that all of so many servers are busy at a utilization, ρ^(√(2(c+1))−1) (Sakasegawa 1977).
func Blocked(utilization, servers float64) float64 {
	if !(utilization > 0) {
		return 0
	}
	return math.Pow(min(1, utilization), math.Sqrt(2*(servers+1))-1)
}

// full is the probability that all servers are busy at a utilization.
func (s *Station) full(utilization float64) float64 {
	switch {
	case !(utilization > 0):
		return 0
	case utilization >= 1:
		return 1
	}
	x := utilization * blockCells
	k := int(x)
	return s.table[k] + float64((s.table[k+1]-s.table[k])*(x-float64(k)))
}

// Clone returns a network of its own with the same parts and the same solution.
func (n *Network) Clone() *Network {
	c := *n
	c.Stations = append([]Station(nil), n.Stations...)
	c.Tenants = append([]Tenant(nil), n.Tenants...)
	c.Visits = append([]Visit(nil), n.Visits...)
	c.Uses = append([]Use(nil), n.Uses...)
	c.Legs = append([]Leg(nil), n.Legs...)
	for k := range c.Legs {
		c.Legs[k].Visits = append([]LegVisit(nil), n.Legs[k].Visits...)
	}
	c.asked = nil
	return &c
}

// Solve finds the steady state, from the one found before where there is one, until no response time moves by more than the
// tolerance, relative to itself. It returns how many rounds that took; most bounds them.
//
// Each round lets the rates follow from the waiting and the waiting from the rates. At a station, the queued work V that the
// tenants bring is F(V) = U·W; Newton's step on F(V) − V, with the slope that follows from the response time law, takes the
// place of plain substitution, which creeps where a station is nearly saturated.
func (n *Network) Solve(tolerance float64, most int) int {
	if len(n.asked) != len(n.Legs) {
		n.asked = make([]legSum, len(n.Legs))
	}
	for round := 1; ; round++ {
		n.wait()
		moved := n.rates()
		n.queue(round)
		if (moved < tolerance && round > 1) || round >= most {
			n.started = true
			return round
		}
	}
}

// wait brings the waiting of stations together along the legs.
func (n *Network) wait() {
	for k := range n.Stations {
		s := &n.Stations[k]
		s.work, s.square, s.pull, s.held, s.Arrives = 0, 0, 0, 0, 0
	}
	for k := range n.Legs {
		l := &n.Legs[k]
		l.Wait, l.PerByte = l.Fixed, 0
		for v := range l.Visits {
			x := &l.Visits[v]
			l.Wait += float64(x.Part * n.Stations[x.Station].Wait)
			if x.Next >= 0 { // a credit is out until its frame has left the next buffer
				n.Stations[x.Station].credit = true
				held := n.Stations[x.Next].Wait/x.Frame + x.Drain
				x.PerByte += float64(patience * (held - x.PerByte))
				continue
			}
			l.PerByte += float64(x.Part * x.PerByte)
		}
		n.asked[k] = legSum{}
	}
}

// rates lets every tenant do what the waiting allows, and adds up what it asks of each station. It returns by how much response
// times moved at most, relative to themselves.
func (n *Network) rates() float64 {
	moved := 0.0
	for i := range n.Tenants {
		t := &n.Tenants[i]
		if t.Threads <= 0 {
			t.Rate, t.Response, t.Held, t.Throttled = 0, 0, 0, 0
			continue
		}
		held := t.Inner
		for v := t.From; v < t.To; v++ {
			x := &n.Visits[v]
			if x.Aside {
				continue
			}
			s := &n.Stations[x.Station]
			wait := s.Wait
			if mine := float64(t.Rate * float64(x.Count*x.Work)); mine > 0 && s.Busy > 0 {
				wait *= 1 - min(1, mine/s.Busy)/max(1, t.Threads)
			}
			held += float64(x.Count * (wait + x.Work))
		}
		for u := t.UseFrom; u < t.UseTo; u++ {
			x := &n.Uses[u]
			if x.Aside {
				continue
			}
			l := &n.Legs[x.Leg]
			held += float64(x.Count * (l.Wait + float64(x.Bytes*l.PerByte)))
		}
		response := t.Before + held
		if t.Holder >= 0 {
			h := &n.Stations[t.Holder]
			wait := h.Wait
			if mine := float64(t.Rate * held); mine > 0 && h.Busy > 0 {
				wait *= 1 - min(1, mine/h.Busy)/max(1, t.Threads)
			}
			response += wait
		}
		cycle := t.Think + response
		rate := t.Threads / cycle
		pull := 1 / cycle
		t.Throttled = 0
		if t.Limit > 0 && rate > t.Limit {
			t.Throttled = t.Threads/t.Limit - cycle
			rate, pull = t.Limit, 0 // more waiting below takes from the limit's, not from the rate
		}
		if n.started || t.Response > 0 {
			if d := math.Abs(response-t.Response) / response; d > moved {
				moved = d
			}
		} else {
			moved = 1
		}
		t.Rate, t.Response, t.Held = rate, response, held
		for v := t.From; v < t.To; v++ {
			x := &n.Visits[v]
			s := &n.Stations[x.Station]
			visits := float64(rate * x.Count)
			work := float64(visits * x.Work)
			s.Arrives += visits
			s.work += work
			s.square += float64(work * x.Work)
			if !x.Aside {
				s.pull += float64(float64(work*x.Count) * pull)
			}
			s.held += float64(work / max(1, t.Threads) * work)
		}
		if t.Holder >= 0 {
			s := &n.Stations[t.Holder]
			work := float64(rate * held)
			s.Arrives += rate
			s.work += work
			s.square += float64(work * held)
			s.pull += float64(work * pull)
			s.held += float64(work / max(1, t.Threads) * work)
		}
		for u := t.UseFrom; u < t.UseTo; u++ {
			x := &n.Uses[u]
			a := &n.asked[x.Leg]
			uses := float64(rate * x.Count)
			bytes := float64(uses * x.Bytes)
			a.rate += uses
			a.bytes += bytes
			a.square += float64(bytes * x.Bytes)
			if !x.Aside {
				a.pull += float64(float64(bytes*x.Count) * pull)
			}
		}
	}
	for k := range n.Legs {
		l, a := &n.Legs[k], &n.asked[k]
		l.Rate, l.Bytes = a.rate, a.bytes
		for v := range l.Visits {
			x := &l.Visits[v]
			s := &n.Stations[x.Station]
			per := float64(x.Part * x.PerByte)
			s.Arrives += float64(x.Part * a.rate)
			s.work += float64(per * a.bytes)
			s.square += float64(float64(per*x.PerByte) * a.square)
			s.pull += float64(float64(per*x.Part) * a.pull)
		}
	}
	return moved
}

// queue lets the queued work of every station follow from what is asked of it.
func (n *Network) queue(round int) {
	for k := range n.Stations {
		s := &n.Stations[k]
		if !(s.work > 0) {
			s.Wait, s.Busy, s.Full, s.Backlog = 0, 0, 0, 0
			continue
		}
		own := s.held / s.work / s.work // of the queue, the part that is an arrival's own
		brought := float64(s.work * float64(s.Wait*(1-min(own, 1))))
		slope := (s.work - float64(s.Wait*s.pull)) / s.Servers
		const steepest = 0.9 // beyond it one round would leap
		step := (brought - s.Backlog) / (1 - min(slope, steepest))
		// Stations that hold one another chase each other: who turns back takes half the step, who goes on a longer one.
		switch {
		case s.gain == 0:
			s.gain = 1
		case float64(step*s.moved) < 0:
			s.gain = max(0.02, s.gain/2)
		default:
			s.gain = min(1, s.gain*1.3)
			if s.credit {
				s.gain = min(s.gain, patience)
			}
		}
		s.moved = step
		s.Backlog = max(0, s.Backlog+float64(s.gain*step))
		const calmly = 0.6 // the probability that all are busy is steep where there are many servers
		full := s.full(min(1, s.work/s.Servers))
		if round == 1 && s.Busy == 0 {
			s.Full = full
		}
		s.Full += float64(calmly * (full - s.Full))
		s.Busy = s.work
		s.Wait = (s.Backlog + float64(s.Full*float64(s.Variation*s.square/s.work))) / s.Servers
	}
}
