package linux

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"runtime"
	"strings"

	"github.com/vishvananda/netlink"
	"github.com/vishvananda/netns"
	"golang.org/x/sys/unix"

	"ironbark/internal/fault"
)

// All of an estate lives in network namespaces of its own, which outlive the program:
//
//	PREFIX           the router, with the packet filter
//	PREFIX.probe     from which packets are sent to be tried
//	PREFIX.off       which refuses what is sent to guests that are off
//	PREFIX-MACHINE   a machine
//
// Each machine has one link of its own to the router, and a route to nothing else: two
// machines of one subnet are filtered from each other as others are, and a packet's
// link tells which machine sent it.

// The router's own addresses, the same on all of its links: link-local ones (RFC 3927,
// RFC 4291), which no estate has.
var (
	routerV4 = netip.MustParseAddr("169.254.77.1")
	probeV4  = netip.MustParseAddr("169.254.77.2")
	routerV6 = netip.MustParseAddr("fe80::1")
	probeV6  = netip.MustParseAddr("fe80::2")
)

// prefixOf names the namespaces of the estate in a folder.
func prefixOf(dir string) string {
	if abs, err := filepath.Abs(dir); err == nil {
		dir = abs
	}
	sum := sha256.Sum256([]byte(dir))
	return "ib" + hex.EncodeToString(sum[:5])
}

// namespaceDir is where named namespaces are kept, as ip-netns(8) does.
const namespaceDir = "/run/netns"

func exists(namespace string) bool {
	var fs unix.Statfs_t
	err := unix.Statfs(filepath.Join(namespaceDir, namespace), &fs)
	return err == nil && fs.Type == unix.NSFS_MAGIC
}

// rootError says that the program may not do what the site needs.
type rootError struct{}

var errRoot error = rootError{}

// Error tells what may not be done.
func (rootError) Error() string {
	return "network namespaces and the packet filter of this host need root"
}

// Kind is that of files and hosts that cannot be used.
func (rootError) Kind() fault.Kind { return fault.Unsupported }

// Advice says what to do.
func (rootError) Advice() fault.Advice {
	return fault.Say("run it as root; ").Run("site", "check").Say(" tells what else the host needs")
}

// within does something on a thread that is in a namespace.
func within(namespace string, do func() error) error {
	if os.Getuid() != 0 {
		return errRoot
	}
	done := make(chan error, 1)
	go func() {
		// The thread is thrown away with this goroutine, for it is never unlocked: whatever
		// goes wrong, no other work is done in a namespace that is not its own.
		runtime.LockOSThread()
		ns, err := netns.GetFromPath(filepath.Join(namespaceDir, namespace))
		if err == nil {
			err = errors.Join(netns.Set(ns), ns.Close())
		}
		if err == nil {
			err = do()
		}
		done <- err
	}()
	if err := <-done; err != nil {
		return fmt.Errorf("in the namespace %s: %w", namespace, err)
	}
	return nil
}

// create makes a namespace, if it is not there, with its loopback link up and settings.
func create(namespace string, settings map[string]string) error {
	if exists(namespace) {
		return nil
	}
	if err := os.Remove(filepath.Join(namespaceDir, namespace)); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	if err := shareNamespaces(); err != nil {
		return err
	}
	done := make(chan error, 1)
	go func() {
		runtime.LockOSThread()
		ns, err := netns.NewNamed(namespace)
		if err == nil {
			err = ns.Close()
		}
		done <- err
	}()
	if err := <-done; err != nil {
		return fmt.Errorf("making the namespace %s: %w", namespace, err)
	}
	return within(namespace, func() error {
		if err := set(settings); err != nil {
			return err
		}
		lo, err := netlink.LinkByName("lo")
		if err == nil {
			err = netlink.LinkSetUp(lo)
		}
		return err
	})
}

// shareNamespaces makes the folder of named namespaces a shared mount, as ip-netns(8) does before it makes its first one. Where that came
// later, it would hide the mounts in it, and no namespace of before could be removed.
func shareNamespaces() error {
	if err := os.MkdirAll(namespaceDir, 0o755); err != nil {
		return err
	}
	err := unix.Mount("", namespaceDir, "none", unix.MS_SHARED|unix.MS_REC, "")
	if !errors.Is(err, unix.EINVAL) { // it is no mount yet
		return err
	}
	if err := unix.Mount(namespaceDir, namespaceDir, "none", unix.MS_BIND|unix.MS_REC, ""); err != nil {
		return err
	}
	return unix.Mount("", namespaceDir, "none", unix.MS_SHARED|unix.MS_REC, "")
}

// set sets kernel settings (sysctl(8)) of the thread's namespace.
func set(settings map[string]string) error {
	for key, value := range settings {
		if err := os.WriteFile(filepath.Join("/proc/sys", strings.ReplaceAll(key, ".", "/")), []byte(value), 0o644); err != nil {
			return err
		}
	}
	return nil
}

// pair makes two links that are joined: one in the router, which is known by a name, and one in another namespace.
func pair(router, known string, group uint32, other, otherName string) error {
	return within(router, func() error {
		if l, err := netlink.LinkByName(known); err == nil {
			if within(other, func() error {
				_, err := netlink.LinkByName(otherName)
				return err
			}) == nil {
				return nil
			}
			if err := netlink.LinkDel(l); err != nil && !errors.As(err, &netlink.LinkNotFoundError{}) && !errors.Is(err, unix.ENODEV) { // its other end is gone
				return err
			}
		}
		if err := within(other, func() error { return deleteLink(otherName) }); err != nil { // of one that was never named
			return err
		}
		ns, err := netns.GetFromPath(filepath.Join(namespaceDir, other))
		if err != nil {
			return err
		}
		defer ns.Close()
		attrs := netlink.NewLinkAttrs()
		attrs.Name, attrs.Group = drawnName(), group
		veth := &netlink.Veth{LinkAttrs: attrs, PeerName: otherName, PeerNamespace: netlink.NsFd(ns)}
		if err := netlink.LinkAdd(veth); err != nil {
			return err
		}
		if err := nameLink(attrs.Name, known); err != nil {
			return err
		}
		return address(known, netip.PrefixFrom(routerV6, 64))
	})
}

// deleteLink takes a link of the thread's namespace away, if it is there.
func deleteLink(name string) error {
	l, err := netlink.LinkByName(name)
	if errors.As(err, &netlink.LinkNotFoundError{}) {
		return nil
	}
	if err == nil {
		err = netlink.LinkDel(l)
	}
	return err
}

// address gives a link its addresses, without asking whether others have them, and puts it up.
func address(name string, list ...netip.Prefix) error {
	l, err := netlink.LinkByName(name)
	if err != nil {
		return err
	}
	for _, p := range list {
		a := &netlink.Addr{IPNet: ipNet(p)}
		if p.Addr().Is6() {
			a.Flags = unix.IFA_F_NODAD
		}
		if err := netlink.AddrReplace(l, a); err != nil {
			return err
		}
	}
	return netlink.LinkSetUp(l)
}

func ipNet(p netip.Prefix) *net.IPNet {
	return &net.IPNet{IP: p.Addr().AsSlice(), Mask: net.CIDRMask(p.Bits(), p.Addr().BitLen())}
}

// route leads a prefix to a link, and through a gateway on it if there is one.
func route(name string, to netip.Prefix, via netip.Addr) error {
	l, err := netlink.LinkByName(name)
	if err != nil {
		return err
	}
	r := &netlink.Route{LinkIndex: l.Attrs().Index, Dst: ipNet(to), Scope: netlink.SCOPE_LINK}
	if via.IsValid() {
		r.Gw, r.Scope, r.Flags = via.AsSlice(), netlink.SCOPE_UNIVERSE, int(netlink.FLAG_ONLINK)
	}
	return netlink.RouteReplace(r)
}

var (
	anyV4 = netip.MustParsePrefix("0.0.0.0/0")
	anyV6 = netip.MustParsePrefix("::/0")
)

// routerSettings make a namespace forward and keep to itself what only confuses.
var routerSettings = map[string]string{
	"net.ipv4.ip_forward": "1", "net.ipv6.conf.all.forwarding": "1", "net.ipv4.conf.all.send_redirects": "0", "net.ipv4.conf.default.send_redirects": "0",
	"net.ipv4.conf.all.rp_filter": "0", "net.ipv4.conf.default.rp_filter": "0",
	"net.ipv4.fwmark_reflect": "1", "net.ipv6.fwmark_reflect": "1", // a reset goes the way that an answer would
	"net.netfilter.nf_conntrack_tcp_loose":             "0",  // what is in its midst begins no connection
	"net.netfilter.nf_conntrack_tcp_timeout_time_wait": "30", // connections that are over count against their machine's limit
}

// machineSettings make a namespace tell each sender that nothing listens, and not some of them. Its listeners have no privileges, and
// may use all ports.
var machineSettings = map[string]string{"net.ipv4.icmp_ratelimit": "0", "net.ipv6.icmp.ratelimit": "0", "net.ipv4.ip_unprivileged_port_start": "0"}

// probeSettings let a namespace speak from any address.
var probeSettings = map[string]string{"net.ipv4.ip_nonlocal_bind": "1", "net.ipv6.ip_nonlocal_bind": "1", "net.ipv4.conf.all.rp_filter": "0", "net.ipv4.conf.default.rp_filter": "0"}

// probeTable is the routing table of the probe's namespace by which all that arrives is its own.
const probeTable = 77

// build makes the router, closed to everything, and the probe.
func (s *Site) build() error {
	if os.Getuid() != 0 {
		return errRoot
	}
	if err := s.claim(); err != nil {
		return err
	}
	router, probe := s.prefix, s.prefix+".probe"
	if exists(router) && exists(probe) {
		return nil
	}
	if err := create(router, routerSettings); err != nil {
		return err
	}
	// Where the kernel can, it keeps since when connections go on.
	_ = within(router, func() error { return set(map[string]string{"net.netfilter.nf_conntrack_timestamp": "1"}) })
	c, closeConn, err := s.conn()
	if err != nil {
		return err
	}
	defer closeConn()
	if err := install(c, &Table{}, nil, nil, nil, s.clock.Now()); err != nil { // before any link rises
		return fmt.Errorf("the packet filter: %w", err)
	}
	if err := create(probe, probeSettings); err != nil {
		return err
	}
	if err := pair(router, "probe", groupProbe, probe, "up"); err != nil {
		return err
	}
	err = within(probe, func() error {
		if err := address("up", netip.PrefixFrom(probeV4, 30), netip.PrefixFrom(probeV6, 64)); err != nil {
			return err
		}
		for _, r := range []struct {
			to  netip.Prefix
			via netip.Addr
		}{{anyV4, routerV4}, {anyV6, routerV6}} {
			if err := route("up", r.to, r.via); err != nil {
				return err
			}
			lo, err := netlink.LinkByName("lo")
			if err != nil {
				return err
			}
			mine := &netlink.Route{LinkIndex: lo.Attrs().Index, Dst: ipNet(r.to), Table: probeTable, Type: unix.RTN_LOCAL, Scope: netlink.SCOPE_HOST}
			if err := netlink.RouteReplace(mine); err != nil {
				return err
			}
			rule := netlink.NewRule()
			rule.IifName, rule.Table, rule.Priority, rule.Family = "up", probeTable, 10, familyOf(r.to.Addr())
			if err := netlink.RuleAdd(rule); err != nil && !errors.Is(err, unix.EEXIST) {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	return within(router, func() error {
		if err := address("probe", netip.PrefixFrom(routerV4, 30)); err != nil {
			return err
		}
		if err := errors.Join(route("probe", anyV4, probeV4), route("probe", anyV6, probeV6)); err != nil {
			return err
		}
		return errors.Join(answerProbe(), routeMarked())
	})
}

// answersTable is the router's routing table for what the probe began.
const answersTable = 78

// answerProbe leads what is marked as an answer to the probe there, and not to the uplink.
func answerProbe() error {
	l, err := netlink.LinkByName("probe")
	if err != nil {
		return err
	}
	for _, r := range []struct {
		to  netip.Prefix
		via netip.Addr
	}{{anyV4, probeV4}, {anyV6, probeV6}} {
		way := &netlink.Route{LinkIndex: l.Attrs().Index, Dst: ipNet(r.to), Gw: r.via.AsSlice(), Flags: int(netlink.FLAG_ONLINK), Table: answersTable}
		if err := netlink.RouteReplace(way); err != nil {
			return err
		}
		rule, mask := netlink.NewRule(), fromProbe
		rule.Mark, rule.Mask, rule.Table, rule.Priority, rule.Family = fromProbe, &mask, answersTable, answersRule, familyOf(r.to.Addr())
		if err := netlink.RuleAdd(rule); err != nil && !errors.Is(err, unix.EEXIST) {
			return err
		}
	}
	return nil
}

func familyOf(a netip.Addr) int {
	if a.Is4() {
		return unix.AF_INET
	}
	return unix.AF_INET6
}

// joinMachine makes the namespace of a machine, its link and its addresses.
func (s *Site) joinMachine(machine string, addrs []netip.Addr, outward bool) error {
	name, link := s.prefix+"-"+machine, linkOf(machine)
	if err := create(name, machineSettings); err != nil {
		return err
	}
	group := uint32(groupMachine)
	if outward {
		group = groupOutward
	}
	if err := pair(s.prefix, link, group, name, "eth0"); err != nil {
		return err
	}
	err := within(name, func() error {
		var list []netip.Prefix
		for _, a := range addrs {
			list = append(list, netip.PrefixFrom(a, a.BitLen()))
		}
		if err := address("eth0", list...); err != nil {
			return err
		}
		return errors.Join(route("eth0", anyV4, routerV4), route("eth0", anyV6, routerV6))
	})
	if err != nil {
		return err
	}
	return within(s.prefix, func() error {
		for _, a := range addrs {
			if err := route(link, netip.PrefixFrom(a, a.BitLen()), netip.Addr{}); err != nil {
				return err
			}
		}
		return nil
	})
}

// partMachine takes a machine's namespace away, and its link with it.
func (s *Site) partMachine(machine string) error {
	if !exists(s.prefix + "-" + machine) {
		return nil
	}
	return errors.Join(
		within(s.prefix, func() error {
			l, err := netlink.LinkByName(linkOf(machine))
			if err != nil {
				return nil // it is not there
			}
			return netlink.LinkDel(l)
		}),
		netns.DeleteNamed(s.prefix+"-"+machine))
}

// RemoveEverything takes all namespaces of the estate away, and all that runs in them. The
// kernel does that some time after it is told; the uplink is cut before, so that nothing
// comes in meanwhile.
func (s *Site) RemoveEverything() error {
	if _, err := s.claimed(); err != nil {
		return err
	}
	list, err := os.ReadDir(namespaceDir)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	var errs []error
	lines, _ := filepath.Glob(s.lineFile("*", "pid"))
	for _, path := range lines {
		s.stopLine(strings.TrimSuffix(filepath.Base(path), ".pid"))
	}
	if exists(s.prefix) {
		errs = append(errs, within(s.prefix, func() error {
			_, err := cutUplink()
			return err
		}))
	}
	var own, machines []string
	for _, e := range list {
		machine, ok := strings.CutPrefix(e.Name(), s.prefix+"-")
		if ok {
			s.stopListening(machine)
			machines = append(machines, e.Name())
		}
		if ok || e.Name() == s.prefix || e.Name() == s.prefix+".probe" || e.Name() == s.prefix+".off" {
			own = append(own, e.Name())
		}
	}
	if len(machines) > 0 {
		endLight(machines...) // those whose numbers are lost
	}
	for _, name := range own {
		errs = append(errs, netns.DeleteNamed(name))
	}
	return errors.Join(append(errs, s.removeGuests(), s.unfence(), s.unclaim(), s.unclaimPublic())...)
}
