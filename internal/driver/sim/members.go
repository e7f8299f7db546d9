package sim

import (
	"context"
	"database/sql"
	"fmt"
	"net/http"
	"net/netip"
	"net/url"
	"slices"

	"ironbark/internal/driver"
	"ironbark/internal/flow"
	"ironbark/internal/sentence"
	"ironbark/internal/store"
)

var _ driver.MemberTester = (*Site)(nil)

// Watched is false: members are tested at each connection.
func (s *Site) Watched() bool { return false }

// Ejected are the members that get no connections.
func (s *Site) Ejected(ctx context.Context) (list []driver.EjectedMember, err error) {
	err = s.read(ctx, func(tx *sql.Tx) error {
		var m meta
		err := store.ReadMeta(ctx, tx, &m)
		list = m.Ejected
		return err
	})
	return list, err
}

// SetEjected says which members get no connections.
func (s *Site) SetEjected(ctx context.Context, out []driver.EjectedMember) error {
	return s.change(ctx, func(_ *sql.Tx, m *meta) error {
		m.Ejected = out
		return nil
	})
}

// TestMember tests a member.
func (s *Site) TestMember(ctx context.Context, m driver.Member) error {
	in, err := s.look(ctx, m.Machine)
	if err != nil {
		return err
	}
	now := s.clock.Now()
	state := s.at(in.power, now)
	service := flow.TCPPort(m.At.Port())
	switch {
	case !up(state, now):
		return fmt.Errorf("it is %s", state.State)
	case !listening(in.guest.Listens()).Contains(service):
		return fmt.Errorf("nothing listens on %s there", service)
	case m.Path == "":
		return nil
	case service != flow.TCPPort(httpPort) && service != flow.TCPPort(httpsPort):
		return fmt.Errorf("what listens on %s there does not speak HTTP", service)
	}
	at, err := url.Parse(m.Path)
	if err != nil {
		return err
	}
	if _, ok := page(in, at.Path); !ok {
		return fmt.Errorf("it answers %s with %d", m.Path, http.StatusNotFound)
	}
	return nil
}

// takingPart leaves those of the machines behind a front's port that get new connections: none that is to be stopped, and
// of the others those that pass their test, or all where none does.
func (s *Site) takingPart(ctx context.Context, fates []driver.ProbeResult, to netip.AddrPort) []driver.ProbeResult {
	w, m, err := s.walker(ctx)
	if err != nil {
		return fates
	}
	front, spread := w.portAt(to)
	if front == "" {
		return fates
	}
	fates = slices.DeleteFunc(slices.Clone(fates), func(f driver.ProbeResult) bool {
		return slices.ContainsFunc(m.Ejected, driver.EjectedMember{Front: front, Service: flow.TCPPort(to.Port()), Machine: f.Machine}.Same)
	})
	left := slices.DeleteFunc(slices.Clone(fates), func(f driver.ProbeResult) bool {
		arrives, err := flow.ParseServiceRuns([]string{f.Arrives})
		if spread.Tested.Kind == 0 || err != nil || arrives.IsEmpty() {
			return false
		}
		at := netip.AddrPortFrom(netip.Addr{}, arrives.Runs()[0].Lo.Port())
		return s.TestMember(ctx, driver.Member{Machine: f.Machine, At: at, Path: spread.Tested.Path}) != nil
	})
	if len(left) == 0 {
		return fates
	}
	return left
}

// portAt finds the front whose port is called at an address, and how it spreads connections; "" where none is.
func (w *Walker) portAt(to netip.AddrPort) (front string, spread sentence.Spread) {
	for _, f := range w.fronts {
		if !is(f.Public4, to.Addr()) && !is(f.Public6, to.Addr()) {
			continue
		}
		for _, d := range w.doors {
			if d.Front != f.Name || d.Service != flow.TCPPort(to.Port()).String() {
				continue
			}
			said, _ := sentence.Parse(d.Sentence)
			spread, _ = said.(sentence.Spread) // the zero Spread tests nothing
			return f.Name, spread
		}
	}
	return "", sentence.Spread{}
}
