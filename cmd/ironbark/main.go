// Ironbark provisions virtual machines and controls who can reach them.
package main

import (
	"math"
	"os"
	"runtime"
	"runtime/debug"
	"time"

	"ironbark/internal/cli"
)

// uncollected is how much memory is used before any of it is collected, in bytes: most commands end before.
const uncollected = 160 << 20

func main() {
	collectLate()
	os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr))
}

// shortly is how long a command may run without any collection: what goes on for longer, such as a gateway, does not hold what it does not need.
const shortly = 5 * time.Second

// collectLate has the garbage collector begin at so much memory, or after a while, and go on as it always does from then on. Who set GOGC or GOMEMLIMIT is obeyed.
func collectLate() {
	if os.Getenv("GOGC") != "" || os.Getenv("GOMEMLIMIT") != "" {
		return
	}
	usual := debug.SetGCPercent(-1)
	debug.SetMemoryLimit(uncollected)
	goOn := func() {
		debug.SetGCPercent(usual)
		debug.SetMemoryLimit(math.MaxInt64)
	}
	time.AfterFunc(shortly, goOn)
	type marker struct{ _ *int }                                // the allocator keeps what has no pointers together with others
	runtime.SetFinalizer(new(marker), func(*marker) { goOn() }) // it is garbage at once, so this is called after the first collection
}
