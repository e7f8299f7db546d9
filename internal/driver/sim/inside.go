package sim

import (
	"cmp"
	"context"
	"database/sql"
	"fmt"

	"ironbark/internal/change"
)

// initialise gives a resource that is put its inside: a machine starts, a snapshot
// keeps what is in its machine or volume, and a volume begins as what is in a snapshot.
func (s *Site) initialise(ctx context.Context, tx *sql.Tx, c change.Change, runs setups) error {
	t := c.Resource
	switch {
	case t.Kind == change.Snapshot && c.Verb == change.Make:
		if there, err := inside(ctx, tx, snapshotOf(t.Name)); err != nil || there != nil {
			return err
		}
		g, err := copyOf(ctx, tx, t)
		if err != nil || g == nil {
			return err
		}
		return keepInside(ctx, tx, snapshotOf(t.Name), g)
	case t.Kind == change.Volume && c.Verb == change.Make:
		return copyInside(ctx, tx, volumeOf(t.Name), snapshotOf(cmp.Or(t.Spec.From, t.Spec.Image)))
	case t.Kind != change.Machine:
		return nil
	}
	count, there := 0, 0
	row := tx.QueryRowContext(ctx, `SELECT count(*), coalesce(sum(name = ?), 0) FROM machines WHERE name NOT LIKE '%/%'`, t.Name)
	if err := row.Scan(&count, &there); err != nil {
		return err
	}
	if there > 0 {
		if !c.Restart {
			return nil
		}
		in, err := s.loadMachine(ctx, tx, t.Name)
		if err != nil {
			return err
		}
		in.resource = t
		if in.power.Stop.IsZero() { // a machine that is off stays off
			in.power.Fresh = false
			if err := s.boot(in, s.clock.Now(), false, runs); err != nil {
				return err
			}
		}
		return in.save(ctx, tx)
	}
	if err := s.faults.room(count, t.Spec.Size); err != nil {
		return err
	}
	in := &machineState{resource: t, power: powerState{Fresh: true}}
	from := snapshotOf(t.Spec.Image)
	if t.Spec.Boot != "" {
		from = volumeOf(t.Spec.Boot)
	}
	var err error
	if in.guest, err = inside(ctx, tx, from); err != nil { // what was in the machine that it starts from, if it was one
		return err
	}
	if in.guest == nil || in.guest.Disks[dataDisk] != nil { // nothing ever started from it
		in.guest = s.fresh(t)
	}
	in.guest.Name = t.Name
	if in.guest.Around, err = s.around(ctx, tx, t); err != nil {
		return err
	}
	in.guest.Reach = s.reach(in)
	in.guest.Remove(authorizedKeys) // of whatever it starts from
	for _, name := range t.Spec.Keys() {
		var public string
		if err := tx.QueryRowContext(ctx, `SELECT json_extract(spec, '$.public') FROM resources WHERE kind = 'key' AND name = ?`, name).Scan(&public); err != nil {
			return fmt.Errorf("the site has no key %s: %w", name, err)
		}
		in.power.Key += public + "\n"
	}
	if err := s.boot(in, s.clock.Now(), false, runs); err != nil {
		return err
	}
	return in.save(ctx, tx)
}

// The names under which the insides of snapshots and volumes are kept, among those of machines.
func snapshotOf(name string) string { return "snapshot/" + name }
func volumeOf(name string) string   { return "volume/" + name }

// copyInside keeps an inside under another name as well. One that is there already stays, and of what has none none is kept.
func copyInside(ctx context.Context, tx *sql.Tx, to, from string) error {
	_, err := tx.ExecContext(ctx, `INSERT OR IGNORE INTO machines SELECT ?, life, guest, '' FROM machines WHERE name = ?`, to, from)
	return err
}

// forget takes the inside of a removed resource away. What volumes hold stays: also a system that a machine booted from one.
func (s *Site) forget(ctx context.Context, tx *sql.Tx, t change.Resource) error {
	name := t.Name
	switch t.Kind {
	case change.Snapshot:
		name = snapshotOf(t.Name)
	case change.Volume:
		name = volumeOf(t.Name)
	case change.Machine:
		if err := s.leaveDisks(ctx, tx, t.Name); err != nil {
			return err
		}
		if t.Spec.Boot != "" {
			_, err := tx.ExecContext(ctx, `UPDATE OR REPLACE machines SET name = ?, log = '' WHERE name = ?`, volumeOf(t.Spec.Boot), t.Name)
			return err
		}
	default:
		return nil
	}
	_, err := tx.ExecContext(ctx, `DELETE FROM machines WHERE name = ?`, name)
	return err
}
