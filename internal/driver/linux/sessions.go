package linux

import (
	"context"
	"database/sql"
	"net/netip"
	"slices"

	"ironbark/internal/change"
	"ironbark/internal/driver"
	"ironbark/internal/flow"
)

// established is the state of a TCP connection that both sides have agreed on
// (enum tcp_conntrack of linux/netfilter/nf_conntrack_tcp.h).
const established = 3

// Sessions lists the TCP connections to machines that the kernel tracks and the tables let pass. It ends all others before.
func (s *Site) Sessions(ctx context.Context) (list []driver.Session, err error) {
	if !exists(s.prefix) {
		return nil, nil
	}
	machines := map[netip.Addr]string{}
	err = s.change(ctx, func(tx *sql.Tx, m *meta) error {
		resources, err := readResources(ctx, tx)
		if err != nil {
			return err
		}
		for name, addrs := range addrsOf(slices.DeleteFunc(resources, func(t change.Resource) bool { return t.Kind != change.Machine })) {
			for _, a := range addrs {
				machines[a] = name
			}
		}
		tracked, err := s.connections()
		if err != nil {
			return err
		}
		return s.sweep(ctx, tx, m, tracked)
	})
	if err != nil {
		return nil, err
	}
	tracked, err := s.connections()
	if err != nil {
		return nil, err
	}
	for _, c := range tracked {
		// Answers come from the machine itself, to whatever address it was called.
		if machine := machines[c.called]; machine != "" && c.state == established {
			list = append(list, driver.Session{Machine: machine, From: c.caller, To: c.to, Service: flow.TCPPort(c.port), Since: c.since})
		}
	}
	slices.SortStableFunc(list, func(a, b driver.Session) int { return a.Since.Compare(b.Since) })
	return list, nil
}

// sweep ends those of some connections that may pass no longer by what is installed. Where there are none, it reads no plan.
func (s *Site) sweep(ctx context.Context, tx *sql.Tx, m *meta, list []connection) error {
	if len(list) == 0 {
		return nil
	}
	rows, err := readPlan(ctx, tx)
	if err != nil {
		return err
	}
	plan, err := flow.FromRows(rows)
	if err != nil {
		return err
	}
	passing, err := readPassing(ctx, tx)
	if err != nil {
		return err
	}
	return s.endClosed(m, list, plan, passing)
}
