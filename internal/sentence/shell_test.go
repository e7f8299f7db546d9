package sentence_test

import (
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"ironbark/internal/sentence"
)

// TestAShellReadsTheWordsThatWereMeant has a shell print the words of drawn command lines.
func TestAShellReadsTheWordsThatWereMeant(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		words := rapid.SliceOfN(rapid.StringOf(rapid.RuneFrom([]rune("ab'\"$`\\ *?[]{}~#!&;|<>()\n\t=-…é"))), 1, 4).Draw(t, "words")
		out, err := exec.Command("sh", "-c", `printf '%s\0' `+sentence.Shell(words...)).Output()
		require.NoError(t, err)
		require.Equal(t, words, strings.Split(strings.TrimSuffix(string(out), "\x00"), "\x00"))
	})
	assert.Equal(t, `permit ops to open ssh to 'gauge-*' from 198.51.100.7 up to 1h`, sentence.Shell(sentence.CommandWords("permit ops to open ssh to gauge-* from 198.51.100.7 up to 1h")...))
	assert.Equal(t, `open ssh to role=web from everywhere for 1h because "…"`, sentence.Shell(sentence.CommandWords(`open ssh to role=web from everywhere for 1h because "…"`)...))
}
