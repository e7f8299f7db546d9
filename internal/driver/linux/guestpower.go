package linux

import (
	"context"
	"database/sql"
	"fmt"

	"ironbark/internal/change"
	"ironbark/internal/driver"
	"ironbark/internal/qemu"
)

// powerGuest starts, stops or restarts a guest.
func (s *Site) powerGuest(ctx context.Context, t change.Resource, was driver.Machine, act driver.Power) (m driver.Machine, happened string, err error) {
	release, err := s.lockGuest(ctx, t.Name, "starting or stopping it")
	if err != nil {
		return m, "", err
	}
	defer release()
	running := s.guestRuns(t.Name)
	if act.Do == driver.Start && running && was.State == driver.Paused {
		if err := qemu.GoOn(ctx, s.runDir(t.Name)); err != nil {
			return m, "", err
		}
		_, m, err = s.look(ctx, t.Name)
		return m, ", it goes on where it was paused", err
	}
	if act.Do == driver.Stop && !running && !was.Interrupted || act.Do == driver.Start && running {
		return was, ", which it was already", nil
	}
	forced := false
	if act.Do != driver.Start {
		if forced, err = s.stopGuest(ctx, t.Name, act.Grace); err != nil {
			return m, "", err
		}
	}
	if act.Do == driver.Restart && act.Setup {
		if err := s.newInstance(ctx, t.Name); err != nil {
			return m, "", err
		}
		happened = ", its setup runs again"
	}
	if err := s.switchGuest(ctx, t, act); err != nil {
		return m, "", err
	}
	if act.Do != driver.Stop {
		if err := s.startGuest(ctx, t); err != nil {
			return m, "", err
		}
		if err := s.change(ctx, func(tx *sql.Tx, kept *meta) error { return s.respread(ctx, tx, kept) }); err != nil {
			return m, "", err
		}
	}
	if forced {
		happened += fmt.Sprintf("; it did not stop within %s and was switched off", act.Grace)
		if g, err := s.guestOf(ctx, t.Name); err == nil && g != nil {
			g.Forced = true
			if err := s.keepGuest(ctx, t.Name, g); err != nil {
				return m, "", err
			}
		}
	}
	_, m, err = s.look(ctx, t.Name)
	m.Forced = forced
	return m, happened, err
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

// switchGuest keeps that a guest is to be off, or on, and makes its link where it is to be on. The connections of one that was stopped
// are ended.
func (s *Site) switchGuest(ctx context.Context, t change.Resource, act driver.Power) error {
	off := act.Do == driver.Stop
	return s.change(ctx, func(tx *sql.Tx, m *meta) error {
		if act.Do != driver.Start {
			if err := s.forget(m, insideOf(t)...); err != nil {
				return err
			}
		}
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
