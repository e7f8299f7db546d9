package sentence

import (
	"bytes"
	"iter"
	"slices"
	"strings"
)

// Line is a line of a rules file that holds more than a comment, and is not read yet.
type Line struct {
	Number int    // from 1
	Text   string // without its end
}

// Lines yields the lines of a rules file that are not empty and no comments. Their texts share memory with a copy of data.
func Lines(data []byte) iter.Seq[Line] {
	return func(yield func(Line) bool) {
		number := 0
		for text := range strings.Lines(string(bytes.TrimPrefix(data, byteOrderMark))) {
			number++
			text = strings.TrimSuffix(strings.TrimSuffix(text, "\n"), "\r")
			if first := strings.TrimLeft(text, blank); first != "" && first[0] != '#' && !yield(Line{number, text}) {
				return
			}
		}
	}
}

// blank is what may stand between words, and byteOrderMark what may not begin a file.
const blank = " \t\r"

var byteOrderMark = []byte("\xef\xbb\xbf")

// Verb returns the verb with which the line begins, whatever follows; the zero Verb where it begins with none.
func (l Line) Verb() Verb {
	word := strings.TrimLeft(l.Text, blank)
	if end := strings.IndexAny(word, blank); end >= 0 {
		word = word[:end]
	}
	return Verb(max(0, slices.Index(verbWords[:], word)))
}

// parse reads the sentence of the line, which stands in a file.
func (l Line) parse(file string) (Statement, *Error) {
	s, err := parseLine(file, l.Number, l.Text)
	return Statement{Sentence: s, At: Pos{File: file, Line: l.Number}, Text: l.Text}, err
}
