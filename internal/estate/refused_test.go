package estate

import (
	"errors"
	"flag"
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ironbark/internal/sentence"
)

var update = flag.Bool("update", false, "write what is told into the golden files")

// TestWhatIsRefused alters the files in testdata/refused.txt in one place at a time, and compares what is told with what stands there: the edit, “what stood => what
// stands”, before the errors, each with its place and its remedy. An edit after which all is well has none.
func TestWhatIsRefused(t *testing.T) {
	const path = "testdata/refused.txt"
	golden, err := os.ReadFile(path)
	require.NoError(t, err)
	head, edits, _ := strings.Cut(string(golden), "\n== edits\n")
	nouns, rules, _ := strings.Cut(head, "\n== rules\n")
	var out strings.Builder
	out.WriteString(head + "\n== edits\n")
	for line := range strings.Lines(edits) {
		edit, isEdit := strings.CutPrefix(strings.TrimSuffix(line, "\n"), "> ")
		switch {
		case !isEdit && (strings.HasPrefix(line, "#") || line == "\n"):
			out.WriteString(line)
		case isEdit:
			old, now, _ := strings.Cut(edit, " => ")
			now = strings.ReplaceAll(now, "¶", "\n")
			require.Contains(t, head, old)
			_, err := readBoth(strings.Replace(nouns, old, now, 1), strings.Replace(rules, old, now, 1))
			out.WriteString("> " + edit + "\n")
			es, _ := errors.AsType[sentence.Errors](err)
			for _, e := range es {
				fmt.Fprintf(&out, "  %s", e.Error())
				if e.Remedy != "" {
					fmt.Fprintf(&out, " / %s", e.Remedy)
				}
				out.WriteString("\n")
			}
		}
	}
	if *update {
		require.NoError(t, os.WriteFile(path, []byte(out.String()), 0o644))
	}
	assert.Equal(t, string(golden), out.String())
}

// TestWhatIsNoTextIsTold puts bytes that are no UTF-8 into the file, and looks at the place that is told.
func TestWhatIsNoTextIsTold(t *testing.T) {
	const sound = "estate: a\nsite: sim\nnetworks: {n: {space: [10.60.0.0/16]}}\n"
	for bad, place := range map[string]string{"# \xff\n": "estate.yaml:4:3", "#é\xc3(\n": "estate.yaml:4:3", "\n\xed\xa0\x80\n": "estate.yaml:5:1"} {
		_, err := readBoth(sound+bad, "")
		es, _ := errors.AsType[sentence.Errors](err)
		require.NotEmpty(t, es, "%q", bad)
		assert.Contains(t, es[0].Error(), place+": this is not UTF-8 text", "%q", bad)
	}
	_, err := readBoth(sound+"# \ufffd é 潮\n", "")
	require.NoError(t, err)
}
