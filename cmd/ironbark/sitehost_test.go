package main

import (
	"net"
	"os"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"github.com/vishvananda/netlink"
)

// listensOn listens in a namespace until the test is over.
func listensOn(t *testing.T, namespace, at string) {
	inside(t, namespace, func() error {
		l, err := net.Listen("tcp", at)
		if err != nil {
			return err
		}
		t.Cleanup(func() { _ = l.Close() })
		go func() {
			for c, err := l.Accept(); err == nil; c, err = l.Accept() {
				_ = c.Close()
			}
		}()
		return nil
	})
}

// TestTheHostIsClosedToMachines has machines of a site call the host on which they run, where the uplink is routed and where it is on an
// interface: at each of its addresses, before, while and after something lets them.
func TestTheHostIsClosedToMachines(t *testing.T) {
	for name, uplink := range map[string]string{
		"routed":       `{public: [203.0.113.32/28]}`,
		"on interface": `{interface: eth0, addresses: [192.0.2.20/24], gateway: [192.0.2.100], public: [192.0.2.32/28]}`,
	} {
		t.Run(name, func(t *testing.T) {
			host, client := hostNamespace(t)
			p := place(t, host, "uplink: "+uplink+"\nnetworks: {estuary: {space: [10.60.0.0/16], outside: true, subnets: {landing: {range: [10.60.1.0/24]}}}}\n"+
				"machines:\n  gauge-1: {image: light, size: c1m1, at: landing, address: auto}\n  gauge-2: {image: light, size: c1m1, at: landing}\n",
				"permit ops to open ssh to site-host from all up to 1h\n")
			run, try, router := p.run, p.try, p.router
			has := func(address string) {
				inside(t, host, func() error {
					lo, err := netlink.LinkByName("lo")
					if err != nil {
						return err
					}
					a, _ := netlink.ParseAddr(address)
					return netlink.AddrAdd(lo, a)
				})
			}
			inside(t, host, func() error {
				lo, err := netlink.LinkByName("lo")
				if err == nil {
					err = netlink.LinkSetUp(lo)
				}
				return err
			})
			has("198.51.100.5/32")
			run("enact", "--yes")
			if name == "routed" {
				remedy(t, p)
			} else { // the client leads packets to the host's other addresses
				inside(t, client, func() error {
					_, p, _ := net.ParseCIDR("198.51.100.0/24")
					if err := netlink.RouteAdd(&netlink.Route{Dst: p, Gw: net.ParseIP("192.0.2.10")}); err != nil {
						return err
					}
					return os.WriteFile("/proc/sys/net/ipv4/ip_forward", []byte("1"), 0o600)
				})
			}
			inside(t, client, func() error {
				_, p, _ := net.ParseCIDR("203.0.113.0/24")
				return netlink.RouteAdd(&netlink.Route{Dst: p, Gw: net.ParseIP("192.0.2.10")})
			})
			for _, at := range []string{"0.0.0.0:22", "0.0.0.0:7400"} {
				listensOn(t, host, at)
			}
			var datagrams atomic.Int64
			inside(t, host, func() error {
				c, err := net.ListenPacket("udp4", "0.0.0.0:7500")
				if err == nil {
					t.Cleanup(func() { _ = c.Close() })
					go func() {
						for _, _, err := c.ReadFrom(make([]byte, 9)); err == nil; _, _, err = c.ReadFrom(make([]byte, 9)) {
							datagrams.Add(1)
						}
					}()
				}
				return err
			})
			listensOn(t, client, "192.0.2.100:7400")
			machine := router + "-gauge-1"
			require.Eventually(t, func() bool { return gets(t, machine, "192.0.2.100:7400") }, 20*time.Second, 10*time.Millisecond, "the machine calls outside")

			// arrives reports whether the host receives a datagram of the machine's.
			arrives := func(address string) bool {
				was := datagrams.Load()
				inside(t, machine, func() error {
					c, err := net.Dial("udp4", address+":7500")
					if err == nil {
						_, err = c.Write([]byte("x"))
					}
					return err
				})
				for range 50 {
					if datagrams.Load() > was {
						return true
					}
					time.Sleep(10 * time.Millisecond)
				}
				return false
			}
			reached := func(service string, want bool, addresses ...string) {
				t.Helper()
				for _, a := range addresses {
					got := false
					if name == "routed" {
						got = gets(t, machine, a+":"+service)
					} else { // an interface gets no answer to a link on it, but its datagrams do get there
						got = arrives(a)
					}
					require.Equal(t, want, got, "%s:%s", a, service)
				}
			}
			leads := []string{"198.51.100.5"} // an interface's own addresses are not reached by a link on it
			if name == "routed" {
				leads = append(leads, "192.0.2.10")
			}
			reached("7400", false, append(leads, "169.254.77.1", "169.254.77.2")...)
			says, _ := try("why", "tcp/7400", "from", "gauge-1", "to", "192.0.2.10") // its exit status is that of closed
			require.Contains(t, says, "closed  tcp/7400 from gauge-1 to 192.0.2.10, which leads to site-host tcp/7400")

			run("allow", "any", "from", "gauge-1", "to", "site-host", "--yes")
			reached("7400", true, leads...)
			if name == "routed" {
				reached("22", false, leads...)
			}
			require.False(t, gets(t, router+"-gauge-2", "198.51.100.5:7400"), "a machine that no sentence names")
			require.Contains(t, run("findings"), "machines may call the site's host: ")
			require.Contains(t, run("open", "ssh", "to", "site-host", "from", "gauge-1", "for", "5m", "because", "a look"), "opened  ssh to site-host from gauge-1")
			require.Contains(t, run("reach"), "site-host  ssh!")
			if name == "routed" {
				reached("22", true, leads...)
			}
			run("close", "--all")
			if name == "routed" {
				reached("22", false, leads...)
			}

			// An address that comes later is the host's, too.
			has("198.51.100.6/32")
			if name == "routed" {
				reached("7400", false, "198.51.100.6")
				require.False(t, arrives("192.0.2.255"), "the host's broadcast address")
			}
			require.Contains(t, run("status"), "the tables do not have the host's address 198.51.100.6")
			require.Contains(t, run("why", "https", "from", "gauge-1", "to", "198.51.100.7"), "caution: the tables do not have the host's address 198.51.100.6")
			run("site", "restore")
			require.NotContains(t, run("status"), "the host's address")
			reached("7400", true, "198.51.100.6")

			if name == "routed" { // somebody else takes all tables of the host away
				out, err := p.inHost("nft", "flush", "ruleset").CombinedOutput()
				require.NoError(t, err, string(out))
				require.Contains(t, run("status"), "on the host is gone")
				run("enact", "--yes")
				require.NotContains(t, run("status"), "on the host is gone")
			}
			run("retract", "allow any from gauge-1 to site-host", "--yes")
			reached("7400", false, append(leads, "198.51.100.6")...)

			for _, bad := range []struct{ sentence, says string }{
				{"allow https from internet to site-host", "nothing leads from “internet” to site-host"},
				{"route ssh to site-host via beacon for ops", "“site-host” is a host"},
				{"forward quay https to site-host on https", "“site-host” is a host"},
			} {
				out, err := try(append(strings.Fields(bad.sentence), "--yes")...)
				require.Error(t, err, out)
				require.Contains(t, out, bad.says)
			}
		})
	}
}
