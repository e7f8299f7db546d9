package gateway

import (
	"errors"
	"net"
	"os"
	"os/exec"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// process is the process that faces the internet, as the other one sees it.
type process struct {
	cmd      *exec.Cmd
	wire     *wire
	machines *net.UnixConn
	stderr   *lastWords
	once     sync.Once
	gone     chan struct{}
	started  time.Time
	asked    atomic.Int64 // when it was first asked since it was last heard of, in nanoseconds of started; 0: it was not
}

// ask asks the process whether it is still there.
func (p *process) ask(m message) {
	p.asked.CompareAndSwap(0, int64(time.Since(p.started)))
	_ = p.send(m)
}

// speaks keeps that it was heard of.
func (p *process) speaks() { p.asked.Store(0) }

// silent is for how long the process has not answered.
func (p *process) silent() time.Duration {
	if asked := p.asked.Load(); asked > 0 {
		return time.Since(p.started) - time.Duration(asked)
	}
	return 0
}

// nobody is the user that the process runs as, where this one may choose (as on all of Debian's hosts).
const nobody = 65534

// startChild starts the process that faces the internet, and hands it the sockets.
func (g *Gateway) startChild() (p *process, err error) {
	messages, messagesThere, err := socketPair(unix.SOCK_STREAM)
	if err != nil {
		return nil, err
	}
	machines, machinesThere, err := socketPair(unix.SOCK_SEQPACKET)
	if err != nil {
		return nil, errors.Join(err, messages.Close(), messagesThere.Close())
	}
	p = &process{wire: newWire(messages, mostFromChild), machines: machines, stderr: &lastWords{}, gone: make(chan struct{}), started: time.Now()}
	c := exec.Command("/proc/self/exe")
	c.Args, c.Env, c.Dir, c.Stderr = []string{childName}, []string{}, "/", p.stderr
	c.ExtraFiles = []*os.File{messagesThere, machinesThere}
	c.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	if os.Getuid() == 0 {
		c.SysProcAttr.Credential = &syscall.Credential{Uid: nobody, Gid: nobody}
		c.SysProcAttr.Cloneflags = unix.CLONE_NEWNET | unix.CLONE_NEWIPC // its sockets are handed to it
	}
	h := &hello{HostKey: g.seed, Limits: g.limits, Listeners: g.listeners}
	for _, l := range g.listeners {
		c.ExtraFiles = append(c.ExtraFiles, l.File)
	}
	p.cmd = c
	err = c.Start()
	err = errors.Join(err, messagesThere.Close(), machinesThere.Close())
	if err != nil {
		return nil, errors.Join(err, messages.Close(), machines.Close())
	}
	go func() {
		_ = c.Wait()
		close(p.gone)
	}()
	return p, p.send(message{Op: opHello, Hello: h})
}

// stop lets the process end, and kills it where it does not. It returns once it is gone.
func (p *process) stop() {
	_ = p.Close()
	select {
	case <-p.gone:
	case <-time.After(obeyWithin):
		p.kill()
		<-p.gone
	}
}

// Close takes the process's life away: it ends when nobody speaks to it.
func (p *process) Close() (err error) {
	p.once.Do(func() { err = errors.Join(p.wire.c.Close(), p.machines.Close()) })
	return err
}

// send tells the process something. One that does not listen is killed: it may not keep the other from
// ending what is to end.
func (p *process) send(m message) error {
	err := p.wire.c.SetWriteDeadline(time.Now().Add(obeyWithin))
	if err == nil {
		err = p.wire.send(m)
	}
	if err != nil {
		p.kill()
	}
	return err
}

// hand hands a connection to a machine over.
func (p *process) hand(id uint64, fd int) error {
	if err := p.machines.SetWriteDeadline(time.Now().Add(obeyWithin)); err != nil {
		return err
	}
	return sendMachine(p.machines, id, fd)
}

func (p *process) kill() { _ = p.cmd.Process.Kill() }

// said is what the process wrote last.
func (p *process) said() string {
	<-p.gone
	return strings.TrimSpace(p.stderr.String())
}

// lastWords keeps the end of what is written to it.
type lastWords struct {
	mu   sync.Mutex
	text []byte
}

const mostWords = 2048

func (l *lastWords) Write(b []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.text = append(l.text, b...)
	l.text = l.text[max(0, len(l.text)-mostWords):]
	return len(b), nil
}

// String returns it.
func (l *lastWords) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return string(l.text)
}
