package syslog

import (
	"regexp"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

var at = time.Date(2026, 11, 23, 9, 5, 0, 1500, time.FixedZone("", 3600))

func TestAMessageIsThatOfTheStandard(t *testing.T) {
	m := Message{Facility: Audit, Severity: Notice, At: at, Host: "watch room", App: "ironbark", ID: "open", DataID: "ironbark@32473", Data: []Param{{"person", `ma"ra]\`}}, Text: "opening 1:\nssh"}
	assert.Equal(t, "<109>1 2026-11-23T08:05:00.000001Z watch_room ironbark - open [ironbark@32473 person=\"ma\\\"ra\\]\\\\\"] \ufeffopening 1: ssh", string(m.Append(nil, 0)))
	assert.Equal(t, "<104>1 2026-11-23T08:05:00.000001Z - - - - -", string(Message{Facility: Audit, At: at}.Append(nil, 0)))
	assert.Equal(t, "5 abcde", string(Framed([]byte("abcde"))))
	odd := Message{Facility: Audit, At: at, Host: "a~!b \x7f\"", App: strings.Repeat("x", 49), Text: "a\x1fb\x7fc\u009fd\u00a0e\u2028f\u2029g~ h"}
	assert.Equal(t, "<104>1 2026-11-23T08:05:00.000001Z a~!b___ "+strings.Repeat("x", 48)+" - - - \ufeffa b c d\u00a0e f g~ h", string(odd.Append(nil, 0)))
}

// TestALongTextIsCutAtACharacter cuts a text to each length that it may have.
func TestALongTextIsCutAtACharacter(t *testing.T) {
	m := Message{Facility: Audit, At: at, Text: "tide è high"}
	head, whole := len(Message{Facility: Audit, At: at}.Append(nil, 0))+len(" \ufeff"), len(m.Append(nil, 0))
	for most, want := range map[int]string{
		whole: "tide è high", whole + 1: "tide è high", whole - 1: "tide è …", head + 10: "tide è…", head + 9: "tide …", head + 8: "tide …", head + 7: "tide…", head + 3: "…",
	} {
		assert.Equal(t, want, string(m.Append([]byte("before"), most)[len("before")+head:]), most)
	}
}

// grammar is that of RFC 5424, section 6, as far as Append writes it.
var grammar = regexp.MustCompile(`^<\d{1,3}>1 \d{4}-\d\d-\d\dT\d\d:\d\d:\d\d\.\d{6}Z [!-~]{1,255} [!-~]{1,48} [!-~]{1,128} [!-~]{1,32} (-|\[[!-~]{1,32}( [!-~]{1,32}="([^"\\\]]|\\["\\\]])*")*\])( \x{feff}[^\n\r\x00]+)?$`)

// TestWhateverIsToldIsOneMessage writes fields of any text: the grammar has it, it is one line, and no longer than it may be.
func TestWhateverIsToldIsOneMessage(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := func(label string) string {
			return string(rapid.SliceOf(rapid.Byte()).Draw(t, label)) + rapid.String().Draw(t, label)
		}
		m := Message{Facility: Audit, Severity: Info, At: at, Host: text("host"), App: text("app"), Process: text("process"), ID: text("id"), DataID: "d", Data: []Param{{"a", text("a")}, {text("name"), "b"}}, Text: text("text")}
		whole := string(m.Append(nil, 0))
		require.Regexp(t, grammar, whole)
		require.True(t, utf8.ValidString(whole))
		silent := m
		silent.Text = ""
		most := len(silent.Append(nil, 0)) + len(" \ufeff") + rapid.IntRange(3, 60).Draw(t, "most")
		short := string(m.Append([]byte("before"), most))
		require.LessOrEqual(t, len(short)-len("before"), most)
		require.Regexp(t, grammar, strings.TrimPrefix(short, "before"))
	})
}
