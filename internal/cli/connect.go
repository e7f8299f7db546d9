package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"os"
	"os/signal"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/crypto/ssh"
	"golang.org/x/sys/unix"
	"golang.org/x/term"

	"ironbark/internal/cli/view"
	"ironbark/internal/flow"
	"ironbark/internal/sentence"
	"ironbark/internal/work"
)

// connecting are the options of what uses a machine over SSH.
type connecting struct {
	key, own, length, because, from string
}

func (o *connecting) flags(c *cobra.Command) {
	c.Flags().StringVar(&o.key, "key", "", "the private key to use (default: that of the machine's key)")
	ownKeyFlag(c, &o.own)
	c.Flags().StringVar(&o.length, "for", "", "open ssh for at most so long, and close it when the session ends; with --because")
	c.Flags().StringVar(&o.because, "because", "", "why it is opened")
	c.Flags().StringVar(&o.from, "from", "", "the address from which you come, where nothing else shows it: at the host's console, in cron or CI")
}

// caller takes the address that --from names.
func (o *connecting) caller(w *work.Work) error {
	if o.from == "" {
		return nil
	}
	a, err := netip.ParseAddr(o.from)
	if err != nil || a.Zone() != "" {
		return wrong("--from: “%s” is not an address", o.from)
	}
	w.Caller.Named = a.Unmap()
	return nil
}

func ownKeyFlag(c *cobra.Command, own *string) {
	c.Flags().StringVar(own, "own-key", "", "your own private key, by which bastions know you (default: one that is found)")
}

func (o *connecting) keys() work.Keys { return work.Keys{Machine: o.key, Own: o.own} }

// by tells which way somebody goes.
func by(way *work.AccessRoute) string {
	if way.Jump != nil {
		return "via " + way.Jump.Bastion
	}
	return "at " + way.To.String()
}

func (a *app) connectCommand() *cobra.Command {
	opt := &connecting{}
	var config bool
	c := &cobra.Command{
		Use: "connect MACHINE [COMMAND…]", Short: "Log in to a machine over SSH, or run a command on it",
		Long: "Log in to a machine over SSH, or run a command on it. The way in, the user and the key are found; before anything\n" +
			"is tried, the key is checked. With --for and --because ssh is opened first, and closed when the session ends.\n" +
			"Options stand before the command; from its first word on all is the command's own.\n\n" +
			"Exit status: that of the command; 255 if Ironbark fails. Without a command: 3 if every way in is closed.",
		Example: "  ironbark connect gauge-web-1 --for 1h --because \"rotate keys\"\n  ironbark connect gauge-web-1 uname\n  ironbark connect gauge-web-1 ls -l /srv", ValidArgsFunction: a.completeNouns("machine"),
		RunE: a.with(func(ctx context.Context, w *work.Work, args []string) error {
			if len(args) == 0 {
				return usage("connect takes a machine")
			}
			if a.json && !config {
				return usage("a session has no document: leave --json out")
			}
			if err := opt.caller(w); err != nil {
				return err
			}
			if config {
				return a.clientConfig(ctx, w, args[0], opt)
			}
			return a.overSSH(ctx, w, args[0], opt, func(client *ssh.Client) error { return a.session(client, strings.Join(args[1:], " ")) })
		}),
	}
	do := c.RunE
	c.RunE = func(c *cobra.Command, args []string) error {
		err := do(c, args)
		if status, remote := errors.AsType[remoteStatusError](err); err == nil || len(args) < 2 || remote && status > 0 {
			return err
		}
		return ownFailureError{err}
	}
	opt.flags(c)
	c.Flags().SetInterspersed(true)
	c.Flags().BoolVar(&config, "client-config", false, "write the way in for a plain SSH client, and do nothing else")
	return c
}

func (a *app) way(ctx context.Context, w *work.Work, machine string, opt *connecting) (*work.AccessPath, error) {
	way, err := w.AccessPath(ctx, machine, opt.keys())
	a.tellClosed(w, err)
	return way, err
}

// tellClosed tells why there is no way in, and what would help.
func (a *app) tellClosed(w *work.Work, err error) {
	closed, ok := errors.AsType[*work.NoAccessError](err)
	if !ok {
		return
	}
	ph := view.NewPhrasing(closed.Answer.State, a.clock.Now())
	for _, p := range closed.Answer.Parts {
		if !p.Open {
			a.print.NoteWrap("closed  ", view.Why(p, ph))
			for _, advice := range closed.Answer.Remedies(p, w.Person) {
				a.print.NoteWrap("  to fix it: ", view.Advice(advice))
			}
			break
		}
	}
	if others := closed.Others(w.Person); len(others) > 0 {
		a.print.NoteWrap("  whom to ask: ", strings.Join(others, ", "))
	}
}

// howToConnect tells what gets the person into a machine that was just made, where it has an SSH server.
func (a *app) howToConnect(ctx context.Context, w *work.Work, machine string) {
	_, err := w.AccessRouteTo(ctx, machine, flow.TCPPort(22), work.Keys{})
	closed, is := errors.AsType[*work.NoAccessError](err)
	_, key := errors.AsType[*work.BadKeyError](err)
	switch {
	case err == nil || key:
		a.print.Note("next: ironbark connect %s", machine)
	case is && closed.Offers(w.Person):
		a.print.Note("next: ironbark connect %s --for 1h --because \"…\"", machine)
	case is:
		for _, p := range closed.Answer.Parts {
			if remedy := closed.Answer.Remedies(p, w.Person); !p.Open && len(remedy) > 0 {
				a.print.NoteWrap("next, to get in: ", view.Advice(remedy[0]))
				return
			}
		}
	}
}

// offered asks somebody to whom a machine is closed and who may open it whether they want to, and why.
func (a *app) offered(w *work.Work, err error, opt *connecting) bool {
	closed, ok := errors.AsType[*work.NoAccessError](err)
	if !ok || !a.terminal || opt.length != "" || !closed.Offers(w.Person) {
		return false
	}
	a.print.Question("To open it for 1h, and close it when this is over, write why; no, or an empty line, leaves it closed:")
	line, failed := a.line()
	why := strings.TrimSpace(line)
	if failed != nil || refuses(why) {
		a.print.Note("left closed")
		return false
	}
	opt.because = why
	opt.length = "1h"
	return true
}

// refuses reports whether an answer to a question for a reason gives none: it is empty or one letter, or says no.
func refuses(answer string) bool {
	if len([]rune(answer)) < 2 {
		return true
	}
	return slices.Contains([]string{"no", "nope", "none", "nothing", "not", "never", "quit", "exit", "cancel", "stop", "q!", ":q"}, strings.ToLower(strings.TrimRight(answer, ".! ")))
}

// overSSH connects to a machine and does something there. Where it is asked to, it
// opens ssh before and closes it after, whatever happens in between.
func (a *app) overSSH(ctx context.Context, w *work.Work, machine string, opt *connecting, do func(*ssh.Client) error) (err error) {
	if (opt.length == "") != (opt.because == "") {
		return usage("--for and --because go together: for how long, and why")
	}
	ctx, stop := untilSignal(ctx)
	defer stop()
	var way *work.AccessPath
	if opt.length == "" {
		if way, err = a.way(ctx, w, machine, opt); err != nil && !a.offered(w, err, opt) {
			return err
		}
	}
	if opt.length != "" {
		ctx, stop := a.untilUnread(ctx)
		defer stop()
		shut, opening := a.openFor(ctx, w, machine, opt)
		if opening != nil {
			return opening
		}
		defer func() { err = errors.Join(err, shut()) }()
		if way, err = a.way(ctx, w, machine, opt); err != nil {
			return err
		}
		return a.inSession(ctx, w, way, do)
	}
	return a.inSession(ctx, w, way, do)
}

// inSession does something over SSH, until it is done or what let it in is over.
func (a *app) inSession(ctx context.Context, w *work.Work, way *work.AccessPath, do func(*ssh.Client) error) error {
	machine := way.Machine
	a.print.Note("connecting to %s %s as %s", machine, by(&way.AccessRoute), way.User)
	done := a.waitingFor("the SSH server of %s", machine)
	client, err := w.Connect(ctx, way, func() (string, error) { return a.secret(fmt.Sprintf("%s@%s's password: ", way.User, machine)) })
	done()
	if ctx.Err() != nil {
		return errBrokenOff
	}
	if err != nil {
		return err
	}
	defer client.Close()
	defer context.AfterFunc(ctx, func() { _ = client.Close() })()
	warned, stop := context.WithCancel(ctx)
	defer stop()
	go a.warn(warned, w, way.Part.Opening, machine)
	err = do(client)
	if ctx.Err() != nil {
		return errBrokenOff
	}
	return err
}

var errBrokenOff = errors.New("the session was broken off")

// untilSignal returns a context that ends when the program is told to end, so that
// what was opened for a session is closed, and its end is told, before it does.
func untilSignal(ctx context.Context) (context.Context, func()) {
	return signal.NotifyContext(ctx, unix.SIGINT, unix.SIGTERM, unix.SIGHUP)
}

// openFor opens ssh for a session and returns what closes it again. Where it is
// open already it stays as it is: the session did not open it, and does not close it.
func (a *app) openFor(ctx context.Context, w *work.Work, machine string, opt *connecting) (shut func() error, err error) {
	if err := w.CheckKey(ctx, machine, opt.key); err != nil {
		return nil, err
	}
	if way, err := w.AccessPath(ctx, machine, opt.keys()); err == nil {
		a.print.Note("ssh is open already, by %s, and stays as it is", way.Opened())
		return func() error { return nil }, nil
	}
	return a.openService(ctx, w, "ssh", machine, opt)
}

// openService opens a service of a machine and returns what closes it again.
func (a *app) openService(ctx context.Context, w *work.Work, service, machine string, opt *connecting) (shut func() error, err error) {
	s, err := sentence.ParseArgs([]string{"open", service, "to", machine, "from", "me", "for", opt.length, "because", opt.because}, a.now())
	if err != nil {
		return nil, err
	}
	granted, err := w.Open(ctx, s.(sentence.Open))
	if err != nil {
		return nil, work.Untyped(err)
	}
	id := granted.Opening.ID
	a.print.Note("%s  opening %d, until %s at the latest", a.print.Open("opened"), id, view.Moment(granted.Opening.End(), a.clock.Now()))
	a.tellInPassing(w) // whoever is told of openings hears of this one before its session, and not after it
	return func() error {
		closed, err := w.CloseOne(context.WithoutCancel(ctx), id)
		switch err = a.recordedLater(err); {
		case err != nil:
		case len(closed.Openings) == 0:
			a.print.Note("opening %d was over already", id)
		default:
			a.print.Note("closed  opening %d", id)
		}
		return err
	}, nil
}

// remoteStatusError is the exit status of a command on a machine.
type remoteStatusError int

func (r remoteStatusError) Error() string { return fmt.Sprintf("the command ended with %d", int(r)) }

// session runs a command, or a shell.
func (a *app) session(client *ssh.Client, command string) (err error) {
	s, err := client.NewSession()
	if err != nil {
		return err
	}
	defer s.Close()
	s.Stdout, s.Stderr = a.print.Out, a.print.Err
	if command != "" {
		err = s.Run(command)
	} else {
		err = a.shell(s)
	}
	if e, ok := errors.AsType[*ssh.ExitError](err); ok {
		return remoteStatusError(e.ExitStatus())
	}
	if _, ok := errors.AsType[*ssh.ExitMissingError](err); ok {
		return errors.New("the session was ended from the other side: what let it in is over, or the machine is")
	}
	return err
}

// shell runs an interactive shell; a terminal hands over each key.
func (a *app) shell(s *ssh.Session) (err error) {
	in, err := s.StdinPipe()
	if err != nil {
		return err
	}
	from := io.Reader(&returns{r: a.in})
	width, height := a.print.Width, 24
	if f, ok := a.in.(*os.File); ok && a.terminal {
		state, err := term.MakeRaw(int(f.Fd()))
		if err != nil {
			return err
		}
		defer func() { err = errors.Join(err, term.Restore(int(f.Fd()), state)) }()
		from = a.in
		if w, h, err := term.GetSize(int(f.Fd())); err == nil {
			width, height = w, h
		}
	}
	if err := s.RequestPty("xterm", height, width, ssh.TerminalModes{}); err != nil {
		return err
	}
	if err := s.Shell(); err != nil {
		return err
	}
	go func() {
		_, _ = io.Copy(in, from)
		_ = in.Close()
	}()
	return s.Wait()
}
