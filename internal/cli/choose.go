package cli

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"ironbark/internal/sentence"
)

// choice is one of what can be answered.
type choice struct{ name, about string }

// answerTo asks a question; an empty answer is the usual one, where there is one. The end of what can be read, and
// a q alone, give up, and gaveUp tells what was not done.
func (a *app) answerTo(question, usual, gaveUp string) (string, error) {
	for {
		a.print.Question(question + "?")
		text, err := a.line()
		text = strings.TrimSpace(text)
		switch {
		case err != nil && !errors.Is(err, io.EOF):
			return "", err
		case errors.Is(err, io.EOF) && text == "", text == "q":
			a.print.Note("not done: %s", gaveUp)
			return "", errUnconfirmed
		case text != "":
			return text, nil
		case usual != "":
			return usual, nil
		}
	}
}

// nothingChanged is what is told where somebody gives up.
const nothingChanged = "nothing was changed"

// choose asks for one of a list, by number or by name. Anything else is told, and asked again. What can only be one thing
// is not asked. usual is what an empty answer means; "": there is no such.
func (a *app) choose(question string, list []choice, usual string) (string, error) {
	if len(list) == 1 {
		a.print.Note("%s: %s", question, list[0].name)
		return list[0].name, nil
	}
	wide := 0
	var names []string
	for _, c := range list {
		wide = max(wide, ansi.StringWidth(c.name))
		names = append(names, c.name)
	}
	for i, c := range list {
		a.print.NoteWrap(fmt.Sprintf("  %2d  %-*s  ", i+1, wide, c.name), c.about)
	}
	if usual != "" {
		question += " [" + usual + "]"
	}
	for {
		text, err := a.answerTo(question, usual, nothingChanged)
		if err != nil {
			return "", err
		}
		if text = byNumber(text, names); slices.Contains(names, text) {
			return text, nil
		}
		remedy := "a number of the list, or a name"
		if near, ok := sentence.Nearest(text, names); ok {
			remedy = fmt.Sprintf("did you mean “%s”?", near)
		}
		a.print.NoteWrap("  ", fmt.Sprintf("“%s” is not among them: %s", text, remedy))
	}
}

// ask asks a question that is answered with one of the words of yes; a no, the end of what can be read, and nothing at all
// give up. Anything else is asked again.
func (a *app) ask(question string, yes ...string) error {
	for {
		a.print.Question(question)
		answer, err := a.line()
		if err != nil && !errors.Is(err, io.EOF) {
			return err
		}
		answer = strings.ToLower(strings.TrimSpace(answer))
		switch {
		case slices.Contains(yes, answer):
			return nil
		case answer == "" || slices.Contains([]string{"n", "no", "q"}, answer):
			a.print.Note("not done: %s", nothingChanged)
			return errUnconfirmed
		}
		a.print.Note("  “%s” is neither %s nor no", answer, yes[len(yes)-1])
	}
}
