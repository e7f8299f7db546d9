package linux

import (
	"errors"
	"fmt"
	"net/netip"
	"slices"

	"github.com/google/nftables"
	"github.com/google/nftables/expr"
	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"
)

// The table that decides can be taken away by hand, and all tables at once (nft flush ruleset). So nothing passes for want of a rule
// that drops it. A small table that is always the same, and the routes, each pass only what the other has marked:
//
//	guard  prerouting ── marks what comes in as routed
//	routes               lead what has that mark; all else ends there
//	table  forward ───── judges, and marks what it lets pass
//	guard  forward ───── lets what has that mark pass, and drops all else
//
// Without the table no packet has the second mark, and without the guard none has the first. Requests for hardware addresses (ARP)
// are looked up in the routes, too, and marked likewise.
const guardName = "ironbark-guard"

// guard writes the guard anew.
func guard(c *nftables.Conn) {
	accept, drop := nftables.ChainPolicyAccept, nftables.ChainPolicyDrop
	after := nftables.ChainPriorityRef(*nftables.ChainPriorityFilter + 10)
	for _, one := range []struct {
		family nftables.TableFamily
		name   string
		hook   *nftables.ChainHook
		at     *nftables.ChainPriority
		policy *nftables.ChainPolicy
		rule   []expr.Any
	}{
		{nftables.TableFamilyINet, "routed", nftables.ChainHookPrerouting, nftables.ChainPriorityConntrack, &accept, setMark(routedMark)},
		{nftables.TableFamilyINet, "passed", nftables.ChainHookForward, after, &drop, append(metaIs(expr.MetaKeyMARK, native(passMark)), verdict(expr.VerdictAccept)...)},
		{nftables.TableFamilyARP, "routed", arpInput, nftables.ChainPriorityFilter, &accept, setMark(routedMark)},
	} {
		t := &nftables.Table{Name: guardName, Family: one.family}
		c.AddTable(t)
		if one.name != "passed" { // the first of its family
			c.DelTable(t)
			t = c.AddTable(t)
		}
		ch := c.AddChain(&nftables.Chain{Name: one.name, Table: t, Type: nftables.ChainTypeFilter, Hooknum: one.hook, Priority: one.at, Policy: one.policy})
		c.AddRule(&nftables.Rule{Table: t, Chain: ch, Exprs: one.rule})
	}
}

// arpInput is the hook of what comes in (NF_ARP_IN of linux/netfilter_arp.h).
var arpInput = nftables.ChainHookRef(0)

// The priorities of the router's routing rules.
const (
	answersRule = 10 + iota*5 // what the probe began goes back there
	ownRule                   // what the router itself sends
	markedRule                // what has no mark ends here
)

// routeMarked has the routes of the thread's namespace lead nothing that came in without its mark.
func routeMarked() error {
	mask := routedMark
	for _, family := range []int{unix.AF_INET, unix.AF_INET6} {
		own := netlink.NewRule()
		own.IifName, own.Table, own.Priority, own.Family = "lo", unix.RT_TABLE_MAIN, ownRule, family
		unmarked := netlink.NewRule()
		unmarked.Mark, unmarked.Mask, unmarked.Invert, unmarked.Type, unmarked.Priority, unmarked.Family = routedMark, &mask, true, unix.RTN_BLACKHOLE, markedRule, family
		for _, r := range []*netlink.Rule{unmarked, own} {
			if err := netlink.RuleAdd(r); err != nil && !errors.Is(err, unix.EEXIST) {
				return fmt.Errorf("the routing rule %d: %w", r.Priority, err)
			}
		}
	}
	return nil
}

// guarded reports whether nothing passes, since one of the site's own tables is gone and what is left of guard and routing rules drops
// everything. digest is that of the guard as it was installed. The thread is in the router's namespace.
func guarded(digest string) (bool, error) {
	list, err := tableNames()
	if err != nil {
		return false, err
	}
	has := func(name string) bool {
		return slices.Contains(list, nftables.Table{Name: name, Family: nftables.TableFamilyINet})
	}
	if has(guardName) {
		if has(tableName) {
			return false, nil
		}
		now, err := rulesDigest(guardName)
		return now == digest, err
	}
	for _, family := range []int{unix.AF_INET, unix.AF_INET6} {
		rules, err := netlink.RuleList(family)
		if err != nil {
			return false, err
		}
		from, to := netip.MustParseAddr("198.51.100.1"), netip.MustParseAddr("192.0.2.1")
		if family == unix.AF_INET6 {
			from, to = netip.MustParseAddr("2001:db8:ca11::1"), netip.MustParseAddr("2001:db8:ca11::2")
		}
		// The kernel is asked where it would lead a packet without a mark.
		if _, err := netlink.RouteGetWithOptions(to.AsSlice(), &netlink.RouteGetOptions{Iif: "probe", SrcAddr: from.AsSlice()}); !errors.Is(err, unix.EINVAL) {
			return false, nil
		}
		if slices.ContainsFunc(rules, func(r netlink.Rule) bool {
			return r.Priority > 0 && r.Priority < markedRule && r.Priority != answersRule && r.Priority != ownRule
		}) {
			return false, nil // another one may lead packets before it
		}
	}
	return true, nil
}
