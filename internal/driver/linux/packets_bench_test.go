package linux

import (
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"net/netip"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/google/nftables"
	"github.com/google/nftables/expr"
	"github.com/stretchr/testify/require"

	"ironbark/internal/driver"
	"ironbark/internal/driver/drivertest"
	"ironbark/internal/flow"
)

// stretch is for how long packets are sent in each benchmark.
const stretch = time.Second

// lane is two machines, and a service at the second that an opening lets the first use.
type lane struct {
	s        *Site
	from, to netip.Addr
	addrs    map[string][]netip.Addr
}

func newLane(b *testing.B) *lane {
	l := &lane{s: New(b.TempDir(), drivertest.RealClock()), from: netip.MustParseAddr("10.60.1.2"), to: netip.MustParseAddr("10.60.1.3")}
	if err := l.s.build(); err != nil {
		b.Skip(err)
	}
	b.Cleanup(func() { require.NoError(b, l.s.RemoveEverything()) })
	l.addrs = map[string][]netip.Addr{"a": {l.from}, "b": {l.to}}
	for name, addrs := range l.addrs {
		require.NoError(b, l.s.joinMachine(name, addrs, false))
	}
	return l
}

// plan lets anything that is opened pass from the one to the other.
func (l *lane) plan(b *testing.B, rules ...flow.Row) *flow.Plan {
	rows := []flow.Row{
		{Key: "guard ", Body: `["tcp/22"]`},
		{Key: "network estuary", Body: `{"name":"estuary","space":["10.60.0.0-10.60.255.255"]}`},
	}
	for name, addrs := range l.addrs {
		rows = append(rows, flow.Row{Key: "machine " + name, Body: fmt.Sprintf(`{"name":%q,"interfaces":[{"subnet":"landing","network":"estuary","addresses":[%q]}]}`, name, addrs[0])})
	}
	plan, err := flow.FromRows(append(rows, rules...))
	require.NoError(b, err)
	return plan
}

// install puts a table in place in which n openings from other addresses lead to the second
// machine, besides that from the first.
func (l *lane) install(b *testing.B, plan *flow.Plan, n int) {
	end := time.Now().Add(time.Hour)
	part := func(source netip.Addr) driver.Part {
		return driver.Part{Machines: []string{"b"}, Services: flow.ServicesAt(flow.TCPPort(5001)).Union(flow.ServicesAt(flow.UDPPort(5001))), From: flow.AddrsAt(source), End: end}
	}
	boxes := openings([]driver.Passage{{ID: 1, Parts: []driver.Part{part(l.from)}}}, "b")
	for i := range n { // each by itself, as on a busy day
		source := flow.One(netip.AddrFrom4([4]byte{198, 18, byte(i >> 8), byte(i)}))
		if i >= 1<<16 {
			source = flow.One(netip.AddrFrom4([4]byte{198, 19, byte(i >> 8), byte(i)}))
		}
		x := boxes[0]
		x.Source, x.Begin = source, uint64(time.Now().UnixNano())
		boxes = append(boxes, x)
	}
	links, err := l.s.links(l.addrs, nil)
	require.NoError(b, err)
	c, done, err := l.s.conn()
	require.NoError(b, err)
	defer done()
	last := uint32(0)
	require.NoError(b, install(c, NewTable(plan, nil, waysOf(plan)), links, []opened{newOpened(l.to, boxes, &last)}, nil, time.Now()))
}

// linear puts a rule a sentence in place of the table, the one that matters last.
func (l *lane) linear(b *testing.B, n int) {
	c, done, err := l.s.conn()
	require.NoError(b, err)
	defer done()
	c.FlushRuleset()
	t := c.AddTable(&nftables.Table{Name: tableName, Family: nftables.TableFamilyINet})
	drop := nftables.ChainPolicyDrop
	ch := c.AddChain(&nftables.Chain{Name: "judge", Table: t, Type: nftables.ChainTypeFilter, Hooknum: nftables.ChainHookForward, Priority: nftables.ChainPriorityFilter, Policy: &drop})
	routed := c.AddChain(&nftables.Chain{Name: "routed", Table: t, Type: nftables.ChainTypeFilter, Hooknum: nftables.ChainHookPrerouting, Priority: nftables.ChainPriorityRaw})
	c.AddRule(&nftables.Rule{Table: t, Chain: routed, Exprs: setMark(routedMark)}) // as the guard does
	rule := func(source netip.Addr) {
		all := append(payloadIs(12, source.AsSlice()), payloadIs(16, l.to.AsSlice())...)
		all = append(all, &expr.Payload{DestRegister: register(0), Base: expr.PayloadBaseTransportHeader, Offset: 2, Len: 2},
			&expr.Cmp{Register: register(0), Op: expr.CmpOpEq, Data: binary.BigEndian.AppendUint16(nil, 5001)})
		c.AddRule(&nftables.Rule{Table: t, Chain: ch, Exprs: append(all, verdict(expr.VerdictAccept)...)})
	}
	c.AddRule(&nftables.Rule{Table: t, Chain: ch, Exprs: append(ctIs(expr.CtKeyDIRECTION, []byte{1}), verdict(expr.VerdictAccept)...)})
	for i := range n {
		rule(netip.AddrFrom4([4]byte{198, 18, byte(i >> 8), byte(i)}))
		if i%500 == 499 {
			require.NoError(b, c.Flush())
		}
	}
	rule(l.from)
	require.NoError(b, c.Flush())
}

// measure sends for a while, and reports what came through.
func (l *lane) measure(b *testing.B) {
	to := netip.AddrPortFrom(l.to, 5001).String()
	in := func(machine string, do func() error) { require.NoError(b, within(l.s.prefix+"-"+machine, do)) }
	var received, packets, connects atomic.Int64
	var listener net.Listener
	var socket net.PacketConn
	in("b", func() (err error) {
		if listener, err = net.Listen("tcp4", to); err == nil {
			socket, err = net.ListenPacket("udp4", to)
		}
		return err
	})
	defer listener.Close()
	defer socket.Close()
	go func() {
		for {
			c, err := listener.Accept()
			if err != nil {
				return
			}
			go func() {
				n, _ := io.Copy(io.Discard, c)
				received.Add(n)
				_ = c.Close()
			}()
		}
	}()
	go func() {
		buffer := make([]byte, 2048)
		for {
			if _, _, err := socket.ReadFrom(buffer); err != nil {
				return
			}
			packets.Add(1)
		}
	}()
	in("a", func() error { // bulk
		c, err := net.Dial("tcp4", to)
		if err != nil {
			return err
		}
		block, until := make([]byte, 128<<10), time.Now().Add(stretch)
		for time.Now().Before(until) {
			if _, err := c.Write(block); err != nil {
				return err
			}
		}
		return c.Close()
	})
	time.Sleep(100 * time.Millisecond)
	b.ReportMetric(float64(received.Load())/stretch.Seconds()/1e6, "MB/s")
	in("a", func() error { // small packets
		c, err := net.Dial("udp4", to)
		if err != nil {
			return err
		}
		block, until := make([]byte, 36), time.Now().Add(stretch) // 64 bytes with the headers
		for time.Now().Before(until) {
			for range 64 {
				_, _ = c.Write(block)
			}
		}
		return c.Close()
	})
	b.ReportMetric(float64(packets.Load())/stretch.Seconds(), "packets/s")
	var all sync.WaitGroup
	for range 4 {
		all.Go(func() {
			in("a", func() error {
				for until := time.Now().Add(stretch); time.Now().Before(until); {
					c, err := net.Dial("tcp4", to)
					if err != nil {
						return err
					}
					_ = c.(*net.TCPConn).SetLinger(0)
					_ = c.Close()
					connects.Add(1)
				}
				return nil
			})
		})
	}
	all.Wait()
	b.ReportMetric(float64(connects.Load())/stretch.Seconds(), "connects/s")
}

// BenchmarkPackets sends through the table with more and more openings, and through one rule
// for each of 10,000 sentences against sets that say the same.
func BenchmarkPackets(b *testing.B) {
	l := newLane(b)
	for _, n := range []int{0, 1000, 100_000} {
		b.Run(fmt.Sprintf("openings=%d", n), func(b *testing.B) {
			l.install(b, l.plan(b), n)
			for b.Loop() {
				l.measure(b)
			}
		})
	}
	b.Run("sentences=10000/sets", func(b *testing.B) {
		rules := []flow.Row{{Key: "group g", Body: `{"name":"g","machines":["b"]}`}}
		for i := range 10_000 {
			rules = append(rules, flow.Row{Key: fmt.Sprintf("rule %d", i), Body: fmt.Sprintf(`{"kind":"allow","from":["198.18.%d.%d"],"group":"g","services":["tcp/5001","udp/5001"],"sentence":"allow %d"}`, i>>8, i&255, i)})
		}
		rules = append(rules, flow.Row{Key: "rule last", Body: fmt.Sprintf(`{"kind":"allow","from":["%s"],"group":"g","services":["tcp/5001","udp/5001"],"sentence":"allow last"}`, l.from)})
		l.install(b, l.plan(b, rules...), 0)
		for b.Loop() {
			l.measure(b)
		}
	})
	b.Run("sentences=10000/rules", func(b *testing.B) {
		l.linear(b, 10_000)
		for b.Loop() {
			l.measure(b)
		}
	})
}
