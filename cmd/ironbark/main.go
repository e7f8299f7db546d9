// Ironbark provisions virtual machines and controls who can reach them.
package main

import (
	"os"

	"ironbark/internal/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) }
