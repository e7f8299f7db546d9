package estate

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v4"
)

// TestAnEditIsHeldToItsOneEntry gives the last look at an edit files that differ by more, or by less, than the entry that it
// was to put in or take out: whatever went wrong while editing must not be written.
func TestAnEditIsHeldToItsOneEntry(t *testing.T) {
	many := func(n int, and string) string {
		var s strings.Builder
		for i := range n {
			fmt.Fprintf(&s, "  m-%d: {at: shore, tags: [tide, pier]}\n", i)
		}
		return "estate: saltmarsh\nmachines:\n" + s.String() + and
	}
	for _, n := range []int{2, 70} { // few are looked for, many are looked up
		old, entry := many(n, ""), "  web: {at: shore}\n"
		held := func(edited string) error {
			return confirm(mustTree(old), []byte(edited), []string{"machines", "web"}, true)
		}
		require.NoError(t, held(many(n, entry)))
		require.NoError(t, held(strings.Replace(many(n, entry), "shore, tags", `"shore", tags`, 1)), "the same word in quotes says the same")
		for why, edited := range map[string]string{
			"a word":                  strings.Replace(many(n, entry), "{at: shore, tags", "{at: ebb, tags", 1),
			"a word of a list":        strings.Replace(many(n, entry), "pier", "web", 1),
			"a shorter list":          strings.Replace(many(n, entry), ", pier", "", 1),
			"a list that is a word":   strings.Replace(many(n, entry), "[tide, pier]", "tide", 1),
			"another name":            strings.Replace(many(n, entry), "m-1:", "n-1:", 1),
			"one fewer":               strings.Replace(many(n, entry), "  m-1: {at: shore, tags: [tide, pier]}\n", "", 1),
			"two more":                many(n, entry+"  lamp: {at: shore}\n"),
			"another key inside":      strings.Replace(many(n, entry), "m-0: {at: shore,", "m-0: {at: shore, size: c1m1,", 1),
			"another section":         many(n, entry) + "keys: {}\n",
			"another word at the top": strings.Replace(many(n, entry), "saltmarsh", "harbour", 1),
			"a section that is gone":  "estate: saltmarsh\n",
			"no mapping":              "- estate\n",
			"no YAML":                 "estate: [",
		} {
			require.Error(t, held(edited), "%s, of %d", why, n)
		}
		taken := func(from, left string) error {
			return confirm(mustTree(from), []byte(left), []string{"machines", "web"}, false)
		}
		require.NoError(t, taken(many(n, entry), old))
		require.Error(t, taken(many(n, entry), strings.Replace(old, "m-1:", "n-1:", 1)))
		require.Error(t, confirm(mustTree(many(n, entry)), []byte(many(n, entry)), []string{"machines", "web"}, true), "what was there before was not put in")
	}
	require.NoError(t, confirm(mustTree("estate: saltmarsh\nmachines:\n"), []byte("estate: saltmarsh\nmachines: {web: {}}\n"), []string{"machines", "web"}, true))
	require.NoError(t, confirm(mustTree("estate: saltmarsh\nmachines: {web: {}}\n"), []byte("estate: saltmarsh\nmachines: {}\n"), []string{"machines", "web"}, false))
}

// TestAnEditOfManyIsHeldToThem does the same with an edit of many entries at once.
func TestAnEditOfManyIsHeldToThem(t *testing.T) {
	const old = "machines:\n  a: {at: shore}\n  b: {at: shore}\n  c: {at: shore}\nfronts: {}\n"
	after := map[string]*yaml.Node{"b": child(mustTree("machines: {at: ebb}\n"), "machines")}
	held := func(was, now string) error {
		return confirmEach(mustTree(old), []byte(strings.Replace(strings.Replace(old, "b: {at: shore}", "b: {at: ebb}", 1), was, now, 1)), "machines", after)
	}
	require.NoError(t, held("", ""))
	for was, now := range map[string]string{
		"a: {at: shore}": "a: {at: flood}", "c: {at: shore}": "c: {at: flood}", "at: ebb": "at: shore", "c:": "d:", "  c: {at: shore}\n": "", "fronts: {}": "fronts: {pier: {}}",
		"fronts:": "keys: {}\nfronts:", "machines:": "machine:", "fronts: {}\n": "",
	} {
		require.Error(t, held(was, now), "%s → %s", was, now)
	}
	require.Error(t, held("a: {", "a: ["))
}

// TestWhatStandsUnderANameIsLookedUp looks names up, in files that are no YAML as well.
func TestWhatStandsUnderANameIsLookedUp(t *testing.T) {
	for file, want := range map[string]string{
		"machines: {a: {at: shore}}\n": "shore true", "machines: {a: {at: [shore]}}\n": " true", "machines: {a: {}}\n": " false", "machines:\n": " false",
		"machines: [\n": " false", "- machines\n": " false", "": " false",
	} {
		word, there := Lookup([]byte(file), []string{"machines", "a"}, "at")
		require.Equal(t, want, fmt.Sprint(word, " ", there), file)
	}
}

// TestEntriesOnALineOfTheirOwnAreTold: those are edited without the rest of the file.
func TestEntriesOnALineOfTheirOwnAreTold(t *testing.T) {
	for entry, alone := range map[string]bool{
		"{at: shore}": true, "{at: shore} # of the pier": true, "{}": true, "{at: \"a } b\"}": true,
		"\n    at: shore": false, "shore": false, "&buoy {at: shore}": false, "[shore]": false, "{at: shore,\n    size: c1m1}": false, "\n    {at: shore}": false,
	} {
		file := "machines:\n  web: " + entry + "\n"
		machines := child(mustTree(file), "machines")
		require.Equal(t, alone, newText([]byte(file)).alone(machines.Content[0], machines.Content[1]), entry)
	}
}
