// Package parallel does one thing to many, on as many processors as there are.
package parallel

import (
	"runtime"
	"sync"
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
