package linux

import (
	"context"
	"database/sql"
	"net/netip"
	"slices"
	"time"

	"github.com/google/nftables"
	"golang.org/x/sys/unix"

	"ironbark/internal/driver"
	"ironbark/internal/exposure"
	"ironbark/internal/flow"
)

// The kernel refuses each packet of a connection that may pass no longer, in both directions, and goes on tracking the connection. This
// file deletes its entry, so that it uses up none of the table and nobody is listed in a session that is over.

// sweeper judges connections by a plan.
type sweeper struct {
	view    *exposure.View
	machine map[netip.Addr]int32 // by inside address
	gateway map[netip.Addr]int   // by inside address
	inside  flow.Addrs
}

// newSweeper judges by a plan, openings included, at a time. Cost: linear in the plan's machines, and in the rules for those that the
// connections are about.
func newSweeper(plan *flow.Plan, list []connection, now time.Time) *sweeper {
	w := &sweeper{machine: map[netip.Addr]int32{}, gateway: map[netip.Addr]int{}}
	for i, m := range plan.Machines {
		for _, n := range m.Interfaces {
			for _, a := range n.Addrs {
				w.machine[a] = int32(i)
			}
		}
	}
	for i, g := range plan.Gateways {
		for _, a := range g.Inside {
			w.gateway[a] = i
		}
	}
	w.inside = plan.Own()
	for _, n := range plan.Networks {
		w.inside = w.inside.Union(n.Space)
	}
	var about []int32
	for _, c := range list {
		for _, a := range []netip.Addr{c.caller, c.called} {
			if m, ok := w.machine[a]; ok {
				about = append(about, m)
			}
		}
	}
	w.view = exposure.NewViewOf(plan, now, about...)
	return w
}

// passes reports whether a connection may still pass. The router's own connections are not judged: they pass no door.
func (w *sweeper) passes(c connection) bool {
	if m, ok := w.machine[c.called]; ok {
		return isRouter(c.caller) || w.view.Passes(m, c.to, c.service(), c.caller)
	}
	if _, ok := w.gateway[c.called]; ok {
		for _, d := range w.view.Plan.GatewayDoors() {
			if d.Address == c.to && d.Service == c.service() && d.From.Contains(flow.PointOf(c.caller)) {
				return true
			}
		}
		return false
	}
	if m, ok := w.machine[c.caller]; ok && !w.view.Plan.Machines[m].IsSiteHost() {
		return w.view.Calls().Passes(m, c.caller, c.service(), c.called)
	}
	return !w.inside.Contains(flow.PointOf(c.called)) && !w.inside.Contains(flow.PointOf(c.caller))
}

// isRouter reports whether an address is the router's own on its links.
func isRouter(a netip.Addr) bool { return a.IsLinkLocalUnicast() }

// connections lists what the kernel tracks of the site.
func (s *Site) connections() (list []connection, err error) {
	err = within(s.prefix, func() error {
		list, err = listConnections()
		return err
	})
	return list, err
}

// endClosed ends those of some connections that a plan lets pass no longer. The plan has no openings; passing are those that are installed.
func (s *Site) endClosed(m *meta, list []connection, plan *flow.Plan, passing []driver.Passage) error {
	if len(list) == 0 {
		return nil
	}
	var rules []flow.Rule
	for _, p := range passing {
		rules = append(rules, p.Rules(plan)...)
	}
	w := newSweeper(plan.With(rules...), list, s.clock.Now())
	return s.endConnections(m, slices.DeleteFunc(list, w.passes), true)
}

// endClosedTo is endClosed for connections to some addresses that some openings may have let pass. Where there are none, it reads no plan.
func (s *Site) endClosedTo(ctx context.Context, tx *sql.Tx, m *meta, addrs map[netip.Addr]bool, were []driver.Passage) error {
	var services flow.Services
	var from flow.Addrs
	for _, p := range were {
		for _, part := range p.Parts {
			services, from = services.Union(part.Services), from.Union(part.From)
		}
	}
	list, err := s.connections()
	if err != nil {
		return err
	}
	return s.sweep(ctx, tx, m, slices.DeleteFunc(list, func(c connection) bool {
		return !addrs[c.called] || !services.Contains(c.arrives()) || !from.Contains(flow.PointOf(c.caller))
	}))
}

// forget ends all connections that have to do with some addresses: those came, went, or belong to somebody else now.
func (s *Site) forget(m *meta, addrs ...netip.Addr) error {
	addrs = slices.DeleteFunc(addrs, func(a netip.Addr) bool { return !a.IsValid() })
	if len(addrs) == 0 || !exists(s.prefix) {
		return nil
	}
	list, err := s.connections()
	if err != nil {
		return err
	}
	return s.endConnections(m, slices.DeleteFunc(list, func(c connection) bool {
		return !slices.ContainsFunc([]netip.Addr{c.caller, c.to, c.called, c.answered}, func(a netip.Addr) bool { return slices.Contains(addrs, a) })
	}), false)
}

// endConnections holds the ends of some connections, and then deletes their entries. datagrams says that what is no TCP is held, too.
// Where the kernel has no room to hold them, it goes on refusing their packets, and the entries stay.
func (s *Site) endConnections(m *meta, list []connection, datagrams bool) error {
	if len(list) == 0 {
		return nil
	}
	var over []ended
	known := map[ended]bool{}
	for _, c := range list {
		if c.proto != unix.IPPROTO_TCP && !datagrams || c.proto == unix.IPPROTO_ICMP || c.proto == unix.IPPROTO_ICMPV6 {
			continue
		}
		ends := []ended{{caller: c.caller, called: c.called, proto: c.proto, port: c.port, left: endedFor}}
		if c.proto == unix.IPPROTO_TCP { // what the client sends is no longer translated
			ends = append(ends, ended{caller: c.caller, called: c.to, proto: c.proto, port: c.toPort, left: endedFor})
		}
		for _, e := range ends {
			if !known[e] {
				known[e], over = true, append(over, e)
			}
		}
	}
	c, done, err := s.conn()
	if err != nil {
		return err
	}
	defer done()
	written := m.Generation
	if g, err := s.generation(); err != nil || g != written { // it is read back, or put right, by whoever comes next
		written = 0
	}
	err = c.commit(func(c *nftables.Conn) error {
		b := &batch{c: c, table: &nftables.Table{Name: tableName, Family: nftables.TableFamilyINet}}
		for _, f := range families {
			set, err := endedSet(b.table, f)
			b.do(err)
			b.hold(set, f, over)
		}
		return b.err
	})
	if err != nil {
		return nil //nolint:nilerr // the kernel refuses them as before
	}
	if written != 0 {
		if m.Generation, err = s.generation(); err != nil {
			return err
		}
	}
	return within(s.prefix, func() error { return deleteConnections(list) })
}
