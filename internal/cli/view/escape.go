package view

import (
	"crypto/rand"
	"fmt"
	"strings"
	"unicode/utf8"

	"ironbark/internal/sentence"
)

// styleMark begins the printer's own styles on their way to the terminal. It is a
// control sequence (ECMA-48, 5.4) with a number in it that nobody else can know, so
// that text of any other origin cannot pass for a style.
var styleMark = newMark()

func newMark() string {
	var b [8]byte
	if _, err := rand.Read(b[:]); err != nil {
		panic("view: no random numbers: " + err.Error())
	}
	digits := make([]byte, len(b))
	for i, x := range b {
		digits[i] = '0' + x%10
	}
	return "\x1b[" + string(digits) + ";"
}

// Escape makes text of any origin fit for a terminal: what would act on it, or on the
// text around it, is shown as an escape, \x1b or \u202e. Line ends and the printer's
// own styles stay as they are; tabs become spaces, since nothing that is measured
// may be wider than it seems.
func Escape(text string) string { return escape(text, "\x1b[") }

// escape is Escape with the printer's own styles begun by style.
func escape(text, style string) string {
	clean := true
	for i := 0; clean && i < len(text); i++ {
		clean = text[i] < utf8.RuneSelf && (text[i] >= ' ' && text[i] != 0x7f || text[i] == '\n')
	}
	if clean {
		return text
	}
	var b strings.Builder
	for i := 0; i < len(text); {
		if strings.HasPrefix(text[i:], styleMark) {
			b.WriteString(style)
			i += len(styleMark)
			continue
		}
		r, size := utf8.DecodeRuneInString(text[i:])
		switch {
		case r == utf8.RuneError && size <= 1:
			fmt.Fprintf(&b, `\x%02x`, text[i])
		case r == '\n':
			b.WriteByte('\n')
		case r == '\t':
			b.WriteString("    ")
		default:
			b.WriteString(visible(r))
		}
		i += size
	}
	return b.String()
}

// visible is how a character is shown.
func visible(r rune) string {
	switch {
	case !sentence.Invisible(r):
		return string(r)
	case r < 0x80:
		return fmt.Sprintf(`\x%02x`, r)
	case r > 0xffff:
		return fmt.Sprintf(`\U%08x`, r)
	}
	return fmt.Sprintf(`\u%04x`, r)
}

// oneLine makes a text fit for a cell or a paragraph, so that what somebody wrote
// cannot look like a line of ours. The printer's own styles stay marked.
func oneLine(text string) string {
	if strings.ContainsAny(text, "\n\r") {
		text = strings.NewReplacer("\n", `\n`, "\r", `\r`).Replace(text)
	}
	return escape(text, styleMark)
}

// escapeJSON escapes in a JSON document what its encoder leaves: outside of ASCII an
// escape means the same as the character (RFC 8259, section 7).
func escapeJSON(text string) string {
	if strings.IndexFunc(text, func(r rune) bool { return r >= 0x7f && sentence.Invisible(r) }) < 0 {
		return text
	}
	var b strings.Builder
	for _, r := range text {
		switch {
		case r < 0x7f || !sentence.Invisible(r):
			b.WriteRune(r)
		case r > 0xffff:
			r -= 0x10000
			fmt.Fprintf(&b, `\u%04x\u%04x`, 0xd800+r>>10, 0xdc00+r&0x3ff)
		default:
			fmt.Fprintf(&b, `\u%04x`, r)
		}
	}
	return b.String()
}
