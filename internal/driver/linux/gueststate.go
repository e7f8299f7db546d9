package linux

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"ironbark/internal/change"
	"ironbark/internal/driver"
	"ironbark/internal/flow"
	"ironbark/internal/qemu"
	"ironbark/internal/seed"
)

// forgetMarks forgets what was found out about a guest's run.
func (s *Site) forgetMarks(name string) {
	for _, end := range []string{".answers", ".stopping", ".full"} {
		_ = os.Remove(s.runDir(name) + end)
	}
}

// readReports reads what a guest tells of itself.
func readReports(run string) seed.Told {
	text, err := qemu.ReadBounded(filepath.Join(run, qemu.ReportFile), 2<<20)
	if err != nil {
		return seed.Told{}
	}
	return seed.ReadReports(text)
}

func results(told seed.Told) (list []driver.SetupResult) {
	for _, r := range told.Setup {
		list = append(list, driver.SetupResult{Name: r.Name, At: r.At, Exit: r.Exit, Output: strings.ToValidUTF8(string(r.Output), "�")})
	}
	return list
}

// guestState tells how a guest is doing that is not switched off.
func (s *Site) guestState(t change.Resource, g *guest, m driver.Machine) driver.Machine {
	run := s.runDir(t.Name)
	if !s.guestRuns(t.Name) {
		m.State, m.Interrupted = driver.Stopped, true
		return m
	}
	told := readReports(run)
	m.State, m.Since, m.Forced = driver.Starting, g.Booted, g.Forced
	m.Silent = !qemu.Answers(context.Background(), run)
	for _, r := range told.Setup {
		if r.Exit != 0 && m.Failed == "" {
			m.Failed = r.Name
		}
	}
	_, err := os.Stat(run + ".stopping")
	if err != nil && s.isFull(t.Name) {
		m.State = driver.Paused
		return m
	}
	switch {
	case err == nil:
		m.State = driver.Stopping
	case told.Stuck != "" && !told.Up, !told.Up && inEmergency(run):
		m.State = driver.Stuck
	case told.Up && (told.Done == g.Instance || m.Failed != "" || len(t.Spec.Setup) == 0):
		m.State = driver.Running
	case !told.Up && s.answers(t):
		m.State = driver.Running
	}
	if m.State == driver.Running {
		words := told.Listens
		if len(words) == 0 {
			words = []string{"tcp/22", "ping"}
		}
		if services, err := flow.ParseServiceRuns(words); err == nil {
			m.Listens = services
		}
	}
	return m
}

// scarce is how much of the host's disk must be free for nobody to look whether a guest could not write to its disk.
const scarce = 256 << 20

// isFull reports whether a guest is paused since the host's disk is full. Its monitor is asked only where that may be,
// and once it was so until it is not.
func (s *Site) isFull(name string) bool {
	mark := s.runDir(name) + ".full"
	var fs unix.Statfs_t
	_, err := os.Lstat(mark)
	if err != nil && (unix.Statfs(s.machineDir(name), &fs) != nil || int64(fs.Bavail)*fs.Bsize > scarce) {
		return false
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	full, failed := qemu.Full(ctx, s.runDir(name))
	switch {
	case failed != nil: // it was so when it was last asked, or never
		return err == nil
	case full:
		_ = os.WriteFile(mark, nil, 0o600)
	default:
		_ = os.Remove(mark)
	}
	return full
}

// inEmergency reports whether a system's boot ended at its emergency shell, as systemd's do.
func inEmergency(run string) bool {
	text, err := qemu.ReadBounded(filepath.Join(run, qemu.LogFile), 2<<20)
	return err == nil && strings.Contains(string(text), "You are in emergency mode")
}

// How long a system that tells nothing of itself must have answered at its SSH port to be taken for one that has
// booted: by then one that tells would have done so, for its setup runs after its SSH server starts.
const (
	silence         = 30 * time.Second
	silenceEmulated = 5 * time.Minute
)

// answers reports whether something has answered at a guest's SSH port for that long.
func (s *Site) answers(t change.Resource) bool {
	mark := s.runDir(t.Name) + ".answers"
	if info, err := os.Lstat(mark); err == nil {
		length := silence
		if accel, _ := qemu.AccelOf(context.Background(), filepath.Join(runRoot, "kvm")); accel != qemu.KVM {
			length = silenceEmulated
		}
		return time.Since(info.ModTime()) > length
	}
	for _, a := range insideOf(t) {
		_ = within(s.prefix, func() error {
			c, err := net.DialTimeout("tcp", netip.AddrPortFrom(a, 22).String(), 50*time.Millisecond)
			if err != nil {
				return err
			}
			return errors.Join(c.Close(), os.WriteFile(mark, nil, 0o600))
		})
	}
	return false
}
