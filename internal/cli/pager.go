package cli

import (
	"io"
	"os"
	"os/exec"

	"github.com/spf13/cobra"
)

// paged has what a listing and its subcommands print shown page by page, where somebody looks at it: by the program in PAGER, or less. What fits on the
// terminal is shown as it is (less -F). PAGER=cat shows everything at once.
func (a *app) paged(c *cobra.Command) *cobra.Command {
	for _, sub := range c.Commands() {
		a.paged(sub)
	}
	run := c.RunE
	if run == nil {
		return c
	}
	c.RunE = func(c *cobra.Command, args []string) error {
		goesOn := func(flag string) bool {
			f := c.Flags().Lookup(flag)
			return f != nil && f.Changed
		}
		if a.json || !a.print.ToTerminal || goesOn("follow") || goesOn("watch") || goesOn("lines") {
			return run(c, args)
		}
		out := a.print.Out
		pages, closed := startPager(out)
		a.print.Out = pages
		defer func() {
			closed()
			a.print.Out = out
		}()
		return run(c, args)
	}
	return c
}

// startPager starts the pager, whose output goes where out goes. Without one what is written goes to out itself. closed ends it, and returns once
// whoever looks has seen enough.
func startPager(out io.Writer) (pages io.Writer, closed func()) {
	program := os.Getenv("PAGER")
	if program == "" {
		if _, err := exec.LookPath("less"); err != nil {
			return out, func() {}
		}
		program = "less"
	}
	if program == "cat" {
		return out, func() {}
	}
	p := exec.Command("sh", "-c", program)
	p.Stdout, p.Stderr = out, os.Stderr
	if os.Getenv("LESS") == "" { // end where it fits, keep colours, leave what was shown on the screen
		p.Env = append(os.Environ(), "LESS=FRX")
	}
	in, err := p.StdinPipe()
	if err != nil || p.Start() != nil {
		return out, func() {}
	}
	return in, func() {
		_ = in.Close() // whoever has seen enough may have ended it before
		_ = p.Wait()
	}
}
