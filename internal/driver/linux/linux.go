// Package linux is a driver whose place is a Linux host: network namespaces, links
// between them, and the kernel's packet filter, which it speaks to through netlink.
// Nothing of the host's own is touched. It needs root.
package linux

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"github.com/mdlayher/netlink"
	"golang.org/x/sys/unix"

	"ironbark/internal/change"
	"ironbark/internal/cost"
	"ironbark/internal/driver"
	"ironbark/internal/flow"
	"ironbark/internal/store"
)

// Site is the place of one estate on this host.
type Site struct {
	dir    string
	prefix string
	clock  driver.Clock
	offer  cost.Catalogue
	caller netip.Addr // from which whoever asks comes to this host

	mu sync.Mutex
	db *store.DB
}

var _ driver.Driver = (*Site)(nil)

// New returns the place whose state is in a folder, which names it on the host, too.
// Nothing is read or made before it is needed.
func New(dir string, clock driver.Clock) *Site {
	s := &Site{dir: dir, prefix: prefixOf(dir), clock: clock}
	s.offer = catalogue(s.store())
	return s
}

// CalledFrom returns the place for somebody who comes to this host from an address; the zero Addr where they sit at it. It must come before any other use.
func (s *Site) CalledFrom(a netip.Addr) *Site {
	s.caller = a
	return s
}

// Catalogue returns what the host offers.
func (s *Site) Catalogue() cost.Catalogue { return s.offer }

// ClientAddrs are those from which the probe's namespace speaks for whoever is at this host.
// With an uplink it is the address from which the SSH session that one is in came;
// none outside of one.
func (s *Site) ClientAddrs(context.Context) ([]netip.Addr, error) {
	if s.hasUplink() {
		if s.caller.IsValid() {
			return []netip.Addr{s.caller}, nil
		}
		return nil, nil
	}
	return []netip.Addr{netip.MustParseAddr("198.51.100.7"), netip.MustParseAddr("2001:db8:ca11::7")}, nil
}

// Close closes the state. What was made stays.
func (s *Site) Close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.db == nil {
		return nil
	}
	err := s.db.Close()
	s.db = nil
	return err
}

func (s *Site) open(ctx context.Context) (*store.DB, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.db != nil {
		return s.db, nil
	}
	if _, err := s.claimed(); err != nil {
		return nil, err
	}
	if err := os.MkdirAll(s.dir, 0o700); err != nil {
		return nil, err
	}
	db, err := store.Open(ctx, filepath.Join(s.dir, Name), format, false)
	s.db = db
	return db, err
}

// read reads something in one transaction. Where there is no state yet, nothing is read.
func (s *Site) read(ctx context.Context, f func(tx *sql.Tx) error) error {
	s.mu.Lock()
	opened := s.db != nil
	s.mu.Unlock()
	if _, err := os.Stat(filepath.Join(s.dir, Name)); !opened && errors.Is(err, os.ErrNotExist) {
		return nil
	}
	db, err := s.open(ctx)
	if err != nil {
		return err
	}
	return db.Read(ctx, f)
}

// change writes in one transaction, under a lock that is held while the kernel is written
// to, too: so that both stay of one mind.
func (s *Site) change(ctx context.Context, f func(tx *sql.Tx, m *meta) error) (err error) {
	db, err := s.open(ctx)
	if err != nil {
		return err
	}
	return db.Update(ctx, func(tx *sql.Tx) error { // SQLite lets one write at a time, from its beginning on
		var m meta
		if err := store.ReadMeta(ctx, tx, &m); err != nil {
			return err
		}
		if err := f(tx, &m); err != nil {
			return err
		}
		if now := s.clock.Now(); now.After(m.Latest) {
			m.Latest = now.UTC()
		}
		return store.WriteMeta(ctx, tx, m)
	})
}

// Mark tells the state's own count and the generation of the packet filter, which
// changes whenever anybody writes to that.
func (s *Site) Mark(ctx context.Context) (string, error) {
	var m meta
	err := s.read(ctx, func(tx *sql.Tx) error { return store.ReadMeta(ctx, tx, &m) })
	if err != nil {
		return "", err
	}
	return s.mark(&m)
}

func (s *Site) mark(m *meta) (string, error) {
	g, err := s.generation()
	return markOf(m, g), err
}

// markOf tells the mark. The packet filter's generation counts where somebody else wrote it last: machines that start and
// stop, and members of spreads that come and go, change what is written, and not what is decided.
func markOf(m *meta, generation uint32) string {
	if generation == m.Generation {
		return fmt.Sprint(m.Mark)
	}
	return fmt.Sprintf("%d/%d", m.Mark, generation)
}

// generation reads that of the packet filter (NFT_MSG_GETGEN); 0 where there is none.
func (s *Site) generation() (g uint32, err error) {
	if !exists(s.prefix) {
		return 0, nil
	}
	err = within(s.prefix, func() error {
		c, err := netlink.Dial(unix.NETLINK_NETFILTER, nil)
		if err != nil {
			return err
		}
		defer c.Close()
		list, err := c.Execute(netlink.Message{
			Header: netlink.Header{Type: unix.NFNL_SUBSYS_NFTABLES<<8 | unix.NFT_MSG_GETGEN, Flags: netlink.Request},
			Data:   []byte{unix.AF_UNSPEC, unix.NFNETLINK_V0, 0, 0},
		})
		if err != nil || len(list) == 0 || len(list[0].Data) < 4 {
			return errors.Join(err, errors.New("the packet filter tells no generation"))
		}
		ad, err := netlink.NewAttributeDecoder(list[0].Data[4:])
		if err != nil {
			return err
		}
		for ad.Next() {
			if ad.Type() == unix.NFTA_GEN_ID {
				b := ad.Bytes()
				g = uint32(b[0])<<24 | uint32(b[1])<<16 | uint32(b[2])<<8 | uint32(b[3])
			}
		}
		return ad.Err()
	})
	return g, err
}

// outward reports whether a machine stands in a network that calls outward.
func outward(t change.Resource, list []change.Resource) bool {
	return slices.ContainsFunc(t.Spec.Subnets, func(at string) bool {
		subnet, _ := change.Find(list, change.Subnet, at)
		network, _ := change.Find(list, change.Network, subnet.Spec.Network)
		return network.Spec.Outside
	})
}

// Install puts a plan in place of the one before.
func (s *Site) Install(ctx context.Context, plan *flow.Plan, mark string) error {
	plan = plan.WithoutOpenings(func(int64) bool { return true })
	return s.change(ctx, func(tx *sql.Tx, m *meta) error {
		if now, err := s.mark(m); err != nil || now != mark {
			return errors.Join(err, driver.ErrMoved)
		}
		list, err := readResources(ctx, tx)
		if err != nil {
			return err
		}
		if len(s.there(list)) == 0 { // nothing is left, and nothing of it stays on the host
			m.Mark++
			m.Generation = 0
			_, err := tx.ExecContext(ctx, `DELETE FROM resources`)
			return errors.Join(err, s.RemoveEverything(), putPlan(ctx, tx, plan.Rows()))
		}
		if err := s.build(); err != nil {
			return err
		}
		if err := errors.Join(s.count(ctx, tx, m, true), s.routeSpaces(plan), putPlan(ctx, tx, plan.Rows()), s.mendAll(s.there(slices.Clone(list)), plan)); err != nil {
			return err
		}
		m.Mark++
		return s.put(ctx, tx, m, plan)
	})
}

// put writes the whole packet filter anew, in one transaction of the kernel's. Whoever calls
// it has counted before.
func (s *Site) put(ctx context.Context, tx *sql.Tx, m *meta, plan *flow.Plan) error {
	list, err := readResources(ctx, tx)
	if err != nil {
		return err
	}
	if err := s.answerUplink(list); err != nil {
		return err
	}
	passing, err := readPassing(ctx, tx)
	if err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, `DELETE FROM numbers`); err != nil {
		return err
	}
	m.Host = plan.HostAddrs()
	addrs := addrsOf(list)
	var open []opened
	for machine, to := range withHost(addrs, m) {
		if boxes := openings(passing, machine); len(boxes) > 0 {
			for _, a := range to {
				o := newOpened(a, boxes, &m.Number)
				open = append(open, o)
				if err := putNumber(ctx, tx, o.number, passing, machine); err != nil {
					return err
				}
			}
		}
	}
	links, err := s.links(addrs, limitsOf(list))
	if err != nil {
		return err
	}
	tunnels, err := s.lineLinks(m)
	if err != nil {
		return err
	}
	links = append(links, tunnels...)
	c, done, err := s.conn()
	if err != nil {
		return err
	}
	defer done()
	live, err := s.live(ctx, tx, plan)
	if err != nil {
		return err
	}
	ways, err := allotWays(ctx, tx, m, plan)
	if err != nil {
		return err
	}
	err = within(s.prefix, func() (err error) {
		over, err := readEnded()
		if err != nil {
			return err
		}
		if err := routeMarked(); err != nil {
			return err
		}
		if err := install(c, NewTable(plan, live, ways), links, open, over, s.clock.Now()); err != nil {
			return err
		}
		if m.Guard, err = rulesDigest(guardName); err != nil {
			return err
		}
		m.Rules, err = rulesDigest(tableName, guardName)
		return err
	})
	if err != nil {
		return err
	}
	if err := s.fence(m.Host); err != nil { // once the router judges what is for them
		return err
	}
	m.Layout = layout
	if m.Generation, err = s.generation(); err != nil {
		return err
	}
	tracked, err := s.connections()
	if err != nil {
		return err
	}
	beyond := excess(tracked, addrs, limitsOf(list)) // the new table has counted none of them
	return errors.Join(s.endClosed(m, tracked, plan, passing), s.endConnections(m, beyond, false))
}

// Keep keeps the identity.
func (s *Site) Keep(ctx context.Context, id driver.Identity) error {
	return s.change(ctx, func(_ *sql.Tx, m *meta) error {
		m.Identity = id
		return nil
	})
}

// AcceptClock takes the clock as right.
func (s *Site) AcceptClock(ctx context.Context) error {
	return s.change(ctx, func(_ *sql.Tx, m *meta) error {
		m.Latest = time.Time{}
		return nil
	})
}
