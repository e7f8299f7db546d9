package cli

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"golang.org/x/term"

	"ironbark/internal/work"
)

// passwords gets a password for each machine as it was asked for, refuses weak
// ones, and keeps the hashes once the edit is confirmed.
func (a *app) passwords(w *work.Work, how string, machines []string, opt *editing) error {
	if how == "" || how == none {
		return nil
	}
	chosen := map[string]string{}
	for _, m := range machines {
		password, err := a.password(how, m, func(password string) error { return work.Weak(password, append(strings.Split(m, "-"), w.Person)...) })
		if err != nil {
			return err
		}
		chosen[m] = password
	}
	w.Chosen = machines
	opt.before = func() (func() error, error) {
		for _, m := range machines {
			if err := w.KeepPassword(m, chosen[m]); err != nil {
				return nil, err
			}
			if how == "generate" {
				a.print.Note("password of keeper on %s: %s\n(it is told once, and kept nowhere)", m, chosen[m])
			}
		}
		return func() error { return w.DropPasswords(machines) }, nil
	}
	return nil
}

// password gets one password: made, read from a line, or asked for twice without echo. One that is weak is refused; where somebody
// types it, they are asked again.
func (a *app) password(how, machine string, weak func(string) error) (string, error) {
	switch how {
	case "generate":
		return work.NewPassword()
	case "stdin":
		line, err := a.line()
		if line == "" && err != nil {
			return "", wrong("--password stdin: there is no line for %s; each machine takes one", machine)
		}
		if why := weak(line); why != nil {
			return "", wrong("the password is refused: %s", why)
		}
		return line, nil
	}
	for {
		first, err := a.secret(fmt.Sprintf("Password for keeper on %s (empty: cancel): ", machine))
		if err == nil && first == "" {
			a.print.Note("not done: %s", nothingChanged)
			err = errUnconfirmed
		}
		if err != nil {
			return "", err
		}
		if why := weak(first); why != nil {
			a.print.NoteWrap("  ", fmt.Sprintf("the password is refused: %s", why))
			continue
		}
		second, err := a.secret("Once more: ")
		if err != nil || first == second {
			return first, err
		}
		a.print.Note("  the two are not the same; both are asked for again")
	}
}

// line reads a line from standard input.
func (a *app) line() (string, error) {
	if a.lines == nil {
		a.lines = bufio.NewReader(a.in)
	}
	text, err := a.lines.ReadString('\n')
	return strings.TrimRight(text, "\r\n"), err
}

// secret asks without echo. Without a terminal nobody can be asked.
func (a *app) secret(question string) (string, error) {
	f, ok := a.in.(*os.File)
	if !ok || !a.terminal {
		a.print.Note("not done: there is nobody to ask for a password; --password generate makes one, and --password stdin reads one")
		return "", errUnconfirmed
	}
	a.print.Question(strings.TrimSpace(question))
	data, err := term.ReadPassword(int(f.Fd()))
	a.print.Note("")
	if errors.Is(err, io.EOF) {
		return "", errUnconfirmed
	}
	return string(data), err
}
