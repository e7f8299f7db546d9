package sim

import (
	"cmp"
	"context"
	"crypto/ed25519"
	"database/sql"
	"fmt"
	"io"
	"strings"

	"golang.org/x/crypto/bcrypt"
	"golang.org/x/term"

	"ironbark/internal/driver"
	"ironbark/internal/driver/sim/guest"
	"ironbark/internal/fault"
	"ironbark/internal/flow"
	"ironbark/internal/store"
)

// Console opens a machine's serial line.
func (s *Site) Console(ctx context.Context, machine string, by driver.ConsoleBy) (io.ReadWriteCloser, error) {
	in, err := s.look(ctx, machine)
	if err != nil {
		return nil, err
	}
	if open, err := s.consoleOpen(ctx, machine, by); err != nil || !open {
		return nil, cmp.Or(err, error(driver.ConsoleClosed(machine)))
	}
	if state := s.at(in.power, s.clock.Now()).State; state == driver.Stopped {
		return nil, &driver.NoConsoleError{Why: fmt.Sprintf("machine %s is stopped, and a stopped machine has no console", machine), Try: fault.Run("start", machine)}
	}
	near, far, err := pair()
	if err != nil {
		return nil, err
	}
	done := make(chan struct{})
	ctx, cancel := context.WithCancel(context.WithoutCancel(ctx))
	go whileItMay(ctx, s.mayGoOn(machine, by), func() {
		cancel()
		_ = far.Close()
	})
	go func() {
		defer close(done)
		defer cancel()
		defer far.Close()
		l := &session{s: s, machine: in, rw: far, t: term.NewTerminal(far, "")}
		l.serve(ctx)
	}()
	return &ending{ReadWriteCloser: near, done: done}, nil
}

// mayGoOn returns a function that reports whether a session at a console may continue: while its machine exists and its opening lasts.
func (s *Site) mayGoOn(machine string, by driver.ConsoleBy) func(context.Context) bool {
	return func(ctx context.Context) bool {
		if _, err := s.look(ctx, machine); err != nil {
			return false
		}
		open, err := s.consoleOpen(ctx, machine, by)
		return err == nil && open
	}
}

// consoleOpen reports whether somebody may be at a machine's console now.
func (s *Site) consoleOpen(ctx context.Context, machine string, by driver.ConsoleBy) (open bool, err error) {
	if by.Emergency {
		return true, nil
	}
	var rows []flow.Row
	err = s.read(ctx, func(tx *sql.Tx) error {
		return store.Each(ctx, tx, `SELECT key, body FROM tables WHERE owner > 0 AND owner IN (SELECT value FROM json_each(?))`, func(scan func(...any) error) error {
			var r flow.Row
			err := scan(&r.Key, &r.Body)
			rows = append(rows, r)
			return err
		}, store.Numbers(by.Openings...))
	})
	if err != nil {
		return false, err
	}
	return flow.ConsoleOpen(rows, machine, s.clock.Now())
}

// ending is a line whose session is over once it is closed.
type ending struct {
	io.ReadWriteCloser
	done <-chan struct{}
}

func (e *ending) Close() error {
	err := e.ReadWriteCloser.Close()
	<-e.done
	return err
}

// session is one session of a person with what is in a machine.
type session struct {
	s       *Site
	machine *machineState
	rw      io.ReadWriter
	t       *term.Terminal
	user    string
	over    bool // the machine was told to stop
}

func (l *session) say(format string, args ...any) { fmt.Fprintf(l.t, format+"\n", args...) }

// serve shows the boot log and offers what the machine offers on its line.
func (l *session) serve(ctx context.Context) {
	fmt.Fprint(l.t, l.machine.log)
	switch {
	case l.machine.power.Stuck:
		l.emergency(ctx)
	case !l.machine.guest.Running(guest.Login):
		l.say("This machine offers no login on its serial line; the recipe console-login does.")
	case l.login():
		l.shell(ctx)
	}
}

// tries is how often a password may be wrong.
const tries = 3

func (l *session) login() bool {
	for range tries {
		l.t.SetPrompt(l.machine.resource.Name + " login: ")
		user, err := l.t.ReadLine()
		if err != nil {
			return false
		}
		password, err := l.t.ReadPassword("Password: ")
		if err != nil {
			return false
		}
		if user == guest.User && l.machine.power.Hash != "" && bcrypt.CompareHashAndPassword([]byte(l.machine.power.Hash), []byte(password)) == nil {
			l.user = user
			return true
		}
		l.say("Login incorrect")
	}
	return false
}

// emergency is what a machine shows that did not get through its boot.
func (l *session) emergency(ctx context.Context) {
	l.say("This machine is in emergency mode. “continue” tries the boot again; “exit” leaves.")
	l.user = "root"
	l.t.SetPrompt("(emergency) # ")
	for {
		text, err := l.t.ReadLine()
		switch strings.TrimSpace(text) {
		case "exit":
			return
		case "continue":
			l.again(ctx)
			return
		case "":
		default:
			l.run(ctx, text, strings.NewReader(""), l.t)
		}
		if err != nil {
			return
		}
	}
}

func (l *session) again(ctx context.Context) {
	m, _, err := l.s.Power(ctx, l.machine.resource.Name, driver.Power{Do: driver.Restart})
	if err != nil {
		l.say("%v", err)
		return
	}
	l.say("the machine is %s", m.State)
}

// shell reads commands and runs them inside the machine until exit.
func (l *session) shell(ctx context.Context) {
	l.t.SetPrompt(fmt.Sprintf("%s@%s:~$ ", l.user, l.machine.resource.Name))
	for {
		text, err := l.t.ReadLine()
		if strings.TrimSpace(text) == "exit" || err != nil && text == "" {
			return
		}
		if l.run(ctx, text, strings.NewReader(""), l.t); l.over || err != nil {
			return
		}
	}
}

// run runs one command line on what is in the machine by now, for others may have
// sessions too, and keeps what it changed.
func (l *session) run(ctx context.Context, text string, in io.Reader, out io.Writer) (status int) {
	now, err := l.s.look(ctx, l.machine.resource.Name)
	if err != nil {
		fmt.Fprintln(out, err)
		return 1
	}
	status, changed, power := now.guest.Command(ctx, l.user, text, in, out)
	if err := l.s.keep(ctx, now.resource.Name, changed); err != nil {
		fmt.Fprintln(out, err)
	}
	if do, ok := map[string]driver.PowerVerb{"reboot": driver.Restart, "poweroff": driver.Stop}[power]; ok {
		l.over = true
		if _, _, err := l.s.Power(ctx, now.resource.Name, driver.Power{Do: do, Grace: l.s.millis(l.s.cat.Life.Stop)}); err != nil {
			fmt.Fprintln(out, err)
		}
	}
	return status
}

// keep writes what a session changed inside a machine into what is there by now. It
// is no step of the site, and the journal does not have it.
func (s *Site) keep(ctx context.Context, machine string, changed guest.Delta) error {
	db, err := s.open(ctx, true)
	if err != nil {
		return err
	}
	return db.Update(ctx, func(tx *sql.Tx) error {
		now, err := s.loadMachine(ctx, tx, machine)
		if err != nil {
			return err
		}
		if err := now.guest.Apply(changed); err != nil {
			return err
		}
		return now.save(ctx, tx)
	})
}

// keepHost writes the key of a machine's SSH server, made when it is first asked for. Where somebody else wrote one meanwhile, in has theirs.
func (s *Site) keepHost(ctx context.Context, in *machineState) error {
	db, err := s.open(ctx, true)
	if err != nil {
		return err
	}
	return db.Update(ctx, func(tx *sql.Tx) error {
		now, err := s.loadMachine(ctx, tx, in.resource.Name)
		if err != nil {
			return err
		}
		if len(now.power.Host) == ed25519.SeedSize {
			in.power.Host = now.power.Host
			return nil
		}
		now.power.Host = in.power.Host
		return now.save(ctx, tx)
	})
}
