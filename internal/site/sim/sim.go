// Package sim is the stand-in cloud that ships with Ironbark: a whole site inside
// one SQLite file beside the estate. Its machines build, start and listen over
// time that is computed from time stamps, so nothing runs in the background, and
// its installed tables decide about packets with code of their own (walk.go),
// independent of the analysis.
//
//	.ironbark/site.db   things, tables, openings, files, journal
//	.ironbark/enacting  locked by the process that enacts
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
	"time"

	"ironbark/internal/change"
	"ironbark/internal/cost"
	"ironbark/internal/estate"
	"ironbark/internal/flow"
	"ironbark/internal/journal"
	"ironbark/internal/sentence"
	"ironbark/internal/site"
	"ironbark/internal/store"
)

// Dir is the folder of the site's state, beside estate.yaml.
const Dir = ".ironbark"

//go:embed catalogue.json
var catalogueJSON []byte

// catalogue is what the stand-in cloud offers, as data.
type catalogue struct {
	Offer   cost.Catalogue      `json:"offer"`
	Pool4   string              `json:"pool4"`
	Pool6   string              `json:"pool6"`
	Callers []netip.Addr        `json:"callers"`
	Inside  map[string][]string `json:"inside"` // the packages in each image; others have those of ""
	Life    struct {
		Build  int `json:"buildMillis"`
		Start  int `json:"startMillis"`
		Listen int `json:"listenMillis"`
		Stop   int `json:"stopMillis"`
	} `json:"life"`
}

// Site is the stand-in cloud of one estate.
type Site struct {
	dir    string
	clock  site.Clock
	faults Faults
	kept   bool // the faults are those of the file
	cat    catalogue

	mu    sync.Mutex
	db    *store.DB
	write bool
	steps int
}

var _ site.Site = (*Site)(nil)

// New returns the stand-in cloud whose state is in dir/.ironbark. Nothing is read
// or made before it is needed.
func New(dir string, clock site.Clock, faults Faults) *Site {
	s := &Site{dir: filepath.Join(dir, Dir), clock: clock, faults: faults}
	if faults.isZero() {
		s.kept = true
		s.faults = keptFaults(s.dir)
	}
	if err := json.Unmarshal(catalogueJSON, &s.cat); err != nil {
		panic("sim: the embedded catalogue: " + err.Error())
	}
	for _, v4 := range []bool{true, false} {
		lo, hi := s.pool(v4)
		s.cat.Offer.Public = append(s.cat.Offer.Public, cost.Pool{First: lo, Last: hi})
	}
	s.cat.Offer.Limits = s.faults.limits(s.cat.Offer.Limits)
	return s
}

// Catalogue returns what the stand-in cloud offers.
func (s *Site) Catalogue() cost.Catalogue { return s.cat.Offer }

// Callers returns the addresses that the stand-in cloud sees callers come from.
func (s *Site) Callers() []netip.Addr { return s.cat.Callers }

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
		if err := s.makeDir(); err != nil {
			return nil, err
		}
	} else if info, err := os.Stat(s.dir); err == nil && !info.IsDir() {
		return nil, &store.Damaged{Path: s.dir, Why: "is no folder", Mend: "move it away"}
	}
	db, err := store.Open(ctx, filepath.Join(s.dir, "site.db"), !write)
	if err != nil {
		return nil, err
	}
	if write {
		if err := db.Whole(ctx); err != nil {
			return nil, errors.Join(err, db.Close())
		}
	}
	if err := s.checkClock(ctx, db); err != nil {
		return nil, errors.Join(err, db.Close())
	}
	s.db, s.write = db, write
	return db, nil
}

// makeDir makes the folder, closed to others, and keeps it out of version control.
func (s *Site) makeDir() error {
	if err := os.MkdirAll(s.dir, 0o700); err != nil {
		return err
	}
	ignore := filepath.Join(s.dir, ".gitignore")
	if _, err := os.Stat(ignore); err == nil {
		return s.reserve()
	}
	if err := os.WriteFile(ignore, []byte("*\n"), 0o600); err != nil {
		return err
	}
	return s.reserve()
}

// Report tells everything that the site has. Where nothing was ever enacted, that is nothing.
func (s *Site) Report(ctx context.Context) (*site.Report, error) {
	r := &site.Report{Machines: map[string]site.Machine{}}
	db, err := s.open(ctx, false)
	if errors.Is(err, store.ErrAbsent) {
		r.Plan, err = flow.FromRows(nil)
		return r, err
	}
	if err != nil {
		return nil, err
	}
	err = db.Read(ctx, func(tx *sql.Tx) error { return s.report(ctx, tx, r) })
	if err != nil {
		return nil, err
	}
	return r, nil
}

func (s *Site) report(ctx context.Context, tx *sql.Tx, r *site.Report) error {
	m, err := readMeta(ctx, tx)
	if err != nil {
		return err
	}
	r.Revision, r.Unfinished = m.revision, m.unfinished
	now, behind := m.times(s.clock.Now())
	r.Behind = behind
	err = each(ctx, tx, `SELECT `+thingColumns+` FROM things`, func(scan func(...any) error) error {
		t, gone, err := readThing(scan)
		if err != nil {
			return err
		}
		if gone {
			r.Gone = append(r.Gone, t)
		} else {
			r.Things = append(r.Things, t)
		}
		return nil
	})
	if err != nil {
		return err
	}
	if err := s.machines(ctx, tx, r, now); err != nil {
		return err
	}
	if r.Outside, err = outsideSince(ctx, tx, m.seen); err != nil {
		return err
	}
	var rows []flow.Row
	err = each(ctx, tx, `SELECT owner, key, body FROM tables ORDER BY key, owner`, func(scan func(...any) error) error {
		var owner int64
		var row flow.Row
		if err := scan(&owner, &row.Key, &row.Body); err != nil {
			return err
		}
		if owner == base {
			r.Base = append(r.Base, row)
		}
		if n := len(rows); n == 0 || rows[n-1].Key != row.Key {
			rows = append(rows, row)
		}
		return nil
	})
	if err != nil {
		return err
	}
	if r.Plan, err = flow.FromRows(rows); err != nil {
		return err
	}
	if r.Openings, err = readOpenings(ctx, tx, there); err != nil {
		return err
	}
	if err := s.alterations(ctx, tx, r, now); err != nil {
		return err
	}
	if behind > 0 {
		r.Plan = r.Plan.WithoutOpenings(func(int64) bool { return true })
	}
	return each(ctx, tx, `SELECT name, data FROM files ORDER BY name`, func(scan func(...any) error) error {
		var f estate.File
		if err := scan(&f.Name, &f.Data); err != nil {
			return err
		}
		r.Files = append(r.Files, f)
		return nil
	})
}

// thingColumns are what readThing reads.
const thingColumns = `kind, name, spec, given, asked`

// readThing reads a row of the table of things. One without a spec is gone, and
// one that was never asked for is a stray.
func readThing(scan func(...any) error) (t change.Thing, gone bool, err error) {
	var spec, given, asked string
	if err := scan(&t.Kind, &t.Name, &spec, &given, &asked); err != nil {
		return t, false, err
	}
	t.Stray = asked == ""
	text := spec
	if gone = spec == ""; gone {
		text = asked
	}
	err = errors.Join(json.Unmarshal([]byte(text), &t.Spec), json.Unmarshal([]byte(given), &t.Given))
	if err == nil && !gone && asked != "" && asked != spec {
		t.Asked = &change.Spec{}
		err = json.Unmarshal([]byte(asked), t.Asked)
	}
	if err != nil {
		err = fmt.Errorf("%s: %w", t.ID(), err)
	}
	return t, gone, err
}

// each calls read for each row of a query.
func each(ctx context.Context, tx *sql.Tx, query string, read func(scan func(...any) error) error, args ...any) (err error) {
	rows, err := tx.QueryContext(ctx, query, args...)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, rows.Close()) }()
	for rows.Next() {
		if err := read(rows.Scan); err != nil {
			return err
		}
	}
	return rows.Err()
}

type shippedNames struct{}

func (shippedNames) Ports(name string) ([]sentence.Service, bool) { return sentence.Shipped(name) }

// meta is what the site keeps about itself.
type meta struct {
	revision   int64
	head       string       // the journal's last hash
	headSeq    int64        // and its number
	checked    journal.Head // up to here the record was found whole
	latest     time.Time    // the latest moment that was recorded
	clock      string       // the kind of clock that the site was begun under
	unfinished *site.Unfinished
	seen       int64 // what was done by others up to here was seen by an enactment
	fence      int64 // how often tables were cut
	console    cost.Console
}

func (s *Site) readMeta(ctx context.Context, tx *sql.Tx) (meta, error) {
	m, err := readMeta(ctx, tx)
	if m.console == (cost.Console{}) {
		m.console = s.cat.Offer.Console
	}
	return m, err
}

func readMeta(ctx context.Context, tx *sql.Tx) (m meta, err error) {
	err = each(ctx, tx, `SELECT key, value FROM meta`, func(scan func(...any) error) error {
		var key, value string
		if err := scan(&key, &value); err != nil {
			return err
		}
		switch key {
		case "revision":
			_, err := fmt.Sscan(value, &m.revision)
			return err
		case "head":
			m.head = value
		case "seen":
			_, err := fmt.Sscan(value, &m.seen)
			return err
		case "headSeq":
			_, err := fmt.Sscan(value, &m.headSeq)
			return err
		case "checked":
			return json.Unmarshal([]byte(value), &m.checked)
		case "latest":
			m.latest, err = time.Parse(time.RFC3339Nano, value)
			return err
		case "clock":
			m.clock = value
		case "fence":
			_, err := fmt.Sscan(value, &m.fence)
			return err
		case "console":
			return json.Unmarshal([]byte(value), &m.console)
		case "unfinished":
			return json.Unmarshal([]byte(value), &m.unfinished)
		}
		return nil
	})
	return m, err
}

func setMeta(ctx context.Context, tx *sql.Tx, key string, value any) error {
	text, ok := value.(string)
	if !ok {
		data, err := json.Marshal(value)
		if err != nil {
			return err
		}
		text = string(data)
	}
	_, err := tx.ExecContext(ctx, `INSERT INTO meta VALUES (?, ?) ON CONFLICT DO UPDATE SET value = excluded.value`, key, text)
	return err
}

// pool lists the public addresses of a family in order.
func (s *Site) pool(v4 bool) (lo, hi netip.Addr) {
	text := s.cat.Pool6
	if v4 {
		text = s.cat.Pool4
	}
	first, last, _ := strings.Cut(text, "-")
	return netip.MustParseAddr(first), netip.MustParseAddr(last)
}
