package view

import (
	"io"
	"strings"

	"github.com/charmbracelet/x/ansi"
)

// Screen is a terminal that is drawn anew in place. What was there before is there again once
// it is left.
type Screen struct{ out io.Writer }

// EnterScreen takes the printer's terminal.
func (p *Printer) EnterScreen() *Screen {
	_, _ = io.WriteString(p.Out, ansi.SetModeAltScreenSaveCursor+ansi.HideCursor)
	return &Screen{p.Out}
}

// Leave gives the terminal back.
func (s *Screen) Leave() {
	_, _ = io.WriteString(s.out, ansi.ShowCursor+ansi.ResetModeAltScreenSaveCursor)
}

// Draw puts lines in place of what stands there, in one write, so that nothing flickers: each
// line over the one before, cut at the width, and nothing below the height. They are what a
// printer has printed.
func (s *Screen) Draw(lines []string, width, height int) {
	var b strings.Builder
	b.WriteString(ansi.SetModeSynchronizedOutput + ansi.CursorHomePosition)
	for i := range min(len(lines), height) {
		if i > 0 {
			b.WriteString("\r\n")
		}
		b.WriteString(ansi.Truncate(lines[i], width, "…") + ansi.EraseLineRight)
	}
	b.WriteString(ansi.EraseScreenBelow + ansi.ResetModeSynchronizedOutput)
	_, _ = io.WriteString(s.out, b.String())
}
