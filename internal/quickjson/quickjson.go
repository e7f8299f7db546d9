// Package quickjson reads JSON whose form is known beforehand: the text that encoding/json writes
// of a certain type, field by field and in order. A general reader takes five times as long.
// Whatever has another form, which may be as good JSON, is not as expected, and left to a
// general reader.
package quickjson

import (
	"net/netip"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"
)

// Text is what is left to be read, from left to right.
type Text struct {
	rest  string
	wrong bool
}

// Of returns a text to be read.
func Of(text string) *Text { return &Text{rest: text} }

// Done reports whether all was read, and as expected.
func (t *Text) Done() bool { return !t.wrong && t.rest == "" }

// OK reports whether all was as expected so far.
func (t *Text) OK() bool { return !t.wrong }

// May reads a prefix, and reports whether it stood there.
func (t *Text) May(prefix string) bool {
	rest, found := strings.CutPrefix(t.rest, prefix)
	t.rest = rest
	return found
}

// Must reads a prefix.
func (t *Text) Must(prefix string) {
	if !t.May(prefix) {
		t.wrong = true
	}
}

// unescape takes the two escapes away that are as expected.
var unescape = strings.NewReplacer(`\\`, `\`, `\"`, `"`)

// String reads up to the closing quotation mark. Of what JSON escapes, quotation marks and
// backslashes alone are as expected.
func (t *Text) String() string {
	escaped := false
	for i := 0; i < len(t.rest); i++ {
		switch c := t.rest[i]; {
		case c == '"':
			text := t.rest[:i]
			t.rest = t.rest[i+1:]
			t.wrong = t.wrong || !utf8.ValidString(text)
			if escaped {
				text = unescape.Replace(text)
			}
			return text
		case c == '\\':
			escaped = true
			if i++; i >= len(t.rest) || t.rest[i] != '"' && t.rest[i] != '\\' {
				t.wrong = true
			}
		case c < ' ':
			t.wrong = true
		}
	}
	t.wrong, t.rest = true, ""
	return ""
}

// Addr reads an address up to the closing quotation mark.
func (t *Text) Addr() netip.Addr {
	a, err := netip.ParseAddr(t.String())
	t.wrong = t.wrong || err != nil
	return a
}

// Strings reads a list of strings.
func (t *Text) Strings() (list []string) {
	t.Must("[")
	for next := true; next && !t.wrong; next = t.May(",") {
		t.Must(`"`)
		list = append(list, t.String())
	}
	t.Must("]")
	return list
}

// Moment reads a moment up to the closing quotation mark.
func (t *Text) Moment() time.Time {
	at, err := time.Parse(time.RFC3339Nano, t.String())
	t.wrong = t.wrong || err != nil
	return at
}

// Number reads a number from 0 up.
func (t *Text) Number() int {
	digits := t.rest[:len(t.rest)-len(strings.TrimLeft(t.rest, "0123456789"))]
	n, err := strconv.Atoi(digits)
	t.wrong = t.wrong || err != nil || len(digits) > 1 && digits[0] == '0'
	t.rest = t.rest[len(digits):]
	return n
}
