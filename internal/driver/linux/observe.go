package linux

import (
	"context"
	"database/sql"
	"errors"
	"slices"
	"strings"
	"time"

	"ironbark/internal/change"
	"ironbark/internal/driver"
	"ironbark/internal/flow"
	"ironbark/internal/journal"
	"ironbark/internal/store"
)

// Observe tells what is there.
func (s *Site) Observe(ctx context.Context, scope driver.Scope) (*driver.Observation, error) {
	o := &driver.Observation{Machines: map[string]driver.Machine{}, Keys: map[string]string{}, Shut: map[int64]time.Time{}}
	var m meta
	var rows []flow.Row
	var passing []driver.Passage
	var ways Ways
	before, err := s.generation() // whoever writes from here on makes the mark another one
	if err != nil {
		return nil, err
	}
	err = s.read(ctx, func(tx *sql.Tx) (err error) {
		if err := store.ReadMeta(ctx, tx, &m); err != nil {
			return err
		}
		if err := s.observe(ctx, tx, scope, o); err != nil {
			return err
		}
		if !scope.Plan {
			return nil
		}
		if rows, err = readPlan(ctx, tx); err != nil {
			return err
		}
		if before != m.Generation { // what somebody else wrote is read back with all that should pass
			if ways, err = readWays(ctx, tx, &m); err != nil {
				return err
			}
			passing, err = readPassing(ctx, tx)
			return err
		}
		if scope.Some {
			passing, err = readPassingOf(ctx, tx, scope.Openings)
		} else {
			passing, err = readPassing(ctx, tx)
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	o.Identity, o.Steady = m.Identity, true
	_, o.Behind = journal.Later(s.clock.Now(), m.Latest)
	if scope.Plan {
		if o.Plan, err = s.planOf(rows, passing, ways, &m, scope); err != nil {
			return nil, err
		}
	}
	if err := s.observeNetwork(o, scope); err != nil {
		return nil, err
	}
	o.Mark = markOf(&m, before)
	return o, nil
}

// observeNetwork adds what else decides about packets: all of it where resources are asked for, and otherwise others' tables.
func (s *Site) observeNetwork(o *driver.Observation, scope driver.Scope) error {
	if !scope.Plan || !exists(s.prefix) {
		return nil
	}
	var faults []deviation
	var err error
	if scope.Resources {
		faults, err = s.inspect(o.Resources, o.Plan, o.Host)
	} else {
		var i inspection
		err = within(s.prefix, func() error { return i.tables(s) })
		addrs, failed := hostAddrs()
		err = errors.Join(err, failed, i.host(s, o.Plan, addrs))
		faults = i.faults
	}
	for _, f := range faults {
		o.Network = append(o.Network, f.Alteration)
	}
	slices.SortFunc(o.Network, func(a, b driver.Alteration) int { return strings.Compare(a.What, b.What) })
	return err
}

// there are those of some resources that are there: a light machine or a bastion whose namespace is gone is gone,
// and so is a guest whose system disk is.
func (s *Site) there(list []change.Resource) []change.Resource {
	return slices.DeleteFunc(list, func(t change.Resource) bool {
		switch {
		case isGuest(t):
			return !s.hasDisk(t)
		case t.Kind == change.Machine || t.Kind == change.Bastion:
			return !exists(s.prefix + "-" + t.Name)
		}
		if pid, _ := s.lineProcess(t.Name); t.Kind == change.Line && len(t.Spec.Peers) > 0 && pid == 0 {
			return true
		}
		return t.Kind == change.Uplink && !s.hasUplink()
	})
}

func (s *Site) observe(ctx context.Context, tx *sql.Tx, scope driver.Scope, o *driver.Observation) error {
	if scope.Resources || len(scope.Machines) > 0 {
		list, err := readResources(ctx, tx)
		if err != nil {
			return err
		}
		list = s.there(list)
		keys := map[string]string{}
		for _, t := range list {
			if t.Kind == change.Key {
				keys[t.Name] = t.Spec.Public
			}
		}
		guests := map[string]*guest{}
		for _, t := range list {
			if t.Kind == change.Machine && (scope.Resources || slices.Contains(scope.Machines, t.Name)) {
				if o.Machines[t.Name], guests[t.Name], err = s.kept(ctx, tx, t); err != nil {
					return err
				}
				o.Keys[t.Name] = keysInside(t, keys)
			}
		}
		s.lookAt(list, guests, o.Machines)
		if scope.Resources {
			o.Resources = list
			if o.Resting, err = s.readResting(ctx, tx); err != nil {
				return err
			}
			if o.Host, err = hostAddrs(); err != nil {
				return err
			}
		}
	}
	var err error
	if o.Shut, err = store.Moments(ctx, tx, `SELECT id, at FROM shut WHERE id IN (SELECT value FROM json_each(?))`, store.Numbers(scope.Openings...)); err != nil {
		return err
	}
	return tx.QueryRowContext(ctx, `SELECT max((SELECT coalesce(max(id), 0) FROM shut), (SELECT coalesce(max(id), 0) FROM passing))`).Scan(&o.Highest)
}

// planOf puts the plan together as it was installed. Where somebody else wrote to the packet
// filter, it is read back with all openings; those that are not asked for are left out then.
func (s *Site) planOf(rows []flow.Row, passing []driver.Passage, ways Ways, m *meta, scope driver.Scope) (*flow.Plan, error) {
	plan, err := flow.FromRows(rows)
	if err != nil {
		return nil, err
	}
	if !exists(s.prefix) { // the host was started anew, or nothing was ever made: nothing is reachable
		return flow.FromRows(nil)
	}
	g, err := s.generation()
	if err != nil {
		return nil, err
	}
	if g != m.Generation {
		if plan, err = s.readBack(plan, passing, ways, m); err != nil {
			return nil, err
		}
	}
	var rules []flow.Rule
	for _, p := range passing {
		if !scope.Some || slices.Contains(scope.Openings, p.ID) {
			rules = append(rules, p.Rules(plan)...)
		}
	}
	return plan.With(rules...), nil
}

// keysInside are the public keys of a machine, a line each.
func keysInside(t change.Resource, keys map[string]string) (text string) {
	for _, name := range t.Spec.Keys() {
		text += keys[name] + "\n"
	}
	return text
}
