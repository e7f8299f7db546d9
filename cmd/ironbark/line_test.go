package main

import (
	"bytes"
	"encoding/json"
	"io"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"ironbark/internal/driver/drivertest"
	"ironbark/internal/driver/linux"
	"ironbark/internal/wire"
)

// peerOf runs the WireGuard device of a peer in a namespace, by the file that add peer wrote, until the test ends.
func peerOf(t *testing.T, namespace, file string) {
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	said := map[string]string{}
	for line := range strings.Lines(string(text)) {
		if key, value, ok := strings.Cut(strings.TrimSpace(line), " = "); ok {
			said[key] = value
		}
	}
	d := wire.Device{Endpoint: netip.MustParseAddrPort(said["Endpoint"])}
	d.Private, err = wire.ParseKey(said["PrivateKey"])
	require.NoError(t, err)
	line, err := wire.ParseKey(said["PublicKey"])
	require.NoError(t, err)
	d.Peers = []wire.Peer{{Public: line}}
	for word := range strings.SplitSeq(said["AllowedIPs"], ", ") {
		d.Allowed = append(d.Allowed, netip.MustParsePrefix(word))
	}
	told, err := json.Marshal(d)
	require.NoError(t, err)
	inside(t, namespace, func() error {
		attrs := netlink.NewLinkAttrs()
		attrs.Name = "wg0"
		if err := netlink.LinkAdd(&netlink.Tuntap{LinkAttrs: attrs, Mode: netlink.TUNTAP_MODE_TUN, Flags: unix.IFF_NO_PI | unix.IFF_VNET_HDR | unix.IFF_ONE_QUEUE}); err != nil {
			return err
		}
		fd, err := unix.Open("/dev/net/tun", unix.O_RDWR|unix.O_CLOEXEC, 0)
		if err != nil {
			return err
		}
		request, _ := unix.NewIfreq("wg0")
		request.SetUint16(unix.IFF_TUN | unix.IFF_NO_PI | unix.IFF_VNET_HDR)
		if err := unix.IoctlIfreq(fd, unix.TUNSETIFF, request); err != nil {
			return err
		}
		tunnel := os.NewFile(uintptr(fd), "tunnel")
		status, err := os.Create(filepath.Join(t.TempDir(), "status"))
		if err != nil {
			return err
		}
		c := exec.Command(program)
		c.Args, c.Env, c.Stdin, c.ExtraFiles = []string{"ironbark-line", "peer", "x"}, []string{}, bytes.NewReader(told), []*os.File{tunnel, status}
		out, err := c.StdoutPipe()
		if err != nil {
			return err
		}
		if err := c.Start(); err != nil {
			return err
		}
		t.Cleanup(func() { _ = c.Process.Kill(); _ = c.Wait() })
		if _, err := io.ReadFull(out, make([]byte, 5)); err != nil {
			return err
		}
		l, err := netlink.LinkByName("wg0")
		if err != nil {
			return err
		}
		for word := range strings.SplitSeq(said["Address"], ", ") {
			a, err := netlink.ParseAddr(word)
			if err != nil {
				return err
			}
			a.Flags = unix.IFA_F_NODAD
			if err := netlink.AddrAdd(l, a); err != nil {
				return err
			}
		}
		if err := netlink.LinkSetUp(l); err != nil {
			return err
		}
		for _, p := range d.Allowed {
			to := net.IPNet{IP: p.Addr().AsSlice(), Mask: net.CIDRMask(p.Bits(), p.Addr().BitLen())}
			if err := netlink.RouteAdd(&netlink.Route{LinkIndex: l.Attrs().Index, Dst: &to}); err != nil {
				return err
			}
		}
		return nil
	})
}

// TestALineIsATunnel has a computer beyond the host come in by a line, and by nothing else from its address; it is gone with
// its peer, and back after the host is started anew.
func TestALineIsATunnel(t *testing.T) {
	host, client := hostNamespace(t)
	dir := t.TempDir()
	place := linux.New(filepath.Join(dir, ".ironbark"), drivertest.RealClock())
	estate := "estate: tides\nsite: linux\npeople: {mara: {groups: [ops, leads]}}\n" +
		"uplink: {interface: eth0, addresses: [192.0.2.20/24], gateway: [192.0.2.100], public: [192.0.2.32/28]}\n" +
		"networks: {estuary: {space: [10.60.0.0/16, \"2001:db8:60::/48\"], outside: true, subnets: {landing: {range: [10.60.1.0/24, \"2001:db8:60:1::/64\"]}}}}\n" +
		"machines:\n  gauge-1: {image: light, size: c1m1, at: landing, address: auto}\n"
	require.NoError(t, os.WriteFile(filepath.Join(dir, "estate.yaml"), []byte(estate), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "estate.rules"), []byte("permit ops to open ssh to all from everywhere up to 1h\n"), 0o600))
	run := func(args ...string) string {
		c := exec.Command("nsenter", append([]string{"--net=/run/netns/" + host, program}, append(args, "--person", "mara")...)...)
		c.Dir = dir
		out, err := c.CombinedOutput()
		require.NoError(t, err, string(out))
		return string(out)
	}
	t.Cleanup(func() {
		defer func() { _ = place.RemoveEverything() }() // also where the test failed
		run("remove", "--everything", "--name", "tides")
		left, _ := exec.Command("pgrep", "-f", "ironbark-line "+dir).Output()
		assert.Empty(t, string(left))
	})
	run("enact", "--yes")
	run("add", "line", "headland", "--network", "estuary", "--range", "172.20.0.0/24,2001:db8:77::/64", "--yes")
	conf := filepath.Join(dir, "laptop.conf")
	run("add", "peer", "laptop", "--to", conf, "--yes")
	peerOf(t, client, conf)
	const machine, machine6, public = "10.60.1.2:443", "[2001:db8:60:1::2]:443", "192.0.2.32:443"
	require.False(t, gets(t, client, machine), "nothing lets it in yet")
	run("allow", "https", "from", "laptop", "to", "gauge-1", "--yes")
	require.True(t, gets(t, client, machine))
	require.True(t, gets(t, client, machine6))
	require.False(t, gets(t, client, public), "it is let in by the line alone")
	inside(t, client, func() error { // its address, and not by the tunnel
		_, err := (&net.Dialer{Timeout: time.Second, LocalAddr: &net.TCPAddr{IP: net.ParseIP("172.20.0.2")}}).Dial("tcp", public)
		assert.Error(t, err)
		return nil
	})
	inside(t, client, func() error { // by the tunnel, and not its address
		l, err := netlink.LinkByName("wg0")
		if err != nil {
			return err
		}
		other, _ := netlink.ParseAddr("172.20.0.9/32")
		if err := netlink.AddrAdd(l, other); err != nil {
			return err
		}
		_, err = (&net.Dialer{Timeout: time.Second, LocalAddr: &net.TCPAddr{IP: net.ParseIP("172.20.0.9")}}).Dial("tcp", machine)
		assert.Error(t, err)
		return nil
	})
	require.Contains(t, run("show", "line", "headland"), "192.0.2.100:")
	require.Contains(t, run("reach", "gauge-1"), "laptop")

	ssh := strings.Replace(machine, ":443", ":22", 1)
	require.False(t, gets(t, client, ssh), "administrative")
	run("open", "ssh", "to", "gauge-1", "from", "laptop", "for", "5m", "because", "by the line")
	var session net.Conn
	inside(t, client, func() (err error) {
		session, err = net.DialTimeout("tcp", ssh, 2*time.Second)
		return err
	})
	defer session.Close()
	require.Contains(t, run("show", "machine", "gauge-1"), "ssh to gauge-1 from 172.20.0.2")

	// The host is started anew, and the line with it; its key stays.
	require.NoError(t, place.RemoveEverything())
	require.False(t, gets(t, client, machine))
	run("site", "restore")
	require.Eventually(t, func() bool { return gets(t, client, machine) }, 30*time.Second, 100*time.Millisecond)

	inside(t, client, func() (err error) {
		session, err = net.DialTimeout("tcp", ssh, 2*time.Second)
		return err
	})
	defer session.Close()
	run("remove", "peer", "laptop", "--yes")
	require.False(t, gets(t, client, machine))
	require.NotContains(t, run("show", "machine", "gauge-1"), "172.20.0.2", "its session and its opening are gone with it")
}
