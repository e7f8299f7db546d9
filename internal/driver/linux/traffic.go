package linux

import (
	"cmp"
	"context"
	"database/sql"
	"fmt"
	"maps"
	"net/netip"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/google/nftables"
	"github.com/google/nftables/expr"
	"golang.org/x/sys/unix"

	"ironbark/internal/change"
	"ironbark/internal/driver"
	"ironbark/internal/estate"
)

// One machine must not fill the kernel's table of connections for the others. So each link has limits, and the last rules before a packet is
// let pass hold it to them. A connection counts at the links of both machines, whoever began it.
//
// The kernel's count of connections (nft_connlimit) looks at each of them when another one begins. So a link's connections are counted in
// parts, chosen by a hash, of some sixteen each: a part that has twice as many takes no more.
const (
	defaultNew  = 10000 // connections a second that begin at a machine
	perPart     = 16    // connections of a part, on average, where the limit is reached
	mostParts   = 1024
	leastParted = 256 // limits up to this one are counted in one part, to the connection
	limitsExtra = 64  // parts for links that come and go while the table is in place
)

// connectionTable is how many connections the kernel tracks in a namespace (nf_conntrack-sysctl of its documentation); what it ships with
// where that cannot be read.
func connectionTable() int {
	text, err := os.ReadFile("/proc/sys/net/netfilter/nf_conntrack_max")
	if n, bad := strconv.Atoi(strings.TrimSpace(string(text))); err == nil && bad == nil && n > 0 {
		return n
	}
	return 1 << 18
}

// ownLimits are those of a machine that has none of its own: connections so that one machine takes an eighth of the table at most.
func ownLimits() estate.Traffic {
	return estate.Traffic{Connections: max(connectionTable()/16, perPart), New: defaultNew}
}

// limitsOf are the limits of machines among some resources that the kernel holds them to, by name.
func limitsOf(list []change.Resource) map[string]estate.Traffic {
	out := map[string]estate.Traffic{}
	for _, t := range list {
		if t.Kind == change.Machine {
			limits := t.Spec.Limits
			limits.Log = 0
			out[t.Name] = limits
		}
	}
	return out
}

// parts are how many a limit of connections is counted in, a power of two, and how many connections each takes.
func parts(limit int) (count, each int) {
	if limit <= leastParted {
		return 1, limit
	}
	for count = 1; count*2*perPart <= limit && count < mostParts; count *= 2 {
	}
	return count, (limit + count - 1) / count * 2
}

// addLimits writes the chain of what is let pass: it holds each link to its limits.
func (b *batch) addLimits(links []link) {
	groups := map[estate.Traffic][]nftables.SetElement{}
	for _, l := range links {
		groups[l.limit] = append(groups[l.limit], nftables.SetElement{Key: native(uint32(l.index))})
	}
	delete(groups, estate.Traffic{}) // links of lines: their peers are limited by the machines that they reach
	ordered := slices.SortedFunc(maps.Keys(groups), func(x, y estate.Traffic) int { return strings.Compare(x.String(), y.String()) })
	for i, limit := range ordered {
		b.limit(fmt.Sprintf("limits-%d", i+1), limit, groups[limit])
	}
	b.rule(b.pass, setMark(passMark))
	b.rule(b.pass, verdict(expr.VerdictAccept))
}

// limit writes the rules that hold some links to limits. The names of its sets and chains begin with name.
func (b *batch) limit(name string, limit estate.Traffic, links []nftables.SetElement) {
	own := &nftables.Set{Table: b.table, Name: name, KeyType: nftables.TypeIFIndex}
	b.do(b.c.AddSet(own, nil))
	b.add(own, links)
	for _, end := range []struct {
		name string
		key  expr.MetaKey
	}{{"-from", expr.MetaKeyIIF}, {"-to", expr.MetaKeyOIF}} {
		at := loadMeta(end.key, 0)
		if limit.Connections > 0 || limit.New > 0 {
			first := b.c.AddChain(&nftables.Chain{Name: name + end.name, Table: b.table})
			b.rule(b.pass, unconfirmed(), at, lookup(own, 0, false), []expr.Any{&expr.Verdict{Kind: expr.VerdictJump, Chain: first.Name}})
			if limit.New > 0 {
				b.within(first, name+"-new", at, &expr.Limit{Type: expr.LimitTypePkts, Rate: uint64(limit.New), Unit: expr.LimitTimeSecond, Burst: uint32(limit.New)}, len(links))
			}
			if limit.Connections > 0 {
				b.counted(first, name+"-tracked", end.key, limit.Connections, len(links))
			}
		}
		for _, rate := range []struct {
			name string
			n    int
			kind expr.LimitType
		}{{"-packets", limit.Packets, expr.LimitTypePkts}, {"-bytes", limit.Bytes, expr.LimitTypePktBytes}} {
			if rate.n > 0 {
				each := b.c.AddChain(&nftables.Chain{Name: name + rate.name + end.name, Table: b.table})
				b.rule(b.pass, at, lookup(own, 0, false), []expr.Any{&expr.Verdict{Kind: expr.VerdictJump, Chain: each.Name}})
				b.within(each, name+rate.name, at, &expr.Limit{Type: rate.kind, Rate: uint64(rate.n), Unit: expr.LimitTimeSecond, Burst: uint32(rate.n)}, len(links))
			}
		}
	}
}

// unconfirmed matches the first packet of a connection (IPS_CONFIRMED of linux/netfilter/nf_conntrack_common.h).
func unconfirmed() []expr.Any {
	return []expr.Any{
		&expr.Ct{Key: expr.CtKeySTATUS, Register: register(0)},
		&expr.Bitwise{SourceRegister: register(0), DestRegister: register(0), Len: 4, Mask: native(8), Xor: native(0)},
		&expr.Cmp{Op: expr.CmpOpEq, Register: register(0), Data: native(0)},
	}
}

// dynamic is a set that the kernel fills, made once for both directions.
func (b *batch) dynamic(s *nftables.Set) *nftables.Set {
	if made := b.made[s.Name]; made != nil {
		return made
	}
	if b.made == nil {
		b.made = map[string]*nftables.Set{}
	}
	b.do(b.c.AddSet(s, nil))
	b.made[s.Name] = s
	return s
}

// within lets a chain go on where a link is within a rate, and drops where it is not. What the set has no room for is dropped.
func (b *batch) within(ch *nftables.Chain, name string, at []expr.Any, rate *expr.Limit, links int) {
	s := b.dynamic(&nftables.Set{Table: b.table, Name: name, Dynamic: true, KeyType: nftables.TypeIFIndex, Size: uint32(links + limitsExtra)})
	rest := b.c.AddChain(&nftables.Chain{Name: ch.Name + "-" + name, Table: b.table})
	b.rule(rest, at, []expr.Any{&expr.Dynset{SrcRegKey: register(0), SetName: s.Name, SetID: s.ID, Operation: unix.NFT_DYNSET_OP_ADD, Exprs: []expr.Any{rate}}}, verdict(expr.VerdictReturn))
	b.rule(rest, goTo(refuseName))
	b.rule(ch, []expr.Any{&expr.Verdict{Kind: expr.VerdictJump, Chain: rest.Name}})
}

// counted lets a chain return where a part of a link's connections has room for one more, and drops where it has not.
func (b *batch) counted(ch *nftables.Chain, name string, link expr.MetaKey, limit, links int) {
	count, each := parts(limit)
	key, err := nftables.ConcatSetType(nftables.TypeIFIndex, nftables.TypeMark)
	b.do(err)
	s := b.dynamic(&nftables.Set{Table: b.table, Name: name, Dynamic: true, Concatenation: true, KeyType: key, Size: uint32((links + limitsExtra) * count)})
	for _, f := range families {
		words := f.size / 4
		hashed := slices.Concat(ofConnection(f.from, 0, 0), ofConnection(unix.NFT_CT_PROTO_SRC, 0, words), ofConnection(unix.NFT_CT_PROTO_DST, 0, words+1), []expr.Any{
			&expr.Hash{SourceRegister: register(0), DestRegister: register(8), Length: f.size + 8, Modulus: uint32(count), Type: expr.HashTypeJenkins},
			&expr.Meta{Key: expr.MetaKeyMARK, SourceRegister: true, Register: register(8)},
		})
		b.rule(ch, isFamily(f), hashed, loadMeta(link, 0), loadMeta(expr.MetaKeyMARK, 1),
			[]expr.Any{&expr.Dynset{SrcRegKey: register(0), SetName: s.Name, SetID: s.ID, Operation: unix.NFT_DYNSET_OP_ADD, Exprs: []expr.Any{&expr.Connlimit{Count: uint32(each)}}}}, verdict(expr.VerdictReturn))
	}
	b.rule(ch, goTo(refuseName))
}

// excess are the connections that machines have beyond their limits: those of TCP that are established, and the oldest, are kept first.
// Cost: O(n log n).
func excess(list []connection, addrs map[string][]netip.Addr, limits map[string]estate.Traffic) (beyond []connection) {
	owner := map[netip.Addr]string{}
	for name, own := range addrs {
		for _, a := range own {
			owner[a] = name
		}
	}
	list = slices.Clone(list)
	slices.SortFunc(list, func(a, b connection) int {
		return cmp.Or(compareBool(b.established(), a.established()), a.since.Compare(b.since))
	})
	own := ownLimits()
	has := map[string]int{}
	for _, c := range list {
		ends := slices.Compact([]string{owner[c.caller], owner[c.called]})
		full := func(name string) bool {
			limit, known := limits[name]
			return known && has[name] >= limit.Or(own).Connections
		}
		if slices.ContainsFunc(ends, full) {
			beyond = append(beyond, c)
			continue
		}
		for _, name := range ends {
			has[name]++
		}
	}
	return beyond
}

// established reports whether both sides of a TCP connection have spoken.
func (c *connection) established() bool { return c.proto == unix.IPPROTO_TCP && c.state == established }

var _ driver.TrafficKeeper = (*Site)(nil)

// Traffic counts the connections that the kernel tracks, and those of each machine.
func (s *Site) Traffic(ctx context.Context) (*driver.Traffic, error) {
	t := &driver.Traffic{Most: connectionTable(), Machines: map[string]driver.MachineTraffic{}}
	owner := map[netip.Addr]string{}
	err := s.read(ctx, func(tx *sql.Tx) error {
		list, err := readResources(ctx, tx)
		for _, one := range list {
			if one.Kind == change.Machine {
				t.Machines[one.Name] = driver.MachineTraffic{Limits: one.Spec.Limits.Or(ownLimits()).Or(estate.Traffic{Log: estate.DefaultLog})}
				for _, a := range insideOf(one) {
					owner[a] = one.Name
				}
			}
		}
		return err
	})
	if err != nil || !exists(s.prefix) {
		return t, err
	}
	list, err := s.connections()
	t.Connections = len(list)
	for _, c := range list {
		for _, name := range slices.Compact([]string{owner[c.caller], owner[c.called]}) {
			if name != "" {
				one := t.Machines[name]
				one.Connections++
				t.Machines[name] = one
			}
		}
	}
	return t, err
}
