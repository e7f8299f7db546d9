package view

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ironbark/internal/sentence"
)

// FuzzEscape prints any text in each way there is: nothing of it acts on a terminal,
// and what does show stays.
func FuzzEscape(f *testing.F) {
	for _, text := range []string{"plain", "\x1b[31mred\x1b[m", "a\u202eb", "\u009b2J", "\xff\xfe", "line\nline", "tab\t", "é\u200d漢"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if strings.Contains(text, styleMark) {
			return // nobody can know it
		}
		var out bytes.Buffer
		p := &Printer{Out: &out, Err: &out, Width: 60, ErrWidth: 60}
		p.Line("%s", text)
		p.Text(text)
		p.Wrap("  ", text)
		p.NoteWrap("  ", text)
		p.Table([]string{"A", "B"}, [][]string{{text, "b"}})
		require.NoError(t, p.JSONLine(text))
		for _, r := range strings.ReplaceAll(out.String(), "\n", "") {
			require.False(t, sentence.Invisible(r), "%q acts on a terminal in %q", r, out.String())
		}
		require.True(t, utf8.ValidString(out.String()))
		var back string
		last := strings.Split(strings.TrimRight(out.String(), "\n"), "\n")
		require.NoError(t, json.Unmarshal([]byte(last[len(last)-1]), &back))
		assert.Equal(t, string([]rune(text)), back)
	})
}

func TestOwnStylesPassAndOthersDoNot(t *testing.T) {
	var out bytes.Buffer
	p := &Printer{Out: &out, Width: 60, Colour: true}
	p.Table([]string{"STATE", "WHY"}, [][]string{{p.Open("open"), "\x1b[2K\x1b[1;38;5;208mopen"}})
	assert.Contains(t, out.String(), "\x1b[1;38;5;208mopen\x1b[m")
	assert.Contains(t, out.String(), `\x1b[2K\x1b[1;38;5;208mopen`)
	assert.Equal(t, 2, strings.Count(out.String(), "\n"))
}
