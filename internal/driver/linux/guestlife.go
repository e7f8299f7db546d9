package linux

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"ironbark/internal/change"
	"ironbark/internal/fault"
	"ironbark/internal/qemu"
)

// describe is all that a guest's process hangs on.
func (s *Site) describe(ctx context.Context, t change.Resource, g *guest, list []change.Resource) (m qemu.Machine, err error) {
	size, ok := s.offer.Size(t.Spec.Size)
	if !ok {
		return m, fmt.Errorf("the site has no size %s", t.Spec.Size)
	}
	accel, _ := qemu.AccelOf(ctx, filepath.Join(runRoot, "kvm"))
	m = qemu.Machine{
		Name: t.Name, UUID: g.UUID, UID: g.UID, Images: imagesGroup, Run: s.runDir(t.Name), CPUs: size.CPUs, MemoryMiB: size.MemoryMiB, Accel: accel,
		Seed: filepath.Join(s.machineDir(t.Name), "seed"), System: s.systemPath(t), Base: g.Base, Volumes: s.volumesOf(t.Name, list), MAC: guestMAC,
	}
	if g.Tiny {
		m = tinyBoot(m)
	}
	return m, nil
}

// startGuest starts a guest that does not run. The caller holds its lock.
func (s *Site) startGuest(ctx context.Context, t change.Resource) error {
	if s.guestRuns(t.Name) {
		return nil
	}
	k, err := s.keptOf(ctx, t.Name)
	g := k.guest
	if err == nil && g == nil {
		err = fault.New(fault.Failure, "machine "+t.Name+" has no disk", fault.Run("enact").Say(" makes it anew"))
	}
	if err != nil {
		return err
	}
	m, err := s.describe(ctx, t, g, k.resources)
	if err != nil {
		return err
	}
	s.forgetMarks(t.Name)
	if g.Tiny {
		if err := ReadyTiny(); err != nil {
			return err
		}
	}
	if err := s.writeSeed(t, g, k.hash, k.resources); err != nil {
		return err
	}
	if err := s.raise(t.Name, insideOf(t)); err != nil {
		return err
	}
	tap, err := s.tap(t.Name)
	if err != nil {
		return err
	}
	defer tap.Close()
	if err := s.boot(ctx, m, g, diskGB(t, k.resources), tap); err != nil {
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
	return forced, errors.Join(s.lower(name), qemu.UnmountRun(run), s.keepGuest(ctx, name, g))
}

// keptGuest is what the state has of a guest, and of all that is around it.
type keptGuest struct {
	guest     *guest // nil: there is none
	off       string // since when it is switched off; "" where it is not
	hash      string // of its password
	resources []change.Resource
}

func (s *Site) keptOf(ctx context.Context, name string) (k keptGuest, err error) {
	err = s.read(ctx, func(tx *sql.Tx) error {
		var err1, err2, err3 error
		k.guest, err1 = readGuest(ctx, tx, name)
		k.off, k.hash, err2 = switched(ctx, tx, name)
		k.resources, err3 = readResources(ctx, tx)
		return errors.Join(err1, err2, err3)
	})
	return k, err
}
