package linux

import (
	"net/netip"
	"slices"
	"time"

	"github.com/google/nftables"
	"github.com/google/nftables/expr"
	"golang.org/x/sys/unix"
)

// The groups of the router's links (ip-link(8)): they tell where a packet comes from.
const (
	groupUplink  = 0x1b01 // to the host, and what is beyond it
	groupMachine = 0x1b02 // to a machine that does not call outward
	groupOutward = 0x1b03 // to a machine that does
	groupProbe   = 0x1b04 // from the namespace that sends what is to be tried
	groupOff     = 0x1b05 // to the namespace that answers for guests that are off
	groupLine    = 0x1b06 // to the peers of a line
)

// tableName is that of the one table in the router's namespace.
const tableName = "ironbark"

// family is what differs between IPv4 and IPv6.
type family struct {
	v4          bool
	name        string // of sets
	proto       byte   // of nfproto
	icmp        byte
	echo        byte   // type of an echo request
	asked       []byte // types of what asks a host for an answer
	src, dst    uint32
	size        uint32
	addressType nftables.SetDatatype
}

var families = []family{
	{true, "4", unix.NFPROTO_IPV4, unix.IPPROTO_ICMP, 8, []byte{8, 13, 15, 17}, 12, 16, 4, nftables.TypeIPAddr},
	{false, "6", unix.NFPROTO_IPV6, unix.IPPROTO_ICMPV6, 128, []byte{128, 139}, 8, 24, 16, nftables.TypeIP6Addr},
}

// register returns the n-th 32-bit register. Concatenated keys lie in registers that follow
// one another (linux/netfilter/nf_tables.h).
func register(n uint32) uint32 { return unix.NFT_REG32_00 + n }

// metaTime is the wall clock in nanoseconds (NFT_META_TIME_NS), for which the library has
// no name.
const metaTime expr.MetaKey = 30

// callsPrefix begins the names of the sets of what machines call outside.
const callsPrefix = "calls-"

// mirrored is a family in which source and destination change places: so what machines call outside is judged as
// what comes to them is.
func (f family) mirrored() family {
	f.src, f.dst = f.dst, f.src
	return f
}

// batch is one transaction.
type batch struct {
	c     *nftables.Conn
	table *nftables.Table
	err   error
}

func (b *batch) do(err error) {
	if b.err == nil {
		b.err = err
	}
}

// link is a link of the router to a machine, and the addresses that may come from it.
type link struct {
	index int
	addrs []netip.Addr
	port  uint16 // UDP, on which a line is heard; 0: it is a machine's link
}

// install replaces everything by a table, at one moment.
//
// A packet that is being looked up at that moment goes on through the rules of the table
// before, whose sets are empty to it from then on (nf_tables marks elements by generation). So nothing passes for
// being in no set: rules accept what a set has, and drop or go on where it has not.
func install(c *nftables.Conn, t *Table, links []link, open []opened, now time.Time) error {
	b := &batch{c: c, table: &nftables.Table{Name: tableName, Family: nftables.TableFamilyINet}}
	c.AddTable(b.table) // so that there is one to delete
	c.DelTable(b.table)
	b.table = c.AddTable(b.table)
	drop := nftables.ChainPolicyDrop
	accept := nftables.ChainPolicyAccept
	chain := func(name string, kind nftables.ChainType, hook *nftables.ChainHook, priority *nftables.ChainPriority, policy *nftables.ChainPolicy) *nftables.Chain {
		return c.AddChain(&nftables.Chain{Name: name, Table: b.table, Type: kind, Hooknum: hook, Priority: priority, Policy: policy})
	}
	source := chain("source", nftables.ChainTypeFilter, nftables.ChainHookPrerouting, nftables.ChainPriorityRaw, &accept)
	back := chain("back", nftables.ChainTypeFilter, nftables.ChainHookPrerouting, nftables.ChainPriorityMangle, &accept)
	doors := chain("doors", nftables.ChainTypeNAT, nftables.ChainHookPrerouting, nftables.ChainPriorityNATDest, &accept)
	outward := chain("outward", nftables.ChainTypeNAT, nftables.ChainHookPostrouting, nftables.ChainPriorityNATSource, &accept)
	input := chain("input", nftables.ChainTypeFilter, nftables.ChainHookInput, nftables.ChainPriorityFilter, &drop)
	refuse := c.AddChain(&nftables.Chain{Name: refuseName, Table: b.table})
	through := c.AddChain(&nftables.Chain{Name: openedName, Table: b.table})
	passed := c.AddChain(&nftables.Chain{Name: passedName, Table: b.table})
	noted := c.AddChain(&nftables.Chain{Name: notedName, Table: b.table})
	calls := c.AddChain(&nftables.Chain{Name: "calls", Table: b.table})
	judge := chain("judge", nftables.ChainTypeFilter, nftables.ChainHookForward, nftables.ChainPriorityFilter, &drop)
	rule := func(ch *nftables.Chain, parts ...[]expr.Any) {
		var all []expr.Any
		for _, p := range parts {
			all = append(all, p...)
		}
		c.AddRule(&nftables.Rule{Table: b.table, Chain: ch, Exprs: all})
	}
	// What the probe began is answered to the probe, whatever address it spoke from.
	rule(back, metaIs(expr.MetaKeyIIFGROUP, native(groupProbe)), ctState(expr.CtStateBitNEW),
		[]expr.Any{&expr.Immediate{Register: register(0), Data: native(fromProbe)}, &expr.Ct{Key: expr.CtKeyMARK, SourceRegister: true, Register: register(0)}})
	rule(back, ctIs(expr.CtKeyDIRECTION, []byte{1}), probeBegan(), setMark(fromProbe))
	rule(refuse, setMark(0))
	rule(refuse, probeBegan(), setMark(fromProbe))
	rule(judge, ctIs(expr.CtKeyDIRECTION, []byte{1}), ctState(expr.CtStateBitESTABLISHED), verdict(expr.VerdictAccept))
	for _, f := range families {
		rule(judge, ctState(expr.CtStateBitRELATED), metaIs(expr.MetaKeyL4PROTO, []byte{f.icmp}), verdict(expr.VerdictAccept))
		for _, asked := range f.asked { // a public address that leads nowhere is silent
			rule(input, isFamily(f), metaIs(expr.MetaKeyIIFGROUP, native(groupUplink)), metaIs(expr.MetaKeyL4PROTO, []byte{f.icmp}), transportIs(0, asked), verdict(expr.VerdictDrop))
		}
		rule(input, isFamily(f), metaIs(expr.MetaKeyL4PROTO, []byte{f.icmp}), verdict(expr.VerdictAccept)) // neighbours, and the gateway's own answers
	}
	rule(input, ctIs(expr.CtKeyDIRECTION, []byte{1}), ctState(expr.CtStateBitESTABLISHED), verdict(expr.VerdictAccept)) // answers to what tries members of a spread
	for _, l := range links {                                                                                           // lines are heard from outside; who is no peer gets no answer
		for _, group := range []uint32{groupUplink, groupProbe} {
			if l.port > 0 {
				rule(input, metaIs(expr.MetaKeyIIFGROUP, native(group)), metaIs(expr.MetaKeyL4PROTO, []byte{unix.IPPROTO_UDP}), transportIs(2, byte(l.port>>8), byte(l.port)), verdict(expr.VerdictAccept))
			}
		}
	}
	rule(judge, ctState(expr.CtStateBitINVALID), verdict(expr.VerdictDrop))
	// What is not the beginning of a connection begins none.
	rule(judge, metaIs(expr.MetaKeyL4PROTO, []byte{unix.IPPROTO_TCP}), ctState(expr.CtStateBitNEW), notBareSYN(), verdict(expr.VerdictDrop))
	b.over(judge, t)
	callsAs := &nftables.Set{Table: b.table, Name: "public", IsMap: true, KeyType: nftables.TypeIPAddr, DataType: nftables.TypeIPAddr}
	b.do(c.AddSet(callsAs, nil))
	b.add(callsAs, publics(t))
	common := openSetsOf(b.table, families[0])
	for _, one := range []*nftables.Set{common.service, common.when, common.counted} {
		b.do(c.AddSet(one, nil))
	}
	rule(through, loadMeta(expr.MetaKeyMARK, 0), lookup(common.counted, 0, false), verdict(expr.VerdictAccept))
	rule(through, verdict(expr.VerdictAccept)) // by what somebody else put there
	rule(passed, ctState(expr.CtStateBitNEW), []expr.Any{&expr.Verdict{Kind: expr.VerdictJump, Chain: notedName}})
	rule(passed, verdict(expr.VerdictAccept))
	rule(noted, probeBegan(), verdict(expr.VerdictReturn)) // what is only tried is no use
	inward, outside := b.judged("", t), b.judged(callsPrefix, callsOf(t))
	for i, f := range families {
		s := inward[i]
		b.around(&s, f, t, links)
		s.open = openSetsOf(b.table, f)
		s.open.service, s.open.when, s.open.counted = common.service, common.when, common.counted
		b.do(c.AddSet(s.open.opens, nil))
		b.do(c.AddSet(s.open.from, nil))
		for _, o := range open {
			if o.to.Is4() == f.v4 && len(o.from) > 0 {
				b.addOpened(s.open, o, now)
			}
		}
		rule(source, isFamily(f), metaIs(expr.MetaKeyIIFGROUP, native(groupUplink)), payload(f.src, f.size, 0), lookup(s.outside, 0, true), verdict(expr.VerdictDrop))
		for _, group := range []uint32{groupMachine, groupOutward, groupLine} {
			rule(source, isFamily(f), metaIs(expr.MetaKeyIIFGROUP, native(group)), loadMeta(expr.MetaKeyIIF, 0), payload(f.src, f.size, 1), lookup(s.links, 0, true), verdict(expr.VerdictDrop))
		}
		// What a machine calls outside, or the probe in its place, is judged by sets of its own.
		for _, ways := range [][2]uint32{{groupOutward, groupUplink}, {groupOutward, groupProbe}, {groupProbe, groupProbe}} {
			rule(judge, isFamily(f), metaIs(expr.MetaKeyIIFGROUP, native(ways[0])), metaIs(expr.MetaKeyOIFGROUP, native(ways[1])), payload(f.dst, f.size, 0), lookup(s.outside, 0, false), goTo(calls.Name))
		}
		rule(back, isFamily(f), metaIs(expr.MetaKeyIIFGROUP, native(groupProbe)), payload(f.dst, f.size, 0), lookup(s.outside, 0, false), setMark(fromProbe)) // it is sent back, and not to the uplink
		// A machine that calls itself through a door gets its answers by the way that it called.
		rule(outward, isFamily(f), payload(f.src, f.size, 0), payload(f.dst, f.size, f.size/4), lookup(s.self, 0, false), []expr.Any{&expr.Masq{}})
		b.translate(doors, f, t)
		b.judge(judge, f, s, goTo(passedName))
		b.judge(calls, f.mirrored(), outside[i], verdict(expr.VerdictAccept))
		b.note(noted, f)
	}
	// A machine calls outward from its own public address, and from the router's where it has none.
	v4 := families[0]
	called := slices.Concat(isFamily(v4), metaIs(expr.MetaKeyIIFGROUP, native(groupOutward)), metaIs(expr.MetaKeyOIFGROUP, native(groupUplink)))
	rule(outward, called, payload(v4.src, v4.size, 0), []expr.Any{
		&expr.Lookup{SourceRegister: register(0), DestRegister: register(0), IsDestRegSet: true, SetName: callsAs.Name, SetID: callsAs.ID},
		&expr.NAT{Type: expr.NATTypeSourceNAT, Family: uint32(v4.proto), RegAddrMin: register(0)},
	})
	rule(outward, called, []expr.Any{&expr.Masq{}})
	rule(judge, goTo(refuseName))
	rule(calls, goTo(refuseName))
	// A connection that is let pass no more ends now, and not when somebody tires of it.
	rule(refuse, ctState(expr.CtStateBitESTABLISHED), metaIs(expr.MetaKeyL4PROTO, []byte{unix.IPPROTO_TCP}), []expr.Any{&expr.Reject{Type: unix.NFT_REJECT_TCP_RST}})
	rule(refuse, verdict(expr.VerdictDrop))
	if b.err != nil {
		return b.err
	}
	return c.Flush()
}
