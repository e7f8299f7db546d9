package cli

import (
	"fmt"
	"strings"
	"time"

	"ironbark/internal/cli/view"
	"ironbark/internal/exposure"
	"ironbark/internal/sentence"
	"ironbark/internal/work"
)

// answered is the answer to a question of a file: about flows, or about what a bastion forwards.
type answered interface {
	verdict() string
	question() string
	document(ph *view.Phrasing, person string, at time.Time) any
	// against tells the parts that are not as expected.
	against(open bool, ph *view.Phrasing) []string
}

// answerOf answers a question.
func answerOf(w *work.Work, st *work.State, ask sentence.Ask, at time.Time) (answered, error) {
	if ask.Via.Text != "" {
		f, err := w.AskVia(st, ask, at)
		return forwarded{f}, err
	}
	answer, err := w.Ask(st, ask, at)
	return flows{answer}, err
}

// mostAgainst is how many parts of an answer are told against an expectation.
const mostAgainst = 5

func mostOf(list []string) []string {
	if len(list) > mostAgainst {
		return append(list[:mostAgainst], "…")
	}
	return list
}

func stateOf(open bool) string {
	if open {
		return "open"
	}
	return "closed"
}

// flows is an answer about flows.
type flows struct{ *work.Answer }

func (f flows) verdict() string  { return f.Verdict }
func (f flows) question() string { return strings.TrimPrefix(f.Ask.String(), "why ") }

func (f flows) document(ph *view.Phrasing, person string, at time.Time) any {
	return view.AnswerJSON(f.Answer, ph, person, at)
}

func (f flows) against(open bool, ph *view.Phrasing) (list []string) {
	for _, p := range f.Parts {
		if p.Open != open {
			one := exposure.Example(p.From, p.Services)
			list = append(list, fmt.Sprintf("%s from %s to %s is %s: %s", one.Service, one.Source, exposure.TargetName(f.State.Plan, p.Target), stateOf(p.Open), view.Why(p, ph)))
		}
	}
	return list
}

// forwarded is an answer about what a bastion forwards.
type forwarded struct{ *work.Forwarding }

func (f forwarded) verdict() string  { return f.Verdict }
func (f forwarded) question() string { return strings.TrimPrefix(f.Ask.String(), "why ") }

func (f forwarded) document(ph *view.Phrasing, _ string, _ time.Time) any {
	return view.ForwardingJSON(f.Forwarding, ph)
}

func (f forwarded) against(open bool, ph *view.Phrasing) (list []string) {
	for _, one := range f.People {
		who := strings.Join(one.Names, " and ")
		for _, p := range one.Parts {
			if p.Forward != open {
				example := exposure.Example(p.Client, p.Services)
				list = append(list, fmt.Sprintf("%s from %s at %s via %s to %s is %s: %s", example.Service, who, example.Source, f.Ask.Via.Text, p.Machine, stateOf(p.Forward), view.ForwardingWhy(p, who, f.Ask.Via.Text, ph)))
			}
		}
	}
	return list
}
