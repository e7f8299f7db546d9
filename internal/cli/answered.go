package cli

import (
	"fmt"
	"iter"
	"strings"
	"time"

	"ironbark/internal/cli/view"
	"ironbark/internal/exposure"
	"ironbark/internal/sentence"
	"ironbark/internal/work"
)

// answered is the answer to a question: about flows, or about what a bastion forwards.
type answered interface {
	verdict() string
	question() string
	print(p *view.Printer, ph *view.Phrasing, person string)
	document(ph *view.Phrasing, person string, at time.Time) any
	// against tells the parts that are not as expected.
	against(open bool, ph *view.Phrasing) iter.Seq[string]
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

func mostOf(parts iter.Seq[string]) (list []string) {
	for text := range parts {
		if len(list) == mostAgainst {
			return append(list, "…")
		}
		list = append(list, text)
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

func (f flows) print(p *view.Printer, ph *view.Phrasing, person string) {
	p.Answer(f.Answer, ph, person)
}

func (f flows) against(open bool, ph *view.Phrasing) iter.Seq[string] {
	return func(yield func(string) bool) {
		for _, p := range f.Parts {
			if p.Open == open {
				continue
			}
			one := exposure.Example(p.From, p.Services)
			if !yield(fmt.Sprintf("%s from %s to %s is %s: %s", one.Service, one.Source, exposure.TargetName(f.State.Plan, p.Target), stateOf(p.Open), view.Why(p, ph))) {
				return
			}
		}
	}
}

// forwarded is an answer about what a bastion forwards.
type forwarded struct{ *work.Forwarding }

func (f forwarded) verdict() string  { return f.Verdict }
func (f forwarded) question() string { return strings.TrimPrefix(f.Ask.String(), "why ") }

func (f forwarded) document(ph *view.Phrasing, _ string, _ time.Time) any {
	return view.ForwardingJSON(f.Forwarding, ph)
}

func (f forwarded) print(p *view.Printer, ph *view.Phrasing, _ string) {
	p.Forwarding(f.Forwarding, ph)
}

func (f forwarded) against(open bool, ph *view.Phrasing) iter.Seq[string] {
	via := f.Ask.Via.Text
	return func(yield func(string) bool) {
		for _, one := range f.People {
			who := strings.Join(one.Names, " and ")
			for _, p := range one.Parts {
				if p.Forward == open {
					continue
				}
				example := exposure.Example(p.Client, p.Services)
				if !yield(fmt.Sprintf("%s from %s at %s via %s to %s is %s: %s", example.Service, who, example.Source, via, p.Machine, stateOf(p.Forward), view.ForwardingWhy(p, who, via, ph))) {
					return
				}
			}
		}
	}
}
