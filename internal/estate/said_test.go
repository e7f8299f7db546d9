package estate_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"ironbark/internal/estate"
	"ironbark/internal/sentence"
)

// TestWhatIsReadLaterIsTheSame reads files whole, and again as files that are known: all sentences, those of some verbs, and beside another
// estate that has most of them, at other lines too.
func TestWhatIsReadLaterIsTheSame(t *testing.T) {
	nouns := estate.File{Name: estate.FileName, Data: []byte("estate: small\nsite: sim\npeople: {mara: {groups: [ops]}, tom: {}}\n")}
	pool := []string{
		"allow https from everywhere to web", "deny any from 192.0.2.0/24 to all # spring tide", "permit ops to open ssh to all from everywhere up to 1h", "\tpermit tom to open rdp to all from internet up to 2h",
		"never ssh from internet to all standing", "always https from internet to web", "route ssh to all via beacon for ops, tom", "", "# nothing", "   ", "forward pier tcp/8022 to web on ssh", "permit tides to open ssh to all from everywhere up to 1h\r",
	}
	verbs := []sentence.Verb{sentence.VerbAllow, sentence.VerbDeny, sentence.VerbForward, sentence.VerbRoute, sentence.VerbPermit, sentence.VerbNever, sentence.VerbAlways}
	rapid.Check(t, func(t *rapid.T) {
		files := []estate.File{nouns}
		var edited []estate.File
		for i := range rapid.IntRange(0, 2).Draw(t, "files") {
			lines := rapid.SliceOf(rapid.SampledFrom(pool)).Draw(t, "lines")
			name := fmt.Sprintf("%c.rules", 'a'+i)
			files = append(files, estate.File{Name: name, Data: []byte(strings.Join(lines, "\n"))})
			at := rapid.IntRange(0, len(lines)).Draw(t, "at")
			more := append(append(append([]string{}, lines[:at]...), rapid.SliceOfN(rapid.SampledFrom(pool), 0, 2).Draw(t, "more")...), lines[min(len(lines), at+rapid.IntRange(0, 1).Draw(t, "gone")):]...)
			edited = append(edited, estate.File{Name: name, Data: []byte(strings.Join(more, "\n"))})
		}
		whole, err := estate.ReadEnactedFiles(files)
		require.NoError(t, err)
		other, err := estate.ReadEnactedFiles(append([]estate.File{nouns}, edited...))
		require.NoError(t, err)
		later, err := estate.ReadEnactedAgain(files)
		require.NoError(t, err)
		beside, err := estate.ReadEnactedAgain(files)
		require.NoError(t, err)
		some := rapid.SliceOfDistinct(rapid.SampledFrom(verbs), func(v sentence.Verb) sentence.Verb { return v }).Draw(t, "verbs")
		require.Equal(t, whole.SentencesOf(some...), later.SentencesOf(some...))
		for _, person := range []string{"mara", "tom", "nobody"} {
			var want, got []string
			for m := range whole.PermitsOf(person) {
				want = append(want, m.String())
			}
			for m := range later.PermitsOf(person) {
				got = append(got, m.String())
			}
			require.Equal(t, want, got)
		}
		beside.ReadLike(other)
		for _, e := range []*estate.Estate{later, beside} {
			require.Equal(t, len(whole.Sentences()), len(e.Sentences()))
			for i, st := range whole.Sentences() {
				require.Equal(t, st, e.Sentences()[i])
			}
		}
		more := sentence.Statement{Sentence: sentence.MustParse("never rdp from internet to all")}
		require.Equal(t, append(append([]sentence.Statement{}, whole.Sentences()...), more), later.With(more).Sentences())
		require.Equal(t, whole.With(more).SentencesOf(sentence.VerbNever), later.With(more).SentencesOf(sentence.VerbNever))
	})
}
