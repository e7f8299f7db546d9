package view

import (
	"errors"
	"fmt"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"ironbark/internal/opening"
	"ironbark/internal/sentence"
)

// Error tells an error: what is wrong, where, with the line and a caret under it,
// and what to do.
func (p *Printer) Error(err error) {
	var (
		many    sentence.Errors
		one     *sentence.Error
		refusal *opening.RefusalError
	)
	switch {
	case errors.As(err, &many):
		for _, e := range many {
			p.problem(e)
		}
		if len(many) > 1 {
			p.Note("%d problems; nothing was changed", len(many))
		}
	case errors.As(err, &one):
		p.problem(one)
	case errors.As(err, &refusal):
		p.Note("%s the opening is refused", p.Bad("ironbark:"))
		for _, r := range alikeReasons(reasonsOf(refusal.Reasons)) {
			p.NoteWrap("    because ", r.what)
			if r.remedy != "" {
				p.NoteWrap("      to fix it: ", r.remedy)
			}
		}
	default:
		p.NoteWrap(p.Bad("ironbark:")+" ", err.Error())
	}
}

// mostTogether is how many machines one command of a remedy names.
const mostTogether = 6

// alikeReasons joins reasons that differ in nothing but the machine.
func alikeReasons(list []reason) (out []reason) {
	type likeness struct{ what, remedy string }
	of := func(r reason) likeness {
		less := func(text string) string { return strings.ReplaceAll(text, r.machine, "\x00") }
		return likeness{less(r.what), less(r.remedy)}
	}
	machines := map[likeness][]string{}
	for _, r := range list {
		if r.machine != "" {
			machines[of(r)] = append(machines[of(r)], r.machine)
		}
	}
	met := map[likeness]bool{}
	for _, r := range list {
		if r.machine == "" {
			out = append(out, r)
			continue
		}
		like := of(r)
		if met[like] {
			continue
		}
		met[like] = true
		if of := machines[like]; len(of) > 1 {
			r.what = strings.ReplaceAll(strings.ReplaceAll(like.what, "\x00 is ", "\x00 are "), "\x00", sentence.Few(of))
			together := "MACHINE" // a command that names many of them would be as long as what this saves
			if len(of) <= mostTogether {
				together = strings.Join(of, " ")
			}
			r.remedy = strings.ReplaceAll(like.remedy, "\x00", together)
		}
		out = append(out, r)
	}
	return out
}

// problem tells one error in a text.
func (p *Printer) problem(e *sentence.Error) {
	p.NoteWrap(p.Bad("ironbark:")+" ", e.Error())
	if e.Line != "" {
		line, caret := caretUnder(strings.TrimRight(e.Line, "\r\n"), e.At.Col, max(p.Width, 40)-4)
		p.Note("    %s", line)
		if e.At.Col > 0 {
			p.Note("    %s", caret)
		}
	}
	if !e.Remedy.IsZero() {
		p.NoteWrap("    ", Advice(e.Remedy))
	}
}

// caretUnder cuts a line to a width around a column, and makes the line with the
// caret below it. Tabs are shown as one space.
func caretUnder(line string, col, width int) (shown, caret string) {
	runes := []rune(strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return ' '
		}
		return r
	}, line))
	at := min(max(col-1, 0), len(runes))
	from, to := 0, len(runes)
	if len(runes) > width {
		from = max(0, min(at-width/2, len(runes)-width+1))
		to = min(len(runes), from+width-2)
	}
	text := string(runes[from:to])
	before := string(runes[from:max(at, from)])
	if from > 0 {
		text, before = "…"+text, "…"+before
	}
	if to < len(runes) {
		text += "…"
	}
	return text, fmt.Sprintf("%s^", strings.Repeat(" ", ansi.StringWidth(before)))
}
