package cli

import (
	"context"
	"os"
	"path/filepath"
	"strings"

	"ironbark/internal/cli/view"
	"ironbark/internal/sentence"
)

// demoFolder returns the folder for the demo's estate, and what takes it away again.
func demoFolder(dir string) (string, func(), error) {
	if dir != "" {
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return "", nil, err
		}
		return dir, func() {}, nil
	}
	tmp, err := os.MkdirTemp("", "ironbark-demo-")
	if err != nil {
		return "", nil, err
	}
	return tmp, func() { _ = os.RemoveAll(tmp) }, nil
}

// tellStory runs one command of the story as the program would, with all that
// it prints on one stream, and returns its exit status.
func (a *app) tellStory(base string, i int, s story) int {
	one := &app{
		in: strings.NewReader(""), clock: a.clock,
		print: &view.Printer{Out: a.print.Out, Err: a.print.Out, Width: a.print.Width, Colour: a.print.Colour},
	}
	where := base
	if i > 0 {
		where = filepath.Join(base, "saltmarsh")
	}
	root := one.root()
	root.SetOut(a.print.Out)
	root.SetErr(a.print.Out)
	root.SetArgs(hideReasons(append(s.args, "--estate", where, "--person", "mara")))
	return one.status(root.ExecuteContext(context.Background()))
}

// quoted puts those arguments in quotes that a shell would take apart.
func quoted(args []string) []string {
	out := make([]string, len(args))
	for i, arg := range args {
		out[i] = arg
		switch {
		case i > 0 && args[i-1] == "because":
			out[i] = sentence.Quote(arg)
		case strings.ContainsAny(arg, "*? "):
			out[i] = "'" + arg + "'"
		}
	}
	return out
}
