package linux

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/vishvananda/netns"
	"golang.org/x/sys/unix"

	"ironbark/internal/fault"
	"ironbark/internal/qemu"
	"ironbark/internal/seed"
	"ironbark/internal/tinyguest"
	"ironbark/internal/tinyimage"
)

// A tiny guest starts from a saved state: one of its size that was booted as far as where it waits for
// its seed disk (tinyguest.Waiting). It has no key, no name, no address and no mounted disk by then, and takes all of
// them from its seed, with fresh randomness and the time. The first start of each size makes the state, and
// goes on from it, too.
//
//	boot, blank seed ──▶ waits ──Save──▶ STATE ──incoming, seed of gauge-1──▶ gauge-1
//	                                           └─incoming, seed of gauge-2──▶ gauge-2

// NotReadyError says that the system of tiny guests was not made on this host yet.
type NotReadyError struct{}

// Error tells so.
func (NotReadyError) Error() string { return "the system of tiny guests is not on this host yet" }

// Kind is that of a host that cannot be used.
func (NotReadyError) Kind() fault.Kind { return fault.Unsupported }

// Advice says how it is made.
func (NotReadyError) Advice() fault.Advice {
	return fault.Run("site", "prepare").Say(" makes it, from Debian's kernel package")
}

// ReadyTiny tells whether tiny guests can be started. The error is a [NotReadyError].
func ReadyTiny() error {
	if !tinyimage.Ready(TinyFolder()) {
		return NotReadyError{}
	}
	return nil
}

// tinyBoot adds how a tiny guest is started.
func tinyBoot(m qemu.Machine) qemu.Machine {
	m.Kernel, m.Initrd = filepath.Join(TinyFolder(), tinyimage.Kernel), filepath.Join(TinyFolder(), tinyimage.Initrd)
	// Without a processor of its own to measure by, the kernel's check of its timer fails under load.
	m.Append = "console=ttyS0 no_timer_check quiet panic=1 mitigations=off"
	return m
}

// statePath is where the saved state of machines like one is. Whatever a state hangs on is in its
// name, so that one that does not fit is never found.
func statePath(m qemu.Machine) (string, error) {
	program, err := exec.LookPath(qemu.Program)
	if err != nil {
		return "", &qemu.MissingError{Program: qemu.Program, Try: fault.Say("apt-get install qemu-system-x86")}
	}
	info, err := os.Stat(program) // asking it for its version takes as long as half a start
	if err != nil {
		return "", err
	}
	made, err := os.ReadFile(filepath.Join(TinyFolder(), tinyimage.Stamp))
	if err != nil {
		return "", err
	}
	h := sha256.New()
	for _, text := range []string{fmt.Sprint(info.Size(), info.ModTime().UnixNano()), string(made), m.Shape()} {
		fmt.Fprintf(h, "%d %s", len(text), text)
	}
	return filepath.Join(TinyFolder(), "states", fmt.Sprintf("%dcpu-%dMiB-%s", m.CPUs, m.MemoryMiB, hex.EncodeToString(h.Sum(nil)))), nil
}

// startWarm starts a tiny guest from the saved state of its size, which is made where there is none.
func (s *Site) startWarm(ctx context.Context, m qemu.Machine, gb int, tap *os.File) error {
	path, err := statePath(m)
	if err != nil {
		return err
	}
	if info, err := os.Stat(path + failedEnd); err == nil && time.Since(info.ModTime()) < failureKept {
		why, _ := os.ReadFile(path + failedEnd)
		return fmt.Errorf("no state was saved: %s", why)
	}
	f, err := os.Open(path)
	if errors.Is(err, os.ErrNotExist) {
		if err = makeState(ctx, m, path); err == nil {
			f, err = os.Open(path)
		} else if ctx.Err() == nil { // the next machine does not wait for the same failure
			_ = os.WriteFile(path+failedEnd, []byte(err.Error()+"\n"), 0o644)
		}
	}
	if err != nil {
		return err
	}
	defer f.Close()
	volumes := m.Volumes
	m.Volumes = nil // they are plugged in once it runs
	if err := m.Start(ctx, tap, f); err != nil {
		return err
	}
	if err := s.wake(ctx, m, volumes, gb); err != nil {
		return errors.Join(err, qemu.Kill(m.Run), qemu.UnmountRun(m.Run))
	}
	return nil
}

// wake lets a machine go on from its saved state.
func (s *Site) wake(ctx context.Context, m qemu.Machine, volumes []qemu.Volume, gb int) error {
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	// The state knows the size of another system disk.
	if err := errors.Join(qemu.Resumed(ctx, m.Run), qemu.Resize(ctx, m.Run, nil, gb)); err != nil {
		return err
	}
	for _, v := range volumes {
		if err := qemu.Attach(ctx, m.Run, v); err != nil {
			return err
		}
	}
	return nil
}

// failedEnd ends the name of the file that tells why a state could not be made, and failureKept is how long that counts: a
// host that was busy then may not be by now.
const (
	failedEnd   = ".failed"
	failureKept = 10 * time.Minute
)

// stateTime is how long a system may take until it waits for its seed.
const stateTime = time.Minute

// makeState boots a machine like one, on disks of its own, until it waits for its seed, and saves its
// state. Others that want the same state wait for it.
func makeState(ctx context.Context, m qemu.Machine, path string) (err error) {
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	lock, err := os.OpenFile(path+".lock", os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	defer lock.Close()
	if err := unix.Flock(int(lock.Fd()), unix.LOCK_EX); err != nil {
		return err
	}
	if _, err := os.Stat(path); err == nil { // somebody made it meanwhile
		return nil
	}
	work := path + ".making"
	run := filepath.Join(runRoot, filepath.Base(path))
	if err := errors.Join(qemu.Kill(run), qemu.UnmountRun(run), os.RemoveAll(work), os.MkdirAll(work, 0o711), os.MkdirAll(runRoot, 0o711)); err != nil {
		return err
	}
	defer func() { err = errors.Join(err, qemu.Kill(run), qemu.UnmountRun(run), os.RemoveAll(work)) }()
	m.Name, m.UUID, m.Run, m.Volumes = "state", randomUUID(), run, nil
	m.Seed, m.System = filepath.Join(work, "seed"), filepath.Join(work, "system")
	if err := errors.Join(writeFor(m.Seed, make([]byte, seed.Size), m.UID), qemu.MakeDisk(ctx, m.System, m.UID, 1, m.Base)); err != nil {
		return err
	}
	tap, done, err := looseTap()
	if err != nil {
		return err
	}
	defer done()
	if err := m.Start(ctx, tap, nil); err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, stateTime)
	defer cancel()
	for {
		text, err := qemu.ReadBounded(filepath.Join(run, qemu.LogFile), 1<<20)
		if err == nil && strings.Contains(string(text), tinyguest.Waiting) {
			break
		}
		if err := ctx.Err(); err != nil || qemu.Find(run) == 0 {
			return errors.Join(err, errors.New("the tiny guest does not boot so far that it waits for its seed"))
		}
		time.Sleep(10 * time.Millisecond)
	}
	f, err := os.OpenFile(path+".new", os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	if err := errors.Join(qemu.Save(ctx, run, f), f.Close()); err != nil {
		return errors.Join(err, os.Remove(path+".new"))
	}
	return os.Rename(path+".new", path)
}

// looseTap is a link that leads nowhere, in a namespace that goes with it.
func looseTap() (f *os.File, done func(), err error) {
	name := fmt.Sprintf("ibstate%d", os.Getpid())
	if err := create(name, nil); err != nil {
		return nil, nil, err
	}
	s := &Site{prefix: name}
	if _, err = s.joinGuest("state", false); err == nil {
		f, err = s.tap("state")
	}
	remove := func() { _ = errors.Join(netns.DeleteNamed(name), netns.DeleteNamed(name+".off")) }
	if err != nil {
		remove()
		return nil, nil, err
	}
	return f, func() { _ = f.Close(); remove() }, nil
}
