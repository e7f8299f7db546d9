package main

import (
	"net"
	"net/netip"
	"os"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"github.com/vishvananda/netlink"
)

// BenchmarkOpenWithUplink measures from Enter on open to the first connection of a client beyond the host, with an uplink and five machines.
// ratio is its median to three times that of ironbark version plus five times those of a bare TCP connection and an fsync.
func BenchmarkOpenWithUplink(b *testing.B) {
	host, client := hostNamespace(b)
	p := place(b, host, "uplink: {public: [203.0.113.32/28]}\nnetworks: {estuary: {space: [10.60.0.0/16], outside: true, subnets: {landing: {range: [10.60.1.0/24]}}}}\nmachines:\n"+
		"  gauge-1: {image: light, size: c1m1, at: landing, address: auto}\n  gauge-2: {image: light, size: c1m1, at: landing, address: auto}\n"+
		"  gauge-3: {image: light, size: c1m1, at: landing}\n  gauge-4: {image: light, size: c1m1, at: landing}\n  gauge-5: {image: light, size: c1m1, at: landing}\n",
		"allow https from everywhere to all\npermit ops to open ssh to all from everywhere up to 1h\n")
	run := p.run
	run("enact", "--yes")
	remedy(b, p)
	inside(b, client, func() error {
		_, to, _ := net.ParseCIDR("203.0.113.0/24")
		return netlink.RouteAdd(&netlink.Route{Dst: to, Gw: net.ParseIP("192.0.2.10")})
	})
	require.Eventually(b, func() bool { return gets(b, client, "203.0.113.33:443") }, 20*time.Second, 10*time.Millisecond)
	bare, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(b, err)
	defer bare.Close()
	go func() {
		for c, err := bare.Accept(); err == nil; c, err = bare.Accept() {
			_ = c.Close()
		}
	}()
	file, err := os.CreateTemp(p.dir, "fsync")
	require.NoError(b, err)
	times := map[string][]time.Duration{}
	timed := func(what string, do func()) {
		begin := time.Now()
		do()
		times[what] = append(times[what], time.Since(begin))
	}
	var connected time.Time
	for b.Loop() {
		timed("version", func() { run("version") })
		timed("connect", func() {
			c, err := net.Dial("tcp", bare.Addr().String())
			require.NoError(b, err)
			_ = c.Close()
		})
		timed("fsync", func() {
			_, err := file.WriteString("x")
			require.NoError(b, err)
			require.NoError(b, file.Sync())
		})
		begin := time.Now()
		inside(b, client, func() error {
			done := make(chan struct{})
			defer func() { <-done }()
			go func() {
				run("open", "ssh", "to", "gauge-1", "from", "192.0.2.100", "for", "5m", "because", "bench")
				close(done)
			}()
			for end := time.Now().Add(20 * time.Second); ; {
				if c, err := dialFrom(netip.MustParseAddrPort("203.0.113.33:22")); err == nil {
					connected = time.Now()
					return c.Close()
				} else if time.Now().After(end) {
					return err
				}
			}
		})
		times["open"] = append(times["open"], connected.Sub(begin))
		run("close", "--all")
	}
	median := func(what string) time.Duration {
		slices.Sort(times[what])
		return times[what][len(times[what])/2]
	}
	b.ReportMetric(float64(median("open").Microseconds())/1000, "open-ms")
	b.ReportMetric(float64(median("version").Microseconds())/1000, "version-ms")
	b.ReportMetric(float64(median("open"))/float64(3*median("version")+5*(median("connect")+median("fsync"))), "ratio")
}

// dialFrom tries one connection for 5 ms: the kernel's own second attempt is a second after the first.
func dialFrom(to netip.AddrPort) (net.Conn, error) {
	return (&net.Dialer{Timeout: 5 * time.Millisecond}).Dial("tcp", to.String())
}
