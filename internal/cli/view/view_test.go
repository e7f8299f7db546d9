package view

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"ironbark/internal/fault"
	"ironbark/internal/sentence"
)

// TestNothingIsLostOrTorn prints random tables at random widths: no line is too
// wide, every word is there whole, and no line ends in spaces.
func TestNothingIsLostOrTorn(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		word := rapid.StringMatching(`[a-z0-9ü:/.-]{1,18}`)
		cell := rapid.Custom(func(t *rapid.T) string {
			return strings.Join(rapid.SliceOfN(word, 0, 6).Draw(t, "words"), " ")
		})
		columns := rapid.IntRange(1, 5).Draw(t, "columns")
		rows := rapid.SliceOfN(rapid.SliceOfN(cell, columns, columns), 1, 4).Draw(t, "rows")
		heads := []string{"ONE", "TWO", "THREE", "FOUR", "FIVE"}[:columns]
		var out bytes.Buffer
		p := &Printer{Out: &out, Width: rapid.IntRange(20, 120).Draw(t, "width"), Colour: rapid.Bool().Draw(t, "colour")}
		p.Table(heads, rows, 0)
		text := ansi.Strip(out.String())
		for line := range strings.Lines(text) {
			line = strings.TrimSuffix(line, "\n")
			require.LessOrEqual(t, ansi.StringWidth(line), max(p.Width, least))
			require.Equal(t, strings.TrimRight(line, " "), line)
		}
		printed := strings.Fields(text)
		for _, row := range rows {
			for _, c := range row {
				for _, w := range strings.Fields(c) {
					require.Contains(t, printed, w)
				}
			}
		}
	})
}

// TestWordsWiderThanALineAreToldWhole wraps words of any width, some of them styled, beside indents that leave hardly any room.
func TestWordsWiderThanALineAreToldWhole(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		colour := &Printer{Colour: true}
		word := rapid.Custom(func(t *rapid.T) string {
			word := rapid.StringMatching(`[a-z0-9ü潮/.-]{1,90}`).Draw(t, "word")
			if rapid.Bool().Draw(t, "styled") {
				word = colour.Bad(word)
			}
			return word
		})
		text := strings.Join(rapid.SliceOfN(word, 0, 6).Draw(t, "words"), " ")
		width := rapid.IntRange(-5, 60).Draw(t, "width")
		lines := wrap(text, width)
		together := func(text string) string { return strings.ReplaceAll(ansi.Strip(text), " ", "") }
		require.Equal(t, together(text), together(strings.Join(lines, "")))
		for _, line := range lines {
			require.True(t, width < 2 || ansi.StringWidth(line) <= width, line)
		}
	})
	var out bytes.Buffer
	p := &Printer{Out: &out, Width: least}
	p.Table([]string{"MACHINE", strings.Repeat("·", 2*least), "WHY"}, [][]string{{"gauge-1", strings.Repeat("━", least), "new firmware"}})
	p.Wrap(strings.Repeat("m", 63)+"  ", "opening 7")
	require.Equal(t, []string{"MACHINE", "gauge-1"}, strings.Fields(out.String())[:2])
	require.Contains(t, out.String(), strings.Repeat("m", 63)+"  opening 7\n")
}

func TestTheCaretStandsUnderTheMistake(t *testing.T) {
	line := "allow\thttps form everywhere to gauge-web-1"
	shown, caret := caretUnder(line, 13, 80)
	assert.Equal(t, "allow https form everywhere to gauge-web-1", shown)
	assert.Equal(t, strings.Index(shown, "form"), strings.Index(caret, "^"))
	long := strings.Repeat("x", 300) + " here " + strings.Repeat("y", 300)
	shown, caret = caretUnder(long, 302, 60)
	assert.LessOrEqual(t, ansi.StringWidth(shown), 60)
	assert.Equal(t, "here", string([]rune(shown)[strings.Index(caret, "^"):][:4]))
	shown, caret = caretUnder("größe: 漢字 x", 11, 80)
	assert.Equal(t, ansi.StringWidth("größe: 漢字 "), strings.Index(caret, "^"), shown)
}

func TestErrorsTellPlaceLineCaretAndHint(t *testing.T) {
	var out bytes.Buffer
	p := &Printer{Err: &out}
	p.Error(sentence.Errors{{At: sentence.Pos{File: "estate.rules", Line: 3, Col: 7}, Line: "allow htps from office to all", Problem: "there is no service “htps”", Remedy: fault.Say("did you mean “https”?")}})
	assert.Equal(t, "ironbark: estate.rules:3:7: there is no service “htps”\n    allow htps from office to all\n          ^\n    did you mean “https”?\n", out.String())
}

func TestLeftTellsAtMostTwoUnits(t *testing.T) {
	now := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	for d, want := range map[time.Duration]string{
		-time.Second: "over", 0: "over", time.Millisecond: "1s", 59*time.Second + 900*time.Millisecond: "1m",
		90 * time.Minute: "1h30m", time.Hour + 59*time.Second: "1h", 50*time.Hour + time.Second: "2d2h",
	} {
		assert.Equal(t, want, Left(now.Add(d), now), d)
	}
	assert.Equal(t, "10:00:00Z", Moment(now.Add(time.Hour), now))
	assert.Equal(t, "2026-11-24 09:00Z", Moment(now.Add(24*time.Hour), now))
}
