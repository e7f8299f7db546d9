package estate

import (
	"bytes"
	"slices"
	"strings"

	"ironbark/internal/sentence"
)

// Delta is what differs between two estates of the same nouns: lines of their rules files.
type Delta struct {
	Out, In []sentence.Statement // sentences on lines that only the earlier files have, and only the later ones
	blocks  map[string]block     // by file
}

// block is the one part of a file in which all lines stand that differ: behind so many that are the same, so many before, and so many after. A last line
// without an end is not counted: no line stands behind it that could move.
type block struct{ same, before, after int }

// Moved returns the line of the later file on which a line of the earlier one stands that is in both.
func (d *Delta) Moved(file string, line int) int {
	if b := d.blocks[file]; line > b.same {
		return line + b.after - b.before
	}
	return line
}

// MovesLines reports whether a line that is in both stands elsewhere in one of them, as far as the numbers of lines tell.
func (d *Delta) MovesLines() bool {
	for _, b := range d.blocks {
		if b.before != b.after {
			return true
		}
	}
	return false
}

// mostEdited is how many lines of a file may differ for only those to be read.
const mostEdited = 1000

// Edited reads files that differ from others in some lines of rules: only those lines are read and checked, and all else is that of e. e was read from the files
// old, and they passed every check; files are those as they were edited. It reports false where that cannot be done, or where something is wrong with the lines: then
// the files are to be read whole. Whether there are too many sentences is not looked at. Cost: that of comparing the files, and of the lines that differ.
func (e *Estate) Edited(old, files []File) (*Estate, *Delta, bool) {
	if len(old) != len(files) {
		return nil, nil, false
	}
	d := &Delta{blocks: map[string]block{}}
	edited := &reader{estate: e}
	var rules []File
	for _, f := range files {
		i := slices.IndexFunc(old, func(o File) bool { return o.Name == f.Name })
		if i < 0 {
			return nil, nil, false
		}
		isRules := f.Name != FileName && !strings.HasPrefix(f.Name, SetupDir+"/")
		if isRules {
			rules = append(rules, f)
		}
		if bytes.Equal(old[i].Data, f.Data) {
			continue
		}
		if !isRules || !d.read(f.Name, old[i].Data, f.Data) {
			return nil, nil, false
		}
		edited.commentsShow(f)
	}
	for _, st := range d.In {
		edited.reasonShows(st.At, st.Sentence)
		edited.relation(st, map[string]sentence.Pos{})
	}
	if len(edited.errs) > 0 {
		return nil, nil, false
	}
	later := *e
	later.said = &said{files: rules}
	if !d.MovesLines() {
		later.said.alike = e.said
		for _, st := range slices.Concat(d.Out, d.In) {
			later.said.differ = append(later.said.differ, st.Sentence.Verb())
		}
	}
	return &later, d, true
}

// read reads the lines of a file that differ. It reports false where there are too many, or some cannot be read, or where a door is among them: two doors may not
// collide, which the whole estate tells.
func (d *Delta) read(name string, old, now []byte) bool {
	b, before, after := apart(old, now)
	if b.before > mostEdited || b.after > mostEdited {
		return false
	}
	d.blocks[name] = b
	for _, side := range []struct {
		text []byte
		into *[]sentence.Statement
	}{{before, &d.Out}, {after, &d.In}} {
		if bytes.HasPrefix(side.text, []byte("\xef\xbb\xbf")) { // a byte order mark, which is told where the file is read whole
			return false
		}
		var lines []sentence.Line
		for l := range sentence.Lines(side.text) {
			if v := l.Verb(); v == sentence.VerbForward || v == sentence.VerbSpread {
				return false
			}
			l.Number += b.same
			lines = append(lines, l)
		}
		list, errs := sentence.ParseLines(name, lines)
		if errs != nil {
			return false
		}
		*side.into = append(*side.into, list...)
	}
	return true
}

// apart finds the block in which two texts differ, and its lines in each of them.
func apart(old, now []byte) (b block, before, after []byte) {
	from := 0
	for from < len(old) && from < len(now) && old[from] == now[from] {
		from++
	}
	from = bytes.LastIndexByte(old[:from], '\n') + 1
	before, after = old[from:], now[from:]
	same := 0 // bytes at the end
	for same < len(before) && same < len(after) && before[len(before)-1-same] == after[len(after)-1-same] {
		same++
	}
	tail := before[len(before)-same:]
	if !beginsLine(before, len(before)-same) || !beginsLine(after, len(after)-same) {
		_, tail, _ = bytes.Cut(tail, []byte("\n"))
	}
	before, after = before[:len(before)-len(tail)], after[:len(after)-len(tail)]
	return block{same: bytes.Count(old[:from], []byte("\n")), before: bytes.Count(before, []byte("\n")), after: bytes.Count(after, []byte("\n"))}, before, after
}

// beginsLine reports whether a line begins at a place of a text.
func beginsLine(text []byte, at int) bool { return at == 0 || text[at-1] == '\n' }
