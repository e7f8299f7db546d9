package estate_test

import (
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
