package cli

import (
	"errors"
	"io"
	"os"
	"os/signal"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/sys/unix"
)

// A reader of the output may leave early (… | head -3). A command that only asks ends then, as every program does. One that acts goes on: what
// it does is not decided by who reads about it.

// acting are the commands that act without --yes.
var acting = []string{"open", "close", "extend", "narrow", "decline", "account", "acknowledge", "start", "stop", "restart", "site restore", "restore", "backup"}

// unheard has a command that acts discard output that nobody reads any more.
func (a *app) unheard(c *cobra.Command) {
	yes, err := c.Flags().GetBool("yes")
	if (err != nil || !yes) && !slices.Contains(acting, strings.TrimPrefix(c.CommandPath(), c.Root().Name()+" ")) {
		return
	}
	a.goOn()
}

// goOn has the command go on where nobody reads its output any more.
func (a *app) goOn() {
	if _, already := a.print.Out.(discarding); already {
		return
	}
	signal.Notify(make(chan os.Signal, 1), unix.SIGPIPE) // then a write fails, and the process is not ended
	a.print.Out, a.print.Err = discarding{a.print.Out}, discarding{a.print.Err}
}

// discarding is a writer for output that nobody may read.
type discarding struct{ io.Writer }

// Write writes; where the reader has left, nothing is written, and it is no error.
func (d discarding) Write(text []byte) (int, error) {
	n, err := d.Writer.Write(text)
	if errors.Is(err, unix.EPIPE) {
		return len(text), nil
	}
	return n, err
}
