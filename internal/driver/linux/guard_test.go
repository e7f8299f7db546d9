package linux

import (
	"context"
	"net"
	"net/netip"
	"sync/atomic"
	"testing"
	"time"

	"github.com/google/nftables"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestWithoutItsTablesNothingPasses takes tables away while datagrams come as fast as they can be sent to a service that is closed, and to
// one that is open: none gets to the closed one in any moment, and none to any once a table is gone.
func TestWithoutItsTablesNothingPasses(t *testing.T) {
	s := siteOf(t)
	e := estateOf(t, s, endsNouns, "allow udp/7001 from everywhere to gauge-1")
	at, client := netip.MustParseAddr("2001:db8:60:1::2"), netip.MustParseAddr("2001:db8:ca11::7")
	var closed, open atomic.Int64
	for port, count := range map[uint16]*atomic.Int64{7000: &closed, 7001: &open} {
		var c net.PacketConn
		require.NoError(t, within(s.prefix+"-gauge-1", func() (err error) {
			c, err = net.ListenPacket("udp", netip.AddrPortFrom(at, port).String())
			return err
		}))
		t.Cleanup(func() { _ = c.Close() })
		go func() {
			for b := make([]byte, 10); ; count.Add(1) {
				if _, _, err := c.ReadFrom(b); err != nil {
					return
				}
			}
		}()
	}
	var sent atomic.Int64
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	for _, port := range []uint16{7000, 7001} {
		var c net.PacketConn
		require.NoError(t, within(s.prefix+".probe", func() (err error) {
			lc := net.ListenConfig{Control: dialer("udp", client, 0).Control}
			c, err = lc.ListenPacket(ctx, "udp", netip.AddrPortFrom(client, 0).String())
			return err
		}))
		go func() {
			for to := net.UDPAddrFromAddrPort(netip.AddrPortFrom(at, port)); ctx.Err() == nil; sent.Add(1) {
				_, _ = c.WriteTo([]byte("?"), to)
			}
			_ = c.Close()
		}()
	}
	c, done, err := s.conn()
	require.NoError(t, err)
	defer done()
	table := func(name string, family nftables.TableFamily) func() {
		return func() { c.DelTable(&nftables.Table{Name: name, Family: family}) }
	}
	for _, one := range []struct {
		what string
		take func()
	}{
		{"the table", table(tableName, nftables.TableFamilyINet)},
		{"the guard", table(guardName, nftables.TableFamilyINet)},
		{"all rules", c.FlushRuleset},
	} {
		for range moreInTruth(5, 50) {
			installAgain(t, s, e)
			before := open.Load()
			require.Eventually(t, func() bool { return open.Load() > before }, 5*time.Second, time.Millisecond)
			one.take()
			require.NoError(t, c.Flush())
			// What had passed before is read first, however slow the machine. Then many are sent, and none arrives.
			assert.Eventually(t, func() bool {
				arrived, from := open.Load(), sent.Load()
				for sent.Load() < from+200 {
					time.Sleep(time.Millisecond)
				}
				time.Sleep(20 * time.Millisecond)
				return open.Load() == arrived
			}, time.Minute, time.Millisecond, "without %s", one.what)
		}
	}
	assert.Zero(t, closed.Load(), "of %d datagrams", sent.Load())
	t.Logf("%d datagrams, %d to the open service", sent.Load(), open.Load())
}
