package queueing_test

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"

	. "dowsingrod/core/queueing"
)

// one is a network of one station and tenants that are alike.
func one(servers, variation, service, think, threads float64, tenants int) *Network {
	n := &Network{}
	s := n.AddStation(servers, variation)
	for range tenants {
		n.Visits = append(n.Visits, Visit{Station: s, Count: 1, Work: service})
		v := int32(len(n.Visits))
		n.Tenants = append(n.Tenants, Tenant{Threads: threads, Think: think, Holder: -1, From: v - 1, To: v})
	}
	return n
}

// machines is the exact machine-repairman model M/M/c//n by its birth-death equations: throughput and response time.
func machines(n, c int, service, think float64) (rate, response float64) {
	p, sum, waiting, working := 1e-250, 1e-250, 0.0, 0.0
	for k := 1; k <= n; k++ {
		p *= float64(n-k+1) / think * service / float64(min(k, c))
		if p > 1e200 {
			p, sum, waiting, working = p*1e-200, sum*1e-200, waiting*1e-200, working*1e-200
		}
		sum += p
		waiting += p * float64(k)
		working += p * float64(min(k, c))
	}
	rate = working / sum / service
	return rate, waiting / sum / rate
}

func TestSingleStationsMatchTheClosedForms(t *testing.T) {
	const service = 0.001
	for _, rho := range []float64{0.2, 0.5, 0.8, 0.9, 0.95} {
		// Thousands of threads that think for long arrive like a Poisson stream.
		tenants, threads := 100, 10000.0
		open := func(servers, variation float64) *Network {
			rate := rho * servers / service
			return one(servers, variation, service, float64(tenants)*threads/rate, threads, tenants)
		}
		n := open(1, 1)
		n.Solve(1e-9, 10000)
		assert.InEpsilon(t, service/(1-rho), n.Tenants[0].Response, 0.01, "M/M/1 at %v", rho)
		n = open(1, 0.5)
		n.Solve(1e-9, 10000)
		assert.InEpsilon(t, service*(1+rho/2/(1-rho)), n.Tenants[0].Response, 0.01, "M/D/1 at %v (Pollaczek and Khinchine)", rho)
		for _, c := range []int{2, 8, 32} {
			n = open(float64(c), 1)
			n.Solve(1e-9, 10000)
			assert.InEpsilon(t, service*(1+erlangC(rho, c)), n.Tenants[0].Response, 0.05, "M/M/%d at %v", c, rho)
		}
	}
}

func TestAClosedQueueIsCloseToTheMachineRepairman(t *testing.T) {
	worst := 0.0
	for _, c := range []int{1, 4, 16} {
		for _, threads := range []int{1, 4, 16, 64, 256} {
			for _, think := range []float64{0.5, 4, 16, 64} {
				n := one(float64(c), 1, 1, think, float64(threads), 1)
				n.Solve(1e-10, 10000)
				rate, response := machines(threads, c, 1, think)
				assert.InEpsilon(t, rate, n.Tenants[0].Rate, 0.10, "rate, c=%d n=%d Z=%v", c, threads, think)
				assert.InEpsilon(t, response, n.Tenants[0].Response, 0.30, "response, c=%d n=%d Z=%v", c, threads, think)
				worst = math.Max(worst, math.Abs(rate-n.Tenants[0].Rate)/rate)
			}
		}
	}
	t.Logf("throughput off by %.1f %% at most", worst*100)
}

// Asymptotic bounds (Muntz and Wong 1974; Lazowska et al. 1984): X ≤ min(N/(D+Z), 1/Dmax), and R ≥ max(D, N·Dmax − Z). The knee
// is where they meet, N* = (D+Z)/Dmax.
func TestTheKneeIsWhereTheBoundsPutIt(t *testing.T) {
	build := func(threads float64) *Network {
		n := &Network{}
		a, b := n.AddStation(1, 1), n.AddStation(1, 1)
		n.Visits = []Visit{{Station: a, Count: 1, Work: 1}, {Station: b, Count: 1, Work: 0.4}}
		n.Tenants = []Tenant{{Threads: threads, Think: 30, Holder: -1, To: 2}}
		return n
	}
	knee := (1.4 + 30) / 1.0
	for _, threads := range []float64{1, 3, 8, 16, 31, 64, 200, 1000} {
		n := build(threads)
		n.Solve(1e-9, 10000)
		x := n.Tenants[0].Rate
		bound := math.Min(threads/(1.4+30), 1)
		assert.LessOrEqual(t, x, bound*1.0001)
		assert.GreaterOrEqual(t, n.Tenants[0].Response, math.Max(1.4, threads-30)*0.9999)
		if threads < knee/3 || threads > knee*3 {
			assert.InEpsilon(t, bound, x, 0.03, "away from the knee the bound is met, n=%v", threads)
		}
	}
}

func TestASaturatedStationsRateIsSharedNotLost(t *testing.T) {
	for _, second := range []float64{1, 10, 100, 1000} {
		n := one(4, 1, 0.005, 0.002, 100, 1)
		n.Visits = append(n.Visits, Visit{Station: 0, Count: 1, Work: 0.005})
		n.Tenants = append(n.Tenants, Tenant{Threads: second, Think: 0.002, Holder: -1, From: 1, To: 2})
		n.Solve(1e-9, 10000)
		assert.InEpsilon(t, 4/0.005, n.Tenants[0].Rate+n.Tenants[1].Rate, 0.01)
		assert.InEpsilon(t, 100/second, n.Tenants[0].Rate/n.Tenants[1].Rate, 0.03, "in proportion to what they keep under way")
	}
}

func TestAHeldQueueAdmitsNoMoreThanItsDepth(t *testing.T) {
	n := &Network{}
	device, pool := n.AddStation(32, 1), n.AddStation(1000, 1)
	n.Visits = []Visit{{Station: pool, Count: 1, Work: 0.010}}
	n.Tenants = []Tenant{{Threads: 100, Think: 0.001, Holder: device, To: 1}}
	n.Solve(1e-9, 10000)
	assert.InEpsilon(t, 32/0.010, n.Tenants[0].Rate, 0.02, "no more than depth over response below")
	assert.LessOrEqual(t, n.Stations[device].Busy, 32.01)
	below := n.Tenants[0].Held
	assert.InEpsilon(t, 0.010, below, 0.01)
	assert.InEpsilon(t, 100/n.Tenants[0].Rate-0.001, n.Tenants[0].Response, 1e-6, "the rest waits in the host")
}

func TestCreditsStarveThoseWhoShareOnlyTheLink(t *testing.T) {
	const frame, speed = 2048.0, 1.6e9
	solve := func(slow float64) (n *Network, victim, starved float64) {
		n = &Network{}
		near, far := n.AddStation(1, .5), n.AddStation(1, .5) // receivers: a well one, and one that may be slow
		link, credits := n.AddStation(1, .5), n.AddStation(64, 1)
		leg := func(to int32, drain float64) Leg {
			return Leg{Visits: []LegVisit{{Station: credits, Part: 1, Next: to, Frame: frame, Drain: drain}, {Station: link, Part: 1, PerByte: 1 / speed, Next: -1},
				{Station: to, Part: 1, PerByte: drain, Next: -1}}}
		}
		n.Legs = []Leg{leg(near, 1/speed), leg(far, slow/speed)}
		n.Uses = []Use{{Leg: 0, Count: 1, Bytes: 65536}, {Leg: 1, Count: 1, Bytes: 65536}}
		n.Tenants = []Tenant{{Threads: 4, Think: .002, Inner: .0005, Holder: -1, UseTo: 1}, {Threads: 16, Think: .002, Inner: .0005, Holder: -1, UseFrom: 1, UseTo: 2}}
		n.Solve(1e-7, 10000)
		return n, n.Tenants[0].Response, n.Stations[credits].Full
	}
	_, well, none := solve(1)
	_, hurt, starved := solve(20)
	assert.Less(t, none, 0.05)
	assert.Greater(t, starved, 0.5, "credits run out")
	assert.Greater(t, hurt, 2*well, "and who shares only the link waits too")
}

func TestTheLawsHoldAtEveryStation(t *testing.T) {
	n := &Network{}
	for range 6 {
		n.AddStation(3, 1)
	}
	for i := range 40 {
		from := int32(len(n.Visits))
		for k := range 3 {
			n.Visits = append(n.Visits, Visit{Station: int32((i + k*k) % 6), Count: 0.3 + float64(k), Work: 0.0005 * float64(1+i%4)})
		}
		n.Tenants = append(n.Tenants, Tenant{Threads: float64(1 + i%9), Think: 0.01, Holder: -1, From: from, To: from + 3})
	}
	n.Solve(1e-10, 10000)
	busy, queued := make([]float64, 6), 0.0
	for _, x := range n.Tenants {
		assert.InEpsilon(t, x.Threads, x.Rate*(x.Response+x.Think), 1e-9, "Little's law around the loop")
		for v := x.From; v < x.To; v++ {
			busy[n.Visits[v].Station] += x.Rate * n.Visits[v].Count * n.Visits[v].Work
		}
		queued += x.Rate * x.Response
	}
	at := 0.0
	for k, s := range n.Stations {
		assert.InEpsilon(t, busy[k], s.Busy, 1e-9, "utilization law")
		assert.LessOrEqual(t, s.Busy, 3.0001)
		at += s.Arrives*s.Wait + s.Busy
	}
	assert.InEpsilon(t, queued, at, 0.02, "what is in flight is in a queue or in service")
}

func TestALimitHoldsAndIsToldApart(t *testing.T) {
	n := one(4, 1, 0.001, 0, 64, 1)
	n.Tenants[0].Limit = 500
	n.Solve(1e-9, 1000)
	x := n.Tenants[0]
	assert.InDelta(t, 500, x.Rate, 1e-9)
	assert.InEpsilon(t, 64.0/500, x.Response+x.Throttled, 1e-9)
	assert.Less(t, x.Response, 0.002)
}

func TestItStartsAgainFromWhatItFound(t *testing.T) {
	n := one(4, 1, 0.005, 0.02, 30, 20)
	first := n.Solve(1e-6, 10000)
	n.Tenants[0].Think *= 1.02
	c := n.Clone()
	assert.Less(t, n.Solve(1e-6, 10000), first)
	c.Solve(1e-6, 10000)
	assert.Equal(t, n.Tenants, c.Tenants)
}

func TestAStationIsWhatItIsEventByEvent(t *testing.T) {
	for _, c := range []struct{ tenants, threads, servers int }{{20, 2, 4}, {50, 4, 32}, {100, 8, 32}} {
		n := one(float64(c.servers), 1, 0.005, 0.03, float64(c.threads), c.tenants)
		n.Solve(1e-8, 10000)
		rate, response := ByEvents(c.tenants*c.threads, c.servers, 0.005, 0.03, 30, 7)
		assert.InEpsilon(t, rate, n.Tenants[0].Rate*float64(c.tenants), 0.075)
		assert.InEpsilon(t, response, n.Tenants[0].Response, 0.15)
	}
}
