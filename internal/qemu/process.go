package qemu

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"ironbark/internal/fault"
	"ironbark/internal/pidfd"
)

// runSize is how much a machine's folder Run may hold: what its guest writes to the serial line and the port
// for reports beyond that is lost.
const runSize = "2m"

// mountRun makes a machine's folder Run anew, empty.
func (m Machine) mountRun() error {
	if err := UnmountRun(m.Run); err != nil {
		return err
	}
	if err := os.MkdirAll(m.Run, 0o700); err != nil {
		return err
	}
	return unix.Mount("tmpfs", m.Run, "tmpfs", unix.MS_NOSUID|unix.MS_NODEV|unix.MS_NOEXEC, fmt.Sprintf("size=%s,nr_inodes=64,mode=0700,uid=%d,gid=%d", runSize, m.UID, m.UID))
}

// UnmountRun takes a machine's folder Run away. One that is not there is no error.
func UnmountRun(run string) error {
	for {
		err := unix.Unmount(run, unix.MNT_DETACH|unix.UMOUNT_NOFOLLOW)
		if errors.Is(err, unix.EINVAL) || errors.Is(err, unix.ENOENT) { // nothing is mounted there any more
			break
		}
		if err != nil {
			return fmt.Errorf("unmounting %s: %w", run, err)
		}
	}
	if err := os.Remove(run); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	return nil
}

// startTime is how long a process may take until its monitor answers.
const startTime = 20 * time.Second

// Start starts the process, and returns when its monitor answers. tap is its network link;
// incoming, where it is not nil, a saved state that it goes on from. A process that did not
// come about leaves nothing behind.
func (m Machine) Start(ctx context.Context, tap, incoming *os.File) (err error) {
	for _, f := range m.Files() {
		if err := ordinary(f); err != nil {
			return err
		}
	}
	if err := m.mountRun(); err != nil {
		return err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, Kill(m.Run), UnmountRun(m.Run))
		}
	}()
	path, err := exec.LookPath(Program)
	if err != nil {
		return &MissingError{Program, fault.Say("apt-get install qemu-system-x86")}
	}
	log, err := os.OpenFile(filepath.Join(m.Run, errorsFile), os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return err
	}
	defer log.Close()
	c := exec.Command(path)
	c.Args, c.Env, c.Dir = m.args(incoming != nil), []string{"PATH=/usr/bin:/bin", "LC_ALL=C"}, "/"
	c.Stdout, c.Stderr = log, log
	c.ExtraFiles = []*os.File{tap}
	if incoming != nil {
		c.ExtraFiles = append(c.ExtraFiles, incoming)
	}
	// It has no network of its own but the link that it is handed.
	c.SysProcAttr = &syscall.SysProcAttr{
		Setsid: true, Cloneflags: unix.CLONE_NEWNET | unix.CLONE_NEWIPC,
		Credential: &syscall.Credential{Uid: uint32(m.UID), Gid: uint32(m.UID), Groups: m.groups()},
	}
	if err := c.Start(); err != nil {
		return err
	}
	go func() { _ = c.Wait() }() // as long as this process lives
	if err := m.keepProcess(c.Process.Pid); err != nil {
		return errors.Join(err, c.Process.Kill())
	}
	ctx, cancel := context.WithTimeout(ctx, startTime)
	defer cancel()
	for {
		monitor, err := DialMonitor(ctx, filepath.Join(m.Run, MonitorSocket))
		if err == nil {
			return monitor.Close()
		}
		if ctx.Err() != nil || Find(m.Run) == 0 {
			text, _ := ReadBounded(filepath.Join(m.Run, errorsFile), 4096)
			return fmt.Errorf("QEMU does not run machine %s: %s", m.Name, orElse(strings.TrimSpace(string(text)), "it says nothing"))
		}
		select {
		case <-ctx.Done():
		case <-time.After(5 * time.Millisecond):
		}
	}
}

func orElse(text, other string) string {
	if text == "" {
		return other
	}
	return text
}

// groups are those that the process needs besides its own.
func (m Machine) groups() (list []uint32) {
	if m.Images > 0 {
		list = append(list, uint32(m.Images))
	}
	if info, err := os.Stat("/dev/kvm"); err == nil && m.Accel == KVM {
		list = append(list, info.Sys().(*syscall.Stat_t).Gid)
	}
	return list
}

// keepProcess writes down which process the machine is: its number and when it began, since numbers are
// used again.
func (m Machine) keepProcess(pid int) error {
	began, err := beginning(pid)
	if err != nil {
		return err
	}
	return os.WriteFile(m.Run+".pid", fmt.Appendf(nil, "%d %s", pid, began), 0o600)
}

// beginning is when a process began, in ticks since the host was started (proc(5), field 22); an error where it is gone.
func beginning(pid int) (string, error) {
	stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return "", err
	}
	_, rest, _ := bytes.Cut(stat, []byte(") "))
	fields := strings.Fields(string(rest))
	if len(fields) < 20 || fields[0] == "Z" {
		return "", errors.New("it has ended")
	}
	return fields[19], nil
}

// Find returns the process of the machine with a folder Run; 0: it does not run. Cost: three small files.
func Find(run string) int {
	text, err := os.ReadFile(run + ".pid")
	if err != nil {
		return 0
	}
	number, began, _ := strings.Cut(string(text), " ")
	pid, err := strconv.Atoi(number)
	if err != nil || pid <= 1 {
		return 0
	}
	if now, err := beginning(pid); err != nil || now != began {
		return 0
	}
	return pid
}

// hold gets hold of the process of the machine with a folder Run, so that its number may be used again by others;
// negative: it does not run. The descriptor is the caller's to close.
func hold(run string) (fd int, err error) {
	pid := Find(run)
	if pid == 0 {
		return -1, nil
	}
	fd, err = unix.PidfdOpen(pid, 0)
	if errors.Is(err, unix.ESRCH) {
		return -1, nil
	}
	if err != nil {
		return -1, err
	}
	if Find(run) != pid { // it was another process by the time that it was opened
		return -1, unix.Close(fd)
	}
	return fd, nil
}

// killTime is how long a process may take to end that is killed.
const killTime = 10 * time.Second

// Kill ends the process at once, as a power cut would, and waits until it is gone.
func Kill(run string) error {
	fd, err := hold(run)
	if err != nil || fd < 0 {
		return err
	}
	defer unix.Close(fd)
	ended, err := pidfd.Kill(fd, killTime)
	if err != nil {
		return err
	}
	if !ended {
		return fmt.Errorf("process %d does not end", Find(run))
	}
	if err := os.Remove(run + ".pid"); !errors.Is(err, os.ErrNotExist) {
		return err
	}
	return nil
}

// ReadBounded reads the first bytes of a file that a machine's process may write to, and put
// anything in place of: only an ordinary file is read.
func ReadBounded(path string, most int64) ([]byte, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|unix.O_NOFOLLOW|unix.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if info, err := f.Stat(); err != nil || !info.Mode().IsRegular() {
		return nil, errors.Join(err, fmt.Errorf("%s is no ordinary file", path))
	}
	return io.ReadAll(io.LimitReader(f, most))
}

// MissingError says that a program of the host's is missing.
type MissingError struct {
	Program string
	Try     fault.Advice // how it comes here
}

// Error tells which.
func (m *MissingError) Error() string { return "this host has no " + m.Program }

// Kind is that of a host that cannot be used.
func (m *MissingError) Kind() fault.Kind { return fault.Unsupported }

// Advice says how to get it.
func (m *MissingError) Advice() fault.Advice { return m.Try }
