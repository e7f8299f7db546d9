// Package parallel does one thing to many, several at once.
package parallel

import (
	"runtime"
	"sync"
	"sync/atomic"
)

// Least is how many elements are worth a processor of their own.
const Least = 500

// Parts calls do for the numbers from 0 up to n, in parts [from, to) that follow each other
// and may run at once. It returns once all of them have.
func Parts(n int, do func(from, to int)) {
	parts := min(runtime.GOMAXPROCS(0), n/Least)
	if parts < 2 {
		do(0, n)
		return
	}
	var all sync.WaitGroup
	for i := range parts {
		all.Go(func() { do(i*n/parts, (i+1)*n/parts) })
	}
	all.Wait()
}

// Each calls do for each number from 0 up to n, some of them at once: whoever is done takes the next one, so they may cost very different things. It returns
// once all calls have.
func Each(n int, do func(i int)) { together(n, runtime.GOMAXPROCS(0), do) }

// mostWaiting is how many calls wait at once.
const mostWaiting = 32

// Waiting is Each for calls that wait for others, such as machines: up to 32 run at once, however many processors there are.
func Waiting(n int, do func(i int)) { together(n, mostWaiting, do) }

func together(n, most int, do func(i int)) {
	var next atomic.Int64
	work := func() {
		for i := next.Add(1) - 1; i < int64(n); i = next.Add(1) - 1 {
			do(int(i))
		}
	}
	var others sync.WaitGroup
	for range min(most, n) - 1 {
		others.Go(work)
	}
	work()
	others.Wait()
}
