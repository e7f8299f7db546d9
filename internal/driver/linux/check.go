package linux

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"time"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"ironbark/internal/fault"
	"ironbark/internal/flow"
	"ironbark/internal/flow/span"
	"ironbark/internal/qemu"
)

// Requirement is one thing that the site needs of a host.
type Requirement struct {
	What   string
	Err    error        // why it is missing; nil: it is there
	Remedy fault.Advice // what to do about it
	// Optional says that a site can be without it: with light machines alone, or more slowly.
	Optional bool
}

// Check tries on this host all that the site needs, in namespaces of its own that it takes
// away again. What hangs on something that is missing is not tried.
func Check(clock interface{ Now() time.Time }) (list []Requirement) {
	s := &Site{prefix: fmt.Sprintf("ibcheck%d", os.Getpid()), dir: os.TempDir()}
	defer func() { _ = s.RemoveEverything() }()
	try := func(what, remedy string, do func() error) bool {
		err := do()
		list = append(list, Requirement{What: what, Err: err, Remedy: fault.Say(remedy)})
		return err == nil
	}
	_ = try("root", "run it as root: sudo ironbark …", func() error {
		if os.Getuid() != 0 {
			return errors.New("this is not root")
		}
		return nil
	}) && try(fmt.Sprintf("Linux %d.%d or later", oldestKernel[0], oldestKernel[1]), "a newer kernel: Debian 12 has 6.1", kernelIs) && try("network namespaces", "a kernel with CONFIG_NET_NS, and a writable /run", func() error {
		return errors.Join(create(s.prefix, nil), create(s.prefix+".probe", nil))
	}) && try("connection tracking", "modprobe nf_conntrack", func() error {
		return within(s.prefix, func() error { return set(routerSettings) })
	}) && try("pairs of links (veth)", "modprobe veth", func() error {
		return pair(s.prefix, "probe", groupProbe, s.prefix+".probe", "up")
	}) && try("the packet filter (nf_tables: sets of intervals, time, translation, hash, limit, reject)", "modprobe nf_tables nft_ct nft_nat nft_hash nft_limit nft_masq nft_reject_inet", func() error {
		c, done, err := s.conn()
		if err != nil {
			return err
		}
		defer done()
		return install(c, sample(), nil, nil, nil, clock.Now())
	}) && try("the packet filter of a link (netdev, fib)", "modprobe nft_fib nft_fib_netdev", func() error {
		return within(s.prefix, func() error {
			l, err := netlink.LinkByName("probe")
			if err != nil {
				return err
			}
			return s.fenceOn(l.Attrs().Name, nil)
		})
	}) && try("speaking from any address", "a kernel with CONFIG_IP_MULTIPLE_TABLES, CONFIG_IPV6_MULTIPLE_TABLES and CONFIG_NF_TPROXY, and the capability CAP_NET_ADMIN", func() error {
		return within(s.prefix+".probe", func() error { return set(probeSettings) })
	})
	return list
}

// oldestKernel is the oldest kernel on which the site's tests run.
var oldestKernel = [2]int{6, 1}

// kernelIs returns an error if the host's kernel is older.
func kernelIs() error {
	var u unix.Utsname
	if err := unix.Uname(&u); err != nil {
		return err
	}
	release := unix.ByteSliceToString(u.Release[:])
	var have [2]int
	if _, err := fmt.Sscanf(release, "%d.%d", &have[0], &have[1]); err != nil {
		return fmt.Errorf("the kernel's version is %q", release)
	}
	if slices.Compare(have[:], oldestKernel[:]) < 0 {
		return fmt.Errorf("this is Linux %s", release)
	}
	return nil
}

// CheckGuests tries what virtual machines need.
func CheckGuests(ctx context.Context) (list []Requirement) {
	if os.Getuid() != 0 {
		return nil
	}
	try := func(what string, remedy fault.Advice, err error) {
		list = append(list, Requirement{what, err, remedy, true})
	}
	for _, one := range [][2]string{{qemu.Program, "qemu-system-x86"}, {"qemu-img", "qemu-utils"}} {
		_, err := exec.LookPath(one[0])
		if err != nil {
			err = errors.New("the program is not there")
		}
		try("virtual machines ("+one[0]+")", fault.Say("apt-get install "+one[1]), err)
	}
	_, done, err := looseTap()
	if err == nil {
		done()
	}
	try("links of virtual machines (tap)", fault.Say("modprobe tun, and a /dev/net/tun"), err)
	err = nil
	if _, why := qemu.AccelOf(ctx, filepath.Join(runRoot, "kvm")); why != "" {
		err = errors.New(why)
	}
	try("KVM", fault.Say("a processor that virtualises, and is let; until then machines are emulated, and slow"), err)
	err = nil
	if ReadyTiny() != nil {
		err = errors.New("this version of ironbark has not made it on this host yet")
	}
	try("the system of tiny guests", fault.Run("site", "prepare"), err)
	return list
}

// sample is a table with something in each of its sets.
func sample() *Table {
	a, b := netip.MustParseAddr("192.0.2.1"), netip.MustParseAddr("2001:db8::1")
	t := &Table{Class: []Member{{a, 1}, {b, 2}}, Inside: flow.AddrsAt(a).Union(flow.AddrsAt(b))}
	for i, one := range []netip.Addr{a, b} {
		x := Box{Class: uint32(i + 1), Services: span.Run[flow.Service]{Lo: 1, Hi: 1023}, Source: flow.One(one), End: forever}
		t.Reach, t.DenyUntil, t.PassUntil, t.Own = append(t.Reach, x), append(t.DenyUntil, x), append(t.PassUntil, x), append(t.Own, x)
		t.Who = append(t.Who, Piece{firstAudience, x.Source, uint32(i + 1)})
		e := Entry{Profile: uint32(i + 1), Services: x.Services}
		t.Deny, t.Pass = append(t.Deny, e), append(t.Pass, e)
		t.Doors = append(t.Doors, Translation{Public: one, Service: 80, Ingress: 9, End: forever, To: []Target{{Addr: one, Port: 80}, {Addr: one.Next(), Port: 80}}})
	}
	return t
}
