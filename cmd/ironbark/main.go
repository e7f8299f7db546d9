// Ironbark provisions virtual machines and controls who can reach them.
package main

import (
	"os"
	"runtime"

	"ironbark/internal/cli"
)

// ballast is memory that is never touched, so that it takes none: it has the garbage
// collector begin at twice its size and not at 4 MiB, which most commands never come to.
const ballast = 32 << 20

func main() {
	held := make([]byte, ballast)
	status := cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)
	runtime.KeepAlive(held)
	os.Exit(status)
}
