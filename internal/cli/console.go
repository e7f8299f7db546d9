package cli

import (
	"bytes"
	"context"
	"errors"
	"io"
	"net"
	"os"
	"sync"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/sys/unix"
	"golang.org/x/term"

	"ironbark/internal/fault"
	"ironbark/internal/work"
)

func (a *app) consoleCommand() *cobra.Command {
	var log, emergency bool
	c := &cobra.Command{
		Use: "console MACHINE", Short: "Sit at a machine's console, where the network does not lead",
		Long: "Sit at a machine's console, its serial line. It shows the boot log, and a login where\nthe machine offers one.\n\n" +
			"A console is closed by default. Open it first, by a permit:\n\n  ironbark open console to MACHINE for 30m because \"…\"\n\n" +
			"It is then open for you alone, and the session ends with the opening. Ctrl-] or the\nend of input leaves, and ends the login. The journal has every session.\n\n" +
			"With --emergency, root needs no opening.\n\nExit status 3: the console is closed; 6: this person may not.",
		Example: "  ironbark console chart-desk\n  ironbark console chart-desk --log", ValidArgsFunction: a.completeNouns("machine"),
		RunE: a.with(func(ctx context.Context, w *work.Work, args []string) error {
			if len(args) != 1 {
				return usage("console takes one machine")
			}
			if log && emergency {
				return usage("--log begins no session, and needs no --emergency")
			}
			if a.json && !log {
				return usage("a session has no document: leave --json out, or say --log")
			}
			if names, err := machinesNamed(ctx, w, args); err != nil {
				return err
			} else if len(names) > 1 {
				return usage("console takes one machine")
			}
			if log {
				boot, err := w.Site.Boot(ctx, args[0])
				if err != nil {
					return err
				}
				if a.json {
					return a.print.JSON(bootLogDoc{args[0], boot.Log})
				}
				a.print.Text(boot.Log)
				return nil
			}
			if emergency && os.Geteuid() != 0 {
				return &notRootError{}
			}
			line, err := w.Site.Console(ctx, w.Person, args[0], emergency)
			if err != nil {
				return err
			}
			ctx, stop := untilSignal(ctx)
			defer stop()
			line = &onceClosed{ReadWriteCloser: line}
			defer context.AfterFunc(ctx, func() { _ = line.Close() })()
			return a.sit(line)
		}),
	}
	c.Flags().BoolVar(&log, "log", false, "only show the boot log; no session begins")
	c.Flags().BoolVar(&emergency, "emergency", false, "as root: sit there without an opening")
	return c
}

// notRootError says that somebody else than root asked for a console in an emergency.
type notRootError struct{}

// Error says it.
func (*notRootError) Error() string { return "--emergency is for root alone" }

// Kind is that of a person who may not.
func (*notRootError) Kind() fault.Kind { return fault.Denied }

// Advice says what others do.
func (*notRootError) Advice() fault.Advice {
	return fault.Say("open the console for a while: ").Run("open", "console", "to", "MACHINE", "for", "30m", "because", "…")
}

// onceClosed is a line that can be closed from two sides; the second waits for the first.
type onceClosed struct {
	io.ReadWriteCloser
	once sync.Once
	err  error
}

func (o *onceClosed) Close() error {
	o.once.Do(func() { o.err = o.ReadWriteCloser.Close() })
	return o.err
}

// leaveKey is what leaves a serial line from a terminal, whatever is at its other end: Ctrl-].
const leaveKey = 0x1d

// quiet is how long a line must be silent until a pipe that has no more to say leaves it: a machine's
// login never ends by itself.
const quiet = 10 * time.Second

// sit joins the terminal to a line until either end is closed. A terminal hands
// over each key as it is pressed; from a pipe each line is followed by a return.
func (a *app) sit(line io.ReadWriteCloser) (err error) {
	in := io.Reader(&returns{r: a.in})
	heard := &lastHeard{w: a.print.Out, at: time.Now()}
	if f, ok := a.in.(*os.File); ok && a.terminal {
		a.print.Note("Ctrl-] leaves") // before the terminal is raw, where a line end would have to bring the cursor back by itself
		state, err := term.MakeRaw(int(f.Fd()))
		if err != nil {
			return errors.Join(err, line.Close())
		}
		defer func() { err = errors.Join(err, term.Restore(int(f.Fd()), state)) }()
		in = &untilKey{r: a.in, key: leaveKey}
	}
	go func() {
		_, err := io.Copy(line, in)
		if a.terminal {
			if err == nil { // whoever sits here leaves
				_ = line.Close()
			}
			return
		}
		_, _ = line.Write([]byte{4}) // the input is over, and the other side is told so
		for heard.silent() < quiet {
			time.Sleep(100 * time.Millisecond)
		}
		_ = line.Close()
	}()
	_, err = io.Copy(heard, line)
	if errors.Is(err, unix.ECONNRESET) || errors.Is(err, net.ErrClosed) { // the other end left first
		err = nil
	}
	return errors.Join(err, line.Close())
}

// untilKey reads until a key is pressed.
type untilKey struct {
	r   io.Reader
	key byte
}

func (u *untilKey) Read(p []byte) (int, error) {
	n, err := u.r.Read(p)
	if i := bytes.IndexByte(p[:n], u.key); i >= 0 {
		return i, io.EOF
	}
	return n, err
}

// lastHeard keeps when something was written last.
type lastHeard struct {
	w  io.Writer
	mu sync.Mutex
	at time.Time
}

func (l *lastHeard) Write(p []byte) (int, error) {
	l.mu.Lock()
	l.at = time.Now()
	l.mu.Unlock()
	return l.w.Write(p)
}

func (l *lastHeard) silent() time.Duration {
	l.mu.Lock()
	defer l.mu.Unlock()
	return time.Since(l.at)
}

// returns turns the line ends of a pipe into what the return key sends.
type returns struct{ r io.Reader }

func (r *returns) Read(p []byte) (int, error) {
	n, err := r.r.Read(p)
	for i := range p[:n] {
		if p[i] == '\n' {
			p[i] = '\r'
		}
	}
	return n, err
}
