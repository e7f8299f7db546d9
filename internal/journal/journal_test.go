package journal

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// TestAnyTamperingIsFound alters, drops or swaps one entry of a random chain.
func TestAnyTamperingIsFound(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var chain []Entry
		last := Entry{}
		for range rapid.IntRange(1, 8).Draw(t, "entries") {
			last = Next(last, Entry{
				At: time.Unix(rapid.Int64Range(0, 1<<32).Draw(t, "at"), 5), Person: rapid.String().Draw(t, "who"),
				Action: "open", Text: rapid.String().Draw(t, "text"), Data: rapid.String().Draw(t, "data"),
			})
			chain = append(chain, last)
		}
		i := rapid.IntRange(0, len(chain)-1).Draw(t, "i")
		bad := slices.Clone(chain)
		switch rapid.IntRange(0, 5).Draw(t, "how") {
		case 0:
			bad[i].Text += "x"
		case 1:
			bad[i].At = bad[i].At.Add(time.Nanosecond)
		case 2:
			bad = slices.Delete(bad, i, i+1)
		case 3:
			bad[i].Person, bad[i].Action = bad[i].Person+bad[i].Action, ""
		case 4:
			bad[i].Data += " "
			bad[i].Hash = bad[i].Sum()
		case 5:
			bad = bad[:i]
		}
		head := Head{last.Seq, last.Hash}
		require.Empty(t, Breaks(Head{}, chain, head))
		breaks := Breaks(Head{}, bad, head)
		require.NotEmpty(t, breaks)
		// The chain goes on behind the break, which stays the same one for ever.
		on := Next(last, Entry{Action: "close"})
		require.Equal(t, breaks, Breaks(Head{}, append(bad, on), Head{on.Seq, on.Hash}))
	})
	require.Empty(t, Breaks(Head{}, nil, Head{}))
}
