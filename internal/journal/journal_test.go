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

// TestBreaksAreToldInWords breaks a chain of five entries at one place each.
func TestBreaksAreToldInWords(t *testing.T) {
	var chain []Entry
	for range 5 {
		var last Entry
		if len(chain) > 0 {
			last = chain[len(chain)-1]
		}
		chain = append(chain, Next(last, Entry{Action: "open"}))
	}
	head := Head{5, chain[4].Hash}
	told := func(head Head, entries ...Entry) (list []string) {
		for _, b := range Breaks(Head{}, entries, head) {
			list = append(list, b.String())
		}
		return list
	}
	altered, other := slices.Clone(chain), Next(chain[1], Entry{Action: "close"})
	altered[2].Text = "x"
	for name, c := range map[string]struct {
		entries []Entry
		head    Head
		want    []string
	}{
		"whole":              {chain, head, nil},
		"altered":            {altered, head, []string{"entry 3 was altered"}},
		"one is missing":     {slices.Delete(slices.Clone(chain), 2, 3), head, []string{"entry 3 is missing"}},
		"two are missing":    {slices.Delete(slices.Clone(chain), 1, 3), head, []string{"entry 2 and those up to 3 are missing"}},
		"another stands":     {slices.Replace(slices.Clone(chain), 2, 3, other), head, []string{"entry 3 is not the one that was recorded"}},
		"the end is gone":    {chain[:4], head, []string{"entry 5 is missing"}},
		"more of it is gone": {chain[:2], head, []string{"entry 3 and those up to 5 are missing"}},
		"one was added":      {chain, Head{4, chain[3].Hash}, []string{"entry 5 was added by something else"}},
		"another end":        {append(slices.Clone(chain[:2]), other), Head{3, chain[2].Hash}, []string{"entry 3 is not the one that was recorded"}},
	} {
		require.Equal(t, c.want, told(c.head, c.entries...), name)
	}
}

func TestNoClockGoesBackUnseen(t *testing.T) {
	latest := time.Unix(1000, 0)
	for clock, want := range map[time.Duration]struct{ now, behind time.Duration }{
		time.Second: {time.Second, 0}, 0: {0, 0}, -time.Second: {0, 0}, -time.Minute: {0, 0}, -time.Minute - 1: {0, time.Minute + 1},
	} {
		now, behind := Later(latest.Add(clock), latest)
		require.Equal(t, latest.Add(want.now), now, clock)
		require.Equal(t, want.behind, behind, clock)
	}
}
