package estate

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"ironbark/internal/fault"
	"ironbark/internal/sentence"
)

// commentsShow refuses comments that would act on the terminal of whoever reads them, or that show other text than what is there. Values and reasons are
// checked where they are read. Cost: linear in the bytes.
func (r *reader) commentsShow(f File) {
	if !mayHide(f.Data) {
		return
	}
	n := 0
	for line := range bytes.Lines(f.Data) {
		n++
		before, comment, found := strings.Cut(strings.TrimRight(string(line), "\r\n"), "#")
		if !found {
			continue
		}
		name, bad := sentence.FirstInvisible(strings.ReplaceAll(comment, "\t", " "))
		known := func(e *sentence.Error) bool { return e.At.File == f.Name && e.At.Line == n }
		if bad && !slices.ContainsFunc(r.errs, known) {
			r.errs = append(r.errs, &sentence.Error{
				At: sentence.Pos{File: f.Name, Line: n, Col: utf8.RuneCountInString(before) + 1}, Problem: fmt.Sprintf("the comment has %s, which does not show", name),
				Remedy: fault.Say("take it out"), Line: before + "#",
			})
		}
	}
}

// mayHide reports whether a text has characters that may not show: any but line ends, tabs and printable ASCII.
func mayHide(data []byte) bool {
	for _, c := range data {
		if (c < ' ' || c >= 0x7f) && c != '\n' && c != '\t' && c != '\r' {
			return true
		}
	}
	return false
}
