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
		password, err := a.password(how, m)
		if err != nil {
			return err
		}
		if weak := work.Weak(password, append(strings.Split(m, "-"), w.Person)...); weak != nil && how != "generate" {
			return wrong("the password is refused: %s", weak)
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

// password gets one password: made, read from a line, or asked for twice without echo.
func (a *app) password(how, machine string) (string, error) {
	switch how {
	case "generate":
		return work.NewPassword()
	case "stdin":
		line, err := a.line()
		if line == "" && err != nil {
			return "", wrong("--password stdin: there is no line for %s; each machine takes one", machine)
		}
		return line, nil
	}
	first, err := a.secret(fmt.Sprintf("Password for keeper on %s: ", machine))
	if err != nil {
		return "", err
	}
	second, err := a.secret("Once more: ")
	if err == nil && first != second {
		err = wrong("the two are not the same")
	}
	return first, err
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
