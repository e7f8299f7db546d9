package cli

import (
	"slices"
	"strings"
)

// Options of connect, and of every command, that take a value in a word of its own.
var connectValues = []string{"--for", "--because", "--from", "--key", "--own-key", "--person", "--estate"}

// remoteCommand puts “--” before the command that connect is to run on a machine, so that its
// options are its own: connect gauge-1 ls -l.
func remoteCommand(args []string) []string {
	at := nextWord(args, 0)
	if at < 0 || args[at] != "connect" {
		return args
	}
	machine := nextWord(args, at+1)
	if machine < 0 {
		return args
	}
	command := nextWord(args, machine+1)
	if command < 0 || slices.Contains(args[:command], "--") {
		return args
	}
	return slices.Insert(slices.Clone(args), command, "--")
}

// nextWord finds the first word from a place on that is no option and no option's value;
// negative: there is none.
func nextWord(args []string, from int) int {
	for i := from; i < len(args); i++ {
		switch {
		case slices.Contains(connectValues, args[i]):
			i++
		case !strings.HasPrefix(args[i], "-"):
			return i
		}
	}
	return -1
}
