package linux

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"time"

	"ironbark/internal/change"
	"ironbark/internal/driver"
	"ironbark/internal/estate"
	"ironbark/internal/flow"
	"ironbark/internal/store"
)

// Name is that of the file in which the site keeps what the kernel does not: what was
// made, and what was put into the packet filter, so that it can be read back in words.
const Name = "linux.db"

var format = store.Format{
	ApplicationID: 0x49726e6c, // "Irnl"
	Version:       1,
	Schema: `
CREATE TABLE meta (id INTEGER PRIMARY KEY, body TEXT NOT NULL) STRICT;
CREATE TABLE resources (kind TEXT, name TEXT, body TEXT NOT NULL, PRIMARY KEY (kind, name)) STRICT, WITHOUT ROWID;
CREATE TABLE plan (key TEXT PRIMARY KEY, body TEXT NOT NULL) STRICT, WITHOUT ROWID;
CREATE TABLE passing (id INTEGER PRIMARY KEY, body TEXT NOT NULL, over INTEGER NOT NULL, until INTEGER NOT NULL) STRICT; -- until: Unix milliseconds, rounded up
CREATE INDEX passing_until ON passing (until) WHERE over = 0;
CREATE TABLE passing_at (machine TEXT, id INTEGER, PRIMARY KEY (machine, id)) STRICT, WITHOUT ROWID; -- of those that are not over
CREATE TABLE shut (id INTEGER PRIMARY KEY, at TEXT NOT NULL) STRICT;
CREATE TABLE machines (name TEXT PRIMARY KEY, off TEXT NOT NULL, hash TEXT NOT NULL) STRICT, WITHOUT ROWID;
CREATE TABLE resting (address TEXT PRIMARY KEY, since INTEGER NOT NULL) STRICT, WITHOUT ROWID; -- Unix milliseconds
` + countsSchema + guestsSchema + sourcesSchema + waysSchema,
}

// layout is which sets a table has and how their keys are made up. One that a program of another
// layout installed is not written to: it is put in place anew, whole.
const layout = 7

// meta is what the site keeps about itself.
type meta struct {
	Mark       int64                 `json:"mark"`
	Lines      map[string]*lineState `json:"lines,omitempty"`   // with peers, by name
	Generation uint32                `json:"generation"`        // of the packet filter, when it was last written or found whole
	Layout     int                   `json:"layout"`            // of the table's sets; see [layout]
	Rules      string                `json:"rules"`             // a digest of its chains and rules, when it was last written
	Guard      string                `json:"guard"`             // the same of the guard alone
	Number     uint32                `json:"number"`            // of boxes of openings; see [opened]
	Ingress    uint32                `json:"ingress,omitempty"` // the last number of a way that was given; see [Ways]
	Latest     time.Time             `json:"latest,omitzero"`
	Since      time.Time             `json:"since,omitzero"` // when it began to count
	Read       time.Time             `json:"read,omitzero"`  // when the counters were last read
	Noted      time.Time             `json:"noted,omitzero"` // since when no source was missed; see [mostSources]
	Host       []netip.Addr          `json:"host,omitempty"` // addresses of the site's host, as they are installed
	Identity   driver.Identity       `json:"identity"`
}

func readResources(ctx context.Context, tx *sql.Tx) (list []change.Resource, err error) {
	err = store.Each(ctx, tx, `SELECT kind, name, body FROM resources ORDER BY kind, name`, func(scan func(...any) error) error {
		var kind, name, body string
		if err := scan(&kind, &name, &body); err != nil {
			return err
		}
		t, err := change.DecodeResource(kind, name, body)
		list = append(list, t)
		return err
	})
	return list, err
}

// passage is an opening as it is kept.
type passage struct {
	Begin    time.Time `json:"begin"`
	Sentence string    `json:"sentence"`
	Parts    []part    `json:"parts"`
}

type part struct {
	Machines []string  `json:"machines"`
	Services []string  `json:"services"`
	From     []string  `json:"from"`
	End      time.Time `json:"end"`
}

func putPassage(ctx context.Context, tx *sql.Tx, p driver.Passage) error {
	w := passage{Begin: p.Begin.UTC(), Sentence: p.Sentence}
	for _, one := range p.Parts {
		w.Parts = append(w.Parts, part{one.Machines, flow.ServiceRuns(one.Services), flow.AddrRuns(one.From), one.End.UTC()})
	}
	body, err := json.Marshal(w)
	if err == nil {
		_, err = tx.ExecContext(ctx, `INSERT OR REPLACE INTO passing (id, body, over, until) VALUES (?, ?, 0, ?)`, p.ID, string(body), p.End().Add(time.Millisecond-1).UnixMilli())
	}
	for _, name := range machinesOf(p) {
		if err == nil {
			_, err = tx.ExecContext(ctx, `INSERT OR IGNORE INTO passing_at VALUES (?, ?)`, name, p.ID)
		}
	}
	return err
}

// endPassages keeps that some openings are over.
func endPassages(ctx context.Context, tx *sql.Tx, ids []int64) error {
	these := store.Numbers(ids...)
	_, err1 := tx.ExecContext(ctx, `UPDATE passing SET over = 1 WHERE id IN (SELECT value FROM json_each(?))`, these)
	_, err2 := tx.ExecContext(ctx, `DELETE FROM passing_at WHERE (machine, id) IN (SELECT m.value, p.id FROM passing p, json_each(p.body, '$.parts') q, json_each(q.value, '$.machines') m
		WHERE p.id IN (SELECT value FROM json_each(?)))`, these)
	return errors.Join(err1, err2)
}

// machinesOf names the machines to which openings let something pass, each once.
func machinesOf(list ...driver.Passage) (names []string) {
	known := map[string]bool{}
	for _, p := range list {
		for _, part := range p.Parts {
			for _, name := range part.Machines {
				if !known[name] {
					known[name] = true
					names = append(names, name)
				}
			}
		}
	}
	return names
}

// readPassing reads the openings that pass, or will.
func readPassing(ctx context.Context, tx *sql.Tx) ([]driver.Passage, error) {
	return passingWhere(ctx, tx, ``)
}

// readPassingOf reads those of some numbers.
func readPassingOf(ctx context.Context, tx *sql.Tx, ids []int64) ([]driver.Passage, error) {
	return passingWhere(ctx, tx, ` AND id IN (SELECT value FROM json_each(?))`, store.Numbers(ids...))
}

// readPassingTo reads those that let something pass to some machines.
func readPassingTo(ctx context.Context, tx *sql.Tx, machines []string) ([]driver.Passage, error) {
	names, err := json.Marshal(append([]string{}, machines...))
	if err != nil {
		return nil, err
	}
	return passingWhere(ctx, tx, ` AND id IN (SELECT id FROM passing_at WHERE machine IN (SELECT value FROM json_each(?)))`, string(names))
}

func passingWhere(ctx context.Context, tx *sql.Tx, where string, args ...any) (list []driver.Passage, err error) {
	err = store.Each(ctx, tx, `SELECT id, body FROM passing WHERE over = 0`+where+` ORDER BY id`, func(scan func(...any) error) error {
		var p driver.Passage
		var body string
		if err := scan(&p.ID, &body); err != nil {
			return err
		}
		var w passage
		if err := json.Unmarshal([]byte(body), &w); err != nil {
			return fmt.Errorf("opening %d: %w", p.ID, err)
		}
		p.Begin, p.Sentence = w.Begin, w.Sentence
		for _, one := range w.Parts {
			from, err1 := flow.ParseAddrRuns(one.From)
			services, err2 := flow.ParseServiceRuns(one.Services)
			if err := errors.Join(err1, err2); err != nil {
				return fmt.Errorf("opening %d: %w", p.ID, err)
			}
			p.Parts = append(p.Parts, driver.Part{Machines: one.Machines, Services: services, From: from, End: one.End})
		}
		list = append(list, p)
		return nil
	}, args...)
	return list, err
}

func readPlan(ctx context.Context, tx *sql.Tx) (rows []flow.Row, err error) {
	err = store.Each(ctx, tx, `SELECT key, body FROM plan ORDER BY key`, func(scan func(...any) error) error {
		var r flow.Row
		err := scan(&r.Key, &r.Body)
		rows = append(rows, r)
		return err
	})
	return rows, err
}

func putPlan(ctx context.Context, tx *sql.Tx, rows []flow.Row) error {
	_, err := tx.ExecContext(ctx, `DELETE FROM plan`)
	for _, r := range rows {
		if err == nil {
			_, err = tx.ExecContext(ctx, `INSERT INTO plan VALUES (?, ?)`, r.Key, r.Body)
		}
	}
	return err
}

// restFor is how long an inside address that was given up is given to others only where nothing else is left.
const restFor = time.Hour

// rest keeps that some addresses were given up now.
func (s *Site) rest(ctx context.Context, tx *sql.Tx, addrs []netip.Addr) error {
	now := s.clock.Now()
	_, err := tx.ExecContext(ctx, `DELETE FROM resting WHERE since < ?`, now.Add(-restFor).UnixMilli())
	for _, a := range addrs {
		if err == nil {
			_, err = tx.ExecContext(ctx, `INSERT OR REPLACE INTO resting VALUES (?, ?)`, a.String(), now.UnixMilli())
		}
	}
	return err
}

// readResting reads which addresses rest.
func (s *Site) readResting(ctx context.Context, tx *sql.Tx) (list []netip.Addr, err error) {
	err = store.Each(ctx, tx, `SELECT address FROM resting WHERE since >= ? ORDER BY address`, func(scan func(...any) error) error {
		var text string
		if err := scan(&text); err != nil {
			return err
		}
		a, err := netip.ParseAddr(text)
		list = append(list, a)
		return err
	}, s.clock.Now().Add(-restFor).UnixMilli())
	return list, err
}

// addrsOf are the inside addresses of the machines and bastions among some resources, by name.
func addrsOf(list []change.Resource) map[string][]netip.Addr {
	out := map[string][]netip.Addr{}
	for _, t := range list {
		if own := insideOf(t); len(own) > 0 {
			out[t.Name] = own
		}
	}
	return out
}

// withHost adds the installed addresses of the site's host to those of machines.
func withHost(addrs map[string][]netip.Addr, m *meta) map[string][]netip.Addr {
	if len(m.Host) == 0 {
		return addrs
	}
	all := maps.Clone(addrs)
	all[estate.SiteHost] = m.Host
	return all
}

// insideOf are the inside addresses of a machine or a bastion; other resources have none.
func insideOf(t change.Resource) (list []netip.Addr) {
	if t.Kind == change.Machine || t.Kind == change.Bastion {
		for _, at := range t.Spec.Subnets {
			list = append(list, t.Spec.Inside[at]...)
		}
	}
	return list
}
