// Package guest is what runs inside a machine of the stand-in cloud: a small
// system with files, packages and services, kept as data. Its shell is a real
// one (mvdan.cc/sh, the POSIX shell language in Go) whose every way out is cut
// off: files are the machine's own, and the programs are those of programs.go.
// Nothing of the host can be read, written or run.
//
//	script ──shell──▶ programs ──▶ files, packages, services ──▶ what it listens on
//
// The shell runs in a process of its own (child.go).
//
// A Guest is not safe for concurrent use, but for the programs of one shell.
package guest

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"mvdan.cc/sh/v3/expand"
	"mvdan.cc/sh/v3/interp"
	"mvdan.cc/sh/v3/syntax"
)

// User is who the first user of every machine is.
const User = "keeper"

// Login is the service that offers a login on the serial line.
const Login = "serial-getty@ttyS0"

// Guest is the inside of one machine.
type Guest struct {
	Name     string   `json:"name"`
	Files    contents `json:"files,omitempty"` // by absolute path
	Dirs     []string `json:"dirs,omitempty"`
	Packages []string `json:"packages"`
	Stopped  []string `json:"stopped,omitempty"` // services of its packages that do not run
	Enabled  []string `json:"enabled,omitempty"` // further services that do
	Users    []string `json:"users,omitempty"`   // besides the first one
	// Disks are what attached volumes hold, by device.
	Disks map[string]*Disk `json:"disks,omitempty"`

	Around Around                                     `json:"-"`
	Reach  func(ctx context.Context, r Request) Reply `json:"-"` // nil: it reaches nothing

	mu sync.Mutex // held by each program and file access: a shell runs several at once

	Slept time.Duration `json:"-"` // how long its programs would have waited
	Power string        `json:"-"` // reboot or poweroff, where a program asked for it
}

// New returns a fresh machine with packages.
func New(name string, packages []string) *Guest {
	return &Guest{Name: name, Packages: slices.Clone(packages), Files: map[string]string{}}
}

// known are the packages that can be installed, with the services that they
// bring, and what those listen on, as sentences write it.
var known = map[string]map[string][]string{
	"ssh-server":   {"ssh": {"ssh"}},
	"tide-httpd":   {"tide-httpd": {"http", "https"}},
	"rdp-greeter":  {"rdp-greeter": {"rdp"}},
	"tide-desktop": {},
	"tide-sql":     {"tide-sql": {"tcp/5432"}},
	"tidefeed":     {"tidefeed": {"tcp/7400-7401"}},
	"tide-clock":   {"tide-clock": {"udp/123"}},
	"curl":         {},
	"rsync":        {},
	"util-linux":   {},
}

// before are the names that packages had in stores of earlier versions.
var before = map[string]string{
	"openssh-server": "ssh-server", "nginx": "tide-httpd", "xrdp": "rdp-greeter", "xfce4": "tide-desktop", "postgresql": "tide-sql", "chrony": "tide-clock",
}

// services lists the machine's services by name, with what they listen on.
func (g *Guest) services() map[string][]string {
	all := map[string][]string{Login: nil}
	for _, p := range g.Packages {
		maps.Copy(all, known[cmp.Or(before[p], p)])
	}
	return all
}

// Running reports whether a service runs.
func (g *Guest) Running(service string) bool {
	_, there := g.services()[service]
	if service == Login {
		return slices.Contains(g.Enabled, service)
	}
	return there && !slices.ContainsFunc(g.Stopped, func(s string) bool { return cmp.Or(before[s], s) == service })
}

// Listens lists what the machine listens on once it runs, as sentences write it.
// Every machine answers ping.
func (g *Guest) Listens() []string {
	list := []string{"ping"}
	for name, ports := range g.services() {
		if g.Running(name) {
			list = append(list, ports...)
		}
	}
	slices.Sort(list)
	return slices.Compact(list)
}

// MaxFiles is how much a machine's own files may hold, in bytes.
const MaxFiles = 4 << 20

// maxOutput is how much of a script's output is kept, in bytes.
const maxOutput = 64 << 10

// maxRun is how long a script may run.
const maxRun = 2 * time.Second

// Result is what became of a script.
type Result struct {
	Name   string        `json:"name"`
	Exit   int           `json:"exit"`
	Output string        `json:"output"`
	Took   time.Duration `json:"took"` // what its programs would have waited
	Delta  Delta         `json:"-"`    // what it changed
}

// Run runs a script as root, as a first boot does, changes the machine as the
// script did, and returns its exit status and what it wrote to both streams.
func (g *Guest) Run(ctx context.Context, name, script string) Result {
	out := &limited{most: maxOutput}
	bounded, cancel := context.WithTimeout(ctx, maxRun)
	defer cancel()
	o := g.spawn(bounded, job{User: "root", Name: name, Script: script}, strings.NewReader(""), out)
	if bounded.Err() != nil {
		o = outcome{Exit: 124}
		fmt.Fprintf(out, "%s: stopped: it ran for more than %s\n", name, maxRun)
	}
	if err := g.Apply(o.Delta); err != nil {
		fmt.Fprintf(out, "%s: %v\n", name, err)
		o.Exit = 1
	}
	return Result{Name: name, Exit: o.Exit, Output: out.text(), Took: o.Slept, Delta: o.Delta}
}

// Command runs one command line as a user, until ctx ends at the latest. It does
// not change g: what the command changed is returned, with reboot or poweroff
// where it asked for that.
func (g *Guest) Command(ctx context.Context, user, line string, in io.Reader, out io.Writer) (exit int, d Delta, power string) {
	o := g.spawn(ctx, job{User: user, Name: "sh", Script: line}, in, out)
	return o.Exit, o.Delta, o.Power
}

// prepare readies a shell, in the process that will run it, and returns what runs it.
func (g *Guest) prepare(user, name, script string, in io.Reader, out io.Writer) (func(context.Context) int, error) {
	prog, err := syntax.NewParser().Parse(strings.NewReader(script), name)
	if err != nil {
		return func(context.Context) int {
			fmt.Fprintln(out, err)
			return 2
		}, nil
	}
	home := "/home/" + user
	if user == "root" {
		home = "/root"
	}
	env := expand.ListEnviron("PATH=/usr/sbin:/usr/bin:/sbin:/bin", "HOME="+home, "USER="+user, "LOGNAME="+user, "SHELL=/bin/sh", "HOSTNAME="+g.Name, "PWD=/")
	r, err := interp.New(
		interp.Env(env), interp.Dir("/"), interp.StdIO(in, out, out),
		interp.ExecHandlers(func(interp.ExecHandlerFunc) interp.ExecHandlerFunc { return g.exec }),
		interp.OpenHandler(g.open), interp.StatHandler(g.stat), interp.ReadDirHandler2(g.readDir), interp.AccessHandler(g.access),
	)
	if err != nil {
		return nil, err
	}
	return func(ctx context.Context) int {
		err := r.Run(ctx, prog)
		if status, ok := errors.AsType[interp.ExitStatus](err); ok {
			return int(status)
		}
		if err != nil {
			fmt.Fprintln(out, err)
			return 1
		}
		return 0
	}, nil
}

// limited keeps the beginning of what is written to it.
type limited struct {
	b    strings.Builder
	most int
	cut  bool
}

func (l *limited) Write(p []byte) (int, error) {
	room := max(l.most-l.b.Len(), 0)
	l.b.Write(p[:min(len(p), room)])
	l.cut = l.cut || len(p) > room
	return len(p), nil
}

func (l *limited) text() string {
	if l.cut {
		return l.b.String() + "\n… more was written, and is not kept\n"
	}
	return l.b.String()
}
