package linux

import (
	"context"
	"crypto/ed25519"
	"crypto/sha256"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"time"

	"golang.org/x/crypto/ssh"

	"ironbark/internal/change"
	"ironbark/internal/driver"
	"ironbark/internal/fault"
	"ironbark/internal/qemu"
)

// mostLog is how much of what a guest wrote to its serial line is read, in bytes.
const mostLog = 2 << 20

// Boot returns what a guest wrote to its serial line since it was started, and what its first boot came
// to. A light machine has no boot.
func (s *Site) Boot(ctx context.Context, machine string) (driver.Boot, error) {
	t, _, err := s.look(ctx, machine)
	if err != nil || !isGuest(t) {
		return driver.Boot{Log: "machine " + machine + " is light: it has listeners, and no boot\n"}, err
	}
	g, err := s.guestOf(ctx, machine)
	if err != nil || g == nil {
		return driver.Boot{}, err
	}
	run := s.runDir(machine)
	text, err := qemu.ReadBounded(filepath.Join(run, qemu.LogFile), mostLog)
	if errors.Is(err, os.ErrNotExist) {
		text, err = []byte("machine "+machine+" does not run: its log went with its last run\n"), nil
	}
	list := g.Results
	if told := readReports(run); len(told.Setup) > 0 || told.Up {
		list = results(told)
	}
	return driver.Boot{Log: string(text), Setup: list}, err
}

// HostKey returns the public key of a machine's SSH server. A guest was given it with its seed; that of a light
// machine, which speaks no SSH after its greeting, is made of its name.
func (s *Site) HostKey(ctx context.Context, machine string) (string, error) {
	t, _, err := s.look(ctx, machine)
	if err != nil {
		return "", err
	}
	whole := sha256.Sum256([]byte(machine))
	from := whole[:]
	if isGuest(t) {
		g, err := s.guestOf(ctx, machine)
		if err != nil || g == nil || len(g.Host) != ed25519.SeedSize {
			return "", errors.Join(err, fmt.Errorf("the host key of machine %s is not known", machine))
		}
		from = g.Host
	}
	signer, err := ssh.NewSignerFromKey(ed25519.NewKeyFromSeed(from))
	if err != nil {
		return "", err
	}
	return string(ssh.MarshalAuthorizedKey(signer.PublicKey())), nil
}

// Console opens a machine's serial line: what was written to it so far, and then the line itself.
func (s *Site) Console(ctx context.Context, machine string, by driver.ConsoleBy) (io.ReadWriteCloser, error) {
	t, m, err := s.look(ctx, machine)
	if err != nil {
		return nil, err
	}
	open, err := s.consoleOpen(ctx, machine, by)
	switch {
	case err != nil:
		return nil, err
	case !open:
		return nil, driver.ConsoleClosed(machine)
	case !isGuest(t):
		r, w := io.Pipe()
		go func() {
			_, _ = fmt.Fprintf(w, "machine %s is %s; a light machine offers no login\r\n", machine, m.State)
			_ = w.Close()
		}()
		return &line{r}, nil
	case m.State == driver.Stopped:
		return nil, &driver.NoConsoleError{Why: fmt.Sprintf("machine %s is stopped, and a stopped machine has no console", machine), Try: fault.Run("start", machine)}
	}
	return s.serialLine(ctx, machine, by)
}

// consoleOpen reports whether somebody may be at a machine's console now.
func (s *Site) consoleOpen(ctx context.Context, machine string, by driver.ConsoleBy) (open bool, err error) {
	if by.Emergency {
		return true, nil
	}
	err = s.read(ctx, func(tx *sql.Tx) error {
		list, err := readPassingOf(ctx, tx, by.Openings)
		open = slices.ContainsFunc(list, func(p driver.Passage) bool { return p.OpensConsole(machine, s.clock.Now()) })
		return err
	})
	return open, err
}

type line struct{ *io.PipeReader }

func (l *line) Write([]byte) (int, error) { return 0, errors.New("a light machine takes no input") }

// handPassword gives the hash of a password to a guest: into its seed, and to its agent.
func (s *Site) handPassword(ctx context.Context, t change.Resource, hash string) error {
	release, err := s.lockGuest(ctx, t.Name, "giving it a password")
	if err != nil {
		return err
	}
	defer release()
	k, err := s.keptOf(ctx, t.Name)
	if err != nil || k.guest == nil {
		return err
	}
	if err := s.writeSeed(t, k.guest, hash, k.resources); err != nil || !s.guestRuns(t.Name) {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, agentTime)
	defer cancel()
	if err := qemu.SetPasswordHash(ctx, s.runDir(t.Name), guestUser, hash); err != nil {
		return &LaterError{t.Name, err}
	}
	return nil
}

// noPassword is the hash of no password at all (crypt(5)).
const noPassword = "!"

// forgetPassword takes a guest's password away. It is kept that there was one until that is certain: an alteration that failed is done again.
func (s *Site) forgetPassword(ctx context.Context, t change.Resource, g *guest, running bool) error {
	switch {
	case running:
		ctx, cancel := context.WithTimeout(ctx, agentTime)
		defer cancel()
		if err := qemu.SetPasswordHash(ctx, s.runDir(t.Name), guestUser, noPassword); err != nil {
			return &StillPasswordError{t.Name, "its guest agent does not answer: " + err.Error(), "restart"}
		}
		_ = qemu.HangUp(ctx, s.runDir(t.Name)) // whoever it let in at the serial line; that session ends it, too
	case !g.Tiny: // its own disk has it, and tells no more than the first boot what it is told
		return &StillPasswordError{t.Name, "it is off", "start"}
	}
	return s.change(ctx, func(tx *sql.Tx, _ *meta) error { return eraseHash(ctx, tx, t.Name) })
}

func eraseHash(ctx context.Context, tx *sql.Tx, machine string) error {
	_, err := tx.ExecContext(ctx, `UPDATE machines SET hash = '' WHERE name = ?`, machine)
	return err
}

// StillPasswordError says that a guest still takes a password that was to be taken away.
type StillPasswordError struct{ Machine, Why, Verb string } // the verb of what takes it away

// Error tells which and why.
func (e *StillPasswordError) Error() string {
	return fmt.Sprintf("machine %s still takes its password, since %s", e.Machine, e.Why)
}

// Advice says what to do.
func (e *StillPasswordError) Advice() fault.Advice { return fault.Run(e.Verb, e.Machine) }

// agentTime is how long is waited for a guest agent, which may not have been started yet.
const agentTime = 60 * time.Second

// LaterError says that a guest takes a password only when it is started next.
type LaterError struct {
	Machine string
	Err     error
}

// Error tells which and why.
func (l *LaterError) Error() string {
	return fmt.Sprintf("machine %s takes its password when it is started next: its guest agent did not (%v)", l.Machine, l.Err)
}

// Unwrap returns the cause.
func (l *LaterError) Unwrap() error { return l.Err }

// Advice says what to do.
func (l *LaterError) Advice() fault.Advice { return fault.Run("restart", l.Machine) }
