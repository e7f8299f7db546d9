package estate

import (
	"errors"
	"flag"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

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
				if !e.Remedy.IsZero() {
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

// TestWhatDoesNotShowIsRefusedInDrafts: what was enacted passed that check, or was enacted before there was one.
func TestWhatDoesNotShowIsRefusedInDrafts(t *testing.T) {
	const sound = "estate: a\nsite: sim\nsources: {office: 192.0.2.0/24}\n"
	for nouns, rule := range map[string]string{sound: "deny any from office to 192.0.2.7 because \"x\u202ey\"", sound + "people: {mara: {email: \"x\u202ey\"}}\n": ""} {
		files := []File{{FileName, []byte(nouns)}, {RulesName, []byte(rule)}}
		_, err := ReadFiles(files)
		require.ErrorContains(t, err, "which does not show")
		_, err = ReadEnactedFiles(files)
		require.False(t, err != nil && strings.Contains(err.Error(), "does not show"), err)
	}
}

func TestADiskHasSoManyGigabytes(t *testing.T) {
	for text, want := range map[string]int{"40": 40, "1GB": 1, "2TB": 2000, fmt.Sprint(MaxGB): MaxGB, fmt.Sprintf("%dTB", MaxGB/1000): MaxGB / 1000 * 1000, "0": 0, "-1": 0, fmt.Sprint(MaxGB + 1): 0, fmt.Sprintf("%dTB", MaxGB/1000+1): 0, "2 TB": 0, "x": 0, "": 0} {
		got, err := ParseGB(text)
		assert.Equal(t, want, got, text)
		assert.Equal(t, want == 0, err != nil, text)
	}
}

// TestAWordForEverywhereIsNotTakenForAName: whoever says anyone where something is called so may mean either.
func TestAWordForEverywhereIsNotTakenForAName(t *testing.T) {
	for name, refused := range map[string]bool{"anyone": true, "office": false} {
		e, err := Read(File{FileName, []byte("estate: a\nsite: sim\nsources: {" + name + ": 192.0.2.0/24}\nnetworks: {e: {space: 10.0.0.0/16, subnets: {s: {range: 10.0.0.0/24}}}}\nmachines: {web: {image: i, size: s, at: s}}\n")})
		require.NoError(t, err)
		s, read, err := sentence.ParseTyped(strings.Fields("allow https from anyone to web"), time.Time{})
		require.NoError(t, err)
		require.True(t, read)
		require.Equal(t, refused, e.CheckSentence(s) != nil)
	}
}

// TestCommentsShow refuses what does not show in the comments of each file, read whole and as an edit of some lines.
func TestCommentsShow(t *testing.T) {
	nouns := "estate: small\nsite: sim\npeople: {mara: {groups: [ops]}}\nnetworks: {estuary: {space: [10.60.0.0/16], subnets: {landing: {range: 10.60.1.0/24}}}}\nmachines: {web: {image: i, size: s, at: landing}}\n"
	rules := "# why: tides\npermit ops to open ssh to all from everywhere up to 1h\n"
	good, err := Read(File{FileName, []byte(nouns)}, File{RulesName, []byte(rules)})
	require.NoError(t, err)
	for _, hidden := range []string{"\u202e", "\u2066", "\x1b[2J", "\u2028", "\x7f", "\u200b", "\x00"} {
		comment := "# ab" + hidden + "cd\n"
		_, err := Read(File{FileName, []byte(nouns)}, File{RulesName, []byte(rules + comment)})
		require.Error(t, err, "%q", hidden)
		assert.Contains(t, err.Error(), RulesName+":3:1: the comment has ", "%q", hidden)
		_, err = Read(File{FileName, []byte(nouns + comment)}, File{RulesName, []byte(rules)})
		require.Error(t, err, "%q", hidden)
		assert.Contains(t, err.Error(), FileName)
		old := []File{{FileName, []byte(nouns)}, {RulesName, []byte(rules)}}
		_, _, ok := good.Edited(old, []File{old[0], {RulesName, []byte(rules + comment)}})
		assert.False(t, ok)
		_, err = ReadEnacted(File{FileName, []byte(nouns)}, File{RulesName, []byte(rules + comment)})
		assert.NoError(t, err, "what was enacted is read")
	}
	for _, fine := range []string{"é", "\t", "\u200c", "漢", "…"} {
		_, err := Read(File{FileName, []byte(nouns + "# a" + fine + "\n")}, File{RulesName, []byte(rules + "# a" + fine + "\r\n")})
		assert.NoError(t, err, "%q", fine)
	}
}
