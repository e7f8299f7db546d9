package linux

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"github.com/vishvananda/netlink"

	"ironbark/internal/change"
	"ironbark/internal/driver"
	"ironbark/internal/estate"
	"ironbark/internal/fault"
	"ironbark/internal/flow"
	"ironbark/internal/parallel"
)

// switched tells since when a machine is switched off, if it is, and the hash of its password.
func switched(ctx context.Context, tx *sql.Tx, name string) (off, hash string, err error) {
	err = tx.QueryRowContext(ctx, `SELECT off, hash FROM machines WHERE name = ?`, name).Scan(&off, &hash)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return off, hash, err
}

// machine tells how a machine is doing. One whose process died, or whose host was started
// anew, is stopped.
func (s *Site) machine(ctx context.Context, tx *sql.Tx, t change.Resource) (driver.Machine, error) {
	m, g, err := s.kept(ctx, tx, t)
	if err == nil && g != nil {
		m = s.guestState(t, g, m)
	}
	return m, err
}

// kept reads the record of a machine. g is a guest that is switched on: its state is incomplete until guestState adds to it.
func (s *Site) kept(ctx context.Context, tx *sql.Tx, t change.Resource) (m driver.Machine, g *guest, err error) {
	off, hash, err := switched(ctx, tx, t.Name)
	if err != nil {
		return m, nil, err
	}
	m = driver.Machine{State: driver.Running, Locked: t.Spec.Password && hash == ""}
	switch {
	case off != "":
		at, err := time.Parse(time.RFC3339Nano, off)
		m.State, m.Since, m.Ready = driver.Stopped, at, at
		return m, nil, err
	case isGuest(t):
		g, err := readGuest(ctx, tx, t.Name)
		if err != nil || g == nil {
			m.State = driver.Stopped
		}
		return m, g, err
	case !s.listening(t.Name):
		m.State, m.Interrupted = driver.Stopped, true
	default:
		m.Listens = lightServices(t).Union(flow.ServicesAt(flow.Ping))
	}
	return m, nil, nil
}

// lookAt adds to m the state of guests that are switched on. It looks at several at once: one that hangs takes until a timeout.
func (s *Site) lookAt(list []change.Resource, guests map[string]*guest, m map[string]driver.Machine) {
	on := slices.DeleteFunc(slices.Clone(list), func(t change.Resource) bool { return t.Kind != change.Machine || guests[t.Name] == nil })
	now := make([]driver.Machine, len(on))
	parallel.Waiting(len(on), func(i int) { now[i] = s.guestState(on[i], guests[on[i].Name], m[on[i].Name]) })
	for i, t := range on {
		m[t.Name] = now[i]
	}
}

// find reads a machine. The error is a *driver.NoMachineError.
func (s *Site) find(ctx context.Context, tx *sql.Tx, name string) (change.Resource, error) {
	list, err := readResources(ctx, tx)
	t, ok := change.Find(list, change.Machine, name)
	if err == nil && !ok {
		err = &driver.NoMachineError{Name: name}
	}
	return t, err
}

// Power starts or stops a machine: a guest, or a light machine's listeners.
func (s *Site) Power(ctx context.Context, machine string, act driver.Power) (m driver.Machine, happened string, err error) {
	t, was, err := s.look(ctx, machine)
	if err != nil {
		return m, "", err
	}
	if isGuest(t) {
		return s.powerGuest(ctx, t, was, act)
	}
	err = s.change(ctx, func(tx *sql.Tx, kept *meta) error {
		was, err := s.machine(ctx, tx, t)
		if err != nil {
			return err
		}
		off := was.State == driver.Stopped
		switch {
		case act.Do == driver.Stop && off && !was.Interrupted, act.Do == driver.Start && !off:
			m, happened = was, ", which it was already"
			return nil
		case act.Do != driver.Start:
			s.stopListening(machine)
			if err := s.forget(kept, insideOf(t)...); err != nil {
				return err
			}
		}
		if act.Do != driver.Stop {
			if err := errors.Join(s.relink(ctx, tx, kept, t), s.startListening(t)); err != nil {
				return err
			}
		}
		if err := s.switchTo(ctx, tx, machine, act.Do == driver.Stop); err != nil {
			return err
		}
		if m, err = s.machine(ctx, tx, t); err != nil {
			return err
		}
		m.Forced = act.Do != driver.Start && act.Grace == 0
		return s.respread(ctx, tx, kept)
	})
	return m, happened, err
}

// relink puts a light machine's link, addresses and routes back where they are gone. The tables know links by their numbers.
func (s *Site) relink(ctx context.Context, tx *sql.Tx, m *meta, t change.Resource) error {
	if !exists(s.prefix) {
		return nil // the host was started anew: that is for whoever restores the site
	}
	list, err := readResources(ctx, tx)
	if err != nil {
		return err
	}
	before := s.linkIndex(t.Name)
	if err := s.joinMachine(t.Name, insideOf(t), outward(t, list)); err != nil || s.linkIndex(t.Name) == before {
		return err
	}
	return s.rewrite(ctx, tx, m)
}

// linkIndex is the number of the router's link to a machine; 0 where there is none.
func (s *Site) linkIndex(machine string) (index int) {
	_ = within(s.prefix, func() error {
		l, err := netlink.LinkByName(linkOf(machine))
		if err == nil {
			index = l.Attrs().Index
		}
		return err
	})
	return index
}

// switchTo keeps that a machine is to be off, or on.
func (s *Site) switchTo(ctx context.Context, tx *sql.Tx, machine string, off bool) error {
	text := ""
	if off {
		text = s.clock.Now().UTC().Format(time.RFC3339Nano)
	}
	_, err := tx.ExecContext(ctx, `INSERT INTO machines VALUES (?, ?, '') ON CONFLICT DO UPDATE SET off = excluded.off`, machine, text)
	return err
}

// respread writes the doors anew where one of them is spread over several machines: over
// those that are up.
func (s *Site) respread(ctx context.Context, tx *sql.Tx, m *meta) error {
	rows, err := readPlan(ctx, tx)
	if err != nil {
		return err
	}
	plan, err := flow.FromRows(rows)
	if err != nil || !slices.ContainsFunc(plan.Doors, func(d flow.Published) bool { return len(d.To.Machines) > 1 }) {
		return err
	}
	return s.putAgain(ctx, tx, m, plan)
}

// rewrite writes the whole packet filter anew, as it was installed last.
func (s *Site) rewrite(ctx context.Context, tx *sql.Tx, m *meta) error {
	rows, err := readPlan(ctx, tx)
	if err != nil {
		return err
	}
	plan, err := flow.FromRows(rows)
	if err != nil {
		return err
	}
	return s.putAgain(ctx, tx, m, plan)
}

func (s *Site) putAgain(ctx context.Context, tx *sql.Tx, m *meta, plan *flow.Plan) error {
	if err := s.count(ctx, tx, m, true); err != nil {
		return err
	}
	return s.put(ctx, tx, m, plan)
}

// SetPasswordHash keeps the hash of a password. A guest that runs is handed it at once by its guest agent;
// one whose agent does not answer takes it when it is started next.
func (s *Site) SetPasswordHash(ctx context.Context, machine, hash string) error {
	var t change.Resource
	err := s.change(ctx, func(tx *sql.Tx, _ *meta) (err error) {
		if t, err = s.find(ctx, tx, machine); err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `INSERT INTO machines VALUES (?, '', ?) ON CONFLICT DO UPDATE SET hash = excluded.hash`, machine, hash)
		return err
	})
	if err != nil || !isGuest(t) {
		return err
	}
	return s.handPassword(ctx, t, hash)
}

// look reads a machine outside of any change.
func (s *Site) look(ctx context.Context, machine string) (t change.Resource, m driver.Machine, err error) {
	err = &driver.NoMachineError{Name: machine}
	if failed := s.read(ctx, func(tx *sql.Tx) error {
		if t, err = s.find(ctx, tx, machine); err != nil {
			return nil // it is told as it is
		}
		m, err = s.machine(ctx, tx, t)
		return err
	}); failed != nil {
		err = failed
	}
	return t, m, err
}

// links lists the router's links to machines, with the addresses that may come from each, and their limits.
func (s *Site) links(addrs map[string][]netip.Addr, limits map[string]estate.Traffic) (list []link, err error) {
	err = within(s.prefix, func() error {
		for machine, own := range addrs {
			l, err := netlink.LinkByName(linkOf(machine))
			if errors.As(err, &netlink.LinkNotFoundError{}) { // nothing comes from it, and nothing gets there
				continue
			}
			if err != nil {
				return fmt.Errorf("the link to machine %s: %w", machine, err)
			}
			list = append(list, link{index: l.Attrs().Index, addrs: own, limit: limits[machine].Or(ownLimits())})
		}
		return nil
	})
	return list, err
}

// routeSpaces leads what is in a network and belongs to no machine to the probe, which
// speaks for it.
func (s *Site) routeSpaces(plan *flow.Plan) error {
	return within(s.prefix, func() error {
		for _, n := range plan.Networks {
			for _, run := range n.Space.Runs() {
				via, bits := probeV4, 32
				if run.Lo.Addr().Is6() {
					via, bits = probeV6, 128
				}
				for _, p := range prefixes(run, bits) {
					if err := route("probe", p, via); err != nil {
						return err
					}
				}
			}
		}
		return nil
	})
}

// prefixes cuts a run of addresses into prefixes.
func prefixes(run flow.Run, bits int) (list []netip.Prefix) {
	lo, hi := run.Lo.Addr(), run.Hi.Addr()
	for lo.IsValid() && lo.Compare(hi) <= 0 {
		best := netip.PrefixFrom(lo, bits)
		for b := bits - 1; b >= 0; b-- {
			p := netip.PrefixFrom(lo, b)
			if p.Masked().Addr() != lo || lastOf(p).Compare(hi) > 0 {
				break
			}
			best = p
		}
		list = append(list, best)
		lo = lastOf(best).Next()
	}
	return list
}

func lastOf(p netip.Prefix) netip.Addr {
	b := p.Addr().AsSlice()
	for i := p.Bits(); i < len(b)*8; i++ {
		b[i/8] |= 1 << (7 - i%8)
	}
	a, _ := netip.AddrFromSlice(b)
	return a
}

// allocateAddrs gives a resource the public addresses that it asks for: those that it has, reserved
// or given ones, and otherwise the lowest that is free.
func (s *Site) allocateAddrs(t change.Resource, list []change.Resource) (public flow.Public, err error) {
	taken := map[netip.Addr]string{}
	var has flow.Public
	for _, o := range list {
		if o.ID() == t.ID() {
			has = o.Given
			continue
		}
		for _, a := range []netip.Addr{o.Given.Addr4, o.Given.Addr6} {
			if a.IsValid() && (taken[a] == "" || o.Kind != change.Address) {
				taken[a] = o.ID()
			}
		}
	}
	set := func(a netip.Addr) {
		if a.Is4() {
			public.Addr4 = a
		} else {
			public.Addr6 = a
		}
	}
	for _, name := range t.Spec.Reserved {
		r, ok := change.Find(list, change.Address, name)
		if !ok {
			return public, fmt.Errorf("the site has no reserved address %s", name)
		}
		for _, a := range []netip.Addr{r.Given.Addr4, r.Given.Addr6} {
			if holder := taken[a]; holder != "" && holder != r.ID() {
				return public, fmt.Errorf("reserved address %s leads to %s", name, holder)
			}
			if a.IsValid() {
				set(a)
			}
		}
	}
	for _, a := range t.Spec.Fixed {
		if holder := taken[a]; holder != "" {
			return public, fmt.Errorf("%s is held by %s", a, holder)
		}
		set(a)
	}
	for _, want := range []struct {
		yes bool
		old netip.Addr
		v4  bool
	}{{t.Spec.Auto4, has.Addr4, true}, {t.Spec.Auto6, has.Addr6, false}} {
		if !want.yes {
			continue
		}
		a := want.old
		if !a.IsValid() || taken[a] != "" || !slices.ContainsFunc(s.pools(list), func(p pool) bool { return p.Has(a) }) {
			if a = lowestFree(s.pools(list), want.v4, taken); !a.IsValid() {
				return public, fault.New(fault.Failure, "the site has no public address left", fault.Run("quota").Say(" tells who has them"))
			}
		}
		set(a)
	}
	return public, nil
}

// lowestFree is the lowest address of a family that nobody has; the zero Addr where there is none.
func lowestFree(pools []pool, v4 bool, taken map[netip.Addr]string) netip.Addr {
	for _, p := range pools {
		if p.First.Is4() != v4 {
			continue
		}
		for a := p.First; a.IsValid() && p.Has(a); a = a.Next() {
			if taken[a] == "" {
				return a
			}
		}
	}
	return netip.Addr{}
}
