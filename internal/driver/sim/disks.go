package sim

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"

	"ironbark/internal/change"
	"ironbark/internal/driver/sim/guest"
	"ironbark/internal/estate"
	"ironbark/internal/store"
)

// What a volume holds is kept under its name while it is attached to no machine, and in the machine while it is: a
// guest with one disk, or a whole guest where the volume holds a system.
//
//	volume/NAME ──attach──▶ machine's disk ──detach, machine removed──▶ volume/NAME

// dataDisk is the device at which the disk of a volume with no system is kept.
const dataDisk = "data"

// inside reads what is kept under a name; nil: nothing is.
func inside(ctx context.Context, tx *sql.Tx, name string) (*guest.Guest, error) {
	var body string
	err := tx.QueryRowContext(ctx, `SELECT guest FROM machines WHERE name = ?`, name).Scan(&body)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	g := &guest.Guest{}
	if err == nil {
		err = json.Unmarshal([]byte(body), g)
	}
	return g, err
}

// keepInside keeps something under a name.
func keepInside(ctx context.Context, tx *sql.Tx, name string, g *guest.Guest) error {
	body, err := json.Marshal(g)
	if err == nil {
		_, err = tx.ExecContext(ctx, `INSERT INTO machines VALUES (?, '{}', ?, '') ON CONFLICT DO UPDATE SET guest = excluded.guest`, name, string(body))
	}
	return err
}

// diskIn is what a volume holds that is kept as a guest.
func diskIn(g *guest.Guest) *guest.Disk {
	switch {
	case g == nil:
		return &guest.Disk{}
	case g.Disks[dataDisk] != nil:
		return g.Disk(dataDisk)
	}
	return &guest.Disk{FS: true, Files: g.Files, Dirs: g.Dirs} // a system's
}

// keepDisk keeps what a volume holds.
func keepDisk(ctx context.Context, tx *sql.Tx, name string, d *guest.Disk) error {
	g, err := inside(ctx, tx, name)
	if err != nil {
		return err
	}
	switch {
	case g != nil && g.Disks[dataDisk] == nil:
		g.Files, g.Dirs = d.Files, d.Dirs
	default:
		g = &guest.Guest{Disks: map[string]*guest.Disk{dataDisk: d}}
	}
	return keepInside(ctx, tx, name, g)
}

// attach puts what a volume holds into its machine, and takes it out of the one that had it.
func (s *Site) attach(ctx context.Context, tx *sql.Tx, old, now change.Resource) error {
	if old.Spec.Machine == now.Spec.Machine && old.Spec.Device == now.Spec.Device {
		return nil
	}
	if err := s.detach(ctx, tx, old); err != nil || now.Spec.Machine == "" || now.Boots() {
		return err
	}
	g, err := inside(ctx, tx, volumeOf(now.Name))
	if err != nil {
		return err
	}
	return s.withDisks(ctx, tx, now.Spec.Machine, func(in *guest.Guest) error {
		in.SetDisk(now.Spec.Device, diskIn(g))
		return nil
	})
}

// detach keeps what a volume holds that is attached to a machine, and takes it out of that.
func (s *Site) detach(ctx context.Context, tx *sql.Tx, t change.Resource) error {
	if t.Spec.Machine == "" || t.Boots() {
		return nil
	}
	return s.withDisks(ctx, tx, t.Spec.Machine, func(in *guest.Guest) error {
		d := in.Disk(t.Spec.Device)
		in.SetDisk(t.Spec.Device, nil)
		return keepDisk(ctx, tx, volumeOf(t.Name), d)
	})
}

// withDisks alters what is in a machine, if it is there.
func (s *Site) withDisks(ctx context.Context, tx *sql.Tx, machine string, alter func(in *guest.Guest) error) error {
	g, err := inside(ctx, tx, machine)
	if err != nil || g == nil {
		return err
	}
	if err := alter(g); err != nil {
		return err
	}
	return keepInside(ctx, tx, machine, g)
}

// systemOf is what is on a machine's system disk, apart from its volumes.
func systemOf(g *guest.Guest) *guest.Guest {
	for device := range g.Disks {
		g.SetDisk(device, nil)
	}
	return g
}

// leaveDisks keeps what the volumes of a machine hold that is about to go.
func (s *Site) leaveDisks(ctx context.Context, tx *sql.Tx, machine string) error {
	var list []change.Resource
	err := store.Each(ctx, tx, `SELECT `+resourceColumns+` FROM resources WHERE kind = 'volume' AND json_extract(spec, '$.machine') = ? AND json_extract(spec, '$.device') <> '`+estate.SystemDevice+`'`, func(scan func(...any) error) error {
		v, err := readResource(scan)
		list = append(list, v)
		return err
	}, machine)
	for _, v := range list {
		err = errors.Join(err, s.detach(ctx, tx, v))
	}
	return err
}

// copyOf returns what a snapshot of a machine or a volume is to keep; nil: nothing.
func copyOf(ctx context.Context, tx *sql.Tx, t change.Resource) (*guest.Guest, error) {
	if t.Spec.Machine != "" {
		g, err := inside(ctx, tx, t.Spec.Machine)
		if err != nil || g == nil {
			return nil, err
		}
		return systemOf(g), nil
	}
	v, err := findResource(ctx, tx, change.Volume, t.Spec.Volume)
	if err != nil {
		return nil, err
	}
	if v.Spec.Machine == "" {
		return inside(ctx, tx, volumeOf(t.Spec.Volume))
	}
	g, err := inside(ctx, tx, v.Spec.Machine)
	switch {
	case err != nil || g == nil:
		return nil, err
	case v.Boots():
		return systemOf(g), nil
	}
	return &guest.Guest{Disks: map[string]*guest.Disk{dataDisk: g.Disk(v.Spec.Device)}}, nil
}
