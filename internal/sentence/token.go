package sentence

import (
	"fmt"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"ironbark/internal/fault"
)

// MaxLine is the greatest length of one sentence, in bytes.
const MaxLine = 64 << 10

type tokenKind uint8

const (
	tokenEnd tokenKind = iota
	tokenWord
	tokenComma
	tokenString
)

type token struct {
	kind tokenKind
	text string // a string's value, unquoted
	at   Pos
}

// String tells what the token is, for errors.
func (t token) String() string {
	switch t.kind {
	case tokenEnd:
		return "the end of the sentence"
	case tokenComma:
		return "a comma"
	case tokenString:
		return "the text " + Quote(t.text)
	}
	return "“" + t.text + "”"
}

// lexer cuts one line into tokens. Words end at white space and commas.
type lexer struct {
	line   string
	file   string
	number int
	off    int
	col    int // of the character at off, from 1
	shell  bool
	tokens []token
}

func (l *lexer) pos() Pos { return Pos{File: l.file, Line: l.number, Col: l.col} }

func (l *lexer) fail(at Pos, problem, remedy string) *Error {
	return &Error{At: at, Line: l.line, Problem: problem, Remedy: fault.Say(remedy)}
}

// Comment returns the comment behind a sentence, with its '#'; "" where there is
// none, and where the line is no sentence.
func Comment(line string) string {
	l := &lexer{line: line, col: 1}
	if err := l.run(); err != nil {
		return ""
	}
	return line[l.off:]
}

// run lexes the rest of the line. A '#' outside a text begins a comment.
func (l *lexer) run() *Error {
	if l.tokens == nil { // and one for the end
		l.tokens = make([]token, 0, strings.Count(l.line, " ")+strings.Count(l.line, ",")+2)
	}
	for l.off < len(l.line) {
		r, size := utf8.DecodeRuneInString(l.line[l.off:])
		switch {
		case r == utf8.RuneError && size <= 1:
			return l.fail(l.pos(), "this is not UTF-8 text", "save the file as UTF-8")
		case r == ' ' || r == '\t' || r == '\r' || r == '\n' && l.shell:
			l.skip(size)
		case r == ',':
			l.tokens = append(l.tokens, token{kind: tokenComma, at: l.pos()})
			l.skip(size)
		case r == '#' && !l.shell:
			return nil
		case r == '"':
			if err := l.text(); err != nil {
				return err
			}
		case r > ' ' && r < utf8.RuneSelf && r != 0x7f && r != '#':
			l.word()
		default:
			return l.fail(l.pos(), fmt.Sprintf("the character %s has no place here", printable(r)),
				"words are plain ASCII letters, digits and punctuation; any text may stand in quotes after because")
		}
	}
	return nil
}

func (l *lexer) skip(size int) { l.off += size; l.col++ }

func (l *lexer) word() {
	at, begin := l.pos(), l.off
	for l.off < len(l.line) {
		c := l.line[l.off]
		if c <= ' ' || c >= 0x7f || c == ',' || c == '"' || c == '#' {
			break
		}
		l.off++
	}
	l.col += l.off - begin
	l.tokens = append(l.tokens, token{kind: tokenWord, text: l.line[begin:l.off], at: at})
}

// text lexes a quoted text: a JSON string (RFC 8259, section 7).
func (l *lexer) text() *Error {
	at := l.pos()
	l.skip(1)
	var b strings.Builder
	for l.off < len(l.line) {
		r, size := utf8.DecodeRuneInString(l.line[l.off:])
		switch {
		case r == utf8.RuneError && size <= 1:
			return l.fail(l.pos(), "this is not UTF-8 text", "save the file as UTF-8")
		case r == '"':
			l.skip(1)
			l.tokens = append(l.tokens, token{kind: tokenString, text: b.String(), at: at})
			return nil
		case r == '\\':
			if err := l.escape(&b); err != nil {
				return err
			}
		case r < ' ':
			return l.fail(l.pos(), fmt.Sprintf("the character %s cannot stand in a text as it is", printable(r)), `write \n, \t or \u00xx`)
		default:
			b.WriteRune(r)
			l.skip(size)
		}
	}
	return l.fail(at, "the text that begins here has no closing quote", `put a " at its end`)
}

var escapes = map[byte]byte{'"': '"', '\\': '\\', '/': '/', 'b': '\b', 'f': '\f', 'n': '\n', 'r': '\r', 't': '\t'}

func (l *lexer) escape(b *strings.Builder) *Error {
	rest := l.line[l.off:]
	if len(rest) > 1 {
		if c, ok := escapes[rest[1]]; ok {
			b.WriteByte(c)
			l.skip(1)
			l.skip(1)
			return nil
		}
	}
	r, used := unicodeEscape(rest)
	if used == 0 {
		return l.fail(l.pos(), "an unknown escape in a text", `known are \" \\ \/ \b \f \n \r \t and \uXXXX`)
	}
	b.WriteRune(r)
	for range used {
		l.skip(1)
	}
	return nil
}

// unicodeEscape reads \uXXXX, or two of them that are a surrogate pair.
func unicodeEscape(s string) (r rune, used int) {
	unit := func(s string) (rune, bool) {
		if len(s) < 6 || s[0] != '\\' || s[1] != 'u' {
			return 0, false
		}
		n, err := strconv.ParseUint(s[2:6], 16, 16)
		return rune(n), err == nil
	}
	first, ok := unit(s)
	if !ok {
		return 0, 0
	}
	if first < 0xD800 || first > 0xDFFF {
		return first, 6
	}
	second, ok := unit(s[6:])
	if !ok || first > 0xDBFF || second < 0xDC00 || second > 0xDFFF {
		return 0, 0
	}
	return (first-0xD800)<<10 + (second - 0xDC00) + 0x10000, 12
}

// Quote prints text as sentences write it: in quotes, with quotes, backslashes
// and all that does not show on a terminal escaped. The result is one line.
func Quote(text string) string {
	var b strings.Builder
	b.WriteByte('"')
	for _, r := range text {
		switch {
		case r == '"' || r == '\\':
			b.WriteByte('\\')
			b.WriteRune(r)
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\t':
			b.WriteString(`\t`)
		case unicode.IsPrint(r) && r != utf8.RuneError:
			b.WriteRune(r)
		case r > 0xFFFF:
			r -= 0x10000
			fmt.Fprintf(&b, `\u%04x\u%04x`, 0xD800+r>>10, 0xDC00+r&0x3FF)
		default:
			fmt.Fprintf(&b, `\u%04x`, r)
		}
	}
	b.WriteByte('"')
	return b.String()
}

// printable names a character for an error without letting it act on a terminal.
func printable(r rune) string {
	if unicode.IsPrint(r) {
		return fmt.Sprintf("“%c”", r)
	}
	return fmt.Sprintf("U+%04X", r)
}
