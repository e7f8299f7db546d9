package cli

import (
	"context"
	"errors"
	"io"
	"os"
	"os/signal"

	"github.com/spf13/cobra"
	"golang.org/x/sys/unix"
)

// A reader of the output may leave early (… | head -3). A command that only asks ends then, as every program does. A command that changes
// something continues: the reader does not decide what it does. A session ends, and closes what it opened.

// acts marks a command that changes something without --yes.
func acts(c *cobra.Command) *cobra.Command {
	c.Annotations = map[string]string{"acts": "yes"}
	return c
}

// unheard has a command that changes something continue without a reader.
func (a *app) unheard(c *cobra.Command, _ []string) {
	if yes, err := c.Flags().GetBool("yes"); err == nil && yes || c.Annotations["acts"] != "" {
		a.continues()
	}
}

// continues has the command continue where its reader leaves.
func (a *app) continues() {
	if _, already := a.print.Out.(*unread); !already {
		a.outlive(func() {})
	}
}

// untilUnread returns a context that ends where the reader leaves.
func (a *app) untilUnread(ctx context.Context) (context.Context, context.CancelFunc) {
	ctx, end := context.WithCancel(ctx)
	a.outlive(end)
	return ctx, end
}

// outlive has the process continue where the reader leaves, and calls left then.
func (a *app) outlive(left func()) {
	signal.Notify(make(chan os.Signal, 1), unix.SIGPIPE) // then a write fails, and the process does not end
	a.print.Out, a.print.Err = &unread{a.print.Out, left}, &unread{a.print.Err, left}
}

// unread is a writer whose reader may leave.
type unread struct {
	io.Writer
	left func()
}

// Write writes the text, or discards it where the reader has left.
func (u *unread) Write(text []byte) (int, error) {
	n, err := u.Writer.Write(text)
	if errors.Is(err, unix.EPIPE) {
		u.left()
		return len(text), nil
	}
	return n, err
}
