package linux

import (
	"net/netip"
	"slices"
	"time"

	"github.com/google/nftables"
	"github.com/google/nftables/expr"
	"golang.org/x/sys/unix"

	"ironbark/internal/estate"
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
	src, dst    uint32 // of the header: where its addresses are
	size        uint32 // of an address, in bytes
	from        uint32 // key of an address of a connection (nf_tables)
	addressType nftables.SetDatatype
}

var families = []family{
	{true, "4", unix.NFPROTO_IPV4, unix.IPPROTO_ICMP, 8, []byte{8, 13, 15, 17}, 12, 16, 4, unix.NFT_CT_SRC_IP, nftables.TypeIPAddr},
	{false, "6", unix.NFPROTO_IPV6, unix.IPPROTO_ICMPV6, 128, []byte{128, 139}, 8, 24, 16, unix.NFT_CT_SRC_IP6, nftables.TypeIP6Addr},
}

// etherType is the family's number in a frame (RFC 7042).
func (f family) etherType() uint16 {
	if f.v4 {
		return unix.ETH_P_IP
	}
	return unix.ETH_P_IPV6
}

// register returns the n-th 32-bit register. Concatenated keys lie in registers that follow
// one another (linux/netfilter/nf_tables.h).
func register(n uint32) uint32 { return unix.NFT_REG32_00 + n }

// metaTime is the wall clock in nanoseconds (NFT_META_TIME_NS), for which the library has
// no name.
const metaTime expr.MetaKey = 30

// callsPrefix begins the names of the sets of what machines call outside.
const callsPrefix = "calls-"

// batch is one transaction.
type batch struct {
	c     *nftables.Conn
	table *nftables.Table
	chains
	edges [2]edges                 // by family
	made  map[string]*nftables.Set // those that the kernel fills, by name
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
	limit estate.Traffic
}

// install replaces everything by a table, at one moment.
//
// A packet that is being looked up at that moment goes on through the rules of the table
// before, whose sets are empty to it from then on (nf_tables marks elements by generation). So nothing passes for
// being in no set: rules accept what a set has, and drop or go on where it has not.
func install(c *filterConn, t *Table, links []link, open []opened, over []ended, now time.Time) error {
	return c.commit(func(c *nftables.Conn) error {
		guard(c)
		b := newBatch(c)
		b.addEdge(t, links)
		b.addBack()
		b.addVerdicts()
		b.addInput(links)
		b.addLimits(links)
		inward, outside := b.judged("", t), b.judged(callsPrefix, callsOf(t))
		b.addOpenings(&inward, open, now)
		b.addEnded(over)
		b.addJudge(t, inward, outside)
		return b.err
	})
}

// chains are those of the one table. Only the first six begin with a hook.
type chains struct {
	source  *nftables.Chain // drops what comes from an address that is not its link's
	back    *nftables.Chain // marks what the probe began
	doors   *nftables.Chain // translates what is called
	outward *nftables.Chain // translates who calls
	input   *nftables.Chain // what is sent to the router itself
	forward *nftables.Chain // looks packets up, both ways: the chain judge

	calls, opened, passed, noted, pass, refuse, late *nftables.Chain
}

// newBatch makes the table anew, with its chains and no rules.
func newBatch(c *nftables.Conn) *batch {
	b := &batch{c: c, table: &nftables.Table{Name: tableName, Family: nftables.TableFamilyINet}}
	c.AddTable(b.table) // so that there is one to delete
	c.DelTable(b.table)
	b.table = c.AddTable(b.table)
	hooked := func(name string, kind nftables.ChainType, hook *nftables.ChainHook, priority *nftables.ChainPriority, policy nftables.ChainPolicy) *nftables.Chain {
		return c.AddChain(&nftables.Chain{Name: name, Table: b.table, Type: kind, Hooknum: hook, Priority: priority, Policy: &policy})
	}
	plain := func(name string) *nftables.Chain { return c.AddChain(&nftables.Chain{Name: name, Table: b.table}) }
	accept, drop := nftables.ChainPolicyAccept, nftables.ChainPolicyDrop
	b.chains = chains{
		source:  hooked("source", nftables.ChainTypeFilter, nftables.ChainHookPrerouting, nftables.ChainPriorityRaw, accept),
		back:    hooked("back", nftables.ChainTypeFilter, nftables.ChainHookPrerouting, nftables.ChainPriorityMangle, accept),
		doors:   hooked("doors", nftables.ChainTypeNAT, nftables.ChainHookPrerouting, nftables.ChainPriorityNATDest, accept),
		outward: hooked("outward", nftables.ChainTypeNAT, nftables.ChainHookPostrouting, nftables.ChainPriorityNATSource, accept),
		input:   hooked("input", nftables.ChainTypeFilter, nftables.ChainHookInput, nftables.ChainPriorityFilter, drop),
		forward: hooked("judge", nftables.ChainTypeFilter, nftables.ChainHookForward, nftables.ChainPriorityFilter, drop),
		calls:   plain("calls"), opened: plain(openedName), passed: plain(passedName), noted: plain(notedName), pass: plain(passName), refuse: plain(refuseName), late: plain(lateName),
	}
	return b
}

// rule adds a rule to a chain, of expressions in a row.
func (b *batch) rule(ch *nftables.Chain, parts ...[]expr.Any) {
	b.c.AddRule(&nftables.Rule{Table: b.table, Chain: ch, Exprs: slices.Concat(parts...)})
}

// addEdge makes the sets of links, doors and the estate's edge, and the rules that a packet meets where it comes in and goes out.
func (b *batch) addEdge(t *Table, links []link) {
	callsAs := &nftables.Set{Table: b.table, Name: "public", IsMap: true, KeyType: nftables.TypeIPAddr, DataType: nftables.TypeIPAddr}
	b.do(b.c.AddSet(callsAs, nil))
	b.add(callsAs, publics(t))
	for i, f := range families {
		s := b.around(f, t, links)
		b.edges[i] = s
		b.rule(b.source, isFamily(f), metaIs(expr.MetaKeyIIFGROUP, native(groupUplink)), payload(f.src, f.size, 0), lookup(s.outside, 0, true), verdict(expr.VerdictDrop))
		for _, group := range []uint32{groupMachine, groupOutward, groupLine} {
			b.rule(b.source, isFamily(f), metaIs(expr.MetaKeyIIFGROUP, native(group)), loadMeta(expr.MetaKeyIIF, 0), payload(f.src, f.size, 1), lookup(s.links, 0, true), verdict(expr.VerdictDrop))
		}
		// A machine that calls itself through a door gets its answers by the way that it called.
		b.rule(b.outward, isFamily(f), payload(f.src, f.size, 0), payload(f.dst, f.size, f.size/4), lookup(s.self, 0, false), []expr.Any{&expr.Masq{}})
		b.translate(b.doors, f, t)
	}
	// A machine calls outward from its own public address, and from the router's where it has none.
	v4 := families[0]
	called := slices.Concat(isFamily(v4), metaIs(expr.MetaKeyIIFGROUP, native(groupOutward)), metaIs(expr.MetaKeyOIFGROUP, native(groupUplink)))
	b.rule(b.outward, called, payload(v4.src, v4.size, 0), []expr.Any{
		&expr.Lookup{SourceRegister: register(0), DestRegister: register(0), IsDestRegSet: true, SetName: callsAs.Name, SetID: callsAs.ID},
		&expr.NAT{Type: expr.NATTypeSourceNAT, Family: uint32(v4.proto), RegAddrMin: register(0)},
	})
	b.rule(b.outward, called, []expr.Any{&expr.Masq{}})
}

// addBack writes the rules by which what the probe began is answered to the probe, whatever address it spoke from.
func (b *batch) addBack() {
	back := setMark(fromProbe | routedMark)
	// A connection is new until it is answered; its second packet must not take its way out of the mark.
	b.rule(b.back, metaIs(expr.MetaKeyIIFGROUP, native(groupProbe)), ctState(expr.CtStateBitNEW), []expr.Any{
		&expr.Ct{Key: expr.CtKeyMARK, Register: register(0)},
		&expr.Bitwise{SourceRegister: register(0), DestRegister: register(0), Len: 4, Mask: native(^fromProbe), Xor: native(fromProbe)},
		&expr.Ct{Key: expr.CtKeyMARK, SourceRegister: true, Register: register(0)},
	})
	b.rule(b.back, ctIs(expr.CtKeyDIRECTION, []byte{1}), probeBegan(), back)
	for i, f := range families { // what it calls outside is sent back, and not to the uplink
		b.rule(b.back, isFamily(f), metaIs(expr.MetaKeyIIFGROUP, native(groupProbe)), payload(f.dst, f.size, 0), lookup(b.edges[i].outside, 0, false), back)
	}
}

// addVerdicts writes the chains in which a packet's way ends.
func (b *batch) addVerdicts() {
	b.rule(b.refuse, setMark(0))
	b.rule(b.refuse, metaIs(expr.MetaKeyIIFGROUP, native(groupProbe)), setMark(fromProbe)) // a reset goes back where the packet came from
	b.rule(b.late, metaIs(expr.MetaKeyIIFGROUP, native(groupProbe)), setMark(fromProbe))
	b.rule(b.late, []expr.Any{&expr.Reject{Type: unix.NFT_REJECT_TCP_RST}})
	b.rule(b.passed, ctState(expr.CtStateBitNEW), []expr.Any{&expr.Verdict{Kind: expr.VerdictJump, Chain: notedName}})
	b.rule(b.passed, goTo(passName))
	b.rule(b.noted, probeBegan(), verdict(expr.VerdictReturn)) // what is only tried is no use
	for _, f := range families {
		b.note(b.noted, f)
	}
}

// addInput writes the rules for what is sent to the router itself.
func (b *batch) addInput(links []link) {
	for _, f := range families {
		for _, asked := range f.asked { // a public address that leads nowhere is silent
			b.rule(b.input, isFamily(f), metaIs(expr.MetaKeyIIFGROUP, native(groupUplink)), metaIs(expr.MetaKeyL4PROTO, []byte{f.icmp}), transportIs(0, asked), verdict(expr.VerdictDrop))
		}
		b.rule(b.input, isFamily(f), metaIs(expr.MetaKeyL4PROTO, []byte{f.icmp}), verdict(expr.VerdictAccept)) // neighbours, and the gateway's own answers
	}
	b.rule(b.input, ctIs(expr.CtKeyDIRECTION, []byte{1}), ctState(expr.CtStateBitESTABLISHED), verdict(expr.VerdictAccept)) // answers to what tries members of a spread
	for _, l := range links {                                                                                               // lines are heard from outside; who is no peer gets no answer
		for _, group := range []uint32{groupUplink, groupProbe} {
			if l.port > 0 {
				b.rule(b.input, metaIs(expr.MetaKeyIIFGROUP, native(group)), metaIs(expr.MetaKeyL4PROTO, []byte{unix.IPPROTO_UDP}), transportIs(2, byte(l.port>>8), byte(l.port)), verdict(expr.VerdictAccept))
			}
		}
	}
}

// addOpenings makes the sets of openings, and fills them.
func (b *batch) addOpenings(inward *[2]sets, open []opened, now time.Time) {
	common := openSetsOf(b.table, families[0])
	for _, one := range []*nftables.Set{common.service, common.when, common.counted} {
		b.do(b.c.AddSet(one, nil))
	}
	for i, f := range families {
		s := openSetsOf(b.table, f)
		s.service, s.when, s.counted = common.service, common.when, common.counted
		inward[i].open = s
		b.do(b.c.AddSet(s.opens, nil))
		b.do(b.c.AddSet(s.from, nil))
		b.rule(b.opened, isFamily(f), ofConnection(f.from, 1, 0), markBy(s.opens))
		for _, o := range open {
			if o.to.Is4() == f.v4 && len(o.from) > 0 {
				b.addOpened(s, o, now)
			}
		}
	}
	b.rule(b.opened, loadMeta(expr.MetaKeyMARK, 0), lookup(common.counted, 0, false), goTo(passName))
	b.rule(b.opened, goTo(passName)) // by what somebody else put there
}

// addJudge writes the rules by which a packet that goes through is judged. They look up its connection: who began it, and which service
// of whom it was led to. So its answers, and errors about it, are judged as its first packet was, and what may pass no longer ends both ways.
func (b *batch) addJudge(t *Table, inward, outside [2]sets) {
	judge := b.forward
	b.rule(judge, ctState(expr.CtStateBitINVALID), verdict(expr.VerdictDrop))
	// What is not the beginning of a connection begins none.
	b.rule(judge, metaIs(expr.MetaKeyL4PROTO, []byte{unix.IPPROTO_TCP}), ctState(expr.CtStateBitNEW), notBareSYN(), verdict(expr.VerdictDrop))
	b.over(judge, t)
	for i, f := range families {
		// What a machine calls outside, or the probe in its place, is judged by sets of its own.
		for direction := range byte(2) {
			for _, way := range [][2]uint32{{groupOutward, groupUplink}, {groupOutward, groupProbe}, {groupProbe, groupProbe}} {
				b.rule(judge, isFamily(f), ctIs(expr.CtKeyDIRECTION, []byte{direction}), metaIs(expr.MetaKeyIIFGROUP, native(way[direction])), metaIs(expr.MetaKeyOIFGROUP, native(way[1-direction])),
					ofConnection(f.from, 1, 0), lookup(b.edges[i].callable, 0, false), goTo(b.calls.Name))
			}
		}
		b.judge(judge, f, inward[i], b.edges[i].own, ends{source: 0, target: 1}, goTo(passedName))
		b.judge(b.calls, f, outside[i], nil, ends{source: 1, target: 0}, goTo(passName))
	}
	b.rule(judge, goTo(refuseName))
	b.rule(b.calls, goTo(refuseName))
	// A connection that is let pass no more ends now, and not when somebody tires of it.
	b.rule(b.refuse, ctState(expr.CtStateBitESTABLISHED), metaIs(expr.MetaKeyL4PROTO, []byte{unix.IPPROTO_TCP}), []expr.Any{&expr.Reject{Type: unix.NFT_REJECT_TCP_RST}})
	b.rule(b.refuse, verdict(expr.VerdictDrop))
}
