// Package crew shares work among processors.
package crew

import (
	"runtime"
	"sync"
)

// batch is how many pieces are taken at once: enough that handing them out costs nothing beside them.
const batch = 32

// Each calls f for 0 to n−1, in no order, on all processors, and returns when all are done. Few pieces are done where they are.
func Each(n int, f func(k int)) { each(n, batch, f) }

// Large is Each for pieces that take long enough to be handed out one by one.
func Large(n int, f func(k int)) { each(n, 1, f) }

func each(n, batch int, f func(k int)) {
	hands := min(runtime.GOMAXPROCS(0), n/batch)
	if hands < 2 {
		for k := range n {
			f(k)
		}
		return
	}
	next := make(chan int, (n+batch-1)/batch)
	for from := 0; from < n; from += batch {
		next <- from
	}
	close(next)
	var wg sync.WaitGroup
	for range hands {
		wg.Go(func() {
			for from := range next {
				for k := from; k < min(n, from+batch); k++ {
					f(k)
				}
			}
		})
	}
	wg.Wait()
}
