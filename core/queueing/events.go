package queueing

import (
	"container/heap"
	"math/rand/v2"
)

// ByEvents simulates, event by event, customers that think and are then served by one of so many servers, first come first served,
// thinking and service both exponential, means in s, for so many simulated s. It returns their rate in 1/s and mean response time
// in s: what Network approximates, thousands of times slower.
func ByEvents(customers, servers int, service, think, until float64, seed uint64) (rate, response float64) {
	r := rand.New(rand.NewPCG(seed, 1))
	var due events
	for range customers {
		heap.Push(&due, event{at: r.ExpFloat64() * think})
	}
	free, done, time := servers, 0, 0.0
	warm := until / 10 // what happens before is not counted: it begins with nobody waiting
	var queue []float64
	serve := func(now, begun float64) { heap.Push(&due, event{now + r.ExpFloat64()*service, begun, true}) }
	for due.Len() > 0 {
		e := heap.Pop(&due).(event)
		if e.at > until {
			break
		}
		switch {
		case !e.served && free > 0:
			free--
			serve(e.at, e.at)
		case !e.served:
			queue = append(queue, e.at)
		default:
			if e.at > warm {
				done++
				time += e.at - e.begun
			}
			heap.Push(&due, event{at: e.at + r.ExpFloat64()*think})
			if len(queue) > 0 {
				serve(e.at, queue[0])
				queue = queue[1:]
			} else {
				free++
			}
		}
	}
	return float64(done) / (until - warm), time / float64(max(done, 1))
}

// events is a heap of what is due, soonest first.
type events []event

type event struct {
	at, begun float64
	served    bool
}

func (e events) Len() int           { return len(e) }
func (e events) Less(a, b int) bool { return e[a].at < e[b].at }
func (e events) Swap(a, b int)      { e[a], e[b] = e[b], e[a] }
func (e *events) Push(x any)        { *e = append(*e, x.(event)) }
func (e *events) Pop() any {
	old := *e
	x := old[len(old)-1]
	*e = old[:len(old)-1]
	return x
}
