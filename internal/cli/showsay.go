package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ironbark/internal/change"
	"ironbark/internal/cli/view"
	"ironbark/internal/estate"
	"ironbark/internal/flow"
	"ironbark/internal/rights"
	"ironbark/internal/sentence"
	"ironbark/internal/work"
)

// wordDoc is a name of the estate and what it stands for.
type wordDoc struct {
	Kind    string `json:"kind"`
	Name    string `json:"name"`
	Means   string `json:"means"`
	Pending string `json:"pending"` // what of it is not enacted: new, altered, removed; "": it is
}

type wordsDoc struct {
	Words []wordDoc `json:"words"`
}

// statedDoc is a sentence with its place.
type statedDoc struct {
	File     string `json:"file"`
	Line     int    `json:"line"`
	Sentence string `json:"sentence"`
	Pending  string `json:"pending"` // new or removed; "": it is enacted
	Ended    bool   `json:"ended"`
}

type sentencesDoc struct {
	Sentences []statedDoc `json:"sentences"`
}

// personRightsDoc is one person and what they may do.
type personRightsDoc struct {
	personDoc
	May []view.RightDoc `json:"may"`
}

// both reads the files, and what is enacted.
func (a *app) both(ctx context.Context, w *work.Work) (files, enacted *work.State, err error) {
	if enacted, err = w.Installed(ctx); err != nil {
		return nil, nil, err
	}
	files, err = w.Asked(ctx, true)
	return files, enacted, err
}

// showWordsCommand lists the names of one kind with what they stand for.
func (a *app) showWordsCommand(kind, short string, heads []string) *cobra.Command {
	return &cobra.Command{
		Use: kind, Short: short, Args: noArgs,
		RunE: a.with(func(ctx context.Context, w *work.Work, _ []string) error {
			files, enacted, err := a.both(ctx, w)
			if err != nil {
				return err
			}
			doc := wordsDoc{Words: []wordDoc{}}
			changed := change.Meanings(enacted.Estate, files.Estate)
			pending := map[change.Verb]string{change.Make: "new", change.Alter: "altered", change.Remove: "removed"}
			for _, m := range change.Said(files.Estate) {
				if m.Kind == kind {
					i := slices.IndexFunc(changed, func(c change.Meaning) bool { return c.Kind == kind && c.Name == m.Name })
					one := wordDoc{Kind: kind, Name: m.Name, Means: m.After}
					if i >= 0 {
						one.Pending = pending[changed[i].Verb]
					}
					doc.Words = append(doc.Words, one)
				}
			}
			for _, m := range changed {
				if m.Kind == kind && m.Verb == change.Remove {
					doc.Words = append(doc.Words, wordDoc{kind, m.Name, m.Before, "removed"})
				}
			}
			if kind == "admin" {
				for _, name := range sentence.AdministrativeNames() {
					ports, _ := files.Estate.Ports(name)
					means := strings.Join(flow.ServiceRuns(flow.ServicesOf(files.Estate, sentence.Services{List: ports})), ", ")
					doc.Words = append(doc.Words, wordDoc{kind, name, "always administrative, " + means, ""})
				}
			}
			if a.json {
				return a.print.JSON(doc)
			}
			var rows [][]string
			for _, one := range doc.Words {
				rows = append(rows, []string{one.Name, one.Means, one.Pending})
			}
			a.listed(heads, rows)
			return nil
		}),
	}
}

// listed prints a table whose last column tells what is pending, without it where nothing is.
func (a *app) listed(heads []string, rows [][]string) {
	last := len(heads)
	if len(rows) == 0 {
		a.print.Line("none")
		return
	}
	if slices.ContainsFunc(rows, func(r []string) bool { return r[last] != "" }) {
		a.print.Table(append(heads, "NOT ENACTED"), rows)
		return
	}
	for i := range rows {
		rows[i] = rows[i][:last]
	}
	a.print.Table(heads, rows)
}

// showWord shows a person, or what a source or a service stands for; false where there is none
// of the name.
func (a *app) showWord(ctx context.Context, w *work.Work, st *work.State, name string) (shown bool, err error) {
	if slices.Contains(st.Estate.NamesOf("person"), name) {
		return true, a.showPerson(ctx, w, name)
	}
	for _, m := range change.Said(st.Estate) {
		if m.Name != name || m.Kind != "source" && m.Kind != "service" {
			continue
		}
		if a.json {
			return true, a.print.JSON(wordsDoc{[]wordDoc{{m.Kind, m.Name, m.After, ""}}})
		}
		a.print.Line("%s %s  %s", m.Kind, m.Name, m.After)
		return true, nil
	}
	return false, nil
}

// showSentencesCommand lists sentences with their places: those of some verbs.
func (a *app) showSentencesCommand(kind, short string, verbs ...sentence.Verb) *cobra.Command {
	return &cobra.Command{
		Use: kind, Short: short, Args: noArgs,
		Long: short + ".\n\nEach has its place, by which retract takes it.",
		RunE: a.with(func(ctx context.Context, w *work.Work, _ []string) error {
			files, enacted, err := a.both(ctx, w)
			if err != nil {
				return err
			}
			doc := sentencesDoc{Sentences: []statedDoc{}}
			add := func(list []sentence.Statement, others *estate.Estate, pending string, known bool) {
				has := map[string]bool{}
				for _, st := range others.Sentences() {
					has[st.Sentence.String()] = true
				}
				for _, st := range list {
					if len(verbs) > 0 && !slices.Contains(verbs, st.Sentence.Verb()) {
						continue
					}
					one := statedDoc{File: st.At.File, Line: st.At.Line, Sentence: st.Sentence.String(), Ended: sentence.Ended(st.Sentence, a.clock.Now())}
					if !has[one.Sentence] {
						one.Pending = pending
					} else if !known {
						continue
					}
					doc.Sentences = append(doc.Sentences, one)
				}
			}
			add(files.Estate.Sentences(), enacted.Estate, "new", true)
			add(enacted.Estate.Sentences(), files.Estate, "retracted", false)
			if a.json {
				return a.print.JSON(doc)
			}
			var rows [][]string
			for _, one := range doc.Sentences {
				at := fmt.Sprintf("%s:%d", one.File, one.Line)
				if one.File == estate.RulesName {
					at = fmt.Sprint(one.Line)
				}
				if one.Pending == "retracted" {
					at = ""
				}
				text := one.Sentence
				if one.Ended {
					text += "  (over)"
				}
				rows = append(rows, []string{at, text, one.Pending})
			}
			a.listed([]string{"AT", "SENTENCE"}, rows)
			return nil
		}),
	}
}

// showPersonCommand lists the people, or tells what one of them may do.
func (a *app) showPersonCommand() *cobra.Command {
	return &cobra.Command{
		Use: "person [NAME]", Short: "List the people and their groups, or tell what one of them may do", ValidArgsFunction: a.completeNouns("person"),
		RunE: a.with(func(ctx context.Context, w *work.Work, args []string) error {
			st, err := w.Asked(ctx, true)
			if err != nil {
				return err
			}
			switch {
			case len(args) > 1:
				return usage("show person takes one name")
			case len(args) == 1:
				return a.showPerson(ctx, w, args[0])
			}
			docs, rows := []personDoc{}, [][]string{}
			for _, p := range st.Estate.People {
				docs = append(docs, personDocOf(p))
				rows = append(rows, []string{p.Name, strings.Join(p.Groups, ", "), fmt.Sprint(len(p.Keys)), untilWords(p, a.clock.Now())})
			}
			if a.json {
				return a.print.JSON(peopleDoc{docs})
			}
			a.print.Table([]string{"PERSON", "GROUPS", "KEYS", "UNTIL"}, rows, 2)
			return nil
		}),
	}
}

// personDocOf is the document of a person.
func personDocOf(p estate.Person) personDoc {
	doc := personDoc{Name: p.Name, Groups: append([]string{}, p.Groups...), Keys: len(p.Keys)}
	if !p.Until.IsZero() {
		doc.Until = &p.Until
	}
	return doc
}

// untilWords tells when a person's rights end; nothing where they do not.
func untilWords(p estate.Person, now time.Time) string {
	switch {
	case p.Until.IsZero():
		return ""
	case !now.Before(p.Until):
		return view.Moment(p.Until, now) + ", over"
	}
	return view.Moment(p.Until, now)
}

// showPerson tells what somebody may do by what is enacted.
func (a *app) showPerson(ctx context.Context, w *work.Work, name string) error {
	st, err := w.Installed(ctx)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(st.Estate.People, func(p estate.Person) bool { return p.Name == name })
	if i < 0 {
		return unknownName("person", name, st.Estate.NamesOf("person"))
	}
	p := st.Estate.People[i]
	may := rights.Of(name, rights.State{Estate: st.Estate, Plan: st.Plan})
	if a.json {
		return a.print.JSON(personRightsDoc{personDocOf(p), view.RightsJSON(may)})
	}
	a.print.Head("person " + name)
	groups := "in no group"
	if len(p.Groups) > 0 {
		groups = "in " + strings.Join(p.Groups, ", ")
	}
	a.print.Line("  %s", groups)
	if until := untilWords(p, a.clock.Now()); until != "" {
		a.print.Line("  until %s", until)
	}
	a.print.Line("")
	a.print.Head("May")
	if len(may) == 0 {
		a.print.Line("  nothing but look, and close what is their own")
	}
	a.print.RightsOf(may, a.phrasing(st))
	return nil
}
