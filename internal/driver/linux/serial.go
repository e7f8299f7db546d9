package linux

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sys/unix"

	"ironbark/internal/driver"
	"ironbark/internal/fault"
	"ironbark/internal/qemu"
)

// This file is the serial line of a guest. A line has no end that its login would notice: who is logged in stays so when a session ends, for whoever
// comes next. So the login is ended with the session; where a session broke off, before the next one.

// serialLine opens the serial line of a guest that runs, for one at a time. It ends within a second of what
// permits it.
func (s *Site) serialLine(ctx context.Context, machine string, by driver.ConsoleBy) (io.ReadWriteCloser, error) {
	run := s.runDir(machine)
	lock, err := os.OpenFile(run+".console", os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if err := unix.Flock(int(lock.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		return nil, errors.Join(lock.Close(), &driver.NoConsoleError{
			Why: fmt.Sprintf("somebody is at the serial line of machine %s, and it has one", machine), Try: fault.Say("wait, or look at what it says: ").Run("console", machine, "--log"),
		})
	}
	l := &serial{run: run, lock: lock, boot: bootOf(run), over: make(chan struct{})}
	l.before, _ = qemu.ReadBounded(filepath.Join(run, qemu.LogFile), mostLog)
	if l.brokeOff() {
		if err := qemu.HangUp(ctx, run); err != nil {
			l.before = fmt.Appendf(l.before, "\r\nThe session before this one broke off, and whoever was logged in may still be: %v\r\n", err)
		}
	}
	c, err := (&net.Dialer{Timeout: 5 * time.Second}).DialContext(ctx, "unix", filepath.Join(run, qemu.ConsoleSocket))
	if err != nil {
		return nil, errors.Join(err, lock.Close())
	}
	l.Conn = c
	l.mark()
	go l.whileItMay(s, machine, by)
	// Whoever comes to a line at which a login waits sees its question again.
	_, _ = c.Write([]byte("\r"))
	return l, nil
}

// serial is a session at a serial line. Its lock holds the boot of the guest in which it is, until its login is ended.
type serial struct {
	net.Conn
	run, boot string
	before    []byte
	lock      *os.File
	over      chan struct{}
}

// Read reads what was written before, and then the line.
func (l *serial) Read(p []byte) (int, error) {
	if len(l.before) > 0 {
		n := copy(p, l.before)
		l.before = l.before[n:]
		return n, nil
	}
	return l.Conn.Read(p)
}

// Close ends the session, and whoever is logged in at the line. The line is free for others then.
func (l *serial) Close() error {
	select {
	case <-l.over:
		return nil
	default:
	}
	close(l.over)
	err := l.Conn.Close()
	if errors.Is(err, net.ErrClosed) { // it was ended with what permits it
		err = nil
	}
	if bootOf(l.run) != l.boot || qemu.HangUp(context.Background(), l.run) == nil {
		err = errors.Join(err, l.lock.Truncate(0))
	}
	return errors.Join(err, l.lock.Close())
}

// bootOf tells one run of a guest from the next: the process that it is. "" where it does not run.
func bootOf(run string) string {
	text, _ := os.ReadFile(run + ".pid")
	return string(text)
}

// brokeOff reports whether a session in this boot of the guest did not end the login at the line.
func (l *serial) brokeOff() bool {
	text, _ := os.ReadFile(l.lock.Name())
	return len(text) > 0 && string(text) == l.boot
}

// mark notes that the line is in use. Where that cannot be written, as on a full disk, the line still can be used: it may be what frees the disk.
func (l *serial) mark() {
	if l.lock.Truncate(0) == nil {
		_, _ = l.lock.WriteAt([]byte(l.boot), 0)
	}
}

func (l *serial) whileItMay(s *Site, machine string, by driver.ConsoleBy) {
	tick := time.NewTicker(300 * time.Millisecond)
	defer tick.Stop()
	for {
		select {
		case <-l.over:
			return
		case <-tick.C:
			_, m, err := s.look(context.Background(), machine)
			open, failed := s.consoleOpen(context.Background(), machine, by)
			if err != nil || failed != nil || !open || m.State == driver.Stopped {
				_ = l.Conn.Close()
				return
			}
		}
	}
}
