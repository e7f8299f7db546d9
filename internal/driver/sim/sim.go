// Package sim is the stand-in cloud that ships with Ironbark: a driver whose whole place
// is one SQLite file beside the estate. Its machines build, start and listen over time
// that is computed from time stamps, so nothing runs in the background, and its
// installed tables decide about packets with code of their own (walk.go), independent
// of the analysis.
//
//	.ironbark/sim.db  resources, tables, machines and what is in them
package sim

import (
	"context"
	"database/sql"
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"go4.org/netipx"

	"ironbark/internal/change"
	"ironbark/internal/cost"
	"ironbark/internal/driver"
	"ironbark/internal/journal"
	"ironbark/internal/sentence"
	"ironbark/internal/store"
)

//go:embed catalogue.json
var catalogueJSON []byte

// catalogue is what the stand-in cloud offers, as data.
type catalogue struct {
	Offer       cost.Catalogue      `json:"offer"`
	Pool4       []netipx.IPRange    `json:"pool4"` // public addresses, given from the first on
	Pool6       []netipx.IPRange    `json:"pool6"`
	ClientAddrs []netip.Addr        `json:"clientAddresses"`
	Inside      map[string][]string `json:"inside"` // the packages in each image; others have those of ""
	Life        struct {
		Build  int `json:"buildMillis"`
		Start  int `json:"startMillis"`
		Listen int `json:"listenMillis"`
		Stop   int `json:"stopMillis"`
	} `json:"life"`
}

// Site is the stand-in cloud of one estate.
type Site struct {
	dir    string
	clock  driver.Clock
	faults Faults
	kept   bool // the faults are those of the file
	cat    catalogue

	mu     sync.Mutex
	db     *store.DB
	write  bool
	steps  int // of this driver
	writes int // of this driver and of the ledger

	hops     atomic.Int32 // from one machine to another that are under way
	watching watcher
}

var _ driver.Driver = (*Site)(nil)

// New returns the stand-in cloud whose state is in a folder. Nothing is read or made
// before it is needed.
func New(dir string, clock driver.Clock, faults Faults) *Site {
	s := &Site{dir: dir, clock: clock, faults: faults}
	if faults.isZero() {
		s.kept = true
		s.faults = keptFaults(s.dir)
	}
	if err := json.Unmarshal(catalogueJSON, &s.cat); err != nil {
		panic("sim: the embedded catalogue: " + err.Error())
	}
	for _, v4 := range []bool{true, false} {
		for _, r := range s.pool(v4) {
			s.cat.Offer.Public = append(s.cat.Offer.Public, cost.Pool{First: r.From(), Last: r.To()})
		}
	}
	s.cat.Offer.Limits = s.faults.limits(s.cat.Offer.Limits)
	return s
}

// Catalogue returns what the stand-in cloud offers.
func (s *Site) Catalogue() cost.Catalogue { return s.cat.Offer }

// ClientAddrs returns the addresses that the stand-in cloud sees everybody come from.
func (s *Site) ClientAddrs(context.Context) ([]netip.Addr, error) { return s.cat.ClientAddrs, nil }

// Close closes the state.
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

// open opens the state, for writing if asked to. The folder is made only then.
func (s *Site) open(ctx context.Context, write bool) (*store.DB, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.db != nil && (s.write || !write) {
		return s.db, nil
	}
	if s.db != nil {
		if err := s.db.Close(); err != nil {
			return nil, err
		}
		s.db = nil
	}
	if write {
		if err := os.MkdirAll(s.dir, 0o700); err != nil {
			return nil, err
		}
	}
	db, err := store.Open(ctx, s.path(), format, !write)
	if err != nil {
		return nil, err
	}
	if write {
		if err := db.CheckIntegrity(ctx); err != nil {
			return nil, errors.Join(err, db.Close())
		}
	}
	s.db, s.write = db, write
	return db, nil
}

func (s *Site) path() string { return filepath.Join(s.dir, Name) }

// Copy writes the stand-in cloud as it stands at one moment into a new file. The error is store.ErrAbsent where there is none yet.
func (s *Site) Copy(ctx context.Context, to string) error {
	db, err := s.open(ctx, false)
	if err != nil {
		return err
	}
	return db.Copy(ctx, to)
}

// read reads something in one transaction. Where there is no state yet, nothing is read.
func (s *Site) read(ctx context.Context, f func(tx *sql.Tx) error) error {
	db, err := s.open(ctx, false)
	if errors.Is(err, store.ErrAbsent) {
		return nil
	}
	if err != nil {
		return err
	}
	return db.Read(ctx, f)
}

// commit does one thing whole, and then plays the faults that the site was told to play.
func (s *Site) commit(ctx context.Context, f func(tx *sql.Tx, m *meta) error) error {
	if err := s.failing(); err != nil {
		return err
	}
	if err := s.change(ctx, f); err != nil {
		return err
	}
	return s.play(ctx)
}

// change writes in one transaction. The site's clock never goes back behind it.
func (s *Site) change(ctx context.Context, f func(tx *sql.Tx, m *meta) error) error {
	db, err := s.open(ctx, true)
	if err != nil {
		return err
	}
	return db.Update(ctx, func(tx *sql.Tx) error {
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

type shippedNames struct{}

func (shippedNames) Ports(name string) ([]sentence.Service, bool) { return sentence.WellKnown(name) }

// meta is what the site keeps about itself.
type meta struct {
	Mark     int64                  `json:"mark"` // how often resources or tables were changed
	Latest   time.Time              `json:"latest,omitzero"`
	Identity driver.Identity        `json:"identity"`
	Ejected  []driver.EjectedMember `json:"ejected,omitempty"` // members of spreads that get no new connections
}

// now is the site's clock, which never goes back behind the latest moment that was
// recorded. behind is how far the computer's has fallen behind that, where it is more
// than a moment: then nobody can tell how long openings would last, and they let nothing
// pass until the clock is accepted.
func (m *meta) now(clock time.Time) (now time.Time, behind time.Duration) {
	return journal.Later(clock, m.Latest)
}

// AcceptClock takes the computer's clock as right.
func (s *Site) AcceptClock(ctx context.Context) error {
	return s.change(ctx, func(_ *sql.Tx, m *meta) error {
		m.Latest = time.Time{}
		return nil
	})
}

// Keep keeps the estate and how far its journal has come.
func (s *Site) Keep(ctx context.Context, id driver.Identity) error {
	return s.change(ctx, func(_ *sql.Tx, m *meta) error {
		m.Identity = id
		return nil
	})
}

// Mark tells how often anybody changed something.
func (s *Site) Mark(ctx context.Context) (mark string, err error) {
	var m meta
	err = s.read(ctx, func(tx *sql.Tx) error { return store.ReadMeta(ctx, tx, &m) })
	return m.mark(), err
}

func (m *meta) mark() string { return fmt.Sprint(m.Mark) }

// pool lists the public addresses of a family in order.
func (s *Site) pool(v4 bool) []netipx.IPRange {
	if v4 {
		return s.cat.Pool4
	}
	return s.cat.Pool6
}

// poolWords tells the public addresses of a family.
func (s *Site) poolWords(v4 bool) string {
	var words []string
	for _, r := range s.pool(v4) {
		words = append(words, r.String())
	}
	return strings.Join(words, ", ")
}

// thingColumns are what readThing reads.
const resourceColumns = `kind, name, spec, given`

func readResource(scan func(...any) error) (t change.Resource, err error) {
	var spec, given string
	if err := scan(&t.Kind, &t.Name, &spec, &given); err != nil {
		return t, err
	}
	var err1, err2 error
	t.Spec, err1 = change.DecodeSpec(spec)
	t.Given, err2 = change.DecodeGiven(given)
	if err := errors.Join(err1, err2); err != nil {
		return t, fmt.Errorf("%s: %w", t.ID(), err)
	}
	return t, nil
}
