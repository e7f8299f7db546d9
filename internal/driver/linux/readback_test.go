package linux

import (
	"net/netip"
	"testing"
	"time"

	"github.com/google/nftables"
	"github.com/google/nftables/expr"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ironbark/internal/change"
	"ironbark/internal/driver"
	"ironbark/internal/driver/drivertest"
	"ironbark/internal/exposure"
	"ironbark/internal/flow"
	"ironbark/internal/flow/span"
)

// TestWhatOthersWroteToThePacketFilterIsToldAsItIs writes to the packet filter as somebody
// with another tool would.
func TestWhatOthersWroteToThePacketFilterIsToldAsItIs(t *testing.T) {
	s := siteOf(t)
	e := installRules(t, s, "allow https from everywhere to gauge-1", "deny https, tcp/8443 from 192.0.2.0/24 to all")
	observe := func() *driver.Observation {
		o, err := s.Observe(t.Context(), driver.Everything)
		require.NoError(t, err)
		return o
	}
	install := func() { installAgain(t, s, e) }
	installed := observe().Plan.Rows()
	c, done, err := s.conn()
	require.NoError(t, err)
	defer done()
	table := &nftables.Table{Name: tableName, Family: nftables.TableFamilyINet}
	asks := func(service flow.Service, source string) exposure.Part {
		plan := observe().Plan
		m, _ := plan.MachineByName("gauge-1")
		return exposure.NewView(plan, s.clock.Now()).Ask(flow.ServicesAt(service), flow.AddrsAt(netip.MustParseAddr(source)), exposure.Target{Machine: m})[0]
	}
	element := func(x Box) []nftables.SetElement {
		k := (&key{}).both(native(x.Class)).service(x).source(x).time(x)
		return []nftables.SetElement{{Key: k.lo, KeyEnd: k.hi}}
	}
	write := func(do func(*nftables.Set) error, name string) {
		set, err := c.GetSetByName(table, name)
		require.NoError(t, err)
		require.NoError(t, do(set))
		require.NoError(t, c.Flush())
	}
	compiled := NewTable(flow.Compile(e, change.Assigned(observe().Resources)), nil, Ways{})
	audience := compiled.Audience[0].Class
	// profile is that of a source.
	profile := func(source string) uint32 {
		for _, p := range compiled.Who {
			if at := flow.PointOf(netip.MustParseAddr(source)); p.Audience == audience && p.Source.Lo.Compare(at) <= 0 && at.Compare(p.Source.Hi) <= 0 {
				return p.Profile
			}
		}
		return 0
	}

	// What changes nothing that is looked up is told as nothing.
	mark := observe().Mark
	other := c.AddTable(&nftables.Table{Name: "other", Family: nftables.TableFamilyINet})
	require.NoError(t, c.Flush())
	c.DelTable(other)
	require.NoError(t, c.Flush())
	assert.NotEqual(t, mark, observe().Mark, "somebody wrote to it")
	assert.Equal(t, installed, observe().Plan.Rows())

	// What was put in is open, by that.
	ssh := Box{Class: audience, Services: span.Run[flow.Service]{Lo: 22, Hi: 22}, Source: flow.RunOf(netip.MustParseAddr("198.51.100.0"), netip.MustParseAddr("198.51.100.255")), End: forever}
	write(func(set *nftables.Set) error { return c.SetAddElements(set, element(ssh)) }, "pass-until4")
	part := asks(22, "198.51.100.7")
	assert.True(t, part.Open)
	assert.Equal(t, added, part.Origin.Sentence)
	assert.False(t, asks(22, "203.0.113.99").Open)
	assert.False(t, asks(443, "192.0.2.1").Open, "the deny stands")

	telnet := flatElements([]flatRange{entryRange(Entry{Profile: profile("203.0.113.99"), Services: span.Run[flow.Service]{Lo: 23, Hi: 24}})})
	write(func(set *nftables.Set) error { return c.SetAddElements(set, telnet) }, "pass")
	part = asks(24, "203.0.113.99")
	assert.True(t, part.Open)
	assert.Equal(t, added, part.Origin.Sentence)
	assert.False(t, asks(25, "203.0.113.99").Open)
	assert.Equal(t, "allow https from everywhere to gauge-1", asks(443, "203.0.113.99").Origin.Sentence)

	// A deny that was taken out denies no more.
	https := Entry{Profile: profile("192.0.2.1"), Services: span.Run[flow.Service]{Lo: 443, Hi: 443}}
	write(func(set *nftables.Set) error {
		return c.SetDeleteElements(set, flatElements([]flatRange{entryRange(https)}))
	}, "deny")
	assert.True(t, asks(443, "192.0.2.1").Open)
	assert.Equal(t, exposure.Denied, asks(8443, "192.0.2.1").Reason, "the rest of it stands")

	// What a process let pass that died before it could note it is shut, though nobody knows it.
	for _, m := range compiled.Class {
		if m.Addr == compiled.Audience[0].Addr {
			end := uint64(time.Now().Add(time.Hour).UnixNano())
			x := Box{Services: span.Run[flow.Service]{Lo: 22, Hi: 22}, Source: flow.One(netip.MustParseAddr("203.0.113.99")), End: end}
			last := uint32(900)
			require.NoError(t, reopen(c, []opened{newOpened(m.Addr, []Box{x}, &last)}, nil, time.Now()))
		}
	}
	ask := driver.Packet{Source: netip.MustParseAddr("203.0.113.99"), Target: netip.MustParseAddr("203.0.113.10"), Service: 22}
	got, err := s.Probe(t.Context(), ask)
	require.NoError(t, err)
	require.True(t, got[0].Open)
	assert.Equal(t, added, got[0].By)
	require.NoError(t, s.Shut(t.Context(), time.Now(), 7))
	got, err = s.Probe(t.Context(), ask)
	require.NoError(t, err)
	assert.False(t, got[0].Open)
	assert.Equal(t, installed, observe().Plan.Rows())

	// Installed anew, all is as it was.
	install()
	assert.Equal(t, installed, observe().Plan.Rows())

	// Of openings those alone are told that are asked for, also where all of it is read back.
	for id := range int64(2) {
		require.NoError(t, s.Pass(t.Context(), driver.Passage{ID: id + 1, Begin: s.clock.Now(), Sentence: "open ssh to gauge-1", Parts: []driver.Part{{
			Machines: []string{"gauge-1"}, Services: flow.ServicesAt(22), From: flow.AddrsAt(netip.MustParseAddr("198.51.100.9")), End: s.clock.Now().Add(time.Hour),
		}}}))
	}
	c.AddTable(&nftables.Table{Name: "another", Family: nftables.TableFamilyINet})
	require.NoError(t, c.Flush())
	assert.Equal(t, []int64{2}, drivertest.Passing(t, s, 2))
	require.NoError(t, s.Shut(t.Context(), s.clock.Now(), 1, 2))

	// Without tables nothing passes.
	for i, gone := range []func(){c.FlushRuleset, func() { c.DelTable(table) }, func() { c.DelTable(&nftables.Table{Name: guardName, Family: nftables.TableFamilyINet}) }} {
		gone()
		require.NoError(t, c.Flush())
		assert.False(t, asks(443, "203.0.113.99").Open, i)
		install()
	}

	// Of rules that were altered nobody can tell what they let pass.
	c.AddRule(&nftables.Rule{Table: table, Chain: &nftables.Chain{Name: "pass"}, Exprs: verdict(expr.VerdictAccept)})
	require.NoError(t, c.Flush())
	part = asks(22, "203.0.113.99")
	assert.True(t, part.Open)
	assert.Equal(t, altered, part.Origin.Sentence)
	install()
	assert.Equal(t, installed, observe().Plan.Rows())
	got, err = s.Probe(t.Context(), driver.Packet{Source: netip.MustParseAddr("198.51.100.7"), Target: netip.MustParseAddr("203.0.113.10"), Service: 22})
	require.NoError(t, err)
	assert.False(t, got[0].Open)

	// After the host was started anew nothing is there, and nothing is told as open.
	require.NoError(t, s.RemoveEverything())
	assert.Empty(t, observe().Plan.Rules)
	assert.Empty(t, observe().Machines)

	// What is gone already keeps nothing on the host when the rest is removed.
	for _, r := range observe().Resources {
		_, err := s.Apply(t.Context(), change.Change{Verb: change.Remove, Resource: r}, nil)
		require.NoError(t, err)
	}
	nothing, err := flow.FromRows(nil)
	require.NoError(t, err)
	require.NoError(t, s.Install(t.Context(), nothing, observe().Mark))
	assert.False(t, exists(s.prefix))
}
