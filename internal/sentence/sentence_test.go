package sentence

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// every sentence of the design's example, and one of each form beside it.
var examples = []string{
	`allow tidefeed from headland to tide-archive`,
	`allow any except ssh, tcp/25 from everywhere except 192.0.2.0/24, 198.51.100.7-198.51.100.9 to role=web, gauge-* except gauge-web-2`,
	`allow ssh from office to chart-desk standing until 2026-12-24T00:00:00Z because "vendor's \"visit\""`,
	`deny any from 192.0.2.0/24 to all because "abuse report 17"`,
	`deny ping from 2001:db8::/32 to landing until 2026-11-24T08:00:00+01:00`,
	`spread pier https over role=web on https from everywhere tested by http /healthz`,
	`spread pier tcp/80 over all on http tested by tcp`,
	`forward pier tcp/8022 to gauge-web-1 on ssh`,
	`forward pier tcp/8022 to gauge-web-1 on ssh from office standing until 2026-12-24T00:00:00Z because "x"`,
	`route ssh, rdp to all via beacon for ops`,
	`permit ops to open ssh to role=web from everywhere up to 4h`,
	`permit ops, mara to open rdp to chart-desk from office up to 1d2h3m4s needing 2 approvals from leads`,
	`never ssh, rdp from internet to all standing`,
	`never any from internet to deepwater except ping-host`,
	`always https from office to pier`,
}

func TestExamplesPrintAsTheyAreWritten(t *testing.T) {
	for _, line := range examples {
		s, err := Parse(line)
		require.NoError(t, err, line)
		assert.Equal(t, line, s.String())
	}
	for _, line := range []string{
		`open ssh to gauge-web-1 from 198.51.100.7 for 1h because "rotate keys"`,
		`why any except ping from 2001:db8::1 to all`, `probe ssh from me to gauge-web-1`,
	} {
		s, err := ParseArgs([]string{line}, time.Time{})
		require.NoError(t, err, line)
		assert.Equal(t, line, s.String())
	}
}

func TestArgumentsAreTakenAsTheyAre(t *testing.T) {
	reason := "rotate \"keys\", # \\ from\tall\n\u202eü"
	s, err := ParseArgs([]string{"open", "ssh,", "rdp", "to", "a,b", "from", "me", "for", "90m", "because", reason}, time.Time{})
	require.NoError(t, err)
	assert.Equal(t, reason, s.(Open).Because)
	assert.Equal(t, `open ssh, rdp to a, b from me for 1h30m because "rotate \"keys\", # \\ from\tall\n\u202eü"`, s.String())

	now := time.Date(2026, 11, 23, 19, 30, 0, 0, time.FixedZone("here", 3600))
	s, err = ParseArgs(strings.Fields("deny ssh from everywhere to all until 18:00"), now)
	require.NoError(t, err)
	assert.Equal(t, "deny ssh from everywhere to all until 2026-11-24T18:00:00+01:00", s.String())
}

func TestErrorsTellWhatWhereAndWhatToDo(t *testing.T) {
	for _, c := range []struct{ line, problem, remedy string }{
		{"alow ssh from office to all", "1: expected “allow”, “deny”", "did you mean “allow”?"},
		{"allow ssh form office to all", "11: expected a comma or “from”, not “form”", "did you mean “from”?"},
		{"allow from office to all", "7: expected “any” or a service, not “from”", ""},
		{"allow ssh from office to", "25: the sentence breaks off: expected a target", ""},
		{"allow ssh from 10.0.0.1/8 to all", `16: "10.0.0.1/8" has host bits: write 10.0.0.0/8, or 10.0.0.1/32 for the one address`, ""},
		{"allow ssh from 10.0.0.0/ to all", "16: \"10.0.0.0/\": the length after '/' is a number from 0 to 32", ""},
		{"allow tcp/90-80 from office to all", `7: "tcp/90-80" is back to front: write tcp/80-90`, ""},
		{"allow ssh from 10.0.0.9-10.0.0.1 to all", `back to front: write 10.0.0.1-10.0.0.9`, ""},
		{"allow ssh from me to all", "16: “me” stands for whoever types it", "write the address itself"},
		{"deny ssh from all to all until 18:00", `32: "18:00": a file holds whole times`, ""},
		{"allow ssh from office to all standing", "38: a standing exception needs an end", "standing until"},
		{"permit ops to open ssh to all from office up to 0h", `49: "0h": a length of time is more than zero`, ""},
		{"allow ssh, any from office to all", "12: “any” cannot be one service among others", "any except ping"},
		{"allow ssh from office to all becuase \"x\"", "30: “becuase” does not belong here", "did you mean “because”?"},
		{"deny ssh from office to all because \"x", "37: the text that begins here has no closing quote", `put a "`},
		{"deny ssh from ::ffff:192.0.2.1 to all", "write the IPv4 address 192.0.2.1 itself", ""},
		{"why ssh from office to all", "1: “why” is typed at the shell", ""},
		{"allow ssh from büro to all", "17: the character “ü” has no place here", "ASCII"},
		{"allow ssh from \xff to all", "16: this is not UTF-8 text", "save the file as UTF-8"},
	} {
		_, err := ParseFile("estate.rules", []byte("# first\n"+c.line+"\n"))
		require.Error(t, err, c.line)
		var es Errors
		require.ErrorAs(t, err, &es)
		assert.Contains(t, es[0].Error(), "estate.rules:2:", c.line)
		assert.Contains(t, es[0].Error(), c.problem, c.line)
		assert.Contains(t, es[0].Remedy.String(), c.remedy, c.line)
	}
	_, err := ParseArgs(strings.Fields("open ssh to a from me for 1h"), time.Time{})
	assert.ErrorContains(t, err, "an opening needs a reason")
	_, err = ParseArgs(strings.Fields("open ssh to a from me for 1h because rotate keys"), time.Time{})
	assert.ErrorContains(t, err, "a word too many after the reason")
}

func TestNextIsAnsweredByTheGrammar(t *testing.T) {
	for line, want := range map[string]string{
		"":                                "“allow”, “deny”, “forward”, “spread”, “route”, “permit”, “never”, “always”, “open”, “why” or “probe”",
		"allow":                           "“any” or a service",
		"allow ssh":                       "a comma or “from”",
		"allow ssh,":                      "a service",
		"allow ssh from office":           "a comma, “except” or “to”",
		"allow ssh from office to all":    "a comma, “except”, “standing”, “until” or “because”",
		"forward pier tcp/80 to x on":     "one port such as tcp/443",
		"permit ops to open ssh to x":     "a comma, “except” or “from”",
		"open ssh to x from me":           "a comma, “except”, “starting”, “for” or “until”",
		"open ssh to x from me for 1h":    "“in” or “because”",
		"spread p tcp/1 over x on tcp/2":  "“from” or “tested”",
		"spread p tcp/1 over x on http t": "",
		"allow frm":                       "a comma or “from”",
	} {
		names := []string{}
		for _, w := range Next(strings.Fields(line)) {
			names = append(names, w.String())
		}
		assert.Equal(t, want, or(names), line)
	}
}

// drawSentence draws any sentence of the grammar.
func drawSentence(t *rapid.T) Sentence {
	name := rapid.Custom(func(t *rapid.T) Name {
		return Name{Text: rapid.StringMatching(`[a-z][a-z0-9-]{0,6}`).Filter(func(s string) bool { return ValidName(s) == nil }).Draw(t, "name")}
	})
	addr := rapid.Custom(func(t *rapid.T) netip.Addr {
		if rapid.Bool().Draw(t, "v4") {
			return netip.AddrFrom4([4]byte(rapid.SliceOfN(rapid.Byte(), 4, 4).Draw(t, "a")))
		}
		return netip.AddrFrom16([16]byte(rapid.SliceOfN(rapid.Byte(), 16, 16).Filter(func(b []byte) bool {
			return !netip.AddrFrom16([16]byte(b)).Is4In6()
		}).Draw(t, "a")))
	})
	atom := rapid.Custom(func(t *rapid.T) Atom {
		text := ""
		a := addr.Draw(t, "addr")
		switch rapid.IntRange(0, 6).Draw(t, "kind") {
		case 0:
			text = rapid.SampledFrom([]string{"everywhere", "internet", "all"}).Draw(t, "word")
		case 1:
			text = name.Draw(t, "name").Text
		case 2:
			text = name.Draw(t, "p").Text + "*"
		case 3:
			text = "role=" + rapid.StringMatching(`[A-Za-z0-9._-]{1,8}`).Draw(t, "value")
		case 4:
			text = a.String()
		case 5:
			p, _ := a.Prefix(rapid.IntRange(0, a.BitLen()).Draw(t, "bits"))
			text = p.String()
		case 6:
			b := a.Next()
			if !b.IsValid() || b.Is4In6() {
				b = a
			}
			text = a.String() + "-" + b.String()
		}
		got, err := ParseAtom(text)
		require.NoError(t, err, text)
		return got
	})
	atoms := func(label string, least int) []Atom { return rapid.SliceOfN(atom, least, 3).Draw(t, label) }
	set := func(label string) Set {
		s := Set{List: atoms(label, 1)}
		if e := atoms(label+" except", 0); len(e) > 0 {
			s.Except = e
		}
		return s
	}
	port := func(label string, span uint16) Service {
		lo := rapid.Uint16Range(1, 65000).Draw(t, label)
		s, err := Ports(rapid.SampledFrom([]Protocol{TCP, UDP}).Draw(t, "protocol"), lo, lo+rapid.Uint16Range(0, span).Draw(t, "span"))
		require.NoError(t, err)
		return s
	}
	services := func() Services {
		list := []Service{port("service", 9), {kind: servicePing}, {kind: serviceNamed, name: name.Draw(t, "service").Text}}
		if rapid.Bool().Draw(t, "any") {
			return Services{Any: true, Except: rapid.SampledFrom([][]Service{nil, list}).Draw(t, "except")}
		}
		return Services{List: list[:rapid.IntRange(1, 3).Draw(t, "n")]}
	}
	when := func() time.Time {
		return time.Unix(rapid.Int64Range(1, 1<<33).Draw(t, "when"), rapid.Int64Range(0, 999_999_999).Draw(t, "ns")).UTC()
	}
	length := func() Duration { return Duration{rapid.Int64Range(1, 3650*86400).Draw(t, "length")} }
	reason := func() string {
		return rapid.String().Filter(func(s string) bool { return strings.TrimSpace(s) != "" }).Draw(t, "reason")
	}
	people := func() []Name { return rapid.SliceOfN(name, 1, 3).Draw(t, "people") }
	tail := func(full bool) (tail Tail) {
		if full || rapid.Bool().Draw(t, "until") {
			tail.Until = when()
		}
		if full || rapid.Bool().Draw(t, "because") {
			tail.Because = reason()
		}
		return tail
	}
	yes := rapid.Bool().Draw(t, "yes")
	switch Verb(rapid.IntRange(int(VerbAllow), int(VerbProbe)).Draw(t, "verb")) {
	case VerbAllow:
		return Allow{services(), set("from"), set("to"), yes, tail(yes)}
	case VerbDeny:
		return Deny{services(), set("from"), set("to"), tail(false)}
	case VerbForward:
		f := Forward{Front: name.Draw(t, "front"), Service: port("at", 0), To: set("to"), On: port("on", 0)}
		if yes {
			f.From, f.Standing = set("from"), rapid.Bool().Draw(t, "standing")
		}
		f.Tail = tail(f.Standing)
		return f
	case VerbSpread:
		s := Spread{Front: name.Draw(t, "front"), Service: port("at", 0), Over: set("over"), On: port("on", 0)}
		if yes {
			s.From = set("from")
		}
		s.Tested = rapid.SampledFrom([]Test{{}, {Kind: TestTCP}, {TestHTTP, "/healthz?a=b"}}).Draw(t, "test")
		return s
	case VerbRoute:
		return Route{services(), set("to"), name.Draw(t, "via"), people()}
	case VerbPermit:
		m := Permit{People: people(), Services: services(), To: set("to"), From: set("from"), UpTo: length()}
		if yes {
			m.Approvals, m.Approvers = rapid.IntRange(1, MaxApprovals).Draw(t, "n"), people()
		} else {
			m.Emergency = rapid.Bool().Draw(t, "emergency")
		}
		return m
	case VerbNever:
		return Never{services(), set("from"), set("to"), yes}
	case VerbAlways:
		return Always{services(), set("from"), set("to")}
	case VerbOpen:
		o := Open{Services: services(), To: set("to"), From: set("from"), Because: reason(), Emergency: rapid.Bool().Draw(t, "emergency")}
		if rapid.Bool().Draw(t, "starting") {
			o.Starting = when()
		}
		if yes {
			o.For = length()
		} else {
			o.Until = when()
		}
		return o
	default:
		if yes {
			return Ask{Probe: true, Services: services(), From: set("from"), To: set("to")}
		}
		if rapid.Bool().Draw(t, "forwarded") {
			return Ask{Services: services(), For: people(), Via: name.Draw(t, "via"), To: set("to")}
		}
		return Ask{Services: services(), From: set("from"), To: set("to")}
	}
}

func TestParsePrintParseIsTheIdentity(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := drawSentence(t)
		got, err := ParseArgs([]string{s.String()}, time.Time{})
		require.NoError(t, err, s.String())
		assert.Equal(t, shape(s), shape(got))
		// Words that are those of the grammar are never read as others.
		if !saidOtherwise.MatchString(s.String()) {
			typed, read, err := ParseTyped([]string{s.String()}, time.Time{})
			require.NoError(t, err, s.String())
			assert.False(t, read, s.String())
			assert.Equal(t, shape(s), shape(typed))
		}
	})
}

// saidOtherwise finds names that are said for something else.
var saidOtherwise = regexp.MustCompile(`\b(and|the|port|ports|anyone|anybody)\b`)

var place = regexp.MustCompile(`sentence\.Pos\{[^}]*\}`)

// shape prints all of a sentence but where its words stood.
func shape(s Sentence) string { return place.ReplaceAllString(fmt.Sprintf("%#v", s), "") }

func FuzzParse(f *testing.F) {
	for _, line := range examples {
		f.Add(line)
	}
	f.Add("deny any from all to all because \"\\ud83d\\ude00\"")
	f.Fuzz(func(t *testing.T, line string) {
		if s, _, err := ParseTyped(strings.Fields(line), time.Time{}); err == nil {
			again, err := ParseArgs([]string{s.String()}, time.Time{})
			require.NoError(t, err, s.String())
			require.Equal(t, s.String(), again.String())
		}
		list, err := ParseFile("f", []byte(line))
		if err != nil {
			var es Errors
			require.True(t, errors.As(err, &es))
			require.NotEmpty(t, es)
			return
		}
		for _, s := range list {
			again, err := Parse(s.Sentence.String())
			require.NoError(t, err, s.Sentence.String())
			require.Equal(t, s.Sentence.String(), again.String())
		}
	})
}

// FuzzArgs reads typed words, and asks of each beginning what may come next.
func FuzzArgs(f *testing.F) {
	f.Add("open ssh to gauge-1 from me for 1h because", "rotate keys", "x")
	f.Add("why any except ping from 10.0.0.0/8 to all", "", "until 18:00")
	f.Fuzz(func(t *testing.T, a, b, c string) {
		args := []string{a, b, c}
		s, err := ParseArgs(args, time.Unix(1, 0))
		Next(args)
		if err == nil {
			again, err := ParseArgs([]string{s.String()}, time.Unix(1, 0))
			require.NoError(t, err, s.String())
			require.Equal(t, s.String(), again.String())
		}
	})
}

// TestSlipsAgreesWithItsDefinition compares the row-by-row distance with the recursive definition.
func TestSlipsAgreesWithItsDefinition(t *testing.T) {
	var slow func(a, b string) int
	slow = func(a, b string) int {
		if a == "" || b == "" {
			return len(a) + len(b)
		}
		i, j := len(a)-1, len(b)-1
		cost := 1
		if a[i] == b[j] {
			cost = 0
		}
		d := min(slow(a[:i], b)+1, slow(a, b[:j])+1, slow(a[:i], b[:j])+cost)
		if i > 0 && j > 0 && a[i] == b[j-1] && a[i-1] == b[j] {
			d = min(d, slow(a[:i-1], b[:j-1])+1)
		}
		return d
	}
	r := rand.New(rand.NewPCG(1, 2))
	draw := func() string {
		b := make([]byte, r.IntN(6))
		for i := range b {
			b[i] = "abc"[r.IntN(3)]
		}
		return string(b)
	}
	for range 500 {
		a, b := draw(), draw()
		assert.Equal(t, slow(a, b), slips(a, b, 99), "%q %q", a, b)
	}
}

// TestWithoutSpeaksNoMoreOfWhatIsGone takes names out of drawn sentences: what is
// left is a sentence that does not have them, and one that never had them stays.
func TestWithoutSpeaksNoMoreOfWhatIsGone(t *testing.T) {
	kept, went := 0, 0
	rapid.Check(t, func(t *rapid.T) {
		s := drawSentence(t)
		words := regexp.MustCompile(`[\s,]+`).Split(s.String(), -1)
		for _, name := range words {
			left, keep := Without(s, func(n string) bool { return n == name })
			if !keep {
				went++
				continue
			}
			kept++
			again, err := ParseArgs([]string{left.String()}, time.Time{})
			require.NoError(t, err, "%s less %s is %s", s, name, left)
			require.Equal(t, left.String(), again.String())
		}
		same, keep := Without(s, func(string) bool { return false })
		require.True(t, keep)
		require.Equal(t, s.String(), same.String())
	})
	require.Positive(t, kept)
	require.Positive(t, went)
	for text, want := range map[string]string{
		"allow https from gauge, office to a, gauge except gauge":  "allow https from office to a",
		"deny any from everywhere except gauge to all":             "deny any from everywhere to all",
		"allow https from gauge to all":                            "",
		"forward pier tcp/8022 to gauge on ssh":                    "",
		"forward gauge tcp/8022 to a on ssh":                       "",
		"spread pier https over gauge, a on https from everywhere": "spread pier https over a on https from everywhere",
		"route ssh to all via gauge for ops":                       "",
		"permit gauge to open ssh to all from everywhere up to 4h": "permit gauge to open ssh to all from everywhere up to 4h",
		"permit ops to open ssh to gauge from everywhere up to 4h": "",
		"never ssh from internet to gauge-*":                       "never ssh from internet to gauge-*",
		"always https from office to gauge, pier":                  "always https from office to pier",
	} {
		left, keep := Without(MustParse(text), func(n string) bool { return n == "gauge" })
		got := ""
		if keep {
			got = left.String()
		}
		require.Equal(t, want, got, text)
	}
}
