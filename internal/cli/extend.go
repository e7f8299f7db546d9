package cli

import (
	"context"
	"errors"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"ironbark/internal/cli/view"
	"ironbark/internal/opening"
	"ironbark/internal/sentence"
	"ironbark/internal/work"
)

// sections takes words apart at those that begin a section, each once and with something after
// it. What stands before the first of them is under "".
func sections(args []string, begin ...string) (map[string][]string, error) {
	said, at := map[string][]string{}, ""
	for _, word := range args {
		if !slices.Contains(begin, word) || at == "because" { // a reason may hold any word
			said[at] = append(said[at], word)
			continue
		}
		if _, twice := said[word]; twice {
			return nil, usage("“%s” stands twice", word)
		}
		at, said[word] = word, []string{}
	}
	for word, list := range said {
		if len(list) == 0 {
			return nil, usage("nothing stands after “%s”", word)
		}
	}
	return said, nil
}

// bare is an error without the line that words were read in, where nobody typed that line.
func bare(err error) error {
	var list sentence.Errors
	if one, ok := errors.AsType[*sentence.Error](err); ok {
		list = sentence.Errors{one}
	} else if !errors.As(err, &list) {
		return err
	}
	out := make(sentence.Errors, len(list))
	for i, e := range list {
		out[i] = &sentence.Error{Problem: e.Problem, Remedy: e.Remedy}
	}
	return out
}

// parts are what extend and narrow take after a number: services, to, from, for, until and
// because, each once.
func (a *app) parts(args []string) (n work.Narrower, because string, length sentence.Duration, err error) {
	said, err := sections(args, "to", "from", "for", "until", "because")
	if err != nil {
		return n, "", length, err
	}
	given := func(word, other string) string {
		if text := strings.Join(said[word], " "); text != "" {
			return text
		}
		return other
	}
	if said["for"] != nil && said["until"] != nil {
		return n, "", length, usage("say either for or until")
	}
	end := []string{"for", given("for", "1h")}
	if text := given("until", ""); text != "" {
		end = []string{"until", text}
	}
	words := append([]string{"open", given("", "any"), "to", given("to", "all"), "from", given("from", "everywhere")}, end...)
	s, _, err := sentence.ParseTyped(append(words, "because", "x"), a.now())
	if err != nil {
		return n, "", length, bare(err)
	}
	o := s.(sentence.Open)
	if said[""] != nil {
		n.Services = o.Services
	}
	if said["to"] != nil {
		n.To = o.To
	}
	if said["from"] != nil {
		n.From = o.From
	}
	switch {
	case said["until"] != nil:
		n.End = o.Until
	case said["for"] != nil:
		n.End, length = a.clock.Now().Add(o.For.Length()), o.For
	}
	return n, given("because", ""), length, nil
}

func (a *app) extendCommand() *cobra.Command {
	return &cobra.Command{
		Use: "extend NUMBER for LENGTH | until TIME", Short: "Extend an opening of yours", Example: "  ironbark extend 3 for 2h",
		Long: "Ask for an opening of your own for longer: for a length from now (from its beginning, where that is to come), or until\n" +
			"a time. It is judged as a request for the same; permits count its length from its first beginning.",
		RunE: a.with(func(ctx context.Context, w *work.Work, args []string) error {
			id, err := requestNumber(args)
			if err != nil {
				return err
			}
			takes := usage("extend takes for how long from now, or until when: extend %d for 1h", id)
			if len(args) > 1 && !slices.Contains([]string{"for", "until", "because"}, args[1]) { // what parts would take for services
				return takes
			}
			n, because, length, err := a.parts(args[1:])
			if err != nil {
				return err
			}
			if n.End.IsZero() || !n.To.IsEmpty() || !n.From.IsEmpty() {
				return takes
			}
			words := sentence.Open{For: length, Because: because}
			if length.IsZero() {
				words.Until = n.End
			}
			granted, err := w.Extend(ctx, id, words)
			if err != nil {
				return err
			}
			if granted.Opening.Waits() && !a.json {
				a.waits(granted.Opening)
				return nil
			}
			return a.openingTold("extended", granted.Opening)
		}),
	}
}

func (a *app) narrowCommand() *cobra.Command {
	return &cobra.Command{
		Use: "narrow NUMBER [SERVICES] [to TARGET] [from SOURCE] [for LENGTH | until TIME]", Short: "Narrow an opening to fewer services, machines or sources, or to less time",
		Long: "Narrow an opening at once: to some of its services, machines or sources, or to a shorter time. What is not said stays as it\n" +
			"is. Its owner can, and a member of the group leads: where that is empty, whoever the estate knows.",
		Example: "  ironbark narrow 3 to gauge-web-1\n  ironbark narrow 3 ssh from 198.51.100.7 for 10m",
		RunE: a.with(func(ctx context.Context, w *work.Work, args []string) error {
			w.Site.ForClosing()
			id, err := requestNumber(args)
			if err != nil {
				return err
			}
			if len(args) == 1 {
				return usage("say what is to be left: narrow %d to MACHINE, from SOURCE, for LENGTH", id)
			}
			n, _, _, err := a.parts(args[1:])
			if err != nil {
				return err
			}
			o, err := w.Narrow(ctx, id, n)
			if err != nil {
				return bare(err)
			}
			return a.openingTold("narrowed", o)
		}),
	}
}

// openingTold tells an opening as it is now.
func (a *app) openingTold(what string, o opening.Opening) error {
	if a.json {
		return a.print.JSON(openingJSON(o, a.clock.Now()))
	}
	a.openUntil(what, o)
	return nil
}

// openUntil tells what an opening lets in, and until when.
func (a *app) openUntil(what string, o opening.Opening) {
	now := a.clock.Now()
	a.print.Wrap(what+"  ", o.Brief())
	a.print.Line("        until %s, %s left; it ends by itself", view.Moment(o.End(), now), view.Left(o.End(), now))
}
