package linux

import (
	"errors"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/google/nftables"
	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"ironbark/internal/change"
	"ironbark/internal/driver"
	"ironbark/internal/estate"
	"ironbark/internal/flow"
)

// What passes is decided by more than the table: by other tables in the router's namespace, by routing rules, routes, links, addresses and
// kernel settings. This file compares all of it with what the site makes, says in words what differs, and puts it right.

// fault is something in the site's namespaces that is not as the site makes it, and how it is put right.
type fault struct {
	driver.Alteration
	mend func() error // in the router's namespace
}

// inspect compares the namespaces with what some resources and a plan need. Cost: linear in the links and routes.
func (s *Site) inspect(list []change.Resource, plan *flow.Plan) (faults []fault, err error) {
	if !exists(s.prefix) {
		return nil, nil
	}
	found := func(foreign bool, mend func() error, format string, args ...any) {
		faults = append(faults, fault{driver.Alteration{What: fmt.Sprintf(format, args...), Foreign: foreign}, mend})
	}
	err = within(s.prefix, func() error {
		return errors.Join(s.inspectTables(found), inspectSettings(found), inspectRules(found), s.inspectLinks(list, found), s.inspectRoutes(list, plan, found))
	})
	for _, t := range list {
		if (t.Kind == change.Machine && !isGuest(t) || t.Kind == change.Bastion) && exists(s.prefix+"-"+t.Name) {
			err = errors.Join(err, s.inspectMachine(t, found))
		}
	}
	return faults, err
}

// finding takes what differs.
type finding func(foreign bool, mend func() error, format string, args ...any)

// tableNames lists the tables of the thread's namespace, of all families.
func tableNames() (list []nftables.Table, err error) {
	err = untilWhole(func() error {
		list = nil
		return askFilter(unix.NFT_MSG_GETTABLE, nil, func(body []byte) error {
			t := nftables.Table{Family: nftables.TableFamily(body[0])}
			err := eachAttribute(body[4:], func(kind uint16, value []byte) error {
				if kind == unix.NFTA_TABLE_NAME {
					t.Name = unix.ByteSliceToString(value)
				}
				return nil
			})
			list = append(list, t)
			return err
		})
	})
	return list, err
}

var familyNames = map[nftables.TableFamily]string{
	nftables.TableFamilyINet: "inet", nftables.TableFamilyIPv4: "ip", nftables.TableFamilyIPv6: "ip6", nftables.TableFamilyARP: "arp", nftables.TableFamilyBridge: "bridge", nftables.TableFamilyNetdev: "netdev",
}

// inspectTables finds tables of others, and tables of the site's own that are gone. What is in those is read back with the plan.
func (s *Site) inspectTables(found finding) error {
	list, err := tableNames()
	if err != nil {
		return err
	}
	own := map[nftables.Table]bool{
		{Name: tableName, Family: nftables.TableFamilyINet}: false, {Name: guardName, Family: nftables.TableFamilyINet}: false, {Name: guardName, Family: nftables.TableFamilyARP}: false,
	}
	for _, t := range list {
		if _, ours := own[t]; ours {
			own[t] = true
			continue
		}
		found(true, func() error {
			c, done, err := s.conn()
			if err != nil {
				return err
			}
			defer done()
			return c.commit(func(c *nftables.Conn) error {
				c.DelTable(&t)
				return nil
			})
		}, "table %s %s in the site's namespace is not Ironbark's: it may drop, translate or mark packets", familyNames[t.Family], t.Name)
	}
	for t, there := range own {
		if !there { // whoever installs the tables makes it
			found(false, nil, "table %s %s is gone: nothing passes", familyNames[t.Family], t.Name)
		}
	}
	return nil
}

// inspectSettings finds kernel settings that are not as the router needs them.
func inspectSettings(found finding) error {
	for key, want := range routerSettings {
		text, err := os.ReadFile(filepath.Join("/proc/sys", strings.ReplaceAll(key, ".", "/")))
		if err != nil {
			return err
		}
		if have := strings.TrimSpace(string(text)); have != want {
			found(false, func() error { return set(map[string]string{key: want}) }, "kernel setting %s is %s, not %s", key, have, want)
		}
	}
	return nil
}

// inspectRules finds routing rules of others, and the site's own that are gone.
func inspectRules(found finding) error {
	for _, family := range []int{unix.AF_INET, unix.AF_INET6} {
		rules, err := netlink.RuleList(family)
		if err != nil {
			return err
		}
		own := map[int]bool{answersRule: false, ownRule: false, markedRule: false}
		for _, r := range rules {
			if there, ours := own[r.Priority]; ours && !there {
				own[r.Priority] = true
				continue
			}
			if r.Priority == 0 || r.Priority >= 32766 { // the kernel's own: local, main, default
				continue
			}
			found(true, func() error { return netlink.RuleDel(&r) }, "routing rule %d is not Ironbark's: it may lead packets elsewhere", r.Priority)
		}
		for priority, there := range own {
			if !there {
				found(false, func() error { return errors.Join(answerProbe(), routeMarked()) }, "routing rule %d is gone", priority)
			}
		}
	}
	return nil
}

// inspectLinks finds links that are gone or down, in another group, or nobody's.
func (s *Site) inspectLinks(list []change.Resource, found finding) error {
	links, err := netlink.LinkList()
	if err != nil {
		return err
	}
	want := map[string]uint32{"probe": groupProbe}
	down := map[string]bool{} // may be down: of a guest that is off
	for _, t := range list {
		switch {
		case t.Kind == change.Machine:
			want[linkOf(t.Name)] = groupMachine
			if outward(t, list) {
				want[linkOf(t.Name)] = groupOutward
			}
			down[linkOf(t.Name)] = isGuest(t)
		case t.Kind == change.Bastion:
			want[linkOf(t.Name)] = groupMachine
		case t.Kind == change.Uplink:
			want[uplinkName] = groupUplink
		case t.Kind == change.Line && len(t.Spec.Peers) > 0:
			want[tunnelOf(t.Name)] = groupLine
		}
	}
	for _, l := range links {
		a := l.Attrs()
		i := slices.IndexFunc(append([]string{a.Name}, a.AltNames...), func(name string) bool { _, ok := want[name]; return ok })
		if i < 0 {
			if a.Name != "lo" && !slices.Contains(a.AltNames, offLink) {
				found(true, func() error { return netlink.LinkDel(l) }, "link %s in the site's namespace is not Ironbark's", a.Name)
			}
			continue
		}
		name := append([]string{a.Name}, a.AltNames...)[i]
		if a.Group != want[name] {
			found(false, func() error { return netlink.LinkSetGroup(l, int(want[name])) }, "link %s is in group %d, not %d", name, a.Group, want[name])
		}
		if a.Flags&1 == 0 && !down[name] { // IFF_UP
			found(false, func() error { return netlink.LinkSetUp(l) }, "link %s is down", name)
		}
		delete(want, name)
	}
	for name := range want {
		if machine, ok := strings.CutPrefix(name, "machine."); ok {
			found(false, func() error { return s.rejoin(machine, list) }, "the link to %s is gone", machine)
		}
	}
	return nil
}

// rejoin makes the link of a machine or bastion again, with its addresses and routes.
func (s *Site) rejoin(name string, list []change.Resource) error {
	for _, t := range list {
		if t.Name != name || t.Kind != change.Machine && t.Kind != change.Bastion {
			continue
		}
		addrs := addrsOf([]change.Resource{t})[name]
		if !isGuest(t) {
			return s.joinMachine(name, addrs, t.Kind == change.Machine && outward(t, list))
		}
		if _, err := s.joinGuest(name, outward(t, list)); err != nil {
			return err
		}
		return s.raise(name, addrs)
	}
	return nil
}

// inspectRoutes finds machines to which no route leads, and routes of others in the main table.
func (s *Site) inspectRoutes(list []change.Resource, plan *flow.Plan, found finding) error {
	links, err := netlink.LinkList()
	if err != nil {
		return err
	}
	index := map[string]int{} // by any name
	for _, l := range links {
		for _, name := range append([]string{l.Attrs().Name}, l.Attrs().AltNames...) {
			index[name] = l.Attrs().Index
		}
	}
	leads := map[netip.Prefix]string{} // to which machine
	owner := map[netip.Addr]change.Resource{}
	for _, t := range list {
		if t.Kind != change.Machine && t.Kind != change.Bastion {
			continue
		}
		for _, a := range addrsOf([]change.Resource{t})[t.Name] {
			leads[netip.PrefixFrom(a, a.BitLen())] = t.Name
			owner[a] = t
		}
	}
	spread := spacesOf(list, plan)
	for _, family := range []int{unix.AF_INET, unix.AF_INET6} {
		routes, err := netlink.RouteListFiltered(family, &netlink.Route{Table: unix.RT_TABLE_MAIN}, netlink.RT_FILTER_TABLE)
		if err != nil {
			return err
		}
		for _, r := range routes {
			to, ok := prefixOfRoute(r, family)
			if !ok {
				continue
			}
			if name := leads[to]; name != "" && r.Priority != offMetric && r.LinkIndex == index[linkOf(name)] && (r.Type == 0 || r.Type == unix.RTN_UNICAST) {
				delete(leads, to)
				continue
			}
			via := r.LinkIndex
			off := r.Priority == offMetric && via == index[offLink]
			if off && owner[to.Addr()].Name != "" || spread[to] && (via == index["probe"] || via == index[uplinkName] || r.Type == unix.RTN_BLACKHOLE && to.Bits() == 0) || isLine(list, to) || r.Protocol == unix.RTPROT_KERNEL {
				continue
			}
			found(true, func() error { return netlink.RouteDel(&r) }, "the route to %s is not Ironbark's: it leads packets elsewhere", to)
		}
	}
	for to, name := range leads {
		if t := owner[to.Addr()]; isGuest(t) && !s.guestRuns(name) {
			continue // its link is down, and another way refuses for it
		}
		found(false, func() error { return s.rejoin(name, list) }, "no route leads to %s at %s", name, to.Addr())
	}
	return nil
}

// prefixOfRoute is where a route leads; a default route leads everywhere.
func prefixOfRoute(r netlink.Route, family int) (netip.Prefix, bool) {
	if r.Dst == nil {
		if family == unix.AF_INET {
			return anyV4, true
		}
		return anyV6, true
	}
	a, ok := netip.AddrFromSlice(r.Dst.IP)
	bits, _ := r.Dst.Mask.Size()
	return netip.PrefixFrom(a.Unmap(), bits), ok
}

// spacesOf are the prefixes that the site leads to the probe or to the uplink.
func spacesOf(list []change.Resource, plan *flow.Plan) map[netip.Prefix]bool {
	out := map[netip.Prefix]bool{anyV4: true, anyV6: true}
	for _, n := range plan.Networks {
		for _, run := range n.Space.Runs() {
			for _, p := range prefixes(run, run.Lo.Addr().BitLen()) {
				out[p] = true
			}
		}
	}
	if up, ok := change.Find(list, change.Uplink, estate.UplinkName); ok {
		for _, p := range up.Spec.Ranges {
			out[p.Masked()] = true
		}
		for _, p := range up.Spec.Own {
			out[p.Masked()] = true
		}
	}
	return out
}

// isLine reports whether a prefix is of a line's peers.
func isLine(list []change.Resource, p netip.Prefix) bool {
	return slices.ContainsFunc(list, func(t change.Resource) bool {
		return t.Kind == change.Line && slices.ContainsFunc(t.Spec.Ranges, func(r netip.Prefix) bool { return r.Overlaps(p) && p.Bits() >= r.Bits() })
	})
}

// inspectMachine finds a light machine, or a bastion, without its link, addresses or routes.
func (s *Site) inspectMachine(t change.Resource, found finding) error {
	mend := func() error { return s.rejoin(t.Name, []change.Resource{t}) }
	return within(s.prefix+"-"+t.Name, func() error {
		l, err := netlink.LinkByName("eth0")
		if errors.As(err, &netlink.LinkNotFoundError{}) {
			return nil // the router's end is gone with it
		}
		if err != nil {
			return err
		}
		if l.Attrs().Flags&1 == 0 {
			found(false, mend, "%s has its link down", t.Name)
		}
		have, err := netlink.AddrList(l, netlink.FAMILY_ALL)
		if err != nil {
			return err
		}
		for _, a := range addrsOf([]change.Resource{t})[t.Name] {
			if !slices.ContainsFunc(have, func(h netlink.Addr) bool { b, _ := netip.AddrFromSlice(h.IP); return b.Unmap() == a }) {
				found(false, mend, "%s lacks its address %s", t.Name, a)
			}
		}
		for _, family := range []int{unix.AF_INET, unix.AF_INET6} {
			routes, err := netlink.RouteList(l, family)
			if err != nil {
				return err
			}
			if !slices.ContainsFunc(routes, func(r netlink.Route) bool { p, ok := prefixOfRoute(r, family); return ok && p.Bits() == 0 }) {
				found(false, mend, "%s has no default route", t.Name)
			}
		}
		return nil
	})
}

// mendAll puts right what differs. What cannot be put right is an error.
func (s *Site) mendAll(list []change.Resource, plan *flow.Plan) error {
	faults, err := s.inspect(list, plan)
	for _, f := range faults {
		if f.mend == nil {
			continue
		}
		if failed := within(s.prefix, f.mend); failed != nil && !errors.Is(failed, unix.ENOENT) && !errors.Is(failed, unix.ESRCH) && !errors.Is(failed, unix.ENODEV) { // it is gone by now
			err = errors.Join(err, fmt.Errorf("%s: %w", f.What, failed))
		}
	}
	return err
}
