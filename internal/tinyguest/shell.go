package tinyguest

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"golang.org/x/sys/unix"
	"mvdan.cc/sh/moreinterp/coreutils"
	"mvdan.cc/sh/v3/expand"
	"mvdan.cc/sh/v3/interp"
	"mvdan.cc/sh/v3/syntax"
)

// The shell is a POSIX one in this process (mvdan.cc/sh), and its programs are u-root's, besides the few
// that are here: there is no other program in the machine.

// runScript runs a script, and returns its exit status.
func runScript(name, script string, in io.Reader, out io.Writer, dir string) int {
	return (&shell{out: out, in: in, dir: dir}).run(name, script)
}

// shell is one session's shell, with its variables and the folder that it is in.
type shell struct {
	in  io.Reader
	out io.Writer
	err io.Writer // nil: as out
	dir string
	r   *interp.Runner
	ctx context.Context // nil: nothing ends it
}

// run runs one text, in what the texts before it left, and returns its exit status.
func (s *shell) run(name, text string) int {
	if s.err == nil {
		s.err = s.out
	}
	if s.ctx == nil {
		s.ctx = context.Background()
	}
	file, err := syntax.NewParser(syntax.Variant(syntax.LangPOSIX)).Parse(strings.NewReader(text), name)
	if err != nil {
		fmt.Fprintln(s.err, err)
		return 2
	}
	if s.r == nil {
		env := append(os.Environ(), "USER=root", "HOME="+s.dir)
		s.r, err = interp.New(interp.StdIO(s.in, s.out, s.err), interp.Dir(s.dir), interp.Env(expand.ListEnviron(env...)), interp.ExecHandlers(coreutils.ExecHandler, ownPrograms))
		if err != nil {
			fmt.Fprintln(s.err, err)
			return 2
		}
	}
	err = s.r.Run(s.ctx, file)
	var status interp.ExitStatus
	switch {
	case err == nil:
		return 0
	case errors.As(err, &status):
		return int(status)
	}
	fmt.Fprintln(s.err, err)
	return 1
}

// over reports whether the shell was left by exit.
func (s *shell) over() bool { return s.r != nil && s.r.Exited() }

// programs are those of this system alone.
var programs = map[string]func(h interp.HandlerContext, args []string) error{
	"hostname": func(h interp.HandlerContext, _ []string) error {
		name, err := os.Hostname()
		fmt.Fprintln(h.Stdout, name)
		return err
	},
	"uname":  uname,
	"whoami": func(h interp.HandlerContext, _ []string) error { fmt.Fprintln(h.Stdout, "root"); return nil },
	"id": func(h interp.HandlerContext, _ []string) error {
		fmt.Fprintln(h.Stdout, "uid=0(root) gid=0(root)")
		return nil
	},
	"sync":     func(interp.HandlerContext, []string) error { unix.Sync(); return nil },
	"sleep":    sleep,
	"df":       df,
	"lsblk":    lsblk,
	"ip":       addresses,
	"mount":    mount,
	"umount":   unmount,
	"fetch":    fetch,
	"poweroff": func(interp.HandlerContext, []string) error { shutDown(unix.LINUX_REBOOT_CMD_POWER_OFF); return nil },
	"reboot":   func(interp.HandlerContext, []string) error { shutDown(unix.LINUX_REBOOT_CMD_RESTART); return nil },
}

// ownPrograms runs the programs of this system; all others are not found.
func ownPrograms(interp.ExecHandlerFunc) interp.ExecHandlerFunc {
	var exec interp.ExecHandlerFunc
	exec = func(ctx context.Context, args []string) error {
		h := interp.HandlerCtx(ctx)
		if args[0] == "sudo" && len(args) > 1 { // whoever is here is root
			return coreutils.ExecHandler(exec)(ctx, args[1:])
		}
		run, ok := programs[strings.TrimPrefix(args[0], "/bin/")]
		if !ok {
			fmt.Fprintf(h.Stderr, "sh: %s: not found\n", args[0])
			return interp.ExitStatus(127)
		}
		if err := run(h, args[1:]); err != nil {
			fmt.Fprintf(h.Stderr, "%s: %v\n", args[0], err)
			return interp.ExitStatus(1)
		}
		return nil
	}
	return exec
}

func uname(h interp.HandlerContext, args []string) error {
	var u unix.Utsname
	if err := unix.Uname(&u); err != nil {
		return err
	}
	letters := strings.ReplaceAll(strings.Join(args, ""), "-", "")
	if letters == "" {
		letters = "s"
	}
	var words []string
	for _, part := range []struct {
		letter string
		text   []byte
	}{{"s", u.Sysname[:]}, {"n", u.Nodename[:]}, {"r", u.Release[:]}, {"v", u.Version[:]}, {"m", u.Machine[:]}} {
		if strings.Contains(letters, part.letter) || strings.Contains(letters, "a") {
			words = append(words, unix.ByteSliceToString(part.text))
		}
	}
	fmt.Fprintln(h.Stdout, strings.Join(words, " "))
	return nil
}

func sleep(_ interp.HandlerContext, args []string) error {
	if len(args) != 1 {
		return errors.New("it takes a length")
	}
	d, err := time.ParseDuration(strings.TrimRight(args[0], "s") + "s")
	if err == nil {
		time.Sleep(d)
	}
	return err
}
