package sentence

import (
	"bytes"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"ironbark/internal/fault"
	"ironbark/internal/parallel"
)

// Parse reads one sentence as a rules file holds it. A comment may follow it.
func Parse(line string) (Sentence, error) {
	s, err := parseLine("", 0, line)
	if err != nil {
		return nil, err
	}
	if s == nil {
		return nil, &Error{Line: line, Problem: "there is no sentence"}
	}
	return s, nil
}

// MustParse is Parse for tests; it panics on an error.
func MustParse(line string) Sentence {
	s, err := Parse(line)
	if err != nil {
		panic(err)
	}
	return s
}

// ParseQuestion reads one why or probe as a file of questions holds it.
func ParseQuestion(file string, number int, line string, now time.Time) (Ask, error) {
	p, err := newParser(&lexer{line: line, file: file, number: number, col: 1}, now)
	if err != nil {
		return Ask{}, err
	}
	s := p.whole()
	if p.err != nil {
		return Ask{}, p.err
	}
	ask, ok := s.(Ask)
	if !ok {
		return Ask{}, p.lex.fail(p.tokens[0].at, fmt.Sprintf("“%s” is no question", s.Verb()), "a question begins with why or probe")
	}
	return ask, nil
}

// parseLine parses one line of a file; the sentence is nil where the line has none.
func parseLine(file string, number int, line string) (Sentence, *Error) {
	p, err := newParser(&lexer{line: line, file: file, number: number, col: 1}, time.Time{})
	if err != nil {
		return nil, err
	}
	p.typed = false
	if p.peek().kind == tokenEnd {
		return nil, nil
	}
	return p.whole(), p.err
}

// newParser lexes the line and returns a parser of typed words at its first token.
func newParser(l *lexer, now time.Time) (*parser, *Error) {
	if len(l.line) > MaxLine {
		line := l.line[:80] + "…"
		return nil, &Error{
			At: l.pos(), Line: strings.ToValidUTF8(line, "?"),
			Problem: fmt.Sprintf("the sentence is %d bytes long; at most %d are read", len(l.line), MaxLine),
			Remedy:  fault.Say("say it in several sentences, or name the addresses once under sources: in estate.yaml"),
		}
	}
	if err := l.run(); err != nil {
		return nil, err
	}
	return parserOf(l, now), nil
}

func parserOf(l *lexer, now time.Time) *parser {
	end := token{kind: tokenEnd, at: Pos{File: l.file, Line: l.number, Col: l.col}}
	p := &parser{lex: l, tokens: append(l.tokens, end), typed: true, now: now}
	p.wants = p.room[:0]
	return p
}

// whole parses a sentence and the end after it.
func (p *parser) whole() Sentence {
	s := p.sentence()
	p.end()
	if p.err != nil {
		return nil
	}
	return s
}

// ParseArgs reads a sentence from the arguments of a shell command. Each argument
// is taken as it is: the one after because is the whole reason, whatever is
// in it; in the others words end at white space and commas. now gives the
// meaning of times such as 18:00, in now's own location.
func ParseArgs(args []string, now time.Time) (Sentence, error) {
	l, err := lexArgs(args)
	if err != nil {
		return nil, err
	}
	p := parserOf(l, now)
	s := p.whole()
	if p.err != nil {
		return nil, p.err
	}
	return s, nil
}

// lexArgs lexes each argument and joins them into the one line that errors show.
func lexArgs(args []string) (*lexer, *Error) {
	l := &lexer{col: 1, shell: true}
	total := 0
	for _, arg := range args {
		total += len(arg) + 1
	}
	if total > MaxLine {
		return nil, &Error{Problem: fmt.Sprintf("the sentence is %d bytes long; at most %d are read", total, MaxLine)}
	}
	for i, arg := range args {
		if i > 0 {
			l.line += " "
			l.skip(1)
		}
		if i > 0 && args[i-1] == "because" {
			if !utf8.ValidString(arg) {
				return nil, &Error{At: l.pos(), Line: l.line, Problem: "the reason is not UTF-8 text"}
			}
			l.tokens = append(l.tokens, token{kind: tokenString, text: arg, at: l.pos()})
			quoted := Quote(arg)
			l.line += quoted
			l.off = len(l.line)
			l.col += utf8.RuneCountInString(quoted)
			continue
		}
		l.line += arg
		if err := l.run(); err != nil {
			err.Line = strings.ToValidUTF8(strings.Join(args, " "), "?")
			return nil, err
		}
	}
	return l, nil
}

// Next returns what may come next after the words of an unfinished sentence, in
// the order of the grammar; nothing where the words are wrong already or where
// the sentence can only end.
func Next(words []string) []Want {
	l, err := lexArgs(words)
	if err != nil {
		return nil
	}
	p := parserOf(l, time.Unix(0, 0))
	p.sentence()
	if p.peek().kind != tokenEnd {
		return nil
	}
	return p.wants
}

// ParseSource reads a source as sentences write it: atoms, and except.
func ParseSource(text string) (Set, error) {
	l := &lexer{line: text, col: 1}
	if err := l.run(); err != nil {
		return Set{}, err
	}
	p := parserOf(l, time.Time{})
	p.typed = false
	s := p.set(WantSource)
	if p.end(); p.err != nil {
		return Set{}, p.err
	}
	return s, nil
}

// ParseServices reads services as sentences write them: a list, or any except some.
func ParseServices(text string) (Services, error) {
	l := &lexer{line: text, col: 1}
	if err := l.run(); err != nil {
		return Services{}, err
	}
	p := parserOf(l, time.Time{})
	s := p.openable()
	if p.end(); p.err != nil {
		return Services{}, p.err
	}
	return s, nil
}

// Statement is a sentence that stands in a file.
type Statement struct {
	Sentence Sentence
	At       Pos    // of the line: File and Line are set
	Text     string // the line as it stands, comment and all
}

// MaxSentences is how many sentences an estate may have. So many are read in some
// 1.3 seconds and 350 MB; more are counted and refused before any is read.
const MaxSentences = 250_000

// sentences counts the lines that are no comments and not empty. Cost: linear, some
// 20 ms for a million.
func sentences(data []byte) (n int) {
	for line := range bytes.Lines(data) {
		if text := bytes.TrimLeft(line, " \t\r\n"); len(text) > 0 && text[0] != '#' {
			n++
		}
	}
	return n
}

// ParseFile reads a whole rules file: one sentence a line, '#' begins a comment.
// The error is [Errors], with at most [MostErrors] of them.
func ParseFile(file string, data []byte) ([]Statement, error) {
	var errs Errors
	if bytes.HasPrefix(data, byteOrderMark) {
		errs = append(errs, &Error{
			At: Pos{File: file, Line: 1, Col: 1}, Problem: "the file begins with a byte order mark",
			Remedy: fault.Say("save it as UTF-8 without one"),
		})
	}
	most := sentences(data)
	if most > MaxSentences {
		return nil, append(errs, TooMany(Pos{File: file}))
	}
	lines := make([]Line, 0, most)
	for l := range Lines(data) {
		lines = append(lines, l)
	}
	list, wrong := ParseLines(file, lines)
	if errs = append(errs, wrong...); len(errs) > 0 {
		return nil, errs[:min(len(errs), MostErrors)]
	}
	return list, nil
}

// ParseLines reads lines of one rules file, on all processors. The errors are the first [MostErrors] of them.
func ParseLines(file string, lines []Line) (list []Statement, errs Errors) {
	list = make([]Statement, len(lines))
	var mu sync.Mutex
	wrong := map[int]*Error{}
	parallel.Parts(len(lines), func(from, to int) {
		met := 0
		for i := from; i < to && met < MostErrors; i++ {
			var err *Error
			if list[i], err = lines[i].parse(file); err != nil {
				met++
				mu.Lock()
				wrong[i] = err
				mu.Unlock()
			}
		}
	})
	for _, i := range slices.Sorted(maps.Keys(wrong)) {
		errs = append(errs, wrong[i])
	}
	if len(errs) > 0 {
		return nil, errs[:min(len(errs), MostErrors)]
	}
	return list, nil
}

// TooMany is the error for an estate with more than [MaxSentences].
func TooMany(at Pos) *Error {
	return &Error{At: at, Problem: fmt.Sprintf("an estate has at most %d sentences", MaxSentences), Remedy: fault.Say("say it of tags, subnets or named sources, or split the estate")}
}
