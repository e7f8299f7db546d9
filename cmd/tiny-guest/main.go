// The first program of a tiny guest: see package tinyguest.
package main

import (
	"fmt"
	"os"

	"ironbark/internal/tinyguest"
)

func main() {
	if err := tinyguest.Run(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(2)
	}
}
