package sentence

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
)

var update = flag.Bool("update", false, "write what is read into the golden files")

// TestWordsAsPeopleTypeThem reads phrases that are no sentences, or are said otherwise, and compares what is made of them with testdata/typed.txt, in which each phrase
// stands before its answer: the sentence as it is printed, whether it was read as another one, and otherwise the error and the sentence that is offered.
func TestWordsAsPeopleTypeThem(t *testing.T) {
	const path = "testdata/typed.txt"
	golden, err := os.ReadFile(path)
	require.NoError(t, err)
	var out strings.Builder
	for line := range strings.Lines(string(golden)) {
		phrase, isPhrase := strings.CutPrefix(strings.TrimSuffix(line, "\n"), "> ")
		switch {
		case !isPhrase && (strings.HasPrefix(line, "#") || line == "\n"):
			out.WriteString(line)
		case isPhrase:
			fmt.Fprintf(&out, "> %s\n%s\n", phrase, typed(phrase))
		}
	}
	if *update {
		require.NoError(t, os.WriteFile(path, []byte(out.String()), 0o644))
	}
	assert.Equal(t, string(golden), out.String())
}

// typed tells in a line what is made of a phrase.
func typed(phrase string) string {
	now := time.Date(2026, 11, 23, 9, 5, 0, 0, time.UTC)
	args := strings.Fields(phrase)
	s, read, err := ParseTyped(args, now)
	var wrong *Error
	switch {
	case errors.As(err, &wrong):
		text := "  ! " + wrong.Problem
		if !wrong.Remedy.IsZero() {
			text += " / " + wrong.Remedy.String()
		}
		if probably := Guess(args, now); !strings.HasSuffix(text, probably) {
			text += " / guessed: " + probably
		}
		return text
	case read:
		return "  read as " + s.String()
	}
	return "  = " + s.String()
}

func TestLengthsAndMoments(t *testing.T) {
	for text, want := range map[string]string{
		"45m": "45m", "1h30m": "1h30m", "90m": "1h30m", "3d": "3d", "1d1h1m1s": "1d1h1m1s", "3650d": "3650d", "86400s": "1d", "000000001h": "1h",
		"": "!is no length of time", "0s": "!more than zero", "3651d": "!at most 3650 days", "3650d1s": "!at most 3650 days", "h": "!is no length", "1": "!is no length", "1x": "!is no length",
		"1m1h": "!is no length", "1h1h": "!is no length", "1234567890s": "!is no length", "-1h": "!is no length", "1.5h": "!is no length",
	} {
		d, err := ParseDuration(text)
		if problem, wrong := strings.CutPrefix(want, "!"); wrong {
			require.ErrorContains(t, err, problem, text)
			assert.True(t, d.IsZero())
			continue
		}
		require.NoError(t, err, text)
		assert.Equal(t, want, d.String())
		assert.Equal(t, d, DurationOf(d.Length()+999*time.Millisecond))
		assert.False(t, d.IsZero())
	}
	assert.Equal(t, "0s", DurationOf(-time.Second).String())
	berlin, err := time.LoadLocation("Europe/Berlin")
	require.NoError(t, err)
	for _, c := range []struct {
		text  string
		typed bool
		now   time.Time
		want  string
	}{
		{"18:00", true, time.Date(2026, 11, 23, 9, 5, 0, 0, time.UTC), "2026-11-23T18:00:00Z"},
		{"09:05", true, time.Date(2026, 11, 23, 9, 5, 0, 0, time.UTC), "2026-11-24T09:05:00Z"},
		{"09:06", true, time.Date(2026, 11, 23, 9, 5, 59, 0, time.UTC), "2026-11-23T09:06:00Z"},
		{"02:30", true, time.Date(2027, 3, 27, 12, 0, 0, 0, berlin), "2027-03-29T02:30:00+02:00"}, // on the 28th there is no such hour
		{"9:05", true, time.Time{}, "!is no time: write it as 2026-11-23T18:00:00Z or 18:00"},
		{"noon", false, time.Time{}, "!is no time: write it as 2026-11-23T18:00:00Z"},
		{"18:00", false, time.Time{}, "!a file holds whole times"},
		{"2026-11-23T18:00:00.5+01:00", false, time.Time{}, "2026-11-23T18:00:00.5+01:00"},
		{"9999-12-31T23:59:59Z", false, time.Time{}, "9999-12-31T23:59:59Z"},
		{"9999-12-31T23:59:59-01:00", false, time.Time{}, "!beyond the year 9999"},
		{"0001-01-01T00:00:00Z", false, time.Time{}, "!too long ago"},
		{"0000-06-01T00:00:00Z", false, time.Time{}, "!too long ago"},
		{"0001-01-01T00:00:01Z", false, time.Time{}, "0001-01-01T00:00:01Z"},
	} {
		at, err := parseTime(c.text, c.typed, c.now)
		if problem, wrong := strings.CutPrefix(c.want, "!"); wrong {
			require.ErrorContains(t, err, problem, c.text)
			continue
		}
		require.NoError(t, err, c.text)
		assert.Equal(t, c.want, printTime(at))
	}
}

// TestBounds goes to the last length, number and error that there may be, and one further.
func TestBounds(t *testing.T) {
	const head, tail = "allow https from everywhere to all because \"", "\""
	line := func(length int) string { return head + strings.Repeat("a", length-len(head)-len(tail)) + tail }
	_, err := Parse(line(MaxLine))
	require.NotContains(t, fmt.Sprint(err), "at most")
	_, err = Parse(line(MaxLine + 1))
	require.ErrorContains(t, err, fmt.Sprintf("the sentence is %d bytes long; at most %d are read", MaxLine+1, MaxLine))
	_, err = ParseArgs([]string{line(MaxLine - 1)}, time.Time{}) // each argument is counted with what parts it from the next
	require.NotContains(t, fmt.Sprint(err), "at most")
	_, err = ParseArgs([]string{line(MaxLine)}, time.Time{})
	require.ErrorContains(t, err, "at most")

	many := func(n int) []byte { return []byte(strings.Repeat("allow https\n# nothing\n\n", n)) }
	for n, want := range map[int]int{1: 1, MostErrors: MostErrors, MostErrors + 1: MostErrors} {
		_, err := ParseFile("f", many(n))
		var errs Errors
		require.ErrorAs(t, err, &errs)
		assert.Len(t, errs, want)
		assert.Equal(t, 1, errs[0].At.Line)
	}
	_, err = ParseFile("f", []byte(strings.Repeat("x\n", MaxSentences+1)))
	require.ErrorContains(t, err, "an estate has at most 250000 sentences")
	_, err = ParseFile("f", []byte("\xef\xbb\xbfallow https from everywhere to all\n"))
	require.ErrorContains(t, err, "begins with a byte order mark")
	list, err := ParseFile("f", []byte("# one\n\n  allow https from everywhere to all # two\r\n\tdeny any from 192.0.2.7 to all"))
	require.NoError(t, err)
	require.Len(t, list, 2)
	assert.Equal(t, 3, list[0].At.Line)
	assert.Equal(t, 4, list[1].At.Line)
}
