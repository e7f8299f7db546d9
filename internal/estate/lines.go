package estate

import (
	"slices"
	"strings"

	"ironbark/internal/sentence"
)

// AppendSentence writes a sentence as the last line of a rules file.
func AppendSentence(data []byte, s sentence.Sentence) []byte {
	t := newText(data)
	t.insert(len(t.lines), s.String())
	return t.bytes()
}

// ReplaceLine writes a sentence in place of the one on a line of a rules file,
// counted from 1. A comment behind it stays.
func ReplaceLine(data []byte, line int, s sentence.Sentence) []byte {
	t := newText(data)
	old := t.lines[line-1]
	rest := old[len(strings.TrimRight(old, "\r\n")):]
	if comment := sentence.Comment(strings.TrimRight(old, "\r\n")); comment != "" {
		rest = "   " + comment + rest
	}
	t.lines[line-1] = s.String() + rest
	return t.bytes()
}

// RemoveLine takes the line with a number, counted from 1, out of a rules file.
func RemoveLine(data []byte, line int) []byte {
	return RemoveLines(data, map[int]bool{line: true})
}

// RemoveLines takes the lines with some numbers, counted from 1, out of a rules file. Cost: linear in the file.
func RemoveLines(data []byte, lines map[int]bool) []byte {
	t := newText(data)
	number := 0
	t.lines = slices.DeleteFunc(t.lines, func(string) bool {
		number++
		return lines[number]
	})
	return t.bytes()
}
