// Package view puts values on the terminal: tables, words, a little colour. It is
// the only place that prints. Data goes to Out; progress, questions and notes to Err.
package view

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"iter"
	"slices"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"
)

// Printer prints to a terminal or a pipe.
type Printer struct {
	Out, Err io.Writer
	Width    int  // columns of Out; at least 40 are used
	ErrWidth int  // columns of Err; 0: its lines are not wrapped, as in a pipe or a log
	Colour   bool // styles may be used
	// ToTerminal says that Out is a terminal, where somebody looks and no program reads.
	ToTerminal bool
	// Told collects what would be printed as data, where a document is printed in its place.
	Told *[]string
	// Documents counts those that were printed.
	Documents int
}

// The styles. Closed is the quiet default, and open is what the eye meets.
var (
	styleOpen  = ansi.NewStyle().Bold().ForegroundColor(ansi.IndexedColor(208))
	styleHead  = ansi.NewStyle().Bold()
	styleQuiet = ansi.NewStyle().Faint()
	styleBad   = ansi.NewStyle().Bold().ForegroundColor(ansi.IndexedColor(160))
)

func (p *Printer) style(s ansi.Style, text string) string {
	if !p.Colour || text == "" {
		return text
	}
	return strings.ReplaceAll(s.Styled(text), "\x1b[", styleMark)
}

// Open marks words that tell of something open.
func (p *Printer) Open(text string) string { return p.style(styleOpen, text) }

// Quiet marks words that matter less.
func (p *Printer) Quiet(text string) string { return p.style(styleQuiet, text) }

// Bad marks words that tell of trouble.
func (p *Printer) Bad(text string) string { return p.style(styleBad, text) }

// Line prints a line of data.
func (p *Printer) Line(format string, args ...any) { p.put(p.Out, fmt.Sprintf(format, args...)+"\n") }

// Note prints a line that is no data.
func (p *Printer) Note(format string, args ...any) { p.put(p.Err, fmt.Sprintf(format, args...)+"\n") }

// NoteInSession is Note beside a live session, whose terminal is raw: a line begins where
// it is told to.
func (p *Printer) NoteInSession(text string) {
	_, _ = io.WriteString(p.Err, "\r\n"+Escape(text)+"\r\n")
}

// Question prints what is asked; the answer stands on the same line.
func (p *Printer) Question(text string) { p.put(p.Err, text+" ") }

// Text prints lines of data that somebody else wrote, such as a log.
func (p *Printer) Text(text string) { p.put(p.Out, text) }

// put writes text of any origin: the only way to the terminal, but for the bytes of a
// live session.
func (p *Printer) put(w io.Writer, text string) {
	if w == p.Out && p.Told != nil {
		*p.Told = append(*p.Told, ansi.Strip(strings.TrimSuffix(Escape(text), "\n")))
		return
	}
	_, _ = io.WriteString(w, Escape(text))
}

// Head prints a heading of data.
func (p *Printer) Head(text string) { p.Line("%s", p.style(styleHead, text)) }

// least is the narrowest terminal that is written for.
const least = 40

// Wrap prints words, broken at the terminal's width, each line after the first
// indented as the first one's text begins.
func (p *Printer) Wrap(indent, text string) { p.wrapTo(p.Out, max(p.Width, least), indent, text) }

// NoteWrap is Wrap for what is no data.
func (p *Printer) NoteWrap(indent, text string) {
	if p.ErrWidth == 0 {
		p.Note("%s%s", indent, text)
		return
	}
	p.wrapTo(p.Err, max(p.ErrWidth, least), indent, text)
}

// leastText is how many columns words have beside an indent, however wide that is; such lines are longer than the terminal is wide.
const leastText = 12

func (p *Printer) wrapTo(w io.Writer, width int, indent, text string) {
	for _, line := range wrap(text, max(width-ansi.StringWidth(indent), leastText)) {
		p.put(w, strings.TrimRight(indent+line, " ")+"\n")
		indent = strings.Repeat(" ", ansi.StringWidth(indent))
	}
}

// Count prints a number with its noun: 1 note, 2 notes.
func Count(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

// wrap breaks text at spaces alone: nothing that is to be copied, such as a time
// or a name with hyphens, is torn, unless it is wider than a whole line. A width below 1 stands for none.
func wrap(text string, width int) (lines []string) {
	if w, ascii := asciiWidth(text); ascii && w <= width && !strings.Contains(text, "  ") && !strings.HasPrefix(text, " ") {
		return []string{text}
	}
	line := ""
	for word := range strings.SplitSeq(oneLine(text), " ") {
		if widthOf(word) > width {
			if line != "" {
				lines, line = append(lines, line), ""
			}
			parts := strings.Split(ansi.Hardwrap(word, width, true), "\n")
			lines, word = append(lines, parts[:len(parts)-1]...), parts[len(parts)-1]
		}
		switch {
		case line == "":
			line = word
		case widthOf(line)+1+widthOf(word) > width:
			lines, line = append(lines, line), word
		default:
			line += " " + word
		}
	}
	return append(lines, line)
}

// JSON prints one document.
func (p *Printer) JSON(v any) error { return p.json(v, "  ") }

// JSONLine prints one document on one line.
func (p *Printer) JSONLine(v any) error { return p.json(v, "") }

func (p *Printer) json(v any, indent string) error {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	e.SetIndent("", indent)
	if err := e.Encode(v); err != nil {
		return err
	}
	p.Documents++
	_, err := io.WriteString(p.Out, escapeJSON(b.String()))
	return err
}

// JSONList prints a document of a moment and a list, which may be longer than memory has room for: what JSON prints of a struct of
// the two.
func (p *Printer) JSONList(at time.Time, key string, list iter.Seq[any]) error {
	out := bufio.NewWriterSize(p.Out, 1<<16)
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	e.SetIndent("    ", "  ")
	moment, err := json.Marshal(at)
	if err != nil {
		return err
	}
	p.Documents++
	fmt.Fprintf(out, "{\n  \"at\": %s,\n  %q: [", moment, key)
	n := 0
	for v := range list {
		b.Reset()
		if err := e.Encode(v); err != nil {
			return err
		}
		if n++; n > 1 {
			_ = out.WriteByte(',')
		}
		if _, err := out.WriteString("\n    " + escapeJSON(strings.TrimSuffix(b.String(), "\n"))); err != nil {
			return err
		}
	}
	if n > 0 {
		_, _ = out.WriteString("\n  ")
	}
	_, _ = out.WriteString("]\n}\n")
	return out.Flush()
}

// Table prints rows under heads (none where they are nil), fitted to the width:
// the widest columns are wrapped, words stand at the left and numbers (columns
// named in right) at the right.
func (p *Printer) Table(heads []string, rows [][]string, right ...int) {
	p.TableIn("", heads, rows, right...)
}

// TableIn is Table with each line indented.
func (p *Printer) TableIn(indent string, heads []string, rows [][]string, right ...int) {
	if len(rows) == 0 {
		return
	}
	all := rows
	if heads != nil {
		styled := make([]string, len(heads))
		for i, h := range heads {
			styled[i] = p.Quiet(h)
		}
		all = append([][]string{styled}, rows...)
	}
	widths, ok := fit(all, max(p.Width, least)-len(indent))
	if !ok {
		p.records(indent, heads, rows)
		return
	}
	for _, row := range all {
		cells, height := make([][]string, len(row)), 1
		for i, cell := range row {
			cells[i] = wrap(cell, widths[i])
			height = max(height, len(cells[i]))
		}
		for y := range height {
			b := strings.Builder{}
			b.WriteString(indent)
			for i, cell := range cells {
				text := ""
				if y < len(cell) {
					text = cell[y]
				}
				pad := strings.Repeat(" ", widths[i]-widthOf(text))
				if slices.Contains(right, i) {
					text = pad + text
				} else {
					text += pad
				}
				b.WriteString(text + "  ")
			}
			p.Line("%s", strings.TrimRight(b.String(), " "))
		}
	}
}

// records prints rows one below the other, a line for each cell, where there is
// no room for a table.
func (p *Printer) records(indent string, heads []string, rows [][]string) {
	wide := 0
	for _, h := range heads {
		wide = max(wide, widthOf(strings.TrimSpace(h)))
	}
	for n, row := range rows {
		if n > 0 && heads != nil {
			p.Line("")
		}
		if heads == nil {
			p.Wrap(indent, strings.Join(row, "  "))
			continue
		}
		for i, cell := range row {
			if cell != "" {
				head := strings.TrimSpace(heads[i])
				p.Wrap(indent+p.Quiet(head)+strings.Repeat(" ", wide-widthOf(head)+2), cell)
			}
		}
	}
}

// widthOf is how many columns a text takes.
func widthOf(text string) int {
	if w, ascii := asciiWidth(text); ascii {
		return w
	}
	return ansi.StringWidth(text)
}

// asciiWidth is widthOf for a text of printable ASCII, which is most of them; false for others.
func asciiWidth(text string) (int, bool) {
	for i := range len(text) {
		if text[i] < ' ' || text[i] > '~' {
			return 0, false
		}
	}
	return len(text), true
}

// fit finds widths for the columns: their natural ones where there is room, and
// otherwise the widest column gives way first, down to its longest word. It
// reports whether all words fit.
func fit(rows [][]string, width int) ([]int, bool) {
	widths, words := make([]int, len(rows[0])), make([]int, len(rows[0]))
	for _, row := range rows {
		for i, cell := range row {
			cell = oneLine(cell)
			widths[i] = max(widths[i], widthOf(cell))
			for word := range strings.SplitSeq(cell, " ") {
				words[i] = max(words[i], widthOf(word))
			}
		}
	}
	total := 2 * (len(widths) - 1)
	for _, w := range widths {
		total += w
	}
	for total > width {
		widest := -1
		for i, w := range widths {
			if w > words[i] && (widest < 0 || w > widths[widest]) {
				widest = i
			}
		}
		if widest < 0 {
			return nil, false
		}
		widths[widest]--
		total--
	}
	return widths, true
}
