// Package parallel spreads work over the processors.
package parallel

import (
	"runtime"
	"sync"
	"sync/atomic"
)

// Each does n pieces of work, as many at a time as there are processors, and returns when all are done. A
// worker is made for each processor, with whatever it wants to have for itself, and is called with the
// numbers of its pieces, from 0 on.
func Each(n int, worker func() func(i int)) {
	var next atomic.Int64
	var wait sync.WaitGroup
	for range min(runtime.GOMAXPROCS(0), n) {
		wait.Go(func() {
			work := worker()
			for i := int(next.Add(1)) - 1; i < n; i = int(next.Add(1)) - 1 {
				work(i)
			}
		})
	}
	wait.Wait()
}
