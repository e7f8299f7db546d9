package guest

import (
	"context"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"mvdan.cc/sh/v3/interp"
)

// call is one run of a program inside the machine.
type call struct {
	g    *Guest
	ctx  context.Context
	args []string // without the program's name
	in   io.Reader
	out  io.Writer
	err  io.Writer
	user string
}

func (c call) path(name string) string { return at(c.ctx, name) }

// options takes the words that begin with a hyphen away.
func (c call) words() []string {
	return slices.DeleteFunc(slices.Clone(c.args), func(a string) bool { return strings.HasPrefix(a, "-") && a != "-" })
}

func (c call) fail(status int, format string, args ...any) int {
	fmt.Fprintf(c.err, format+"\n", args...)
	return status
}

// programs are what a machine can run; all else is not found, as on any system.
var programs = map[string]func(c call) int{
	"cat": cat, "tee": tee, "ls": ls, "mkdir": mkdir, "rm": rm, "touch": touch, "cp": cp, "grep": grep, "sleep": sleep,
	"hostname": func(c call) int { fmt.Fprintln(c.out, c.g.Name); return 0 },
	"whoami":   func(c call) int { fmt.Fprintln(c.out, c.user); return 0 },
	"uname":    func(c call) int { fmt.Fprintln(c.out, "Linux"); return 0 },
	"chmod":    accept, "chown": accept, "sync": accept, "ln": accept, "mount": mountCommand, "umount": umountCommand, "df": df, "sysctl": accept, "clear": accept,
	"mkfs.ext4": mkfs, "ping": ping, "ssh": ssh, "curl": curl,
	"apt-get": apt, "apt": apt, "systemctl": systemctl, "useradd": useradd, "adduser": useradd, "id": id,
	"ip": ipCommand, "ss": ss, "lsblk": lsblk, "reboot": power("reboot"), "poweroff": power("poweroff"),
}

func (g *Guest) exec(ctx context.Context, args []string) error {
	h := interp.HandlerCtx(ctx)
	name := path.Base(args[0])
	run, ok := programs[name]
	if name == "sudo" && len(args) > 1 {
		return g.exec(ctx, args[1:])
	}
	if !ok {
		fmt.Fprintf(h.Stderr, "sh: %s: not found\n", args[0])
		return interp.ExitStatus(127)
	}
	in := &unlocking{mu: &g.mu, r: h.Stdin}
	g.mu.Lock()
	status := run(call{g: g, ctx: ctx, args: args[1:], in: in.reader(), out: &unlocking{mu: &g.mu, w: h.Stdout}, err: &unlocking{mu: &g.mu, w: h.Stderr}, user: h.Env.Get("USER").String()})
	g.mu.Unlock()
	if status != 0 {
		return interp.ExitStatus(uint8(status))
	}
	return nil
}

// unlocking gives the machine free while a program waits for what it reads, or for
// whoever reads what it writes: the other side may be a program of the same machine.
type unlocking struct {
	mu *sync.Mutex
	r  io.Reader
	w  io.Writer
}

func (u *unlocking) reader() io.Reader {
	if u.r == nil {
		return nil
	}
	return u
}

func (u *unlocking) Read(p []byte) (int, error) {
	u.mu.Unlock()
	defer u.mu.Lock()
	return u.r.Read(p)
}

func (u *unlocking) Write(p []byte) (int, error) {
	u.mu.Unlock()
	defer u.mu.Lock()
	return u.w.Write(p)
}

func accept(call) int { return 0 }

func cat(c call) int {
	if len(c.words()) == 0 && c.in != nil {
		_, _ = io.Copy(c.out, c.in)
	}
	for _, name := range c.words() {
		text, ok := c.g.Read(c.path(name))
		if !ok {
			return c.fail(1, "cat: %s: no such file", name)
		}
		fmt.Fprint(c.out, text)
	}
	return 0
}

func tee(c call) int {
	text := ""
	if c.in != nil {
		data, _ := io.ReadAll(io.LimitReader(c.in, MaxFiles))
		text = string(data)
	}
	fmt.Fprint(c.out, text)
	for _, name := range c.words() {
		before := ""
		if slices.Contains(c.args, "-a") {
			before, _ = c.g.Read(c.path(name))
		}
		if err := c.g.Write(c.path(name), before+text); err != nil {
			return c.fail(1, "tee: %v", err)
		}
	}
	return 0
}

func ls(c call) int {
	names := c.words()
	if len(names) == 0 {
		names = []string{"."}
	}
	for _, name := range names {
		switch i, err := c.g.Stat(c.path(name)); {
		case err != nil:
			return c.fail(2, "ls: %s: no such file", name)
		case !i.IsDir():
			fmt.Fprintln(c.out, name)
		default:
			for _, n := range c.g.List(c.path(name)) {
				fmt.Fprintln(c.out, n)
			}
		}
	}
	return 0
}

func mkdir(c call) int {
	for _, name := range c.words() {
		if err := c.g.Mkdir(c.path(name)); err != nil {
			return c.fail(1, "mkdir: %v", err)
		}
	}
	return 0
}

func rm(c call) int {
	for _, name := range c.words() {
		if !c.g.Remove(c.path(name)) && !slices.ContainsFunc(c.args, func(a string) bool { return strings.HasPrefix(a, "-") && strings.Contains(a, "f") }) {
			return c.fail(1, "rm: %s: no such file", name)
		}
	}
	return 0
}

func touch(c call) int {
	for _, name := range c.words() {
		text, _ := c.g.Read(c.path(name))
		if err := c.g.Write(c.path(name), text); err != nil {
			return c.fail(1, "touch: %v", err)
		}
	}
	return 0
}

func cp(c call) int {
	w := c.words()
	if len(w) != 2 {
		return c.fail(1, "cp: takes a file and where it goes")
	}
	text, ok := c.g.Read(c.path(w[0]))
	to := c.path(w[1])
	if c.g.isDir(to) {
		to = path.Join(to, path.Base(w[0]))
	}
	if !ok {
		return c.fail(1, "cp: %s: no such file", w[0])
	}
	if err := c.g.Write(to, text); err != nil {
		return c.fail(1, "cp: %v", err)
	}
	return 0
}

func grep(c call) int {
	w := c.words()
	if len(w) == 0 {
		return c.fail(2, "grep: takes a word to look for")
	}
	text := ""
	for _, name := range w[1:] {
		t, ok := c.g.Read(c.path(name))
		if !ok {
			return c.fail(2, "grep: %s: no such file", name)
		}
		text += t
	}
	if len(w) == 1 && c.in != nil {
		data, _ := io.ReadAll(io.LimitReader(c.in, MaxFiles))
		text = string(data)
	}
	found := 1
	for line := range strings.Lines(text) {
		if strings.Contains(line, w[0]) {
			found = 0
			if !slices.Contains(c.args, "-q") {
				fmt.Fprint(c.out, line)
			}
		}
	}
	return found
}

// sleep passes time that is only counted.
func sleep(c call) int {
	for _, w := range c.words() {
		if !strings.ContainsAny(w, "smh") {
			w += "s"
		}
		d, err := time.ParseDuration(w)
		if err != nil || d < 0 {
			return c.fail(1, "sleep: %s is no length of time", w)
		}
		c.g.Slept += d
	}
	return 0
}

func apt(c call) int {
	w := c.words()
	if len(w) == 0 {
		return c.fail(1, "apt-get: takes update, install or remove")
	}
	switch w[0] {
	case "update", "upgrade":
		fmt.Fprintln(c.out, "Reading package lists... done")
		return 0
	case "install":
		for _, p := range w[1:] {
			if _, ok := known[p]; !ok {
				return c.fail(100, "E: unable to locate package %s", p)
			}
		}
		for _, p := range w[1:] {
			if slices.Contains(c.g.Packages, p) {
				fmt.Fprintf(c.out, "%s is there already\n", p)
				continue
			}
			c.g.Packages = append(c.g.Packages, p)
			c.g.Slept += 2 * time.Second
			fmt.Fprintf(c.out, "Setting up %s ... done\n", p)
		}
		return 0
	case "remove", "purge":
		c.g.Packages = slices.DeleteFunc(c.g.Packages, func(p string) bool { return slices.Contains(w[1:], p) })
		return 0
	}
	return c.fail(1, "apt-get: there is no %s", w[0])
}

func systemctl(c call) int {
	w := c.words()
	if len(w) == 1 && w[0] == "daemon-reload" {
		return 0
	}
	if len(w) < 2 {
		return c.fail(1, "systemctl: takes what to do and a service")
	}
	for _, s := range w[1:] {
		s = strings.TrimSuffix(s, ".service")
		if _, ok := c.g.services()[s]; !ok {
			return c.fail(5, "systemctl: there is no service %s", s)
		}
		drop := func(list []string) []string {
			return slices.DeleteFunc(list, func(n string) bool { return n == s })
		}
		switch w[0] {
		case "start", "restart", "enable", "reload":
			c.g.Stopped = drop(c.g.Stopped)
			if s == Login {
				c.g.Enabled = append(drop(c.g.Enabled), s)
			}
		case "stop", "disable", "mask":
			c.g.Enabled = drop(c.g.Enabled)
			c.g.Stopped = append(drop(c.g.Stopped), s)
		case "is-active", "status":
			if !c.g.Running(s) {
				fmt.Fprintln(c.out, "inactive")
				return 3
			}
			fmt.Fprintln(c.out, "active")
		default:
			return c.fail(1, "systemctl: there is no %s", w[0])
		}
	}
	return 0
}

func useradd(c call) int {
	w := c.words()
	if len(w) == 0 {
		return c.fail(2, "useradd: takes a name")
	}
	name := w[len(w)-1]
	if name == User || slices.Contains(c.g.Users, name) {
		return c.fail(9, "useradd: user %s is there already", name)
	}
	if err := c.g.Mkdir("/home/" + name); err != nil {
		return c.fail(1, "useradd: %v", err)
	}
	c.g.Users = append(c.g.Users, name)
	return 0
}

func id(c call) int {
	name := c.user
	if w := c.words(); len(w) > 0 {
		name = w[0]
	}
	if name != "root" && name != User && !slices.Contains(c.g.Users, name) {
		return c.fail(1, "id: %s: no such user", name)
	}
	fmt.Fprintln(c.out, name)
	return 0
}

func ss(c call) int {
	for _, l := range c.g.Listens() {
		if l != "ping" {
			fmt.Fprintln(c.out, l)
		}
	}
	return 0
}

func power(what string) func(c call) int {
	return func(c call) int { c.g.Power = what; return 0 }
}
