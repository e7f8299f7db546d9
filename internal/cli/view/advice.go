package view

import (
	"ironbark/internal/fault"
	"ironbark/internal/opening"
	"ironbark/internal/sentence"
)

// programName is what people type to run a command.
const programName = "ironbark"

// CommandLine returns a command as a line that can be pasted into a POSIX shell.
func CommandLine(c fault.Command) string {
	return programName + " " + sentence.Shell(c.Words()...)
}

// Advice returns advice as text, with commands as [CommandLine] writes them.
func Advice(a fault.Advice) string { return a.Text(CommandLine) }

// advices returns a list of advice as texts; it is never nil.
func advices(list []fault.Advice) []string {
	texts := make([]string, len(list))
	for i, a := range list {
		texts[i] = Advice(a)
	}
	return texts
}

// reason is a reason of a refusal in words. Reasons are compared by them.
type reason struct{ what, remedy, machine string }

func reasonsOf(list []opening.Reason) []reason {
	out := make([]reason, len(list))
	for i, r := range list {
		out[i] = reason{r.What, Advice(r.Remedy), r.Machine}
	}
	return out
}
