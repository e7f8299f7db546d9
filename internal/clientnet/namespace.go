package clientnet

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"syscall"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"
)

// childName is what the process is called that makes the network and then is the command. It is this
// program, started anew in namespaces of its own.
const childName = "ironbark-clients"

func init() {
	if len(os.Args) > 0 && os.Args[0] == childName {
		fmt.Fprintln(os.Stderr, "ironbark:", child())
		os.Exit(127)
	}
}

// order is what the child is told, on descriptor 3.
type order struct {
	Addrs   []netip.Addr `json:"addrs"`
	Command []string     `json:"command"`
}

// Command readies a command in a network of its own, in which it has some addresses and whose every packet
// is for Serve. It returns the TUN device; the command begins when the returned function is called. As root
// the network is all that it has of its own; others have a user namespace besides, in which they stay who
// they are. The error is a *NeverError where that is not to be had.
func Command(addrs []netip.Addr, command []string, in io.Reader, out, errOut io.Writer) (c *exec.Cmd, tun *os.File, begin func() error, err error) {
	fds, err := unix.Socketpair(unix.AF_UNIX, unix.SOCK_SEQPACKET|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return nil, nil, nil, err
	}
	there := os.NewFile(uintptr(fds[1]), "order")
	defer there.Close()
	mine := os.NewFile(uintptr(fds[0]), "order")
	conn, err := net.FileConn(mine)
	if err = errors.Join(err, mine.Close()); err != nil {
		return nil, nil, nil, err
	}
	wire := conn.(*net.UnixConn)
	c = exec.Command("/proc/self/exe")
	c.Args = []string{childName}
	c.Stdin, c.Stdout, c.Stderr, c.ExtraFiles = in, out, errOut, []*os.File{there}
	c.SysProcAttr = &syscall.SysProcAttr{Cloneflags: unix.CLONE_NEWNET}
	if uid, gid := os.Getuid(), os.Getgid(); uid != 0 {
		c.SysProcAttr.Cloneflags |= unix.CLONE_NEWUSER
		c.SysProcAttr.UidMappings = []syscall.SysProcIDMap{{ContainerID: uid, HostID: uid, Size: 1}}
		c.SysProcAttr.GidMappings = []syscall.SysProcIDMap{{ContainerID: gid, HostID: gid, Size: 1}}
		c.SysProcAttr.AmbientCaps = []uintptr{unix.CAP_NET_ADMIN}
	}
	if err := c.Start(); err != nil {
		return nil, nil, nil, errors.Join(&NeverError{err}, wire.Close())
	}
	fail := func(err error) (*exec.Cmd, *os.File, func() error, error) {
		_ = c.Process.Kill()
		_ = c.Wait()
		return nil, nil, nil, errors.Join(&NeverError{err}, wire.Close())
	}
	text, err := json.Marshal(order{addrs, command})
	if err != nil {
		return fail(err)
	}
	if _, err := wire.Write(text); err != nil {
		return fail(err)
	}
	tun, err = receiveFile(wire)
	if err != nil {
		return fail(err)
	}
	return c, tun, func() error {
		_, err := wire.Write([]byte("begin"))
		return errors.Join(err, wire.Close())
	}, nil
}

// receiveFile takes a descriptor over, or what went wrong in words.
func receiveFile(wire *net.UnixConn) (*os.File, error) {
	text, oob := make([]byte, 1024), make([]byte, unix.CmsgSpace(4))
	n, oobn, _, _, err := wire.ReadMsgUnix(text, oob)
	if err != nil {
		return nil, err
	}
	control, err := unix.ParseSocketControlMessage(oob[:oobn])
	if err != nil || len(control) == 0 {
		return nil, errors.Join(err, errors.New(string(text[:n])))
	}
	fds, err := unix.ParseUnixRights(&control[0])
	if err != nil || len(fds) != 1 {
		return nil, errors.Join(err, errors.New("no device came"))
	}
	return os.NewFile(uintptr(fds[0]), "tun"), nil
}

// child makes the network, hands its device over and becomes the command. It returns only what kept it
// from that.
func child() error {
	f := os.NewFile(3, "order")
	conn, err := net.FileConn(f)
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	wire := conn.(*net.UnixConn)
	text := make([]byte, 1<<20)
	n, err := wire.Read(text)
	if err != nil {
		return err
	}
	var o order
	if err := json.Unmarshal(text[:n], &o); err != nil || len(o.Command) == 0 {
		return errors.Join(err, errors.New("there is nothing to do"))
	}
	tun, err := makeNetwork(o.Addrs)
	if err != nil {
		_, _ = wire.Write([]byte(err.Error()))
		return err
	}
	if _, _, err := wire.WriteMsgUnix([]byte("tun"), unix.UnixRights(tun), nil); err != nil {
		return err
	}
	if n, err := wire.Read(text); err != nil || n == 0 {
		return errors.Join(err, io.ErrUnexpectedEOF)
	}
	_ = wire.Close()
	_ = unix.Prctl(unix.PR_CAP_AMBIENT, unix.PR_CAP_AMBIENT_CLEAR_ALL, 0, 0, 0)
	path, err := exec.LookPath(o.Command[0])
	if err != nil {
		return err
	}
	return syscall.Exec(path, o.Command, os.Environ())
}

// makeNetwork makes a TUN device that has some addresses, and leads everything there.
func makeNetwork(addrs []netip.Addr) (tun int, err error) {
	lo, err := netlink.LinkByName("lo")
	if err != nil {
		return -1, err
	}
	if err := netlink.LinkSetUp(lo); err != nil {
		return -1, err
	}
	if tun, err = openTUN(linkName); err != nil {
		return -1, fmt.Errorf("/dev/net/tun: %w", err)
	}
	link, err := netlink.LinkByName(linkName)
	if err != nil {
		return -1, err
	}
	if err := errors.Join(netlink.LinkSetMTU(link, MTU), netlink.LinkSetAlias(link, linkAlias)); err != nil {
		return -1, err
	}
	for _, a := range addrs {
		addr := &netlink.Addr{IPNet: &net.IPNet{IP: a.AsSlice(), Mask: net.CIDRMask(a.BitLen(), a.BitLen())}, Flags: unix.IFA_F_NODAD}
		if err := netlink.AddrReplace(link, addr); err != nil {
			return -1, fmt.Errorf("address %s: %w", a, err)
		}
	}
	if err := netlink.LinkSetUp(link); err != nil {
		return -1, err
	}
	for _, a := range addrs {
		any := netip.PrefixFrom(netip.IPv4Unspecified(), 0)
		if a.Is6() {
			any = netip.PrefixFrom(netip.IPv6Unspecified(), 0)
		}
		r := &netlink.Route{LinkIndex: link.Attrs().Index, Dst: &net.IPNet{IP: any.Addr().AsSlice(), Mask: net.CIDRMask(0, a.BitLen())}, Src: a.AsSlice()}
		if err := netlink.RouteReplace(r); err != nil {
			return -1, fmt.Errorf("a way out from %s: %w", a, err)
		}
	}
	return tun, nil
}

// linkName and linkAlias identify the link of a network of clients.
const (
	linkName  = "cloud"
	linkAlias = "clients of a stand-in cloud, by ironbark"
)

// Own returns the addresses of this process in a network of clients; none outside of one.
func Own() (list []netip.Addr) {
	link, err := netlink.LinkByName(linkName)
	if err != nil || link.Attrs().Alias != linkAlias {
		return nil
	}
	addrs, err := netlink.AddrList(link, netlink.FAMILY_ALL)
	if err != nil {
		return nil
	}
	for _, a := range addrs {
		if one, ok := netip.AddrFromSlice(a.IP); ok && !one.Unmap().IsLinkLocalUnicast() {
			list = append(list, one.Unmap())
		}
	}
	return list
}

// openTUN makes a TUN device without packet information (tuntap.rst).
func openTUN(name string) (int, error) {
	fd, err := unix.Open("/dev/net/tun", unix.O_RDWR|unix.O_CLOEXEC|unix.O_NONBLOCK, 0)
	if err != nil {
		return -1, err
	}
	ifr, err := unix.NewIfreq(name)
	if err != nil {
		return -1, errors.Join(err, unix.Close(fd))
	}
	ifr.SetUint16(unix.IFF_TUN | unix.IFF_NO_PI)
	if err := unix.IoctlIfreq(fd, unix.TUNSETIFF, ifr); err != nil {
		return -1, errors.Join(err, unix.Close(fd))
	}
	return fd, nil
}
