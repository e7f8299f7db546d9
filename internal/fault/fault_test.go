package fault

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func printed(c Command) string { return "do " + strings.Join(c.Words(), " ") }

func TestKindsAndAdviceAreFoundThroughOtherErrors(t *testing.T) {
	busy := New(Conflict, "an enactment is unfinished", Say("complete it first: ").Run("enact"))
	for name, err := range map[string]error{
		"itself":  busy,
		"wrapped": fmt.Errorf("open: %w", busy),
		"joined":  errors.Join(errors.New("other"), fmt.Errorf("open: %w", busy)),
	} {
		assert.Equal(t, Conflict, KindOf(err), name)
		assert.Equal(t, "complete it first: do enact", AdviceOf(err).Text(printed), name)
	}
	assert.Equal(t, Failure, KindOf(errors.New("other")))
	assert.True(t, AdviceOf(errors.New("other")).IsZero())
	assert.Equal(t, "conflict", Conflict.String())
	assert.Equal(t, "unknown", kinds.String())
}

// TestAdviceIsAValue adds different ends to one beginning, and joins advice with some that is empty.
func TestAdviceIsAValue(t *testing.T) {
	begin := Say("either: ").Run("close", "3").Say(", or: ")
	one, other := begin.Run("narrow", "3"), begin.Run("extend", "3", "by", "1h")
	assert.Equal(t, "either: do close 3, or: do narrow 3", one.Text(printed))
	assert.Equal(t, "either: do close 3, or: do extend 3 by 1h", other.Text(printed))
	assert.False(t, one.Equal(other))
	assert.True(t, one.Equal(begin.Run("narrow", "3")))
	all := Join("; then ", Say(""), Run("start", "gauge-1"), Advice{}, Run("enact").Say(" goes on"))
	assert.Equal(t, "do start gauge-1; then do enact goes on", all.Text(printed))
	assert.Equal(t, []Command{{Verb: "start", Args: []string{"gauge-1"}}, {Verb: "enact"}}, all.Commands())
	args := []string{"3"}
	closes := Run("close", args...)
	args[0] = "4"
	assert.Equal(t, "do close 3", closes.Text(printed), "the caller's list is the caller's")
}

// TestAdviceIsKeptInJSON writes and reads drawn advice, and refuses what is no advice.
func TestAdviceIsKeptInJSON(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var a Advice
		for range rapid.IntRange(0, 4).Draw(t, "parts") {
			if rapid.Bool().Draw(t, "say") {
				a = a.Say(rapid.String().Draw(t, "text"))
			} else {
				a = a.Run(rapid.StringMatching(`[a-z]+`).Draw(t, "verb"), rapid.SliceOf(rapid.String()).Draw(t, "args")...)
			}
		}
		data, err := json.Marshal(struct{ A Advice }{a})
		require.NoError(t, err)
		var read struct{ A Advice }
		require.NoError(t, json.Unmarshal(data, &read))
		require.True(t, a.Equal(read.A), "%s", data)
	})
	for _, bad := range []string{`[{}]`, `[{"say":"x","run":["y"]}]`, `[{"run":[""]}]`, `{}`, `"x"`} {
		var a Advice
		require.Error(t, json.Unmarshal([]byte(bad), &a), bad)
	}
}
