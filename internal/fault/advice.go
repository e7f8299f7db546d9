package fault

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
)

// Command is one of this program's commands: a verb, and its arguments as the program gets them. They are not quoted: whoever prints a command quotes it.
type Command struct {
	Verb string
	Args []string
}

// Words returns the verb and the arguments in one list.
func (c Command) Words() []string { return append([]string{c.Verb}, c.Args...) }

// String returns the words with spaces between them, for logs and tests.
func (c Command) String() string { return strings.Join(c.Words(), " ") }

// Advice is what somebody can do about an error: prose, with commands among it. The zero Advice is none. An Advice is not changed once it is made, and is
// safe for concurrent use.
type Advice struct{ parts []part }

// part is prose or a command: prose where the verb is "".
type part struct {
	prose   string
	command Command
}

// Say returns advice in prose. An empty text is no advice.
func Say(text string) Advice { return Advice{}.Say(text) }

// Run returns the advice to run a command.
func Run(verb string, args ...string) Advice { return Advice{}.Run(verb, args...) }

// Say returns the advice with prose behind it.
func (a Advice) Say(text string) Advice {
	if text == "" {
		return a
	}
	return a.with(part{prose: text})
}

// Run returns the advice with a command behind it.
func (a Advice) Run(verb string, args ...string) Advice {
	return a.with(part{command: Command{verb, slices.Clone(args)}})
}

func (a Advice) with(p part) Advice { return Advice{append(slices.Clip(a.parts), p)} }

// Join returns all of some advice as one, with a text between. What is empty is left out.
func Join(between string, list ...Advice) (all Advice) {
	for _, a := range list {
		if !all.IsZero() && !a.IsZero() {
			all = all.Say(between)
		}
		for _, p := range a.parts {
			all = all.with(p)
		}
	}
	return all
}

// IsZero reports whether there is no advice.
func (a Advice) IsZero() bool { return len(a.parts) == 0 }

// Commands lists the commands in the order of the advice.
func (a Advice) Commands() (list []Command) {
	for _, p := range a.parts {
		if p.command.Verb != "" {
			list = append(list, p.command)
		}
	}
	return list
}

// Text returns the advice as a text in which each command is printed as show returns it.
func (a Advice) Text(show func(Command) string) string {
	var b strings.Builder
	for _, p := range a.parts {
		if p.command.Verb == "" {
			b.WriteString(p.prose)
		} else {
			b.WriteString(show(p.command))
		}
	}
	return b.String()
}

// String returns the advice for logs and tests. People get it as an edge prints it, by Text.
func (a Advice) String() string { return a.Text(Command.String) }

// Equal reports whether two advices have the same words and commands.
func (a Advice) Equal(b Advice) bool {
	return slices.EqualFunc(a.parts, b.parts, func(p, q part) bool {
		return p.prose == q.prose && p.command.Verb == q.command.Verb && slices.Equal(p.command.Args, q.command.Args)
	})
}

// partDoc is a part of advice in JSON: one of the two.
type partDoc struct {
	Say string   `json:"say,omitempty"`
	Run []string `json:"run,omitempty"` // a verb and its arguments
}

// MarshalJSON returns a list of what to say and of what to run, in their order.
func (a Advice) MarshalJSON() ([]byte, error) {
	docs := make([]partDoc, len(a.parts))
	for i, p := range a.parts {
		if docs[i].Say = p.prose; p.command.Verb != "" {
			docs[i].Run = p.command.Words()
		}
	}
	return json.Marshal(docs)
}

// UnmarshalJSON reads what MarshalJSON returns.
func (a *Advice) UnmarshalJSON(data []byte) error {
	var docs []partDoc
	if err := json.Unmarshal(data, &docs); err != nil {
		return err
	}
	var read Advice
	for _, d := range docs {
		switch {
		case d.Say != "" && len(d.Run) == 0:
			read = read.Say(d.Say)
		case d.Say == "" && len(d.Run) > 0 && d.Run[0] != "":
			read = read.Run(d.Run[0], d.Run[1:]...)
		default:
			return fmt.Errorf("a part of advice is either said or run: %q", d)
		}
	}
	*a = read
	return nil
}

// Advised is an error with advice.
type Advised interface {
	error
	Advice() Advice
}

// AdviceOf returns the advice of the first error in a tree of errors that has an Advice method; none where no error has one.
func AdviceOf(err error) Advice {
	if a, ok := errors.AsType[Advised](err); ok {
		return a.Advice()
	}
	return Advice{}
}
