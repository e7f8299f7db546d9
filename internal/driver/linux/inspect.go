package linux

import (
	"errors"
	"fmt"
	"net"
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
	"ironbark/internal/flow"
	"ironbark/internal/parallel"
)

// What passes is decided by more than the table: by other tables in the router's namespace, by routing rules, routes, links, addresses and
// kernel settings. This file compares all of it with what the site makes, says in words what differs, and puts it right.

// deviation is something in the site's namespaces that is not as the site makes it, and how it is put right.
type deviation struct {
	driver.Alteration
	mend func() error // in the router's namespace
}

// inspection collects what differs.
type inspection struct{ faults []deviation }

// found adds a difference, in words; mend is nil where installing the tables mends it.
func (i *inspection) found(foreign bool, mend func() error, format string, args ...any) {
	i.faults = append(i.faults, deviation{driver.Alteration{What: fmt.Sprintf(format, args...), Foreign: foreign}, mend})
}

// inspect compares the namespaces with what some resources and a plan need, and the plan with the addresses of the host. Cost: linear in the links and routes.
func (s *Site) inspect(list []change.Resource, plan *flow.Plan, host []netip.Addr) ([]deviation, error) {
	if !exists(s.prefix) {
		return nil, nil
	}
	var i inspection
	err := i.host(s, plan, host)
	if err != nil {
		return nil, err
	}
	err = within(s.prefix, func() error {
		links, err := netlink.LinkList()
		if err != nil {
			return err
		}
		return errors.Join(i.tables(s), i.settings(), i.rules(), i.links(s, links, list), i.addresses(links, list), i.routes(s, links, list, plan))
	})
	own := make([]inspection, len(list))
	failed := make([]error, len(list))
	parallel.Each(len(list), func(k int) {
		if t := list[k]; isNode(t) && !isGuest(t) && exists(s.prefix+"-"+t.Name) {
			failed[k] = own[k].machine(s, t)
		}
	})
	for _, one := range own {
		i.faults = append(i.faults, one.faults...)
	}
	return i.faults, errors.Join(append(failed, err)...)
}

// isNode reports whether a resource is a machine or a bastion: it has a link of the router's.
func isNode(t change.Resource) bool { return t.Kind == change.Machine || t.Kind == change.Bastion }

// namesOf are all names by which a link is known.
func namesOf(l netlink.Link) []string { return append([]string{l.Attrs().Name}, l.Attrs().AltNames...) }

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

// tables finds tables of others, and tables of the site's own that are gone. The contents of the site's own are read back with the plan.
func (i *inspection) tables(s *Site) error {
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
		i.found(true, func() error {
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
			i.found(false, nil, "table %s %s is gone: nothing passes", familyNames[t.Family], t.Name)
		}
	}
	return nil
}

// settings finds kernel settings that are not as the router needs them.
func (i *inspection) settings() error {
	for key, want := range routerSettings {
		text, err := os.ReadFile(filepath.Join("/proc/sys", strings.ReplaceAll(key, ".", "/")))
		if err != nil {
			return err
		}
		if have := strings.TrimSpace(string(text)); have != want {
			i.found(false, func() error { return set(map[string]string{key: want}) }, "kernel setting %s is %s, not %s", key, have, want)
		}
	}
	return nil
}

// rules finds routing rules of others, and the site's own that are gone.
func (i *inspection) rules() error {
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
			i.found(true, func() error { return netlink.RuleDel(&r) }, "routing rule %d is not Ironbark's: it may lead packets elsewhere", r.Priority)
		}
		for priority, there := range own {
			if !there {
				i.found(false, func() error { return errors.Join(answerProbe(), routeMarked()) }, "routing rule %d is gone", priority)
			}
		}
	}
	return nil
}

// links finds links that are gone or down, in another group, or nobody's.
func (i *inspection) links(s *Site, links []netlink.Link, list []change.Resource) error {
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
		names := namesOf(l)
		at := slices.IndexFunc(names, func(name string) bool { _, ok := want[name]; return ok })
		if at < 0 {
			if a.Name != "lo" && !slices.Contains(a.AltNames, offLink) {
				i.found(true, func() error { return netlink.LinkDel(l) }, "link %s in the site's namespace is not Ironbark's", a.Name)
			}
			continue
		}
		name := names[at]
		if a.Group != want[name] {
			i.found(false, func() error { return netlink.LinkSetGroup(l, int(want[name])) }, "link %s is in group %d, not %d", name, a.Group, want[name])
		}
		if a.Flags&net.FlagUp == 0 && !down[name] {
			i.found(false, func() error { return netlink.LinkSetUp(l) }, "link %s is down", name)
		}
		delete(want, name)
	}
	for name := range want {
		if machine, ok := strings.CutPrefix(name, "machine."); ok {
			i.found(false, func() error { return s.rejoin(machine, list) }, "the link to %s is gone", machine)
		}
	}
	return nil
}

// rejoin makes the link of a machine or bastion again, with its addresses and routes.
func (s *Site) rejoin(name string, list []change.Resource) error {
	for _, t := range list {
		if t.Name != name || !isNode(t) {
			continue
		}
		addrs := insideOf(t)
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

// machine finds a light machine, or a bastion, without its link, addresses or routes.
func (i *inspection) machine(s *Site, t change.Resource) error {
	mend := func() error { return s.rejoin(t.Name, []change.Resource{t}) }
	return within(s.prefix+"-"+t.Name, func() error {
		l, err := netlink.LinkByName("eth0")
		if errors.As(err, &netlink.LinkNotFoundError{}) {
			return nil // the router's end is gone with it
		}
		if err != nil {
			return err
		}
		if l.Attrs().Flags&net.FlagUp == 0 {
			i.found(false, mend, "%s has its link down", t.Name)
		}
		have, err := netlink.AddrList(l, netlink.FAMILY_ALL)
		if err != nil {
			return err
		}
		for _, a := range insideOf(t) {
			if !slices.ContainsFunc(have, func(h netlink.Addr) bool { b, _ := netip.AddrFromSlice(h.IP); return b.Unmap() == a }) {
				i.found(false, mend, "%s lacks its address %s", t.Name, a)
			}
		}
		for _, family := range []int{unix.AF_INET, unix.AF_INET6} {
			routes, err := netlink.RouteList(l, family)
			if err != nil {
				return err
			}
			if !slices.ContainsFunc(routes, func(r netlink.Route) bool { p, ok := prefixOfRoute(r, family); return ok && p.Bits() == 0 }) {
				i.found(false, mend, "%s has no default route", t.Name)
			}
		}
		return nil
	})
}

// mendPasses is how often the inspection is repeated: a mend may remove something else, as that of an address does its route.
const mendPasses = 3

// mendAll puts right what differs. What cannot be put right is an error.
func (s *Site) mendAll(list []change.Resource, plan *flow.Plan) error {
	for range mendPasses {
		faults, err := s.inspect(list, plan, nil)
		faults = slices.DeleteFunc(faults, func(f deviation) bool { return f.mend == nil })
		for _, f := range faults {
			if failed := within(s.prefix, f.mend); failed != nil && !errors.Is(failed, unix.ENOENT) && !errors.Is(failed, unix.ESRCH) && !errors.Is(failed, unix.ENODEV) { // it is gone by now
				err = errors.Join(err, fmt.Errorf("%s: %w", f.What, failed))
			}
		}
		if err != nil || len(faults) == 0 {
			return err
		}
	}
	return nil
}
