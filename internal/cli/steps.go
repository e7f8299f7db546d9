package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"ironbark/internal/cli/view"
	"ironbark/internal/flow"
	"ironbark/internal/opening"
	"ironbark/internal/rights"
	"ironbark/internal/sentence"
	"ironbark/internal/work"
)

// steps asks for the words of an opening that are missing, one after the other. What can be
// chosen comes from the person's permits and the estate.
type steps struct {
	a         *app
	w         *work.Work
	st        *work.State
	may       []rights.Right // what of the person's permits still fits
	emergency bool
	whole     bool                // every part is asked for; otherwise what is missing has a default
	words     map[string][]string // by the word that they follow; services follow ""
}

// stepWords begin the parts of an opening's words.
var stepWords = []string{"to", "from", "starting", "for", "until", "because"}

// completed returns the words of an opening with those that are missing asked for. Where none
// is missing, or there is nobody to ask, they are returned as they are.
func (a *app) completed(ctx context.Context, w *work.Work, args []string) ([]string, error) {
	s := &steps{a: a, w: w}
	if !a.terminal || a.json || !s.read(args) || s.has("") && s.has("to") && s.has("because") {
		return args, nil
	}
	var err error
	if s.st, err = w.Installed(ctx); err != nil {
		return nil, err
	}
	if !s.st.Estate.PersonKnown(w.Person) {
		return nil, &work.UnknownPersonError{Person: w.Person}
	}
	for _, r := range rights.Of(w.Person, rights.State{Estate: s.st.Estate, Plan: s.st.Plan}) {
		if r.Kind == rights.Open && r.Emergency == s.emergency {
			s.may = append(s.may, r)
		}
	}
	if len(s.may) == 0 {
		return nil, &work.NothingToOpenError{Person: w.Person, Emergency: s.emergency}
	}
	s.whole = !s.has("") || !s.has("to")
	for _, ask := range []func() error{s.services, s.machines, s.source, s.length, s.reason} {
		if err := ask(); err != nil {
			return nil, err
		}
	}
	out := s.all()
	if s.whole {
		a.print.NoteWrap("that is  ", "open "+sentence.Shell(out...))
	}
	return out, nil
}

func (s *steps) has(word string) bool { return len(s.words[word]) > 0 }

// read takes words apart; false where they cannot be the parts of an opening.
func (s *steps) read(args []string) bool {
	for i := 1; i < len(args); i++ {
		if args[i-1] == "in" && args[i] == "emergency" {
			s.emergency, args = true, slices.Delete(slices.Clone(args), i-1, i+1)
			break
		}
	}
	var err error
	s.words, err = sections(args, stepWords...)
	return err == nil
}

// all puts the words together again.
func (s *steps) all() []string {
	out := slices.Clone(s.words[""])
	for _, word := range stepWords {
		if word == "because" && s.emergency {
			out = append(out, "in", "emergency")
		}
		if s.has(word) {
			out = append(append(out, word), s.words[word]...)
		}
	}
	return out
}

// services asks which services.
func (s *steps) services() error {
	if !s.has("") {
		known := map[string]bool{}
		var list []string
		for _, r := range s.may {
			for _, name := range servicesOf(r) {
				if !known[name] {
					known[name] = true
					list = append(list, name)
				}
			}
		}
		slices.Sort(list)
		if err := s.choose("", "Which services", list, ""); err != nil {
			return err
		}
	}
	asked, err := sentence.ParseServices(strings.Join(s.words[""], " "))
	if err != nil {
		return nil // whoever judges the words tells it
	}
	set := flow.ServicesOf(s.st.Estate, asked)
	s.keep(func(r rights.Right) bool { return r.Flows.Services.ContainsAll(set) })
	return nil
}

// servicesOf names the services of a right as its permit does, administrative ones one by one.
func servicesOf(r rights.Right) (names []string) {
	parsed, err := sentence.ParseArgs([]string{r.Origin.Sentence}, time.Time{})
	permit, ok := parsed.(sentence.Permit)
	if err != nil || !ok || permit.Services.Any {
		return sentence.AdministrativeNames()
	}
	for _, one := range permit.Services.List {
		if one.String() == sentence.AdminName {
			names = append(names, sentence.AdministrativeNames()...)
		} else {
			names = append(names, one.String())
		}
	}
	return names
}

// machines asks which machines, and tells of those that cannot be opened now.
func (s *steps) machines() error {
	if !s.has("to") {
		hindered := map[string]opening.Reason{}
		list := map[string]bool{}
		for _, r := range s.may {
			could := s.w.CouldOpen(s.st, r)
			for _, h := range could.Hindered {
				hindered[h.Machine] = h
			}
			for _, m := range r.Machines {
				list[m] = true
			}
		}
		names := slices.Sorted(maps.Keys(list))
		free := slices.DeleteFunc(slices.Clone(names), func(m string) bool { _, is := hindered[m]; return is })
		for _, m := range names {
			if h, is := hindered[m]; is {
				s.a.print.NoteWrap("  not now: ", h.What)
			}
		}
		if len(free) == 0 {
			return wrong("none of the machines that you may open can be opened now: ironbark openings --could")
		}
		if err := s.choose("to", "Which machines", free, ""); err != nil {
			return err
		}
	}
	to, err := sentence.ParseSource(strings.Join(s.words["to"], " "))
	if err != nil {
		return nil
	}
	group := flow.NewResolver(s.st.Estate, s.st.Plan).Group(to)
	s.keep(func(r rights.Right) bool {
		return !slices.ContainsFunc(group.Machines, func(m int32) bool { return !slices.Contains(r.Machines, s.st.Plan.Machines[m].Name) })
	})
	return nil
}

// source asks from where: me where the permit is for that.
func (s *steps) source() error {
	if !s.whole || s.has("from") || s.console() {
		return nil
	}
	var list []string
	resolve := flow.NewResolver(s.st.Estate, s.st.Plan)
	covered := func(from flow.Addrs) bool {
		return !from.IsEmpty() && slices.ContainsFunc(s.may, func(r rights.Right) bool { return r.Flows.From.ContainsAll(from) })
	}
	question := "From where"
	callers, err := s.w.Caller.Addrs(s.st.Estate)
	if err != nil {
		s.a.print.NoteWrap("  ", err.Error())
	}
	mine := flow.AddrSet(callers...)
	var words []string
	for _, c := range callers {
		words = append(words, c.String())
	}
	if covered(mine) {
		list = append(list, "me")
		question += ", “me” is " + strings.Join(words, ", ")
	}
	for _, one := range s.st.Estate.Sources {
		if set, err := sentence.ParseSource(one.Name); err == nil && covered(resolve.Source(set)) {
			list = append(list, one.Name)
		}
	}
	if len(list) == 0 {
		return s.choose("from", question, nil, "")
	}
	return s.choose("from", question, list, list[0])
}

// console reports whether it is consoles that are to be opened, which have no source.
func (s *steps) console() bool { return slices.Equal(s.words[""], []string{sentence.ConsoleName}) }

// length asks for how long: an hour, or less where the permits say so.
func (s *steps) length() error {
	if !s.whole || s.has("for") || s.has("until") {
		return nil
	}
	most := time.Duration(0)
	for _, r := range s.may {
		most = max(most, r.Length)
	}
	question, usual := "For how long", time.Hour
	if most > 0 {
		question, usual = fmt.Sprintf("For how long, %s at most", sentence.DurationOf(most)), min(usual, most)
	}
	return s.choose("for", question, nil, sentence.DurationOf(usual).String())
}

// reason asks why.
func (s *steps) reason() error {
	if s.has("because") {
		return nil
	}
	text, err := s.answer("Why", "")
	if err != nil {
		return err
	}
	s.words["because"] = []string{text}
	return nil
}

// keep leaves the permits that fit what was said; where none does all stay, and whoever judges
// the words tells what is wrong.
func (s *steps) keep(fits func(rights.Right) bool) {
	if left := slices.DeleteFunc(slices.Clone(s.may), func(r rights.Right) bool { return !fits(r) }); len(left) > 0 {
		s.may = left
	}
}

// mostChoices is how many choices are told one by one.
const mostChoices = 20

// choose asks for one or several of a list, by number or by name, or for other words that can
// stand there. What can only be one thing is not asked. usual is what an empty answer means.
func (s *steps) choose(word, question string, list []string, usual string) error {
	if len(list) == 1 {
		s.words[word] = list
		s.a.print.Note("%s: %s", question, list[0])
		return nil
	}
	for i, name := range list {
		if i == mostChoices {
			s.a.print.Note("  … and %d more; a name, a pattern or a tag will do", len(list)-i)
			break
		}
		s.a.print.Note("  %2d  %s", i+1, name)
	}
	if usual != "" {
		question += " [" + usual + "]"
	}
	for {
		text, err := s.answer(question, usual)
		if err != nil {
			return err
		}
		text = byNumber(text, list)
		if err := s.reads(word, text); err != nil {
			s.unread(err)
			continue
		}
		s.words[word] = []string{text}
		return nil
	}
}

// unread tells what is wrong with an answer.
func (s *steps) unread(err error) {
	var list sentence.Errors
	if !errors.As(bare(err), &list) {
		s.a.print.Error(err)
	}
	for _, e := range list {
		s.a.print.NoteWrap("  ", e.Problem)
		if !e.Remedy.IsZero() {
			s.a.print.NoteWrap("    ", view.Advice(e.Remedy))
		}
	}
}

// reads tells whether a text can follow a word of an opening that is right otherwise.
func (s *steps) reads(word, text string) error {
	part := map[string]string{"": "any", "to": "all", "from": "everywhere", "for": "1h", word: text}
	words := []string{"open", part[""], "to", part["to"], "from", part["from"], "for", part["for"], "because", "asked"}
	if s.console() || word == "" && text == sentence.ConsoleName {
		words = slices.Delete(words, 4, 6)
	}
	asked, _, err := sentence.ParseTyped(words, s.a.now())
	if err != nil {
		return err
	}
	return s.st.Estate.CheckSentence(asked)
}

// byNumber puts names in place of numbers of a list.
func byNumber(text string, list []string) string {
	words := strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ' ' })
	for i, word := range words {
		n, err := strconv.Atoi(word)
		if err != nil || n < 1 || n > len(list) {
			return text
		}
		words[i] = list[n-1]
	}
	return strings.Join(words, ", ")
}

// answer asks a question; an empty answer is the usual one, where there is one.
func (s *steps) answer(question, usual string) (string, error) {
	return s.a.answerTo(question, usual, "nothing was opened")
}
