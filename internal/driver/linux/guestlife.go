package linux

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"database/sql"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"ironbark/internal/change"
	"ironbark/internal/driver"
	"ironbark/internal/flow"
	"ironbark/internal/qemu"
	"ironbark/internal/seed"
)

// guestUser is who logs in to guests.
const guestUser = "keeper"

// describe is all that a guest's process hangs on.
func (s *Site) describe(ctx context.Context, t change.Resource, g *guest, list []change.Resource) (m qemu.Machine, err error) {
	size, ok := s.offer.Size(t.Spec.Size)
	if !ok {
		return m, fmt.Errorf("the site has no size %s", t.Spec.Size)
	}
	accel, _ := qemu.AccelOf(ctx, filepath.Join(runRoot, "kvm"))
	m = qemu.Machine{
		Name: t.Name, UUID: g.UUID, UID: g.UID, Images: imagesGroup, Run: s.runDir(t.Name), CPUs: size.CPUs, MemoryMiB: size.MemoryMiB, Accel: accel,
		Seed: filepath.Join(s.machineDir(t.Name), "seed"), System: s.systemPath(t.Name), Base: g.Base, Volumes: s.volumesOf(t.Name, list), MAC: guestMAC,
	}
	if g.Tiny {
		m = tinyBoot(m)
	}
	return m, nil
}

// seedOf is what a guest is told.
func (s *Site) seedOf(t change.Resource, g *guest, hash string, list []change.Resource) (seed.Seed, error) {
	entropy := make([]byte, 64)
	if _, err := rand.Read(entropy); err != nil {
		return seed.Seed{}, err
	}
	told := seed.Seed{
		Instance: g.Instance, Host: t.Name, User: guestUser, Hash: hash, Passwords: t.Spec.Password && hash != "", HostKey: ed25519.NewKeyFromSeed(g.Host), MAC: guestMAC,
		Entropy: entropy, Now: s.clock.Now().UTC(),
	}
	keys := map[string]string{}
	for _, o := range list {
		if o.Kind == change.Key {
			keys[o.Name] = o.Spec.Public
		}
	}
	for _, name := range t.Spec.Keys() {
		told.Keys = append(told.Keys, keys[name])
	}
	for _, part := range t.Spec.Setup {
		script := part.Script
		if r, ok := s.offer.Recipe(part.Name); ok && script == "" {
			script = r.Script
		}
		if len(part.Listens) > 0 {
			told.Listens = append(told.Listens, part.Listens...)
			continue
		}
		told.Setup = append(told.Setup, seed.Part{Name: part.Name, Script: script})
	}
	for _, at := range t.Spec.Subnets {
		subnet, _ := change.Find(list, change.Subnet, at)
		network, _ := change.Find(list, change.Network, subnet.Spec.Network)
		told.DNS = append(told.DNS, network.Spec.DNS...)
		for _, a := range t.Spec.Inside[at] {
			prefix, via := netip.PrefixFrom(a, a.BitLen()), routerV6
			if a.Is4() {
				prefix, via = subnetOf(a, subnet)
			}
			told.Addresses = append(told.Addresses, prefix)
			if !slices.ContainsFunc(told.Gateways, func(o netip.Addr) bool { return o.Is4() == via.Is4() }) {
				told.Gateways = append(told.Gateways, via)
			}
		}
	}
	return told, nil
}

// subnetOf is an IPv4 address with its subnet's length, and the gateway there, for which the router
// answers.
func subnetOf(a netip.Addr, subnet change.Resource) (netip.Prefix, netip.Addr) {
	for _, r := range subnet.Spec.Ranges {
		if r.Contains(a) {
			via := r.Masked().Addr().Next()
			for _, g := range subnet.Spec.Gateway {
				if g.Is4() {
					via = g
				}
			}
			return netip.PrefixFrom(a, r.Bits()), via
		}
	}
	return netip.PrefixFrom(a, 24), a.Prev()
}

// writeSeed writes a guest's seed disk, whole or not at all.
func (s *Site) writeSeed(t change.Resource, g *guest, hash string, list []change.Resource) error {
	told, err := s.seedOf(t, g, hash, list)
	if err != nil {
		return err
	}
	disk, err := told.Disk()
	if err != nil {
		return err
	}
	return writeFor(filepath.Join(s.machineDir(t.Name), "seed"), disk, g.UID)
}

// writeFor writes a file that one user alone may read.
func writeFor(path string, data []byte, uid int) error {
	tmp := path + ".new"
	_ = os.Remove(tmp)
	f, err := os.OpenFile(tmp, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	err = errors.Join(err, f.Chown(uid, uid), f.Close())
	if err == nil {
		err = os.Rename(tmp, path)
	}
	if err != nil {
		_ = os.Remove(tmp)
	}
	return err
}

// startGuest starts a guest that does not run. The caller holds its lock.
func (s *Site) startGuest(ctx context.Context, t change.Resource) error {
	if s.guestRuns(t.Name) {
		return nil
	}
	var list []change.Resource
	var g *guest
	var hash string
	err := s.read(ctx, func(tx *sql.Tx) (err error) {
		if list, err = readResources(ctx, tx); err != nil {
			return err
		}
		if _, hash, err = switched(ctx, tx, t.Name); err != nil {
			return err
		}
		g, err = readGuest(ctx, tx, t.Name)
		return err
	})
	if err == nil && g == nil {
		err = fmt.Errorf("machine %s has no disk: ironbark enact makes it anew", t.Name)
	}
	if err != nil {
		return err
	}
	m, err := s.describe(ctx, t, g, list)
	if err != nil {
		return err
	}
	s.forgetMarks(t.Name)
	if g.Tiny {
		if err := ReadyTiny(); err != nil {
			return err
		}
	}
	if err := s.writeSeed(t, g, hash, list); err != nil {
		return err
	}
	if err := s.raise(t.Name, addrsOf([]change.Resource{t})[t.Name]); err != nil {
		return err
	}
	tap, err := s.tap(t.Name)
	if err != nil {
		return err
	}
	defer tap.Close()
	if err := s.boot(ctx, m, g, diskGB(t), tap); err != nil {
		return err
	}
	g.Booted, g.Forced = s.clock.Now().UTC(), false
	return s.keepGuest(ctx, t.Name, g)
}

// boot starts a guest's process: from a saved state where there is one for it.
func (s *Site) boot(ctx context.Context, m qemu.Machine, g *guest, gb int, tap *os.File) error {
	if !g.Tiny {
		return m.Start(ctx, tap, nil)
	}
	err := s.startWarm(ctx, m, gb, tap)
	if err == nil {
		return nil
	}
	if ctx.Err() != nil {
		return err
	}
	return m.Start(ctx, tap, nil)
}

// stopGuest stops a guest, and keeps what it told. The caller holds its lock.
func (s *Site) stopGuest(ctx context.Context, name string, grace time.Duration) (forced bool, err error) {
	g, err := s.guestOf(ctx, name)
	if err != nil || g == nil {
		return false, err
	}
	run := s.runDir(name)
	if s.guestRuns(name) {
		if told := readReports(run); len(told.Setup) > 0 {
			g.Results = results(told)
		}
		mark := run + ".stopping"
		_ = os.WriteFile(mark, nil, 0o600)
		forced, err = qemu.Stop(ctx, run, grace)
		s.forgetMarks(name)
		if err != nil {
			return forced, err
		}
	}
	g.Forced = forced
	return forced, errors.Join(qemu.UnmountRun(run), s.keepGuest(ctx, name, g))
}

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
	for _, a := range addrsOf([]change.Resource{t})[t.Name] {
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

// newInstance lets a guest's setup run again when it is started next.
func (s *Site) newInstance(ctx context.Context, name string) error {
	g, err := s.guestOf(ctx, name)
	if err != nil || g == nil {
		return err
	}
	g.Instance, g.Results = "i-"+randomUUID(), nil
	return s.keepGuest(ctx, name, g)
}

// switchGuest keeps that a guest is to be off, or on, and makes its link where it is to be on.
func (s *Site) switchGuest(ctx context.Context, t change.Resource, off bool) error {
	return s.change(ctx, func(tx *sql.Tx, m *meta) error {
		if err := s.switchTo(ctx, tx, t.Name, off); err != nil {
			return err
		}
		if off {
			return s.respread(ctx, tx, m)
		}
		if err := s.build(); err != nil {
			return err
		}
		list, err := readResources(ctx, tx)
		if err != nil {
			return err
		}
		made, err := s.joinGuest(t.Name, outward(t, list))
		if err != nil {
			return err
		}
		if made {
			return s.rewrite(ctx, tx, m)
		}
		return nil
	})
}

// guestAndAll reads what is kept of a guest, and all resources.
func (s *Site) guestAndAll(ctx context.Context, name string) (g *guest, list []change.Resource, err error) {
	err = s.read(ctx, func(tx *sql.Tx) error {
		var err1, err2 error
		g, err1 = readGuest(ctx, tx, name)
		list, err2 = readResources(ctx, tx)
		return errors.Join(err1, err2)
	})
	return g, list, err
}
