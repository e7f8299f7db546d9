package guest

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"runtime/debug"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"ironbark/internal/confine"
)

// A shell runs in a process of its own, which is this program again under another
// name. Before it runs a word of a script it gives up all that it could reach:
//
//	parent ──job, and replies (descriptor 3, which is a lifeline, too)──▶ child
//	         ◀──what it asks of the network, and at the end what changed (descriptor 4)────
//	         ──standard input, ◀──standard output
//
// The child has an empty environment, limits on memory and processor time, and a
// seccomp filter that leaves it what a computing process needs: no file can be
// opened, no socket made, no program started, no other process signalled. It ends
// with its parent. One that crashes, loops or is killed is that machine's trouble
// alone: the parent keeps what the machine held before.

// childName is what such a process is called.
const childName = "ironbark-guest"

// The limits of a child.
const (
	maxMemory  = 192 << 20 // bytes of data
	maxCPU     = 3         // seconds of processor time
	maxJob     = 32 << 20  // bytes of a job or of what came of it
	maxCommand = 16 << 20  // bytes that one command may write
	maxStack   = 32 << 20
)

// job is what a child is asked to do.
type job struct {
	Guest  *Guest `json:"guest"`
	Around Around `json:"around"`
	User   string `json:"user"`
	Name   string `json:"name"`
	Script string `json:"script"`
}

// outcome is what came of it.
type outcome struct {
	Exit  int           `json:"exit"`
	Delta Delta         `json:"delta"`
	Slept time.Duration `json:"slept"`
	Power string        `json:"power"`
}

// message is what a child writes: what it asks of the network, and at its end what came of it.
type message struct {
	Ask  *Request `json:"ask,omitempty"`
	Done *outcome `json:"done,omitempty"`
}

// mostAsked is how often a child may ask.
const mostAsked = 100

// killed is the exit status of a shell that was ended from outside, as shells count it.
const killed = 128 + int(unix.SIGKILL)

func init() {
	if len(os.Args) > 0 && os.Args[0] == childName {
		os.Exit(child())
	}
}

// child is the whole life of a shell's process.
func child() int {
	asked, answer := os.NewFile(3, "job"), os.NewFile(4, "outcome")
	dec := json.NewDecoder(io.LimitReader(asked, maxJob))
	var j job
	if err := dec.Decode(&j); err != nil {
		return 125
	}
	replies := make(chan Reply)
	go func() { // the parent keeps its end open for as long as it lives
		for {
			var r Reply
			if dec.Decode(&r) != nil {
				os.Exit(killed)
			}
			replies <- r
		}
	}()
	tell := json.NewEncoder(answer)
	var one sync.Mutex
	debug.SetMaxStack(maxStack)
	g := j.Guest
	g.Around = j.Around
	g.Reach = func(_ context.Context, r Request) Reply {
		one.Lock()
		defer one.Unlock()
		if err := tell.Encode(message{Ask: &r}); err != nil {
			return Reply{Exit: 1}
		}
		return <-replies
	}
	before := g.clone()
	run, err := g.prepare(j.User, j.Name, j.Script, os.Stdin, os.Stdout)
	if err == nil {
		err = closeOff()
	}
	if err != nil {
		fmt.Fprintln(os.Stdout, err)
		return 125
	}
	exit := run(context.Background())
	g.mu.Lock() // what still runs in the background changes nothing any more
	out := outcome{Exit: exit, Delta: diff(before, g), Slept: g.Slept, Power: g.Power}
	one.Lock()
	if err := tell.Encode(message{Done: &out}); err != nil {
		return 125
	}
	return 0
}

// limit sets the limits that the kernel holds a child to.
func limit() error {
	for what, most := range map[int]uint64{
		unix.RLIMIT_DATA: maxMemory, unix.RLIMIT_CPU: maxCPU, unix.RLIMIT_CORE: 0, unix.RLIMIT_NOFILE: 256, unix.RLIMIT_FSIZE: 0,
	} {
		if err := unix.Setrlimit(what, &unix.Rlimit{Cur: most, Max: most}); err != nil {
			return fmt.Errorf("a limit cannot be set: %w", err)
		}
	}
	return nil
}

// closeOff gives up all that a shell could reach. It fails rather than run unconfined.
func closeOff() error {
	if err := limit(); err != nil {
		return err
	}
	if err := confine.Calls(); err != nil {
		return fmt.Errorf("the machine's shell cannot be closed off, so it does not run: %w", err)
	}
	return nil
}

// spawn runs a job in a child, and returns what came of it. Where the child died
// on its way nothing was changed, and the exit status is that of a killed shell.
func (g *Guest) spawn(ctx context.Context, j job, in io.Reader, out io.Writer) outcome {
	o, err := g.runChild(ctx, j, in, out)
	if err == nil {
		return o
	}
	if ctx.Err() == nil {
		fmt.Fprintf(out, "%s: the shell was ended: %v\n", j.Name, err)
	}
	return outcome{Exit: killed}
}

func (g *Guest) runChild(ctx context.Context, j job, in io.Reader, out io.Writer) (o outcome, err error) {
	j.Guest, j.Around = g, g.Around
	asked, tell, err := os.Pipe()
	if err != nil {
		return o, err
	}
	answer, told, err := os.Pipe()
	if err != nil {
		return o, errors.Join(err, asked.Close(), tell.Close())
	}
	defer func() { _ = errors.Join(tell.Close(), answer.Close()) }()
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	bounded := &bounded{w: out, left: maxCommand, full: cancel}
	c := exec.CommandContext(ctx, "/proc/self/exe")
	c.Args, c.Env, c.Dir = []string{childName}, []string{}, "/"
	c.Stdout, c.ExtraFiles = bounded, []*os.File{asked, told}
	c.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Pdeathsig: syscall.SIGKILL}
	c.WaitDelay = time.Second
	stdin, err := c.StdinPipe()
	if err != nil {
		return o, errors.Join(err, asked.Close(), told.Close())
	}
	err = c.Start()
	_ = errors.Join(asked.Close(), told.Close())
	if err != nil {
		return o, err
	}
	go func() { // a reader that never ends is left behind with its session
		if in != nil {
			_, _ = io.Copy(stdin, in)
		}
		_ = stdin.Close()
	}()
	say := json.NewEncoder(tell)
	sent := say.Encode(j)
	o, failed := g.hear(ctx, json.NewDecoder(io.LimitReader(answer, maxJob)), say)
	ended := c.Wait()
	switch {
	case bounded.left <= 0:
		return outcome{}, errors.New("it wrote too much")
	case ended != nil:
		return outcome{}, describe(ended)
	}
	return o, errors.Join(sent, failed)
}

// hear answers what a child asks, until it tells what came of its job.
func (g *Guest) hear(ctx context.Context, from *json.Decoder, say *json.Encoder) (outcome, error) {
	for asked := 0; ; asked++ {
		var m message
		if err := from.Decode(&m); err != nil {
			return outcome{}, err
		}
		if m.Done != nil {
			return *m.Done, nil
		}
		reply := Reply{Exit: 1, Err: "the network is unreachable\n"}
		if g.Reach != nil && m.Ask != nil && asked < mostAsked {
			reply = g.Reach(ctx, *m.Ask)
		}
		if err := say.Encode(reply); err != nil {
			return outcome{}, err
		}
	}
}

// describe tells in the words of a shell what ended a process.
func describe(err error) error {
	e, ok := errors.AsType[*exec.ExitError](err)
	if !ok {
		return err
	}
	status, _ := e.Sys().(syscall.WaitStatus)
	switch {
	case status.Signaled() && (status.Signal() == unix.SIGKILL || status.Signal() == unix.SIGXCPU):
		return errors.New("killed: it computed for too long or took too much memory")
	case status.Signaled():
		return fmt.Errorf("killed by %v", status.Signal())
	}
	return errors.New("it crashed, or took too much memory")
}

// bounded hands on so many bytes and then calls full.
type bounded struct {
	w    io.Writer
	left int
	full func()
}

func (b *bounded) Write(p []byte) (int, error) {
	if b.left -= len(p); b.left <= 0 {
		b.full()
		return 0, io.ErrShortWrite
	}
	return b.w.Write(p)
}
