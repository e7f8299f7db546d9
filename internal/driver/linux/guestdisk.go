package linux

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"ironbark/internal/change"
	"ironbark/internal/imagefile"
	"ironbark/internal/qemu"
)

// receive keeps the content of an image, and returns its digest (SHA-256, in hexadecimal). What is left of
// an upload that was broken off is compared with what comes, and gone on from as far as it is the same.
func (s *Site) receive(name string, content io.Reader) (digest string, err error) {
	if err := s.folders(); err != nil {
		return "", err
	}
	path := s.imagePath(name)
	part := path + ".part"
	f, err := os.OpenFile(part, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return "", err
	}
	defer f.Close()
	h := sha256.New()
	in := bufio.NewReaderSize(io.TeeReader(content, h), 1<<20)
	same, err := common(f, in)
	if err != nil {
		return "", err
	}
	if _, err := f.Seek(same, io.SeekStart); err != nil {
		return "", err
	}
	n, err := io.Copy(f, in)
	if err := errors.Join(err, f.Truncate(same+n)); err != nil {
		return "", err
	}
	if err := errors.Join(f.Sync(), f.Chown(0, imagesGroup), f.Chmod(0o440)); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), os.Rename(part, path)
}

// common reads as much of what comes as a file begins with, and returns how much that is.
func common(f io.Reader, in *bufio.Reader) (n int64, err error) {
	had := make([]byte, 1<<20)
	for {
		k, err := io.ReadFull(f, had)
		if k == 0 || err != nil && !errors.Is(err, io.ErrUnexpectedEOF) && !errors.Is(err, io.EOF) {
			if errors.Is(err, io.EOF) {
				err = nil
			}
			return n, err
		}
		comes, err := in.Peek(k)
		if err != nil && !errors.Is(err, io.EOF) {
			return n, err
		}
		if !bytes.Equal(comes, had[:k]) {
			return n, nil
		}
		if _, err := in.Discard(k); err != nil {
			return n, err
		}
		n += int64(k)
	}
}

// volumesOf are the volumes that belong to a machine, in their places.
func (s *Site) volumesOf(machine string, list []change.Resource) (volumes []qemu.Volume) {
	for _, t := range list {
		if t.Kind == change.Volume && t.Spec.Machine == machine && machine != "" {
			if slot, ok := slotOf(t.Spec.Device); ok {
				volumes = append(volumes, qemu.Volume{Name: t.Name, File: s.volumePath(t.Name), Slot: slot})
			}
		}
	}
	return volumes
}

// slotOf is the place of a device's name: vdb has the first.
func slotOf(device string) (int, bool) {
	if len(device) != 3 || device[:2] != "vd" || device[2] < 'b' || int(device[2]-'b') >= qemu.MostVolumes {
		return 0, false
	}
	return int(device[2] - 'b'), true
}

// provideVolume makes a volume's disk, as large as it is to be, and plugs it into its machine.
func (s *Site) provideVolume(ctx context.Context, t change.Resource, list []change.Resource) error {
	path := s.volumePath(t.Name)
	base, err := s.volumeLayer(ctx, t, list)
	if err != nil {
		return err
	}
	if err := qemu.MakeDisk(ctx, path, nobody, t.Spec.GB, base); err != nil {
		return err
	}
	machine, ok := change.Find(list, change.Machine, t.Spec.Machine)
	if !ok || !isGuest(machine) {
		return growDisk(ctx, path, nobody, t.Spec.GB, nil)
	}
	if t.Boots() {
		release, err := s.lockGuest(ctx, machine.Name, "attaching a volume")
		if err != nil {
			return err
		}
		defer release()
		k, err := s.keptOf(ctx, machine.Name)
		if err != nil || k.guest == nil { // the machine is not there yet, and takes it
			return err
		}
		return s.provideSystem(ctx, machine, k, s.guestRuns(machine.Name))
	}
	slot, ok := slotOf(t.Spec.Device)
	if !ok {
		return fmt.Errorf("volume %s: a machine here has places from vdb to vd%c, and not %s", t.Name, 'b'+qemu.MostVolumes-1, t.Spec.Device)
	}
	g, err := s.guestOf(ctx, machine.Name)
	if err != nil || g == nil {
		return errors.Join(err, fmt.Errorf("machine %s has no disk", machine.Name))
	}
	if err := os.Chown(path, g.UID, g.UID); err != nil {
		return err
	}
	release, err := s.lockGuest(ctx, machine.Name, "altering a volume")
	if err != nil {
		return err
	}
	defer release()
	if !s.guestRuns(machine.Name) {
		return growDisk(ctx, path, g.UID, t.Spec.GB, nil)
	}
	v := qemu.Volume{Name: t.Name, File: path, Slot: slot}
	if err := qemu.Attach(ctx, s.runDir(machine.Name), v); err != nil {
		return err
	}
	return growDisk(ctx, path, g.UID, t.Spec.GB, func() error { return qemu.Resize(ctx, s.runDir(machine.Name), &v, t.Spec.GB) })
}

// volumeLayer is what a volume lies on. What system that is is kept, for the machine that boots from it.
func (s *Site) volumeLayer(ctx context.Context, t change.Resource, list []change.Resource) (base qemu.Layer, err error) {
	from := cmp.Or(t.Spec.From, t.Spec.Image)
	if from == "" {
		return base, nil
	}
	if of, ok := change.Find(list, change.Snapshot, t.Spec.From); ok && of.Spec.Image == "" {
		return qemu.Layer{File: s.snapshotPath(t.Spec.From), Format: "qcow2"}, nil
	}
	err = s.change(ctx, func(tx *sql.Tx, _ *meta) error {
		if old, err := readGuest(ctx, tx, volumeOf(t.Name)); err != nil || old != nil {
			if old != nil {
				base = old.Base
			}
			return err
		}
		g := &guest{UID: nobody}
		if g.Tiny, g.Base, err = s.layerOf(ctx, tx, from, list); err != nil {
			return err
		}
		base = g.Base
		return putGuest(ctx, tx, volumeOf(t.Name), g)
	})
	return base, err
}

// giveBack takes a volume away from the user of the machine that had it.
func (s *Site) giveBack(volume string) error {
	if volume == "" {
		return nil
	}
	if err := os.Chown(s.volumePath(volume), nobody, nobody); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	return nil
}

// growDisk makes a disk as large as it is to be, if it is smaller: by whoever has it in use, or its file where grow is nil.
// Whether it is smaller is looked up in the file: what is recorded may not have been done.
func growDisk(ctx context.Context, path string, uid, gb int, grow func() error) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	has, err := imagefile.DiskOf(f)
	if err != nil {
		return fmt.Errorf("the disk %s: %w", path, err)
	}
	switch {
	case has >= int64(gb)*qemu.GB:
		return nil
	case grow != nil:
		return grow()
	}
	return qemu.GrowDisk(ctx, path, qemu.User{UID: uid, Images: imagesGroup}, gb)
}

// unplugMoved takes a volume out of the machine that has it, where it is to be at another one or in another place.
func (s *Site) unplugMoved(ctx context.Context, t change.Resource, before []change.Resource) error {
	old, ok := change.Find(before, change.Volume, t.Name)
	if !ok || old.Spec.Machine == t.Spec.Machine && old.Spec.Device == t.Spec.Device {
		return nil
	}
	return s.unplug(ctx, old)
}

// unplug takes a volume out of its machine, and away from its user.
func (s *Site) unplug(ctx context.Context, t change.Resource) error {
	machine := t.Spec.Machine
	slot, ok := slotOf(t.Spec.Device)
	if machine == "" || !ok {
		return nil
	}
	release, err := s.lockGuest(ctx, machine, "detaching a volume")
	if err != nil {
		return err
	}
	defer release()
	if s.guestRuns(machine) {
		if err := qemu.Detach(ctx, s.runDir(machine), qemu.Volume{Name: t.Name, Slot: slot}); err != nil {
			return err
		}
	}
	return s.giveBack(t.Name)
}

// takeSnapshot keeps what a machine's system disk, or a volume, holds at one moment, and tells how it was made
// consistent where it was in use.
func (s *Site) takeSnapshot(ctx context.Context, t change.Resource, list []change.Resource) (how string, err error) {
	to := s.snapshotPath(t.Name)
	if _, err := os.Lstat(to); err == nil {
		g, err := s.guestOf(ctx, snapshotOf(t.Name))
		if err != nil || g == nil {
			return "", err
		}
		return g.How, nil
	}
	if err := s.folders(); err != nil {
		return "", err
	}
	of, machine, from, gb := &guest{UID: nobody}, t.Spec.Machine, "", 0
	var volume *qemu.Volume // nil: the system disk
	if t.Spec.Volume != "" {
		v, ok := change.Find(list, change.Volume, t.Spec.Volume)
		if !ok {
			return "", fmt.Errorf("the site has no volume %s", t.Spec.Volume)
		}
		machine, from, gb = v.Spec.Machine, s.volumePath(v.Name), v.Spec.GB
		if slot, ok := slotOf(v.Spec.Device); ok {
			volume = &qemu.Volume{Name: v.Name, Slot: slot}
		}
		if g, err := s.guestOf(ctx, volumeOf(v.Name)); err != nil {
			return "", err
		} else if g != nil {
			of = g
		}
	} else {
		m, ok := change.Find(list, change.Machine, machine)
		if !ok || !isGuest(m) {
			return "", nil // a light machine holds nothing
		}
		from, gb = s.systemPath(m), diskGB(m, list)
	}
	if machine != "" {
		release, err := s.lockGuest(ctx, machine, "taking a snapshot")
		if err != nil {
			return "", err
		}
		defer release()
		g, err := s.guestOf(ctx, machine)
		if err != nil {
			return "", err
		}
		if g != nil {
			of.UID = g.UID
			of.Tiny = of.Tiny || t.Spec.Machine != "" && g.Tiny
		}
	}
	// The copy is written by the machine's own process or user: into a file that is theirs, in a folder that is not, so that
	// nothing can be put in its place.
	dir := filepath.Join(s.store(), "copy-"+t.Name)
	if err := errors.Join(os.RemoveAll(dir), os.Mkdir(dir, 0o711)); err != nil {
		return "", err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(dir)) }()
	copied := filepath.Join(dir, "disk")
	if err := qemu.MakeDisk(ctx, copied, of.UID, gb, qemu.Layer{}); err != nil {
		return "", err
	}
	if machine != "" && s.guestRuns(machine) {
		how, err = qemu.CopyLive(ctx, s.runDir(machine), volume, copied)
	} else {
		err = qemu.CopyDisk(ctx, qemu.User{UID: of.UID, Images: imagesGroup}, from, copied)
	}
	if err != nil {
		return "", err
	}
	if err := errors.Join(os.Chown(copied, 0, imagesGroup), os.Chmod(copied, 0o440)); err != nil {
		return "", err
	}
	return how, s.change(ctx, func(tx *sql.Tx, _ *meta) error {
		return errors.Join(putGuest(ctx, tx, snapshotOf(t.Name), &guest{Tiny: of.Tiny, How: how}), os.Rename(copied, to))
	})
}

// diskGB is how large a machine's system disk is, in GB: its own, or the volume that it boots from.
func diskGB(t change.Resource, list []change.Resource) int {
	if v, ok := change.Find(list, change.Volume, t.Spec.Boot); ok {
		return v.Spec.GB
	}
	return max(t.Spec.GB, 1)
}
