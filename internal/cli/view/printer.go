// Package view puts values on the terminal: tables, words, a little colour. It is
// the only place that prints. Data goes to Out; progress, questions and notes to Err.
package view

import (
	"encoding/json"
	"fmt"
	"io"
	"strings"

	"charm.land/lipgloss/v2"
	"charm.land/lipgloss/v2/table"
	"github.com/charmbracelet/x/ansi"
)

// Printer prints to a terminal or a pipe.
type Printer struct {
	Out, Err io.Writer
	Width    int  // columns; at least 40 are used
	Colour   bool // styles may be used
}

// The styles. Closed is the quiet default, and open is what the eye meets.
var (
	styleOpen  = lipgloss.NewStyle().Bold(true).Foreground(lipgloss.Color("208"))
	styleHead  = lipgloss.NewStyle().Bold(true)
	styleQuiet = lipgloss.NewStyle().Faint(true)
	styleBad   = lipgloss.NewStyle().Bold(true).Foreground(lipgloss.Color("160"))
)

func (p *Printer) style(s lipgloss.Style, text string) string {
	if !p.Colour || text == "" {
		return text
	}
	return s.Render(text)
}

// Open marks words that tell of something open.
func (p *Printer) Open(text string) string { return p.style(styleOpen, text) }

// Quiet marks words that matter less.
func (p *Printer) Quiet(text string) string { return p.style(styleQuiet, text) }

// Bad marks words that tell of trouble.
func (p *Printer) Bad(text string) string { return p.style(styleBad, text) }

// Line prints a line of data.
func (p *Printer) Line(format string, args ...any) { fmt.Fprintf(p.Out, format+"\n", args...) }

// Note prints a line that is no data.
func (p *Printer) Note(format string, args ...any) { fmt.Fprintf(p.Err, format+"\n", args...) }

// Head prints a heading of data.
func (p *Printer) Head(text string) { fmt.Fprintln(p.Out, p.style(styleHead, text)) }

// Wrap prints words, broken at the terminal's width, each line after the first
// indented as the first one's text begins.
func (p *Printer) Wrap(indent, text string) {
	width := max(p.Width, 40) - ansi.StringWidth(indent)
	for i, line := range strings.Split(ansi.Wordwrap(text, width, ""), "\n") {
		if i > 0 {
			indent = strings.Repeat(" ", ansi.StringWidth(indent))
		}
		fmt.Fprintln(p.Out, strings.TrimRight(indent+line, " "))
	}
}

// JSON prints one document.
func (p *Printer) JSON(v any) error {
	e := json.NewEncoder(p.Out)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	return e.Encode(v)
}

// JSONLine prints one document on one line.
func (p *Printer) JSONLine(v any) error {
	e := json.NewEncoder(p.Out)
	e.SetEscapeHTML(false)
	return e.Encode(v)
}

// Table prints rows under heads, fitted to the width: columns that are too wide
// are wrapped, words at the left and numbers (columns named in right) at the right.
func (p *Printer) Table(heads []string, rows [][]string, right ...int) {
	if len(rows) == 0 {
		return
	}
	t := table.New().Border(lipgloss.HiddenBorder()).BorderTop(false).BorderBottom(false).BorderLeft(false).
		BorderRight(false).BorderHeader(false).BorderColumn(false).Headers(heads...).Rows(rows...).Wrap(true).
		StyleFunc(func(row, col int) lipgloss.Style {
			s := lipgloss.NewStyle().PaddingRight(2)
			for _, r := range right {
				if col == r {
					s = s.Align(lipgloss.Right)
				}
			}
			if row == table.HeaderRow && p.Colour {
				s = s.Inherit(styleQuiet)
			}
			return s
		})
	text := t.String()
	if lipgloss.Width(text) > p.Width+2 {
		text = t.Width(max(p.Width, 40)).String()
	}
	for line := range strings.SplitSeq(text, "\n") {
		fmt.Fprintln(p.Out, strings.TrimRight(line, " "))
	}
}
