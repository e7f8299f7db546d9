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

// Findings tells findings, the grave ones first, those of one problem together.
func (p *Printer) Findings(list []findings.Finding) {
	type problem struct {
		level findings.Level
		kind  findings.Kind
		words string
	}
	at := map[problem]int{}
	var groups [][]findings.Finding
	for _, f := range list {
		key := problem{f.Level, f.Kind, f.Problem}
		i, known := at[key]
		if !known {
			i = len(groups)
			at[key] = i
			groups = append(groups, nil)
		}
		groups[i] = append(groups[i], f)
	}
	slices.SortStableFunc(groups, func(a, b []findings.Finding) int { return cmp.Compare(b[0].Level, a[0].Level) })
	for _, g := range groups {
		p.findingsOf(g)
	}
}

// findingsOf tells findings of one problem.
func (p *Printer) findingsOf(g []findings.Finding) {
	word := g[0].Level.String()
	indent := "   " + strings.Repeat(" ", len(word)) + "  "
	if g[0].Level == findings.Serious {
		word = p.Bad(word)
	}
	head := "   " + word + "  "
	names := make([]string, len(g))
	sentences := false
	for i, f := range g {
		names[i], sentences = f.Subject, sentences || strings.Contains(f.Subject, " ")
	}
	switch {
	case len(g) == 1:
		p.Wrap(head, subjectAt(g[0].What(), g[0]))
	case !sentences:
		p.Wrap(head, g[0].Problem+": "+few(names))
	default:
		p.Wrap(head, fmt.Sprintf("%s: %d sentences", g[0].Problem, len(g)))
		for _, f := range g[:min(len(g), mostSubjects)] {
			p.Wrap(indent+"  ", subjectAt(f.Subject, f))
		}
		if len(g) > mostSubjects {
			p.Line("%s  … and %d more: --json tells all of them", indent, len(g)-mostSubjects)
		}
	}
	mends := map[string]bool{}
	for _, f := range g {
		if f.Mend != "" && !mends[f.Mend] && len(mends) < mostSubjects {
			mends[f.Mend] = true
			p.Wrap(indent, "to mend it: "+f.Mend)
		}
	}
}

func subjectAt(text string, f findings.Finding) string {
	if at := f.At.String(); at != "" {
		return text + "  (" + at + ")"
	}
	return text
}
