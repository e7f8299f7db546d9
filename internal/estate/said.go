package estate

import (
	"cmp"
	"slices"
	"strings"
	"sync"

	"ironbark/internal/sentence"
)

// said are the sentences of an estate: read, or as they stand in files that were read before. Then they are read when somebody
// asks for them, and those of some verbs alone where nobody asks for all. It is safe for concurrent use.
type said struct {
	before *said  // these stand before the others; nil: none
	like   *said  // most of files stands in these; nil: nothing is known to
	files  []File // rules files that are known to be sound; none where list has the others from the beginning
	alike  *said  // has the same sentences of the verbs that differ does not name, on the same lines; nil: nothing is known to
	differ []sentence.Verb

	whole sync.Once
	list  []sentence.Statement

	sorted sync.Once
	lines  [][sentence.VerbAlways + 1][]sentence.Line // by file and verb
	ofVerb [sentence.VerbAlways + 1]struct {
		once sync.Once
		list []sentence.Statement
	}
}

// Sentences returns all sentences, in the order of the files. The caller must not change them. Cost: linear in the files where they were not asked for yet.
func (e *Estate) Sentences() []sentence.Statement { return e.said.all() }

func (s *said) all() []sentence.Statement {
	if s == nil {
		return nil
	}
	if s.before != nil {
		return slices.Concat(s.before.all(), s.list)
	}
	s.whole.Do(func() {
		for _, f := range s.files {
			s.list = append(s.list, s.read(f)...)
		}
	})
	return s.list
}

// read reads the sentences of a file, and takes those that stand in the other estate as they are.
func (s *said) read(f File) []sentence.Statement {
	var there []sentence.Statement // in that file, by line
	for _, st := range s.like.all() {
		if st.At.File == f.Name {
			there = append(there, st)
		}
	}
	var list []sentence.Statement
	var lines []sentence.Line // that are not there
	var places []int          // in list
	for l := range sentence.Lines(f.Data) {
		for len(there) > 0 && there[0].At.Line < l.Number {
			there = there[1:]
		}
		if len(there) > 0 && there[0].At.Line == l.Number && there[0].Text == l.Text {
			list = append(list, there[0])
			continue
		}
		places, lines = append(places, len(list)), append(lines, l)
		list = append(list, sentence.Statement{})
	}
	for i, st := range mustParse(f.Name, lines) {
		list[places[i]] = st
	}
	return list
}

// ReadLike says that most sentences of the estate stand in another one, whose are read: those that stand at the same line there, word for word, are taken from
// it and not read again. It must be called before the sentences are asked for, and does nothing where they are read.
func (e *Estate) ReadLike(o *Estate) {
	if e.said != nil && o.said != nil && len(e.said.files) > 0 && len(o.said.files) == 0 {
		e.said.like = o.said
	}
}

// permitsNaming returns the permits whose lines hold any of some names, and perhaps others.
func (s *said) permitsNaming(names []string) (list []sentence.Statement) {
	if s == nil || len(s.files) == 0 {
		return s.of(sentence.VerbPermit)
	}
	s.sorted.Do(s.sort)
	for i, f := range s.files {
		var lines []sentence.Line
		for _, l := range s.lines[i][sentence.VerbPermit] {
			if slices.ContainsFunc(names, func(name string) bool { return strings.Contains(l.Text, name) }) {
				lines = append(lines, l)
			}
		}
		list = append(list, mustParse(f.Name, lines)...)
	}
	return list
}

// SentencesOf returns the sentences of some verbs, in the order of the files. The caller must not change them. Cost: linear in those, once the
// files were looked through. Permits whose end has come at the estate's moment are left out: see [Estate.AsOf].
func (e *Estate) SentencesOf(verbs ...sentence.Verb) []sentence.Statement {
	return e.holding(e.said.of(verbs...))
}

// of returns the sentences of some verbs. Of those that are not read yet only such are read.
func (s *said) of(verbs ...sentence.Verb) (list []sentence.Statement) {
	switch {
	case s == nil:
		return nil
	case len(s.files) == 0:
		list = s.before.of(verbs...)
		for _, st := range s.list {
			if slices.Contains(verbs, st.Sentence.Verb()) {
				list = append(list, st)
			}
		}
		return list
	case len(verbs) == 1:
		return s.ofOne(verbs[0])
	}
	for _, v := range verbs {
		list = append(list, s.ofOne(v)...)
	}
	place := map[string]int{}
	for i, f := range s.files {
		place[f.Name] = i
	}
	slices.SortFunc(list, func(a, b sentence.Statement) int {
		return cmp.Or(cmp.Compare(place[a.At.File], place[b.At.File]), cmp.Compare(a.At.Line, b.At.Line))
	})
	return list
}

// ofOne is of for one verb of files that are not read yet. What it read is kept.
func (s *said) ofOne(v sentence.Verb) []sentence.Statement {
	if s.alike != nil && !slices.Contains(s.differ, v) {
		return s.alike.of(v)
	}
	mine := &s.ofVerb[v]
	mine.once.Do(func() {
		s.sorted.Do(s.sort)
		for i, f := range s.files {
			mine.list = append(mine.list, mustParse(f.Name, s.lines[i][v])...)
		}
	})
	return mine.list
}

// mustParse reads lines that were read before.
func mustParse(file string, lines []sentence.Line) []sentence.Statement {
	list, errs := sentence.ParseLines(file, lines)
	if errs != nil {
		panic("estate: a file that was read before cannot be read: " + errs.Error())
	}
	return list
}

// sort looks through the files.
func (s *said) sort() {
	s.lines = make([][sentence.VerbAlways + 1][]sentence.Line, len(s.files))
	for i, f := range s.files {
		for l := range sentence.Lines(f.Data) {
			if v := l.Verb(); v.InFiles() {
				s.lines[i][v] = append(s.lines[i][v], l)
			}
		}
	}
}

// With returns the estate with further sentences behind its own. They are not checked.
func (e *Estate) With(more ...sentence.Statement) *Estate {
	f := *e
	f.said = &said{before: e.said, list: more}
	return &f
}

// ReadEnactedAgain is [ReadEnactedFiles] for files that this very program has read before in that way, without an error. Their sentences are read when
// they are asked for; that panics where there was an error in them after all.
func ReadEnactedAgain(files []File) (*Estate, error) { return readFiles(again, files) }

// sentences reads rules files, or leaves that for later.
func (r *reader) sentences(how reading, rules []File) *said {
	if how == again {
		return &said{files: rules}
	}
	var list []sentence.Statement
	for _, f := range rules {
		stated, err := sentence.ParseFile(f.Name, f.Data)
		if how == drafted {
			for _, st := range stated {
				r.reasonShows(st.At, st.Sentence)
			}
		}
		if err != nil {
			r.errs = append(r.errs, err.(sentence.Errors)...)
		}
		list = append(list, stated...)
		if len(list) > sentence.MaxSentences {
			r.errs = append(r.errs, sentence.TooMany(sentence.Pos{File: f.Name}))
			break
		}
	}
	return &said{list: list}
}
