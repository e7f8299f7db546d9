package estate

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v4"
	"pgregory.net/rapid"
)

// sameTree compares all of two trees that a reader or an edit looks at.
func sameTree(t require.TestingT, want, got *yaml.Node) {
	require.Equal(t, want.Kind, got.Kind)
	require.Equal(t, want.Value, got.Value)
	require.Equal(t, [2]int{want.Line, want.Column}, [2]int{got.Line, got.Column}, want.Value)
	require.Equal(t, want.Anchor, got.Anchor)
	require.Equal(t, want.Style, got.Style)
	require.Equal(t, isNull(want), isNull(got))
	require.Equal(t, want.Tag == "!!merge", got.Tag == "!!merge")
	if want.Kind != yaml.ScalarNode {
		require.Equal(t, want.Tag, got.Tag)
	}
	require.Equal(t, len(want.Content), len(got.Content))
	for i := range want.Content {
		sameTree(t, want.Content[i], got.Content[i])
	}
}

func sameAsLibrary(t require.TestingT, text string) (simply bool) {
	var want yaml.Node
	wantErr := yaml.Load([]byte(text), &want)
	lines := strings.Split(text, "\n")
	got, err := load([]byte(text), lines)
	require.Equal(t, wantErr, err, text)
	if err == nil {
		sameTree(t, &want, got)
	}
	s, ok := readSimple(lines)
	return ok && yaml.Load([]byte(s.rest), &yaml.Node{}) == nil
}

const plainest = `estate: saltmarsh
machines:
  # those of the pier
  gauge-1: {image: linux-web, size: c1m1, at: pool, tags: {role: r1}, address: auto} # a comment
  gauge-2: { image: linux-web, at: [pool, other], inside: ["2001:db8::1", 192.0.2.1], tags: {} }

  gauge-3:
    image: linux-web
    disk: 20GB   # large
    at: [pool]
console: off
`

// FuzzSimple holds what is read without the YAML library to what the library reads.
func FuzzSimple(f *testing.F) {
	for _, text := range []string{
		plainest,
		strings.ReplaceAll(plainest, "\n", "\r\n"),
		strings.ReplaceAll(plainest, "console: off", "- a"),
		"x: \"\nmachines:\n  a: {b: c}\n  d: {e: f}\n  g: {h: i}\n\"\n",
		"machines:\n  a: {b: c}\n    d: {b: c}\n  e: {b: c}\n\n",
		"machines:\n  a: {b: c}\n  &x\n  d: {b: c}\n  e: {b: c}\n",
		"machines:\n  a: {b: null}\n  d: {b: ~}\n  e: {<<: c}\n\n\n",
		"machines:\n  a: {b: c,}\n  d: {b: c d}\n  e: {b:c}\n\n",
		"machines:\n  a: {b: c}\n  d: |\n    text\n  e: {b: c}\n  f: {b: c}\n",
		"{\nmachines:\n  {a: {b: c}}\n\n\n}\n",
	} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) { sameAsLibrary(t, text) })
}

func TestTheLibraryReadsTheSame(t *testing.T) {
	require.True(t, sameAsLibrary(t, plainest))
	pieces := []string{
		"  a: {b: c}", "  d: {b: [x, y], c: {d: e}} # f", "  g:", "    h: i", "    j: \"k l\"", "", "# m", "    # n", "      o: p", "   q: {r: s}",
		"t: u", "machines:", "  v: |", "  w: {x: 'y'}", "  - z", "}", "  a: [b]", "  a: b", "    - c", "  ? d", "  é: {f: g}", "\t", "  h: {i: j", "---", "x: \"", "\"",
	}
	rapid.Check(t, func(t *rapid.T) {
		lines := rapid.SliceOfN(rapid.SampledFrom(pieces), 0, 12).Draw(t, "lines")
		sameAsLibrary(t, "estate: a\nmachines:\n  b: {c: d}\n"+strings.Join(lines, "\n")+"\n")
	})
}

// TestThePlainestEntriesAreReadQuickly tells which entries are read without the library; that they are read right is told above.
func TestThePlainestEntriesAreReadQuickly(t *testing.T) {
	long := strings.Repeat("a", longestSimple)
	for entry, simply := range map[string]bool{
		"{b: c}": true, "{}": true, "{ b: c , d: e }": true, "{b: [], c: [x], d: [ x, y ]} # f": true, "{b: {c: {d: {e: f}}}}": true, "{b: a._/-9}": true, "{b: \"x ~\"}": true,
		"{b: " + long + "}": true, "{b: \"" + long + "\"}": true, "{b: c}  ": true, "{b: c}\r": true, "{b: c} # d\r": true, "{b: \"\"}": true, "{az: AZ, a0: 09}": true,
		"\n    b: c": true, "\n    b: c # d\n    e: [x]\r\n    f: {g: h}": true, "# d\n    b: c": false, "\n    b: c\n\n  # e": true, "\n    b: c\n    # e": true,
		"[x]": false, "x": false, "": false, "{b: {c: {d: {e: {f: g}}}}}": false, "{b: .a}": false, "{b: \"x\\t\"}": false, "{b: \"é\"}": false, "{b: \"\x7f\"}": false, "{b: \"x}": false,
		"{b: " + long + "a}": false, "{b: \"" + long + "a\"}": false, "{b: null}": false, "{b: ~}": false, "{b:c}": false, "{b: c,}": false, "{b: c} d": false, "{b: c}#d": false, "{b c}": false,
		"{b: c": false, "{b: 'c'}": false, "{\"b\": c}": false, "{b: [x y]}": false, "{b: }": false, "{b: [x": false, "{,}": false, "{b: c d: e}": false,
		"\n    b: c\n      e: f": false, "\n    b:\n      c: d": false, "\n    b: c d": false, "\n   b: c\n    e: f": false, "\n    b: c#d": false, "\n    - b": false,
	} {
		s, ok := readSimple(strings.Split("machines:\n  a: {b: c}\n  d: "+entry+"\n  z: {b: c}\nfronts:\n", "\n"))
		var rest yaml.Node
		assert.Equal(t, simply, ok && s.next == 0 && len(s.nodes) == 6, "%q %+v", entry, s)
		assert.True(t, !ok || yaml.Load([]byte(s.rest), &rest) != nil || s.join(&rest), entry)
		sameAsLibrary(t, "machines:\n  a: {b: c}\n  d: "+entry+"\n  z: {b: c}\nfronts:\n")
	}
	sameAsLibrary(t, "estate: x\nmachines:\n  a: {b: c}\n  d: {b: c}\n  e:\n    f: g")
	for text, ok := range map[string]bool{
		"machines:\n  a: {b: c}\n  d: {b: c}\n": false, "machines:\n  a: {b: c}\n  d: {b: c}\n\n": true, "machines: \r\n  a: {b: c}\n  d: {b: c}\n\n": true, "estate: x\nmachines:\n  a: {b: c}\n\n\n": true,
		"machines: # x\n  a: {b: c}\n  d: {b: c}\n\n": false, "machine:\n  a: {b: c}\n  d: {b: c}\n\n": false, "machines:\n  a: {b: c}\n    d: {b: c}\n\n": false, "machines:\n  a: {b: c}\n  - d\n\n": false, "machines:\na: {b: c}\nd: {b: c}\n\n": false,
	} {
		_, simply := readSimple(strings.Split(text, "\n"))
		assert.Equal(t, ok, simply, text)
	}
}

func TestASTUNServerIsAHostWithAPort(t *testing.T) {
	for text, want := range map[string]string{
		"stun.saltmarsh.example": "stun.saltmarsh.example:3478", "stun.saltmarsh.example:5000": "stun.saltmarsh.example:5000", "192.0.2.7": "192.0.2.7:3478",
		"192.0.2.7:5000": "192.0.2.7:5000", "2001:db8::7": "[2001:db8::7]:3478", "[2001:db8::7]:5000": "[2001:db8::7]:5000",
		"": "", "a b": "", "a:0": "", "a:70000": "", "-a": "", "a:b:c": "", "192.0.2.7:0": "", "[2001:db8::7]": "", "a.": "", strings.Repeat("a.", 130) + "a": "",
	} {
		got, err := ParseSTUN(text)
		assert.Equal(t, want, got, text)
		assert.Equal(t, want == "", err != nil, text)
	}
}
