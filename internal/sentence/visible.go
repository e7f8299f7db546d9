package sentence

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Invisible reports whether a character acts on a terminal, or on the text around
// it, instead of showing itself: control characters of C0 and C1 (ECMA-48), line and
// paragraph separators, and format characters such as those that turn the direction
// of text round (Unicode Standard Annex 9). The two joiners that some scripts are
// written with are none.
func Invisible(r rune) bool {
	const nonJoiner, joiner = 0x200c, 0x200d
	if r < utf8.RuneSelf {
		return r < ' ' || r == 0x7f
	}
	return r != nonJoiner && r != joiner && (unicode.Is(unicode.Cc, r) || unicode.Is(unicode.Cf, r) || unicode.Is(unicode.Zl, r) || unicode.Is(unicode.Zp, r))
}

// FirstInvisible returns the first such character of a text, in words, and whether
// there is one. Bytes that are no UTF-8 count.
func FirstInvisible(text string) (name string, found bool) {
	for i, r := range text {
		if r == utf8.RuneError {
			if _, size := utf8.DecodeRuneInString(text[i:]); size <= 1 {
				return "a byte that is no UTF-8", true
			}
		}
		if Invisible(r) {
			return printable(r), true
		}
	}
	return "", false
}

// MaxReason is how long a reason or an account may be, in bytes.
const MaxReason = 1000

// ReasonProblem says what is wrong with a text that people give as a reason or an account; empty where nothing is. It is words in one line.
func ReasonProblem(text string) string {
	name, bad := FirstInvisible(text)
	switch {
	case strings.TrimSpace(text) == "":
		return "is empty"
	case bad:
		return "holds " + name + ", which does not show; it is words in one line"
	case len(text) > MaxReason:
		return fmt.Sprintf("has %d bytes; it has %d at most", len(text), MaxReason)
	}
	return ""
}

// Reason returns the text after because; "" where a sentence has none.
func Reason(s Sentence) string {
	switch s := s.(type) {
	case Deny:
		return s.Because
	case Allow:
		return s.Because
	case Forward:
		return s.Because
	case Open:
		return s.Because
	}
	return ""
}
