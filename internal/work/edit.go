package work

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"ironbark/internal/estate"
	"ironbark/internal/fault"
	"ironbark/internal/flow"
	"ironbark/internal/sentence"
)

// Pending reports whether the files hold edits besides some that were just enacted,
// and which would change something.
func (w *Work) Pending(ctx context.Context, enacted Files) (bool, error) {
	files, err := w.Folder.Read()
	if err != nil || files.Equal(enacted) {
		return false, err
	}
	r, err := w.Review(ctx, files)
	if err != nil { // what is in error is not enacted
		return true, nil
	}
	// Tables that tell other lines of the files let the same pass.
	return len(r.Changes)+len(r.Added)+len(r.Retracted)+len(r.Ending)+len(r.Meanings) > 0 || r.differs(), nil
}

// AddNoun returns the files with an entry added to estate.yaml.
func (fs Files) AddNoun(path []string, name string, v estate.Value) (Files, error) {
	if bad := sentence.ValidName(name); bad != nil {
		return nil, &sentence.Error{Problem: fmt.Sprintf("“%s” is no name: %s", name, bad)}
	}
	data, err := estate.Add(fs.Get(estate.FileName), path, name, v)
	if err != nil {
		return nil, &sentence.Error{At: sentence.Pos{File: estate.FileName}, Problem: err.Error()}
	}
	return fs.With(estate.FileName, data), nil
}

// RemoveNoun returns the files with an entry taken out of estate.yaml.
func (fs Files) RemoveNoun(path []string, name string) (Files, error) {
	data, err := estate.Remove(fs.Get(estate.FileName), path, name)
	if err != nil {
		return nil, &sentence.Error{At: sentence.Pos{File: estate.FileName}, Problem: err.Error()}
	}
	return fs.With(estate.FileName, data), nil
}

// State returns the files with a sentence added to the default rules file. A
// forward of a range of ports becomes one sentence a machine. It returns the
// sentences as they were written.
func (w *Work) State(ctx context.Context, files Files, s sentence.Sentence) (Files, []sentence.Sentence, error) {
	st, err := w.drafted(ctx, files)
	if err != nil {
		return nil, nil, err
	}
	if s, err = w.writtenOut(s, st); err != nil {
		return nil, nil, err
	}
	list, err := expand(st.Estate, s)
	if err != nil {
		return nil, nil, err
	}
	data := files.Get(estate.RulesName)
	for _, one := range list {
		if err := st.Estate.CheckSentence(one); err != nil {
			return nil, nil, err
		}
		if err := st.Estate.CheckLength(sentence.Statement{Sentence: one, Text: one.String()}); err != nil {
			return nil, nil, sentence.Errors{err}
		}
		for _, other := range st.Estate.Sentences() {
			if other.Sentence.String() == one.String() {
				return nil, nil, &sentence.Error{Problem: fmt.Sprintf("this stands at %s already: %s", other.At, one)}
			}
		}
		data = estate.AppendSentence(data, one)
	}
	return files.With(estate.RulesName, data), list, nil
}

// StateEnacted is State for a sentence that keeps sources out, where files are in
// error, which must not stand in its way: the edit is one of the files that were last
// enacted. For any other sentence, and where the error is the sentence's own, the
// error stays as it was.
func (w *Work) StateEnacted(ctx context.Context, files Files, s sentence.Sentence, why error) (old, stated Files, list []sentence.Sentence, err error) {
	if _, deny := s.(sentence.Deny); !deny {
		return nil, nil, nil, why
	}
	if _, err := files.Estate(); err == nil {
		return nil, nil, nil, why
	}
	st, err := w.Installed(ctx)
	if err != nil || len(st.Files) == 0 {
		return nil, nil, nil, why
	}
	stated, list, err = w.State(ctx, st.Files, s)
	return st.Files, stated, list, err
}

// writtenOut puts addresses in place of "me" in the sources of a sentence.
func (w *Work) writtenOut(s sentence.Sentence, st *State) (sentence.Sentence, error) {
	resolve := flow.NewResolver(st.Estate, st.Plan)
	var err error
	out := func(from, to sentence.Set) (set sentence.Set) {
		set, err = w.FromMe(st, from, resolve.Group(to))
		return set
	}
	switch one := s.(type) {
	case sentence.Allow:
		one.From = out(one.From, one.To)
		s = one
	case sentence.Deny:
		one.From = out(one.From, one.To)
		s = one
	case sentence.Forward:
		one.From = out(one.From, one.To)
		s = one
	case sentence.Spread:
		one.From = out(one.From, one.Over)
		s = one
	case sentence.Permit:
		one.From = out(one.From, one.To)
		s = one
	case sentence.Never:
		one.From = out(one.From, one.To)
		s = one
	case sentence.Always:
		one.From = out(one.From, one.To)
		s = one
	}
	return s, err
}

// expand writes a forward of a range of ports as one forward a machine, in the
// order of the machines' names, so that adding a machine later moves nobody's port.
func expand(e *estate.Estate, s sentence.Sentence) ([]sentence.Sentence, error) {
	f, ok := s.(sentence.Forward)
	if !ok {
		return []sentence.Sentence{s}, nil
	}
	p, lo, hi, ported := f.Service.Ports()
	if !ported || lo == hi {
		return []sentence.Sentence{s}, nil
	}
	var names []string
	for _, i := range e.Targets(f.To) {
		names = append(names, e.Machines[i].Name)
	}
	slices.Sort(names)
	if ports := int(hi-lo) + 1; len(names) == 0 || len(names) > ports {
		return nil, &sentence.Error{Problem: fmt.Sprintf("%s is %d ports, and “%s” is %d machines", f.Service, ports, f.To, len(names)), Remedy: fault.Say("give a port to each machine")}
	}
	var list []sentence.Sentence
	for i, name := range names {
		one := f
		port, err := sentence.Ports(p, lo+uint16(i), lo+uint16(i))
		if err != nil {
			return nil, err
		}
		one.Service, one.To = port, sentence.Of(sentence.NameAtom(name))
		list = append(list, one)
	}
	return list, nil
}

// Retract returns the files without a sentence: the one that stands on a line
// (7, or team.rules:7), or the one that says the same as the given words.
func (fs Files) Retract(words []string) (Files, sentence.Statement, error) {
	e, err := fs.Estate()
	if err != nil {
		return nil, sentence.Statement{}, err
	}
	text := strings.Join(words, " ")
	file, number, _ := strings.Cut(text, ":")
	if number == "" {
		file, number = estate.RulesName, text
	}
	if line, err := strconv.Atoi(number); err == nil {
		i := slices.IndexFunc(e.Sentences(), func(s sentence.Statement) bool { return s.At.File == file && s.At.Line == line })
		if i < 0 {
			return nil, sentence.Statement{}, &sentence.Error{Problem: fmt.Sprintf("no sentence stands at %s:%d", file, line)}
		}
		return fs.without(e.Sentences()[i]), e.Sentences()[i], nil
	}
	for _, s := range e.Sentences() {
		if same(s.Sentence.String(), words) {
			return fs.without(s), s, nil
		}
	}
	var known []string
	for _, s := range e.Sentences() {
		known = append(known, s.Sentence.String())
	}
	remedy := "a sentence is retracted by its own words, or by its line: retract 7"
	if near, ok := sentence.Nearest(text, known); ok {
		remedy = "did you mean: " + near
	}
	return nil, sentence.Statement{}, &sentence.Error{Problem: "no such sentence stands in the files: " + text, Remedy: fault.Say(remedy)}
}

// same compares a canonical sentence with typed words, which may be one
// argument or many and need not be in the canonical form.
func same(canonical string, words []string) bool {
	if canonical == strings.Join(words, " ") {
		return true
	}
	s, err := sentence.ParseArgs(words, fileTime)
	return err == nil && s.String() == canonical
}

// WithoutLines returns the files without some lines of rules files. Cost: linear in those files.
func (fs Files) WithoutLines(at []sentence.Pos) Files {
	lines := map[string]map[int]bool{} // by file
	for _, p := range at {
		if lines[p.File] == nil {
			lines[p.File] = map[int]bool{}
		}
		lines[p.File][p.Line] = true
	}
	for file, numbers := range lines {
		fs = fs.With(file, estate.RemoveLines(fs.Get(file), numbers))
	}
	return fs
}

func (fs Files) without(s sentence.Statement) Files {
	return fs.With(s.At.File, estate.RemoveLine(fs.Get(s.At.File), s.At.Line))
}
