package cli

import (
	"bufio"
	"context"
	"errors"
	"slices"
	"strings"

	"ironbark/internal/cli/view"
	"ironbark/internal/plainfile"
	"ironbark/internal/sentence"
	"ironbark/internal/work"
)

// whyMany answers a file of questions. All of it is read before the first answer.
func (a *app) whyMany(ctx context.Context, w *work.Work, q *asking, file, to string, args []string) error {
	if len(args) > 0 {
		return usage("with --file the questions stand in the file")
	}
	at, err := a.moment(q.at)
	if err != nil {
		return err
	}
	asks, err := a.readQuestions(file)
	if err != nil {
		return err
	}
	st, err := a.state(ctx, w, q, at)
	if err != nil {
		return err
	}
	ph := view.NewPhrasing(st, at)
	answers := make([]answered, len(asks))
	var errs sentence.Errors
	for i, ask := range asks {
		var bad sentence.Errors
		var one *sentence.Error
		switch answers[i], err = answerOf(w, st, ask.Sentence.(sentence.Ask), at); {
		case errors.As(err, &bad):
			bad[0].At.File, bad[0].At.Line, bad[0].Line = ask.At.File, ask.At.Line, ask.Text
			errs = append(errs, bad[0])
		case errors.As(err, &one):
			one.At, one.Line = ask.At, ask.Text
			errs = append(errs, one)
		case err != nil:
			return err
		}
	}
	if len(errs) > 0 {
		return errs
	}
	if slices.ContainsFunc(asks, func(q asked) bool { return q.expect != "" }) {
		return a.expectations(asks, answers, ph, to)
	}
	if to != "" {
		return usage("%s has no expectations: lines that begin with open: or closed:", file)
	}
	open := true
	for _, answer := range answers {
		open = open && answer.verdict() == "open"
		if err := a.print.JSONLine(answer.document(ph, w.Person, at)); err != nil {
			return err
		}
	}
	if !open {
		return errNo
	}
	return nil
}

// asked is a question of a file, and what is expected of the answer: open, closed or, where
// nothing is, "".
type asked struct {
	expect string
	sentence.Statement
}

// expectation parts a line into what is expected and the question.
func expectation(line string) (expect, question string) {
	for _, word := range []string{"open", "closed"} {
		if rest, found := strings.CutPrefix(strings.TrimLeft(line, " \t"), word+":"); found {
			return word, "why " + strings.TrimLeft(rest, " \t")
		}
	}
	return "", line
}

func (a *app) readQuestions(file string) (asks []asked, err error) {
	in, name := a.in, "standard input"
	if file != "-" {
		f, err := plainfile.Open(file)
		if err != nil {
			return nil, usage("--file: %v", err)
		}
		defer func() { err = errors.Join(err, f.Close()) }()
		in, name = f, file
	}
	scanner := bufio.NewScanner(in)
	scanner.Buffer(nil, sentence.MaxLine+2)
	number := 0
	var errs sentence.Errors
	for scanner.Scan() {
		number++
		text := scanner.Text()
		if trimmed := strings.TrimSpace(text); trimmed == "" || trimmed[0] == '#' {
			continue
		}
		expect, question := expectation(text)
		ask, err := sentence.ParseQuestion(name, number, question, a.now())
		var one *sentence.Error
		if errors.As(err, &one) {
			one.Line, one.At.Col = text, max(1, one.At.Col+len([]rune(text))-len([]rune(question)))
			errs = append(errs, one)
			continue
		}
		asks = append(asks, asked{expect, sentence.Statement{Sentence: ask, At: sentence.Pos{File: name, Line: number}, Text: text}})
	}
	if err := scanner.Err(); err != nil {
		return nil, usage("%s:%d: %v", name, number+1, err)
	}
	if len(errs) > 0 {
		return nil, errs[:min(len(errs), sentence.MostErrors)]
	}
	return asks, nil
}
