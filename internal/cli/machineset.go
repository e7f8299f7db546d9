package cli

import (
	"errors"
	"slices"
	"strings"
	"time"

	"ironbark/internal/change"
	"ironbark/internal/estate"
	"ironbark/internal/flow"
	"ironbark/internal/sentence"
)

// machineSet finds the machines of an estate that words name, as sentences do: names, patterns, tags, subnets and networks,
// all, and except. others are machines that the estate has not, and that may be named too. The names are sorted, and at
// least one.
func machineSet(e *estate.Estate, others, args []string) (names []string, err error) {
	if len(args) == 0 {
		return nil, usage("say which machines: names, patterns, or TAG=VALUE")
	}
	var rest []string
	for _, word := range args {
		if n, ok := e.Lookup(word); ok && n.Kind == estate.KindMachine || slices.Contains(others, word) {
			names = append(names, word)
		} else {
			rest = append(rest, word)
		}
	}
	if slices.Contains(rest, "except") { // what it leaves out may be names
		names, rest = nil, args
	}
	if len(rest) > 0 {
		set, err := targetOf(e, others, rest)
		if err != nil {
			return nil, err
		}
		plan := flow.Compile(e, change.Assigned(nil))
		for _, m := range flow.NewResolver(e, plan).Group(set).Machines {
			names = append(names, plan.Machines[m].Name)
		}
		if len(names) == 0 {
			return nil, wrong("“%s” stands for no machine", strings.Join(rest, " "))
		}
	}
	slices.SortFunc(names, sentence.CompareNames)
	return slices.Compact(names), nil
}

// targetOf reads words as the target of a sentence. Between two that stand side by side a comma may be left out.
func targetOf(e *estate.Estate, others, words []string) (sentence.Set, error) {
	text := ""
	for i, word := range words {
		if i > 0 {
			if prev := words[i-1]; word != "except" && prev != "except" && !strings.HasSuffix(prev, ",") && word != "and" && prev != "and" {
				text += ","
			}
			text += " "
		}
		text += word
	}
	asked, _, err := sentence.ParseTyped([]string{"why", "any", "from", "everywhere", "to", text}, time.Time{})
	if err == nil {
		err = e.CheckSentence(asked)
	}
	var many sentence.Errors
	var one *sentence.Error
	switch {
	case errors.As(err, &many):
		one = many[0]
	case !errors.As(err, &one):
		ask, ok := asked.(sentence.Ask)
		if err == nil && !ok {
			err = usage("“%s” names no machines", text)
		}
		return ask.To, err
	}
	if len(words) == 1 && !strings.ContainsAny(text, "=*? ") {
		return sentence.Set{}, unknownName("machine", text, append(e.NamesOf("machine"), others...))
	}
	return sentence.Set{}, &sentence.Error{Problem: one.Problem, Remedy: one.Remedy}
}
