package estate_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"ironbark/internal/estate"
	"ironbark/internal/sentence"
)

// TestEditedFilesAreAsIfReadWhole draws two texts of a rules file, and reads the second one by the lines that differ.
func TestEditedFilesAreAsIfReadWhole(t *testing.T) {
	pool := []string{
		"", "\n", "\n", "# nothing\n", "allow https from everywhere to all\n", "allow https from everywhere to all # why\n", "allow  https from everywhere to all\r\n",
		"deny any from 192.0.2.0/24 to all\n", "never ssh from internet to all\n", "allow https from nowhere-known to all\n", "allow https\n", "forward pier tcp/8022 to web on ssh\n",
		"\xef\xbb\xbf", "allow http from 192.0.2.7 to web", "permit ops to open ssh to web from everywhere up to 1h\n",
	}
	text := func(t *rapid.T, name string) string {
		return strings.Join(rapid.SliceOfN(rapid.SampledFrom(pool), 0, 6).Draw(t, name), "")
	}
	nouns := estate.File{Name: estate.FileName, Data: []byte("estate: saltmarsh\nsite: sim\npeople: {mara: {groups: ops}}\nnetworks: {estuary: {space: 10.60.0.0/16, outside: true, subnets: {shore: {range: 10.60.1.0/24}}}}\n" +
		"machines: {web: {at: shore, size: c1m1, image: debian-12}}\nfronts: {pier: {network: estuary, address: auto}}\n")}
	read := func(text string) ([]estate.File, *estate.Estate, error) {
		files := []estate.File{nouns, {Name: estate.RulesName, Data: []byte(text)}}
		e, err := estate.ReadFiles(files)
		return files, e, err
	}
	_, _, sound := read("")
	require.NoError(t, sound)
	quick := 0
	rapid.Check(t, func(t *rapid.T) {
		first := text(t, "first")
		head, tail := rapid.IntRange(0, len(first)).Draw(t, "head"), rapid.IntRange(0, len(first)).Draw(t, "tail")
		old, e, err := read(first)
		if err != nil {
			return
		}
		files, whole, err := read(first[:head] + text(t, "between") + first[max(head, tail):])
		edited, d, ok := e.Edited(old, files)
		if !ok {
			return
		}
		quick++
		require.NoError(t, err, "what is wrong is found where files are read whole")
		assert.Equal(t, whole.Sentences(), edited.Sentences())
		assert.Equal(t, whole.SentencesOf(sentence.VerbDeny, sentence.VerbAllow), edited.SentencesOf(sentence.VerbDeny, sentence.VerbAllow))
		var left []sentence.Statement // what stays, on the lines where it stands by then, and what came
		out := map[int]bool{}
		for _, st := range d.Out {
			out[st.At.Line] = true
		}
		for _, st := range e.Sentences() {
			if !out[st.At.Line] {
				st.At.Line = d.Moved(st.At.File, st.At.Line)
				left = append(left, st)
			}
		}
		for _, st := range append(left, d.In...) {
			assert.True(t, holds(whole.Sentences(), st), "%v", st)
		}
		assert.Len(t, whole.Sentences(), len(left)+len(d.In))
	})
	assert.Greater(t, quick, 10)
}

func holds(list []sentence.Statement, st sentence.Statement) bool {
	for _, s := range list {
		if s.At.Line == st.At.Line && s.Text == st.Text {
			return true
		}
	}
	return false
}

// TestLinesThatMoveAreFound takes out and puts in lines of files that are right, and reads each by what differs: nothing has to be read whole.
func TestLinesThatMoveAreFound(t *testing.T) {
	nouns := estate.File{Name: estate.FileName, Data: []byte("estate: saltmarsh\nsite: sim\nnetworks: {estuary: {space: 10.60.0.0/16, outside: true, subnets: {shore: {range: 10.60.1.0/24}}}}\nmachines: {web: {at: shore, size: c1m1, image: debian-12}}\n")}
	read := func(t *rapid.T, lines []string, end string) ([]estate.File, *estate.Estate) {
		files := []estate.File{nouns, {Name: estate.RulesName, Data: []byte(strings.Join(lines, "\n") + end)}}
		e, err := estate.ReadFiles(files)
		require.NoError(t, err)
		return files, e
	}
	rapid.Check(t, func(t *rapid.T) {
		draw := func(most int, label string) (lines []string) {
			for range rapid.IntRange(0, most).Draw(t, label) {
				lines = append(lines, rapid.SampledFrom([]string{"", "# a remark", "deny any from 192.0.2.7 to all", fmt.Sprintf("allow tcp/%d from internet to web", rapid.IntRange(8001, 8009).Draw(t, "port"))}).Draw(t, "line"))
			}
			return lines
		}
		head, tail := draw(5, "head"), draw(5, "tail")
		end := rapid.SampledFrom([]string{"", "\n"}).Draw(t, "end")
		old, e := read(t, slices.Concat(head, draw(3, "before"), tail), end)
		files, whole := read(t, slices.Concat(head, draw(3, "after"), tail), end)
		edited, d, ok := e.Edited(old, files)
		require.True(t, ok)
		require.Equal(t, whole.Sentences(), edited.Sentences())
		require.Equal(t, whole.SentencesOf(sentence.VerbDeny), edited.SentencesOf(sentence.VerbDeny))
		most := 3 + len("\n") - len(end) // a last line without an end of line differs from the same one with it
		require.LessOrEqual(t, max(len(d.In), len(d.Out)), most, "what is the same at the beginning and the end is not looked at")
		out := map[int]bool{}
		for _, st := range d.Out {
			out[st.At.Line] = true
		}
		for _, st := range e.Sentences() {
			if moved := d.Moved(st.At.File, st.At.Line); !out[st.At.Line] {
				require.True(t, d.MovesLines() || moved == st.At.Line)
				st.At.Line = moved
				require.True(t, holds(whole.Sentences(), st), "%v", st)
			}
		}
	})

	lines := func(n int) []string { return slices.Repeat([]string{"deny any from 192.0.2.7 to all"}, n) }
	for n, quick := range map[int]bool{1000: true, 1001: false} { // more are read whole
		for _, sides := range [][2]int{{0, n}, {n, 0}} {
			old := []estate.File{nouns, {Name: estate.RulesName, Data: []byte(strings.Join(append(lines(sides[0]), ""), "\n"))}}
			e, err := estate.ReadFiles(old)
			require.NoError(t, err)
			_, _, ok := e.Edited(old, []estate.File{nouns, {Name: estate.RulesName, Data: []byte(strings.Join(append(lines(sides[1]), ""), "\n"))}})
			assert.Equal(t, quick, ok, "%d lines", n)
		}
	}
}
