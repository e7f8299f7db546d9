package main

import (
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"github.com/vishvananda/netlink"
	"github.com/vishvananda/netns"

	"ironbark/internal/driver/drivertest"
	"ironbark/internal/driver/linux"
)

// hostNamespace makes a namespace that is the host of a test, and one beyond it in which a
// client is. Both have eth0, in one network: 192.0.2.10 and .100, and the same of 2001:db8:2::.
func hostNamespace(t testing.TB) (host, client string) {
	if os.Getuid() != 0 {
		t.Skip("network namespaces need root")
	}
	host, client = fmt.Sprintf("ibtest%dh", os.Getpid()), fmt.Sprintf("ibtest%dc", os.Getpid())
	handles := map[string]netns.NsHandle{}
	for _, name := range []string{host, client} {
		done := make(chan error)
		go func() {
			runtime.LockOSThread() // and never unlocked: the thread goes with the goroutine
			ns, err := netns.NewNamed(name)
			handles[name] = ns
			done <- err
		}()
		require.NoError(t, <-done)
		t.Cleanup(func() { _ = netns.DeleteNamed(name) })
	}
	inside(t, host, func() error {
		attrs := netlink.NewLinkAttrs()
		attrs.Name = "eth0"
		return netlink.LinkAdd(&netlink.Veth{LinkAttrs: attrs, PeerName: "eth0", PeerNamespace: netlink.NsFd(handles[client])})
	})
	for name, last := range map[string]string{host: "10", client: "100"} {
		inside(t, name, func() error {
			l, err := netlink.LinkByName("eth0")
			for _, a := range []string{"192.0.2." + last + "/24", "2001:db8:2::" + last + "/64"} {
				addr, _ := netlink.ParseAddr(a)
				if strings.Contains(a, ":") {
					addr.Flags = 2 // IFA_F_NODAD
				}
				if err == nil {
					err = netlink.AddrAdd(l, addr)
				}
			}
			if err == nil {
				err = netlink.LinkSetUp(l)
			}
			return err
		})
	}
	return host, client
}

// inside does something in a namespace.
func inside(t testing.TB, namespace string, do func() error) {
	t.Helper()
	done := make(chan error)
	go func() {
		runtime.LockOSThread()
		ns, err := netns.GetFromName(namespace)
		if err == nil {
			err = netns.Set(ns)
		}
		if err == nil {
			err = do()
		}
		done <- err
	}()
	require.NoError(t, <-done)
}

// gets reports whether a connection from a namespace comes about.
func gets(t testing.TB, namespace, to string) (got bool) {
	inside(t, namespace, func() error {
		c, err := (&net.Dialer{Timeout: time.Second}).Dial("tcp", to)
		if got = err == nil; got {
			_ = c.Close()
		}
		return nil
	})
	return got
}

// answers reports whether somebody tells a namespace that nothing listens.
func answers(t testing.TB, namespace, to string) (refused bool) {
	inside(t, namespace, func() error {
		_, err := (&net.Dialer{Timeout: time.Second}).Dial("tcp", to)
		refused = errors.Is(err, syscall.ECONNREFUSED)
		return nil
	})
	return refused
}

// remedy does what site check offers, until nothing is lacking: what is offered as a remedy is one.
func remedy(t testing.TB, p *placed) {
	said, _ := p.try("site", "check") // its exit status is that of what the host lacks
	for line := range strings.Lines(said) {
		if words := strings.Fields(line); len(words) > 1 && (words[0] == "sysctl" || words[0] == "ip") {
			if words[0] == "sysctl" {
				setting, value, _ := strings.Cut(words[2], "=")
				inside(t, p.host, func() error {
					return os.WriteFile("/proc/sys/"+strings.ReplaceAll(setting, ".", "/"), []byte(value), 0o600)
				})
				continue
			}
			_, to, err := net.ParseCIDR(words[3])
			require.NoError(t, err)
			inside(t, p.host, func() error {
				l, err := netlink.LinkByName(words[8])
				if err != nil {
					return err
				}
				r := &netlink.Route{LinkIndex: l.Attrs().Index, Dst: to, Via: &netlink.Via{AddrFamily: netlink.FAMILY_V6, Addr: net.ParseIP(words[6])}}
				if to.IP.To4() == nil {
					r.Via, r.Gw = nil, net.ParseIP(words[6])
				}
				return netlink.RouteAdd(r)
			})
		}
	}
	said, _ = p.try("site", "check")
	require.NotContains(t, said, "lacks")
}

// TestClientsOutsideTheHost joins an estate to a host's network in both ways, and has a client
// beyond the host come in by every door, a machine call outward, and an opening open and end.
func TestClientsOutsideTheHost(t *testing.T) {
	for name, uplink := range map[string]struct{ yaml, pool, own6, space6, quay6 string }{
		"on an interface": {
			`{interface: eth0, addresses: [192.0.2.20/24, "2001:db8:2::20/64"], gateway: [192.0.2.100, "2001:db8:2::100"], public: [192.0.2.32/28, "2001:db8:2:0:f::/80"]}`,
			"192.0.2.", "2001:db8:2:0:60::2", "2001:db8:2:0:60::/80", "2001:db8:2:0:f::1",
		},
		"routed by the host": {`{public: [203.0.113.31/32, 203.0.113.32/28, "2001:db8:f::/64"]}`, "203.0.113.", "2001:db8:60::2", "2001:db8:60::/64", "2001:db8:f::1"},
	} {
		t.Run(name, func(t *testing.T) {
			host, client := hostNamespace(t)
			p := place(t, host, "uplink: "+uplink.yaml+"\n"+
				`networks: {estuary: {space: [10.60.0.0/16, "`+uplink.space6+`"], outside: true, subnets: {landing: {range: [10.60.1.0/24, "`+uplink.space6+"\"]}}}}\n"+
				"machines:\n  gauge-1: {image: light, size: c1m1, at: landing, address: auto}\n  gauge-2: {image: light, size: c1m1, at: landing}\nfronts: {quay: {network: estuary, address: auto}}\n",
				"allow https from everywhere to all\nforward quay tcp/8443 to gauge-2 on https\npermit ops to open ssh to all from everywhere up to 1h\n")
			run, router := p.run, p.router
			run("enact", "--yes")
			remedy(t, p)
			inside(t, client, func() error { // by the host to all that is not the client's network
				for _, p := range []netip.Prefix{netip.MustParsePrefix("0.0.0.0/0"), netip.MustParsePrefix("::/0")} {
					to := net.IPNet{IP: p.Addr().AsSlice(), Mask: net.CIDRMask(0, p.Addr().BitLen())}
					gw := "192.0.2.10"
					if p.Addr().Is6() {
						gw = "2001:db8:2::10"
					}
					if err := netlink.RouteAdd(&netlink.Route{Dst: &to, Gw: net.ParseIP(gw)}); err != nil {
						return err
					}
				}
				return nil
			})
			for _, to := range []string{"192.0.2.10:1", "[2001:db8:2::10]:1"} { // client and host have found each other
				require.Eventually(t, func() bool { return answers(t, client, to) }, 20*time.Second, 10*time.Millisecond, to)
			}
			for to, want := range map[string]bool{
				uplink.pool + "32:443": true, uplink.pool + "33:8443": true, "[" + uplink.own6 + "]:443": true, "[" + uplink.quay6 + "]:8443": true,
				uplink.pool + "32:22": false, uplink.pool + "33:443": false, uplink.pool + "34:443": false, "[" + uplink.own6 + "]:22": false,
			} {
				require.Equal(t, want, gets(t, client, to), to)
			}
			run("open", "ssh", "to", "gauge-1", "from", "192.0.2.100", "for", "5m", "because", "a client outside")
			require.True(t, gets(t, client, uplink.pool+"32:22"))
			run("close", "--all")
			require.False(t, gets(t, client, uplink.pool+"32:22"))
			require.Contains(t, run("probe", "https", "from", "198.51.100.9", "to", "gauge-1"), "open")
			require.Contains(t, run("reach", "--used", "--json"), `"from": [
        "192.0.2.100",
        "2001:db8:2::100"
      ]`)

			callers := make(chan string, 2)
			inside(t, client, func() error {
				for _, at := range []string{"192.0.2.100:9000", "[2001:db8:2::100]:9000"} {
					l, err := net.Listen("tcp", at)
					if err != nil {
						return err
					}
					t.Cleanup(func() { _ = l.Close() })
					go func() {
						for c, err := l.Accept(); err == nil; c, err = l.Accept() {
							at, _ := netip.ParseAddrPort(c.RemoteAddr().String())
							callers <- at.Addr().Unmap().String()
							_ = c.Close()
						}
					}()
				}
				return nil
			})
			for to, from := range map[string]string{"192.0.2.100:9000": uplink.pool + "32", "[2001:db8:2::100]:9000": uplink.own6} {
				require.True(t, gets(t, router+"-gauge-1", to), to)
				require.Equal(t, from, <-callers)
			}

			// The host is started anew: nothing is reachable until the site is restored, as it was
			// last enacted and not as the files say by now.
			run("open", "ssh", "to", "gauge-1", "from", "192.0.2.100", "for", "5m", "because", "a client outside")
			require.NoError(t, linux.New(filepath.Join(p.dir, ".ironbark"), drivertest.RealClock()).RemoveEverything())
			require.False(t, gets(t, client, uplink.pool+"32:443"))
			require.NoError(t, os.WriteFile(filepath.Join(p.dir, "more.rules"), []byte("allow http from everywhere to all\n"), 0o600))
			t.Log(run("site", "restore"))
			remedy(t, p)
			for to, want := range map[string]bool{uplink.pool + "32:443": true, uplink.pool + "32:22": true, uplink.pool + "32:80": false} {
				require.Equal(t, want, gets(t, client, to), to)
			}
			require.Contains(t, run("site", "restore"), "Nothing to restore")
		})
	}
}
