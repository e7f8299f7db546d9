package linux

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"time"

	"github.com/google/nftables"

	"ironbark/internal/driver"
	"ironbark/internal/flow"
	"ironbark/internal/store"
)

// Elements of the sets that let something pass count it. What they have counted is kept by
// sentence before the table is put in place of itself, and whenever somebody asks.

// countsSchema keeps what was counted, by sentence or by openings: by tables of before, by
// this one when it was last read, and between which two readings the last of it was. Numbers
// of boxes lead to the openings that they are of.
const countsSchema = `
CREATE TABLE counts (what TEXT PRIMARY KEY, packets INTEGER NOT NULL, bytes INTEGER NOT NULL, now_packets INTEGER NOT NULL, now_bytes INTEGER NOT NULL, after TEXT NOT NULL, before TEXT NOT NULL) STRICT, WITHOUT ROWID;
CREATE TABLE numbers (number INTEGER PRIMARY KEY, openings TEXT NOT NULL) STRICT;
`

// counted is what a count is kept by.
type counted struct {
	Sentence string  `json:"sentence,omitempty"`
	Openings []int64 `json:"openings,omitempty"`
}

// putNumber keeps which openings a number of boxes is of.
func putNumber(ctx context.Context, tx *sql.Tx, number uint32, passing []driver.Passage, machine string) error {
	var ids []int64
	for _, p := range passing {
		if slices.ContainsFunc(p.Parts, func(one driver.Part) bool { return slices.Contains(one.Machines, machine) }) {
			ids = append(ids, p.ID)
		}
	}
	if len(ids) == 0 {
		return nil
	}
	text, err := json.Marshal(ids)
	if err == nil {
		_, err = tx.ExecContext(ctx, `INSERT OR REPLACE INTO numbers VALUES (?, ?)`, number, string(text))
	}
	return err
}

// Counts tells what was counted until now.
func (s *Site) Counts(ctx context.Context) (*driver.Counts, error) {
	out := &driver.Counts{}
	err := s.change(ctx, func(tx *sql.Tx, m *meta) error {
		if err := s.count(ctx, tx, m, false); err != nil {
			return err
		}
		out.Since, out.Noted = m.Since, m.Noted
		from, many, err := keptSources(ctx, tx)
		if err != nil {
			return err
		}
		return store.Each(ctx, tx, `SELECT what, packets + now_packets, bytes + now_bytes, after, before FROM counts ORDER BY what`, func(scan func(...any) error) error {
			var what, after, before string
			var c driver.Count
			if err := scan(&what, &c.Packets, &c.Bytes, &after, &before); err != nil {
				return err
			}
			var key counted
			if err := json.Unmarshal([]byte(what), &key); err != nil {
				return err
			}
			c.Sentence, c.Openings = key.Sentence, key.Openings
			if key.Sentence != "" {
				c.From, c.Many = flow.AddrSet(slices.Collect(maps.Keys(from[key.Sentence]))...), many[key.Sentence]
			}
			var err1, err2 error
			c.After, err1 = time.Parse(time.RFC3339Nano, after)
			c.Before, err2 = time.Parse(time.RFC3339Nano, before)
			out.List = append(out.List, c)
			return cmp.Or(err1, err2)
		})
	})
	return out, err
}

// count reads the counters of the table that is in place, and keeps what they come to. last
// says that the table is put away now, and its counters with it: what cannot be read is lost then.
func (s *Site) count(ctx context.Context, tx *sql.Tx, m *meta, last bool) error {
	now := s.clock.Now().UTC()
	if m.Since.IsZero() {
		m.Since = now
	}
	read := cmp.Or(m.Read, m.Since)
	from := &sources{of: map[string]map[netip.Addr]bool{}, many: map[string]bool{}}
	noting := m.Layout == layout // a program of before notes nothing
	found, err := s.readCounters(ctx, tx, m, from, noting)
	if err != nil && !last {
		return fmt.Errorf("what was let pass cannot be told: %w", err)
	}
	// What was noted is gone with a host that was started anew, and anything can be with somebody else's hand.
	g, err1 := s.generation()
	switch {
	case !noting && !last:
		m.Noted = time.Time{}
	case !noting || err != nil || err1 != nil || g != m.Generation || from.missed:
		m.Noted = now
	}
	if err := keepSources(ctx, tx, from); err != nil {
		return err
	}
	for what, c := range found {
		var packets, bytes uint64
		err := store.Each(ctx, tx, `SELECT now_packets, now_bytes FROM counts WHERE what = ?`, func(scan func(...any) error) error { return scan(&packets, &bytes) }, what)
		if err != nil {
			return err
		}
		if c.Packets <= packets {
			continue
		}
		_, err = tx.ExecContext(ctx, `INSERT INTO counts VALUES (?1, 0, 0, ?2, ?3, ?4, ?5) ON CONFLICT (what) DO UPDATE SET now_packets = ?2, now_bytes = ?3, after = ?4, before = ?5`,
			what, int64(c.Packets), int64(c.Bytes), read.Format(time.RFC3339Nano), now.Format(time.RFC3339Nano))
		if err != nil {
			return err
		}
	}
	m.Read = now
	if last {
		_, err = tx.ExecContext(ctx, `UPDATE counts SET packets = packets + now_packets, bytes = bytes + now_bytes, now_packets = 0, now_bytes = 0`)
	}
	return err
}

// readCounters reads what the kernel has counted, by what it is kept by, and the sources that it has noted. The error tells of a
// table that is not the one that was installed: nobody can tell what its counters are of.
func (s *Site) readCounters(ctx context.Context, tx *sql.Tx, m *meta, from *sources, noting bool) (map[string]driver.Count, error) {
	if !exists(s.prefix) {
		return nil, nil
	}
	rows, err := readPlan(ctx, tx)
	if err != nil {
		return nil, err
	}
	plan, err := flow.FromRows(rows)
	if err != nil {
		return nil, err
	}
	ways, err := readWays(ctx, tx, m)
	if err != nil {
		return nil, err
	}
	numbers := map[uint32][]int64{}
	err = store.Each(ctx, tx, `SELECT number, openings FROM numbers`, func(scan func(...any) error) error {
		var n uint32
		var text string
		var ids []int64
		if err := scan(&n, &text); err != nil {
			return err
		}
		err := json.Unmarshal([]byte(text), &ids)
		numbers[n] = ids
		return err
	})
	if err != nil {
		return nil, err
	}
	t := newTally(plan, NewTable(plan, s.running, ways), ways, map[string]driver.Count{})
	t.numbers = numbers
	calls := newTally(plan.Calls(), t.table.Calls, ways, t.found)
	err = within(s.prefix, func() error {
		if err := errors.Join(t.judged(""), calls.judged(callsPrefix)); err != nil {
			return err
		}
		for _, f := range families {
			if err := t.each("own"+f.name, t.door); err != nil {
				return err
			}
			if !noting {
				continue
			}
			if err := t.noted(f, from); err != nil {
				return err
			}
		}
		return t.each(openedName, t.opening)
	})
	return t.found, err
}

// tally gathers counters by what they are of.
type tally struct {
	plan    *flow.Plan
	table   *Table
	rules   map[place]int
	numbers map[uint32][]int64
	found   map[string]driver.Count

	ways      map[uint32]string       // the sentence that publishes each way
	ending    []*flow.Rule            // those with an end that let pass, the longest-lasting first
	audiences map[uint32][]*flow.Rule // of those, the ones that speak of an audience, as far as they were asked for
}

func newTally(plan *flow.Plan, table *Table, ways Ways, found map[string]driver.Count) *tally {
	t := &tally{plan: plan, table: table, found: found, ways: map[uint32]string{}, audiences: map[uint32][]*flow.Rule{}}
	for i := range plan.Doors {
		d := &plan.Doors[i]
		if way, ok := ways.of(d); ok && t.ways[way] == "" {
			t.ways[way] = d.Origin.Sentence
		}
	}
	for i := range plan.Rules {
		if r := &plan.Rules[i]; r.Kind != flow.Deny && r.Kind != flow.Opening && !r.Until.IsZero() {
			t.ending = append(t.ending, r)
		}
	}
	slices.SortStableFunc(t.ending, func(x, y *flow.Rule) int { return y.Until.Compare(x.Until) })
	return t
}

// judged gathers the counters of the sets by which packets are judged.
func (t *tally) judged(prefix string) error {
	t.rules = sentences(t.table)
	for sort, suffix := range sortNames {
		if err := t.each(prefix+"pass"+suffix, func(e nftables.SetElement) { t.profile(sort, e) }); err != nil {
			return err
		}
		for _, f := range families {
			if err := t.each(prefix+"pass-until"+suffix+f.name, func(e nftables.SetElement) { t.until(f, sort, e) }); err != nil {
				return err
			}
		}
	}
	return nil
}

// each calls do for the elements of a set that counted something.
func (t *tally) each(set string, do func(nftables.SetElement)) error {
	list, err := dumpWhole(set)
	for _, e := range list {
		if e.Counter != nil && e.Counter.Packets > 0 {
			do(e)
		}
	}
	return err
}

func (t *tally) add(what counted, e nftables.SetElement) {
	text, err := json.Marshal(what)
	if err != nil {
		return
	}
	c := t.found[string(text)]
	c.Packets += e.Counter.Packets
	c.Bytes += e.Counter.Bytes
	t.found[string(text)] = c
}

// place is where an entry of a profile begins.
type place struct {
	sort    int
	profile uint32
	at      uint64
}

// sentences are those by which the entries of a table let pass.
func sentences(t *Table) map[place]int {
	out := make(map[place]int, len(t.Pass))
	for _, e := range t.Pass {
		p := place{sort: sortOf(e.Services.Lo), profile: e.Profile}
		if p.sort == ported {
			p.at = binary.BigEndian.Uint64(entryRange(e).lo[4:])
		}
		out[p] = e.Rule
	}
	return out
}

// profile adds what a profile let pass to the sentence by which it does.
func (t *tally) profile(sort int, e nftables.SetElement) {
	profile, at, ok := profileOf(sort, e)
	if rule, known := t.rules[place{sort, profile, at}]; ok && known {
		t.add(counted{Sentence: t.plan.Rules[rule].Origin.Sentence}, e)
	}
}

// until adds what a box with an end let pass to the sentence by which it does.
func (t *tally) until(f family, sort int, e nftables.SetElement) {
	box, err := boxOf(f, sort, e)
	if err != nil {
		return
	}
	if by := t.byAudience(box.Class, box.Services.Lo, box.Source.Lo); by != "" {
		t.add(counted{Sentence: by}, e)
	}
}

// byAudience returns the sentence with an end that lets a service from a source pass to an audience for longest; "" where there is none.
func (t *tally) byAudience(audience uint32, service flow.Service, from flow.Point) string {
	rules, known := t.audiences[audience]
	if !known {
		rules = t.speakOf(audience)
		t.audiences[audience] = rules
	}
	for _, r := range rules {
		if r.Services.Contains(service) && r.From.Contains(from) {
			return r.Origin.Sentence
		}
	}
	return ""
}

// speakOf lists the rules with an end that let something pass to an audience, the longest-lasting first.
func (t *tally) speakOf(audience uint32) (rules []*flow.Rule) {
	i := slices.IndexFunc(t.table.Audience, func(m Member) bool { return m.Class == audience })
	if i < 0 {
		return nil
	}
	machine := slices.IndexFunc(t.plan.Machines, func(m flow.Machine) bool {
		return slices.ContainsFunc(m.Interfaces, func(n flow.Interface) bool { return slices.Contains(n.Addrs, t.table.Audience[i].Addr) })
	})
	for _, r := range t.ending {
		if r.To.Has(int32(machine)) {
			rules = append(rules, r)
		}
	}
	return rules
}

// door adds what a published door's own sources sent.
func (t *tally) door(e nftables.SetElement) {
	if len(e.Key) < 4 {
		return
	}
	if by := t.ways[binary.NativeEndian.Uint32(e.Key)]; by != "" {
		t.add(counted{Sentence: by}, e)
	}
}

func (t *tally) opening(e nftables.SetElement) {
	if len(e.Key) == 4 {
		if ids := t.numbers[binary.NativeEndian.Uint32(e.Key)]; len(ids) > 0 {
			t.add(counted{Openings: ids}, e)
		}
	}
}

var _ driver.Counter = (*Site)(nil)
