package view

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"ironbark/internal/findings"
)

// mostSubjects is how many findings of one problem are told one by one.
const mostSubjects = 5

// mostProblems is how many problems of one kind are told apart: of more of them it is told what they have in common.
const mostProblems = 3

// EachFinding tells each finding by itself, the grave ones first.
func (p *Printer) EachFinding(list []findings.Finding) {
	list = slices.SortedStableFunc(slices.Values(list), func(a, b findings.Finding) int { return cmp.Compare(b.Level, a.Level) })
	for _, f := range list {
		p.findingsOf(gathered{f.Problem, []findings.Finding{f}}, "")
		p.Wrap("   "+strings.Repeat(" ", len(f.Level.String()))+"  ", "why it matters: "+f.Kind.Why())
	}
}

// Findings tells findings, the grave ones first, those of one problem together. more is what tells all of them.
func (p *Printer) Findings(list []findings.Finding, more string) {
	type kind struct {
		level findings.Level
		kind  findings.Kind
	}
	problems := map[kind]map[string]bool{}
	for _, f := range list {
		k := kind{f.Level, f.Kind}
		if problems[k] == nil {
			problems[k] = map[string]bool{}
		}
		problems[k][f.Problem] = true
	}
	type problem struct {
		kind
		words string
	}
	at := map[problem]int{}
	var groups []gathered
	for _, f := range list {
		k := kind{f.Level, f.Kind}
		key := problem{k, f.Problem}
		if title := f.Kind.Title(); title != "" && len(problems[k]) > mostProblems {
			key.words = title
		}
		i, known := at[key]
		if !known {
			i = len(groups)
			at[key] = i
			groups = append(groups, gathered{problem: key.words})
		}
		groups[i].list = append(groups[i].list, f)
	}
	slices.SortStableFunc(groups, func(a, b gathered) int { return cmp.Compare(b.list[0].Level, a.list[0].Level) })
	for _, g := range groups {
		p.findingsOf(g, more)
	}
}

// gathered are findings that are told together, by what they have in common.
type gathered struct {
	problem string
	list    []findings.Finding
}

// findingsOf tells findings of one problem.
func (p *Printer) findingsOf(g gathered, more string) {
	list := g.list
	word := list[0].Level.String()
	indent := "   " + strings.Repeat(" ", len(word)) + "  "
	if list[0].Level == findings.Serious {
		word = p.Bad(word)
	}
	head := "   " + word + "  "
	names := make([]string, len(list))
	sentences := false
	for i, f := range list {
		names[i], sentences = f.Subject, sentences || strings.Contains(f.Subject, " ")
	}
	switch {
	case len(list) == 1:
		p.Wrap(head, subjectAt(list[0].What(), list[0]))
	case !sentences:
		p.Wrap(head, g.problem+": "+few(names))
	default:
		p.Wrap(head, fmt.Sprintf("%s: %d sentences", g.problem, len(list)))
		for _, f := range list[:min(len(list), mostSubjects)] {
			p.Wrap(indent+"  ", subjectAt(f.Subject, f))
		}
		if len(list) > mostSubjects {
			p.Line("%s  … and %d more: %s", indent, len(list)-mostSubjects, more)
		}
	}
	remedies := map[string]bool{}
	for _, f := range list {
		remedy := Advice(f.Remedy)
		if !sentences && len(list) > 1 { // one for all of them
			remedy = named(remedy, f.Subject)
		}
		if remedy != "" && !remedies[remedy] && len(remedies) < mostProblems {
			remedies[remedy] = true
			p.Wrap(indent, "to fix it: "+remedy)
		}
	}
}

// named puts NAME in place of a name in a remedy.
func named(remedy, name string) string {
	words := strings.Split(remedy, " ")
	for i, w := range words {
		if w == name {
			words[i] = "NAME"
		}
	}
	return strings.Join(words, " ")
}

func subjectAt(text string, f findings.Finding) string {
	if at := f.At.String(); at != "" {
		return text + "  (" + at + ")"
	}
	return text
}
