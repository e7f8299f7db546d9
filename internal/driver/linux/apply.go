package linux

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"time"

	"ironbark/internal/change"
	"ironbark/internal/qemu"
)

// Apply makes, alters or removes a resource. What takes long (content that is received, disks, the start and stop of
// guests) happens outside of the state's lock, so that nobody who closes something waits for it:
//
//	release what goes ──▶ record, links ──▶ provide disks, start
//
// Each step may be done twice; a guest without its system disk is not there yet, or no longer.
func (s *Site) Apply(ctx context.Context, c change.Change, content io.Reader) (t change.Resource, err error) {
	if os.Getuid() != 0 {
		return c.Resource, errRoot
	}
	if content != nil {
		if c.Resource.Spec.Digest, err = s.receive(c.Resource.Name, content); err != nil {
			return c.Resource, err
		}
	}
	var before []change.Resource
	err = s.read(ctx, func(tx *sql.Tx) error {
		before, err = readResources(ctx, tx)
		return err
	})
	if err != nil {
		return c.Resource, err
	}
	if c.Verb == change.Remove {
		return c.Resource, s.destroy(ctx, c.Resource, before)
	}
	switch c.Resource.Kind {
	case change.Snapshot:
		if c.Resource.Spec.How, err = s.takeSnapshot(ctx, c.Resource, before); err != nil {
			return c.Resource, err
		}
	case change.Volume:
		if err := s.unplugMoved(ctx, c.Resource, before); err != nil {
			return c.Resource, err
		}
	}
	if t, err = s.record(ctx, c.Resource); err != nil {
		return t, err
	}
	switch {
	case isGuest(t):
		err = s.provideGuest(ctx, c)
	case t.Kind == change.Volume:
		err = errors.Join(s.folders(), s.provideVolume(ctx, t, before))
	case t.Kind == change.Line:
		err = s.provideLine(ctx, t)
	}
	return t, err
}

// record writes down a resource, and makes what of it is in the kernel: links, addresses, and light
// machines.
func (s *Site) record(ctx context.Context, t change.Resource) (change.Resource, error) {
	err := s.change(ctx, func(tx *sql.Tx, m *meta) (err error) {
		if err := s.build(); err != nil {
			return err
		}
		list, err := readResources(ctx, tx)
		if err != nil {
			return err
		}
		if t.Given, err = s.allocateAddrs(t, list); err != nil {
			return err
		}
		others := slices.DeleteFunc(slices.Clone(list), func(o change.Resource) bool { return o.ID() == t.ID() })
		if err := s.claimPublic(append(others, t)); err != nil { // before it is answered for
			return err
		}
		if t.Kind == change.Uplink {
			if err := s.setUplink(t.Spec); err != nil {
				return err
			}
		}
		old, had := change.Find(list, t.Kind, t.Name)
		if !had || !old.Spec.Equal(t.Spec) || old.Given != t.Given {
			m.Mark++
			_, err := tx.ExecContext(ctx, `INSERT OR REPLACE INTO resources VALUES (?, ?, ?)`, t.Kind, t.Name, t.Encode())
			if err != nil {
				return err
			}
		}
		if had && t.Kind == change.Machine {
			if err := s.leave(old, t); err != nil {
				return err
			}
		}
		if err := errors.Join(s.forget(m, changedAddrs(old, t)...), s.rest(ctx, tx, gone(old, t))); err != nil {
			return err
		}
		if had && old.Spec.Limits != t.Spec.Limits { // the tables have them
			defer func() {
				if err == nil {
					err = s.rewrite(ctx, tx, m)
				}
			}()
		}
		switch {
		case t.Kind == change.Line:
			return s.recordLine(m, t)
		case t.Kind == change.Bastion:
			return s.joinMachine(t.Name, insideOf(t), false)
		case isGuest(t):
			return s.recordGuest(ctx, tx, m, t, list)
		case t.Kind != change.Machine:
			return nil
		}
		if !t.Spec.Password {
			if err := eraseHash(ctx, tx, t.Name); err != nil {
				return err
			}
		}
		if err := s.joinMachine(t.Name, insideOf(t), outward(t, list)); err != nil {
			return err
		}
		if off, _, err := switched(ctx, tx, t.Name); err != nil || off != "" { // a machine that is off stays off
			return err
		}
		return s.startListening(t)
	})
	return t, err
}

// destroy removes a resource: what runs first, then its record and its links, then its files.
func (s *Site) destroy(ctx context.Context, t change.Resource, before []change.Resource) error {
	if old, ok := change.Find(before, t.Kind, t.Name); ok {
		t = old
	}
	switch {
	case isGuest(t):
		release, err := s.lockGuest(ctx, t.Name, "removing it")
		if err != nil {
			return err
		}
		defer release()
		if err := errors.Join(qemu.Kill(s.runDir(t.Name)), qemu.UnmountRun(s.runDir(t.Name))); err != nil {
			return err
		}
		s.forgetMarks(t.Name)
	case t.Kind == change.Line:
		if err := s.takeLine(ctx, t); err != nil {
			return err
		}
	case t.Kind == change.Volume:
		if m, there := change.Find(before, change.Machine, t.Spec.Machine); there && t.Boots() {
			return fmt.Errorf("machine %s boots from it", m.Name)
		}
		if err := s.unplug(ctx, t); err != nil {
			return err
		}
	}
	err := s.change(ctx, func(tx *sql.Tx, m *meta) error {
		if err := s.build(); err != nil {
			return err
		}
		switch {
		case t.Kind == change.Uplink:
			if err := s.removeUplink(); err != nil {
				return err
			}
		case isGuest(t):
			if err := s.partGuest(t.Name, insideOf(t)); err != nil {
				return err
			}
		case t.Kind == change.Machine, t.Kind == change.Bastion:
			if t.Kind == change.Machine {
				s.stopListening(t.Name)
			}
			if err := s.partMachine(t.Name); err != nil {
				return err
			}
		}
		if err := errors.Join(s.forget(m, allAddrs(t)...), s.rest(ctx, tx, gone(t, change.Resource{}))); err != nil {
			return err
		}
		m.Mark++
		_, err1 := tx.ExecContext(ctx, `DELETE FROM resources WHERE kind = ? AND name = ?`, t.Kind, t.Name)
		_, err2 := tx.ExecContext(ctx, `DELETE FROM machines WHERE name = ? AND ?`, t.Name, t.Kind == change.Machine)
		_, err3 := tx.ExecContext(ctx, `DELETE FROM guests WHERE name = ?`, map[change.Kind]string{change.Machine: t.Name, change.Snapshot: snapshotOf(t.Name), change.Volume: volumeOf(t.Name)}[t.Kind])
		return errors.Join(err1, err2, err3)
	})
	if err != nil {
		return err
	}
	switch t.Kind {
	case change.Machine:
		return errors.Join(s.giveBack(t.Spec.Boot), os.RemoveAll(s.machineDir(t.Name)))
	case change.Volume:
		return os.RemoveAll(s.volumePath(t.Name))
	case change.Image:
		return errors.Join(os.RemoveAll(s.imagePath(t.Name)), os.RemoveAll(s.imagePath(t.Name)+".part"))
	case change.Snapshot:
		return os.RemoveAll(s.snapshotPath(t.Name))
	}
	return nil
}

// allAddrs are the addresses of a resource, inside and public.
func allAddrs(t change.Resource) []netip.Addr {
	return slices.DeleteFunc(append(insideOf(t), t.Given.Addr4, t.Given.Addr6), func(a netip.Addr) bool { return !a.IsValid() })
}

// gone are the inside addresses that one state of a resource has, and the next one has not.
func gone(old, t change.Resource) []netip.Addr {
	has := insideOf(t)
	return slices.DeleteFunc(insideOf(old), func(a netip.Addr) bool { return slices.Contains(has, a) })
}

// changedAddrs are the addresses that one of two states of a resource has, and the other has not.
func changedAddrs(old, t change.Resource) (list []netip.Addr) {
	had, has := allAddrs(old), allAddrs(t)
	for _, a := range slices.Concat(had, has) {
		if slices.Contains(had, a) != slices.Contains(has, a) {
			list = append(list, a)
		}
	}
	return list
}

// recordGuest writes down what a guest is beside its resource, and makes its link.
func (s *Site) recordGuest(ctx context.Context, tx *sql.Tx, m *meta, t change.Resource, list []change.Resource) error {
	g, err := readGuest(ctx, tx, t.Name)
	if err != nil {
		return err
	}
	if g == nil {
		if g, err = s.newGuest(ctx, tx, t, list); err != nil {
			return err
		}
		if err := putGuest(ctx, tx, t.Name, g); err != nil {
			return err
		}
	}
	made, err := s.joinGuest(t.Name, outward(t, list))
	if _, there := change.Find(list, t.Kind, t.Name); err != nil || !made || !there { // of a new machine the tables know nothing yet
		return err
	}
	return s.rewrite(ctx, tx, m) // they know links by their numbers
}

// provideGuest makes a guest's disk and starts it, or alters it.
func (s *Site) provideGuest(ctx context.Context, c change.Change) error {
	t := c.Resource
	release, err := s.lockGuest(ctx, t.Name, "making or altering it")
	if err != nil {
		return err
	}
	defer release()
	k, err := s.keptOf(ctx, t.Name)
	if err != nil {
		return err
	}
	g := k.guest
	if err := os.MkdirAll(s.machineDir(t.Name), 0o711); err != nil {
		return err
	}
	if g.Tiny {
		if err := ReadyTiny(); err != nil {
			return err
		}
	}
	running := s.guestRuns(t.Name)
	if !t.Spec.Password && k.hash != "" {
		if err := s.forgetPassword(ctx, t, g, running); err != nil {
			return err
		}
		k.hash = ""
	}
	if err := s.provideSystem(ctx, t, k, running); err != nil {
		return err
	}
	switch {
	case running && c.Restart:
		if _, err := s.stopGuest(ctx, t.Name, restartGrace); err != nil {
			return err
		}
	case running: // what it is told next time it boots
		return errors.Join(s.raise(t.Name, insideOf(t)), s.writeSeed(t, g, k.hash, k.resources))
	case k.off != "": // a machine that is off stays off
		return nil
	}
	return s.startGuest(ctx, t)
}

// provideSystem makes a guest's system disk as large as it is to be, or gives it the volume that it boots from, which
// was made before.
func (s *Site) provideSystem(ctx context.Context, t change.Resource, k keptGuest, running bool) error {
	path, gb, uid := s.systemPath(t), diskGB(t, k.resources), k.guest.UID
	var err error
	if t.Spec.Boot == "" {
		err = qemu.MakeDisk(ctx, path, uid, gb, k.guest.Base)
	} else if !running {
		err = os.Chown(path, uid, uid)
	}
	if err != nil {
		return err
	}
	var grow func() error
	if running {
		grow = func() error { return qemu.Resize(ctx, s.runDir(t.Name), nil, gb) }
	}
	return growDisk(ctx, path, uid, gb, grow)
}

// restartGrace is how long a guest may take to stop cleanly when an alteration starts it anew.
const restartGrace = 30 * time.Second

// removeGuests ends all guests of the site, and takes away all files that it has outside of the
// estate's folder.
func (s *Site) removeGuests() error {
	return errors.Join(s.removeProcesses(), os.RemoveAll(filepath.Join(runRoot, s.prefix)), os.RemoveAll(s.store()))
}

func (s *Site) removeProcesses() error {
	list, err := filepath.Glob(filepath.Join(runRoot, s.prefix, "*.pid"))
	errs := []error{err}
	for _, pid := range list {
		run := pid[:len(pid)-len(".pid")]
		errs = append(errs, qemu.Kill(run), qemu.UnmountRun(run))
	}
	return errors.Join(errs...)
}
