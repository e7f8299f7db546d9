package estate

import (
	"slices"
	"sync"

	"ironbark/internal/sentence"
)

// said are the sentences of an estate: read, or as they stand in files that were read before. Then they are read when somebody
// asks for them, and those of some verbs alone where nobody asks for all. It is safe for concurrent use.
type said struct {
	before *said  // these stand before the others; nil: none
	files  []File // rules files that are known to be sound; none where list has the others from the beginning

	whole sync.Once
	list  []sentence.Stated

	sorted sync.Once
	lines  [sentence.VerbAlways + 1][]line // by verb, in the order of the files
}

// line is a line of a rules file that holds a sentence.
type line struct {
	file int // into files
	sentence.Line
}

// Sentences returns all sentences, in the order of the files. The caller must not change them. Cost: linear in the files where they were not asked for yet.
func (e *Estate) Sentences() []sentence.Stated { return e.said.all() }

func (s *said) all() []sentence.Stated {
	if s == nil {
		return nil
	}
	if s.before != nil {
		return slices.Concat(s.before.all(), s.list)
	}
	s.whole.Do(func() {
		for _, f := range s.files {
			list, err := sentence.ParseFile(f.Name, f.Data)
			if err != nil {
				panic("estate: a file that was read before cannot be read: " + err.Error())
			}
			s.list = append(s.list, list...)
		}
	})
	return s.list
}

// SentencesOf returns the sentences of some verbs, in the order of the files. The caller must not change them. Cost: linear in those, once the
// files were looked through.
func (e *Estate) SentencesOf(verbs ...sentence.Verb) []sentence.Stated { return e.said.of(verbs) }

func (s *said) of(verbs []sentence.Verb) (list []sentence.Stated) {
	if s == nil {
		return nil
	}
	if len(s.files) == 0 {
		list = s.before.of(verbs)
		for _, st := range s.list {
			if slices.Contains(verbs, st.Sentence.Verb()) {
				list = append(list, st)
			}
		}
		return list
	}
	s.sorted.Do(s.sort)
	var lines []line
	for _, v := range verbs {
		lines = append(lines, s.lines[v]...)
	}
	if len(verbs) > 1 {
		slices.SortFunc(lines, func(a, b line) int {
			if a.file != b.file {
				return a.file - b.file
			}
			return a.Number - b.Number
		})
	}
	for _, l := range lines {
		st, err := l.Parse(s.files[l.file].Name)
		if err != nil {
			panic("estate: a file that was read before cannot be read: " + err.Error())
		}
		list = append(list, st)
	}
	return list
}

func (s *said) sort() {
	for i, f := range s.files {
		for l := range sentence.Lines(f.Data) {
			if v := l.Verb(); v.InFiles() {
				s.lines[v] = append(s.lines[v], line{i, l})
			}
		}
	}
}

// With returns the estate with further sentences behind its own. They are not checked.
func (e *Estate) With(more ...sentence.Stated) *Estate {
	f := *e
	f.said = &said{before: e.said, list: more}
	return &f
}

// ReadEnactedAgain is [ReadEnactedFiles] for files that this very program has read before in that way, without an error. Their sentences are read when
// they are asked for. It panics, then or at once, where there was an error after all.
func ReadEnactedAgain(files []File) *Estate {
	e, err := readFiles(again, files)
	if err != nil {
		panic("estate: files that were read before cannot be read: " + err.Error())
	}
	return e
}
