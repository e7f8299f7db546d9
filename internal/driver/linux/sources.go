package linux

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/binary"
	"errors"
	"maps"
	"net/netip"
	"slices"

	"github.com/google/nftables"
	"github.com/google/nftables/expr"
	"golang.org/x/sys/unix"

	"ironbark/internal/flow"
	"ironbark/internal/store"
)

// The kernel notes from where each connection began that a sentence let pass: under the number by which it was looked up (of
// a profile, an audience or a way), its service and its source. Nobody has to listen: the sets are read with the counters.
//
// Somebody who sends from ever more addresses must not push out what other sentences are used by, so each number and
// service has a limit of its own, which the kernel holds to: a rate that nobody lives to see, after a burst.
const (
	passedName = "passed" // the chain in which what a sentence lets pass ends
	notedName  = "noted"  // the one that notes its source

	mostSources  = 256     // that are noted of a number at a service, and kept of a sentence; where there are as many, there may be more
	mostKept     = 10_000  // that are kept of all sentences: what the disk holds back has room for more
	mostNoted    = 1 << 17 // that the kernel notes in all, of a family
	mostServices = 1 << 14 // numbers and services of which it notes any
)

// sourcesSchema keeps from where sentences were used, and those that were used from more addresses than are kept.
const sourcesSchema = `
CREATE TABLE sources (what TEXT, address TEXT, PRIMARY KEY (what, address)) STRICT, WITHOUT ROWID;
CREATE TABLE many_sources (what TEXT PRIMARY KEY) STRICT, WITHOUT ROWID;
`

// notedSets are those of one family: what is noted, and the limits.
func notedSets(table *nftables.Table, f family) (sources, limits *nftables.Set, err error) {
	key := []nftables.SetDatatype{nftables.TypeMark, nftables.TypeInetProto, nftables.TypeInetService}
	limited, err1 := nftables.ConcatSetType(key...)
	noted, err2 := nftables.ConcatSetType(append(key, f.addressType)...)
	sources = &nftables.Set{Table: table, Name: "sources" + f.name, Dynamic: true, Concatenation: true, KeyType: noted, Size: mostNoted}
	limits = &nftables.Set{Table: table, Name: "source-limits" + f.name, Dynamic: true, Concatenation: true, KeyType: limited, Size: mostServices}
	return sources, limits, errors.Join(err1, err2)
}

// note makes the sets of what is noted, and writes the rules that note a packet of a family. None of them decides anything: what is full
// ends the rule and lets the packet go on.
func (b *batch) note(ch *nftables.Chain, f family) {
	sources, limits, err := notedSets(b.table, f)
	b.do(err)
	b.do(b.c.AddSet(sources, nil))
	b.do(b.c.AddSet(limits, nil))
	put := func(s *nftables.Set, with ...expr.Any) []expr.Any {
		return []expr.Any{&expr.Dynset{SrcRegKey: register(0), SetName: s.Name, SetID: s.ID, Operation: unix.NFT_DYNSET_OP_ADD, Exprs: with}}
	}
	for sort, list := range f.sorts() {
		for _, which := range list {
			all := append(isFamily(f), which...)
			for _, part := range [][]expr.Any{
				loadMeta(expr.MetaKeyMARK, 0), serviceOfPacket(sort), payload(f.src, f.size, 3), lookup(sources, 0, true),
				put(limits, &expr.Limit{Type: expr.LimitTypePkts, Rate: 1, Unit: expr.LimitTimeWeek, Burst: mostSources}), put(sources),
			} {
				all = append(all, part...)
			}
			b.c.AddRule(&nftables.Rule{Table: b.table, Chain: ch, Exprs: all})
		}
	}
}

// sources gathers from where sentences were used.
type sources struct {
	of     map[string]map[netip.Addr]bool // by sentence
	many   map[string]bool                // those of which not all are noted
	missed bool                           // sources of any sentence may be missing
}

// noted gathers what the kernel noted of a family.
func (t *tally) noted(f family, into *sources) error {
	list, err1 := dumpWhole("sources" + f.name)
	limits, err2 := dumpWhole("source-limits" + f.name)
	into.missed = into.missed || len(list) >= mostNoted || len(limits) >= mostServices
	under := map[string]int{} // by number and service
	for _, e := range list {
		if len(e.Key) != 12+int(f.size) {
			continue
		}
		number := binary.NativeEndian.Uint32(e.Key)
		addr, _ := netip.AddrFromSlice(e.Key[12:])
		by := t.letPass(number, serviceOf(e.Key[4], binary.BigEndian.Uint16(e.Key[8:])), addr)
		if by == "" {
			continue
		}
		if into.of[by] == nil {
			into.of[by] = map[netip.Addr]bool{}
		}
		into.of[by][addr] = true
		if under[string(e.Key[:12])]++; under[string(e.Key[:12])] >= mostSources {
			into.many[by] = true
		}
	}
	return errors.Join(err1, err2)
}

// serviceOf is the service that a protocol, as [protocol] numbers it, and a port stand for.
func serviceOf(proto byte, port uint16) flow.Service {
	switch proto {
	case protocol(flow.TCPPort(0)):
		return flow.TCPPort(port)
	case protocol(flow.UDPPort(0)):
		return flow.UDPPort(port)
	case protocol(flow.Ping):
		return flow.Ping
	}
	return flow.Other
}

// letPass returns the sentence by which a service from an address was let pass under a number; "" where there is none.
func (t *tally) letPass(number uint32, service flow.Service, from netip.Addr) string {
	switch {
	case number >= firstWay:
		return t.ways[number]
	case number >= firstAudience:
		return t.byAudience(number, service, flow.PointOf(from))
	}
	first, _ := slices.BinarySearchFunc(t.table.Pass, number, func(e Entry, number uint32) int { return cmp.Compare(e.Profile, number) })
	for _, e := range t.table.Pass[first:] { // sorted by profile
		if e.Profile != number {
			break
		}
		if e.Services.Lo <= service && service <= e.Services.Hi {
			return t.plan.Rules[e.Rule].Origin.Sentence
		}
	}
	return ""
}

// keepSources keeps what was gathered. Of a sentence that is used from too many addresses none are kept.
func keepSources(ctx context.Context, tx *sql.Tx, found *sources) error {
	do := func(query string, args ...any) error {
		_, err := tx.ExecContext(ctx, query, args...)
		return err
	}
	kept, many, err := keptSources(ctx, tx)
	if err != nil {
		return err
	}
	all := 0
	for _, addrs := range kept {
		all += len(addrs)
	}
	for _, sentence := range slices.Sorted(maps.Keys(found.of)) {
		if many[sentence] {
			continue
		}
		have := kept[sentence]
		var more []netip.Addr
		for a := range found.of[sentence] {
			if !have[a] {
				more = append(more, a)
			}
		}
		if found.many[sentence] || len(have)+len(more) >= mostSources || all+len(more) > mostKept {
			all -= len(have)
			if err := errors.Join(do(`INSERT INTO many_sources VALUES (?)`, sentence), do(`DELETE FROM sources WHERE what = ?`, sentence)); err != nil {
				return err
			}
			continue
		}
		all += len(more)
		for _, a := range more {
			if err := do(`INSERT INTO sources VALUES (?, ?)`, sentence, a.String()); err != nil {
				return err
			}
		}
	}
	return nil
}

// keptSources reads what was kept, by sentence.
func keptSources(ctx context.Context, tx *sql.Tx) (of map[string]map[netip.Addr]bool, many map[string]bool, err error) {
	of, many = map[string]map[netip.Addr]bool{}, map[string]bool{}
	err1 := store.Each(ctx, tx, `SELECT what, address FROM sources`, func(scan func(...any) error) error {
		var what, text string
		if err := scan(&what, &text); err != nil {
			return err
		}
		a, err := netip.ParseAddr(text)
		if of[what] == nil {
			of[what] = map[netip.Addr]bool{}
		}
		of[what][a] = true
		return err
	})
	err2 := store.Each(ctx, tx, `SELECT what FROM many_sources`, func(scan func(...any) error) error {
		var what string
		err := scan(&what)
		many[what] = true
		return err
	})
	return of, many, errors.Join(err1, err2)
}
