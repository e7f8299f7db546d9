package linux

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ironbark/internal/change"
	"ironbark/internal/driver"
	"ironbark/internal/estate"
	"ironbark/internal/flow"
)

const endsNouns = `estate: tides
site: linux
networks: {estuary: {space: [10.60.0.0/16, "2001:db8:60::/48"], outside: true, outward: open, subnets: {landing: {range: [10.60.1.0/24, "2001:db8:60:1::/64"]}}}}
machines:
  gauge-1: {image: light, size: c1m1, at: landing, address: auto}
  gauge-2: {image: light, size: c1m1, at: landing}
`

// estateOf makes the machines of an estate of its own, and installs rules.
func estateOf(t *testing.T, s *Site, nouns, rules string) *estate.Estate {
	e, err := estate.Read(estate.File{Name: estate.FileName, Data: []byte(nouns)}, estate.File{Name: estate.RulesName, Data: []byte(rules + "\n")})
	require.NoError(t, err)
	o, err := s.Observe(t.Context(), driver.Everything)
	require.NoError(t, err)
	wanted, err := change.Desired(e, o.Resources, nil, nil)
	require.NoError(t, err)
	changes, err := change.Diff(o.Resources, wanted, nil)
	require.NoError(t, err)
	for _, c := range changes {
		_, err := s.Apply(t.Context(), c, nil)
		require.NoError(t, err)
	}
	installAgain(t, s, e)
	return e
}

// talk is a conversation in which both sides send for ever, every 20 ms, whether or not the other one answers.
type talk struct {
	toMachine, toClient atomic.Int64 // how much came
	reset               atomic.Int64 // sides that got a reset
	sides               []net.Conn   // of TCP
	stop                context.CancelFunc
}

// begin has a client outside and a machine talk by a service, and waits until both hear each other.
func begin(t *testing.T, s *Site, machine string, client, called, at netip.Addr, service flow.Service, idle bool) *talk {
	ctx, stop := context.WithCancel(context.Background())
	t.Cleanup(stop)
	k := &talk{stop: stop}
	if service < flow.UDPPort(0) {
		k.stream(t, ctx, s, machine, client, called, at, service, idle)
	} else {
		k.datagrams(t, ctx, s, machine, client, called, at, service)
	}
	require.Eventually(t, func() bool { return k.toMachine.Load() > 0 && k.toClient.Load() > 0 }, 5*time.Second, 10*time.Millisecond, "they hear each other: %v from %s", service, client)
	return k
}

// every does something every 20 ms until a context ends.
func every(ctx context.Context, do func()) {
	for ctx.Err() == nil {
		do()
		time.Sleep(20 * time.Millisecond)
	}
}

func (k *talk) datagrams(t *testing.T, ctx context.Context, s *Site, machine string, client, called, at netip.Addr, service flow.Service) {
	listen := func(namespace string, at netip.AddrPort) (c *net.UDPConn) {
		require.NoError(t, within(namespace, func() (err error) {
			lc := net.ListenConfig{Control: dialer("udp", at.Addr(), 0).Control}
			l, err := lc.ListenPacket(ctx, "udp", at.String())
			if err == nil {
				c = l.(*net.UDPConn)
			}
			return err
		}))
		context.AfterFunc(ctx, func() { _ = c.Close() })
		return c
	}
	server, caller := listen(s.prefix+"-"+machine, netip.AddrPortFrom(at, service.Port())), listen(s.prefix+".probe", netip.AddrPortFrom(client, 0))
	hear := func(c *net.UDPConn, count *atomic.Int64) {
		for b := make([]byte, 100); ; {
			if _, _, err := c.ReadFromUDPAddrPort(b); errors.Is(err, net.ErrClosed) {
				return
			} else if err == nil {
				count.Add(1)
			}
		}
	}
	back := caller.LocalAddr().(*net.UDPAddr).AddrPort()
	go hear(server, &k.toMachine)
	go hear(caller, &k.toClient)
	go every(ctx, func() { _, _ = caller.WriteToUDPAddrPort([]byte("?"), netip.AddrPortFrom(called, service.Port())) })
	require.Eventually(t, func() bool { return k.toMachine.Load() > 0 }, 5*time.Second, 10*time.Millisecond, "the first datagram comes")
	go every(ctx, func() { _, _ = server.WriteToUDPAddrPort([]byte("!"), back) })
}

func (k *talk) stream(t *testing.T, ctx context.Context, s *Site, machine string, client, called, at netip.Addr, service flow.Service, idle bool) {
	var l net.Listener
	require.NoError(t, within(s.prefix+"-"+machine, func() (err error) {
		l, err = net.Listen("tcp", netip.AddrPortFrom(at, service.Port()).String())
		return err
	}))
	context.AfterFunc(ctx, func() { _ = l.Close() })
	side := func(c net.Conn, count *atomic.Int64) {
		context.AfterFunc(ctx, func() { _ = c.Close() })
		go func() {
			for b := make([]byte, 100); ; {
				n, err := c.Read(b)
				count.Add(int64(n))
				if err != nil {
					if !errors.Is(err, net.ErrClosed) { // nobody ends it but the router, whether the reader hears of the reset or the writer
						k.reset.Add(1)
					}
					return
				}
			}
		}()
		k.sides = append(k.sides, c)
		_, _ = c.Write([]byte("."))
		if !idle {
			go every(ctx, func() { _, _ = c.Write([]byte(".")) })
		}
	}
	accepted := make(chan net.Conn, 1)
	go func() {
		if c, err := l.Accept(); err == nil {
			accepted <- c
		}
	}()
	var c net.Conn
	require.NoError(t, within(s.prefix+".probe", func() (err error) {
		d := dialer("tcp", client, 2*time.Second)
		d.KeepAliveConfig, d.KeepAlive = net.KeepAliveConfig{}, -1
		c, err = d.DialContext(ctx, "tcp", netip.AddrPortFrom(called, service.Port()).String())
		return err
	}))
	side(c, &k.toClient)
	side(<-accepted, &k.toMachine)
}

// areOver requires that from a second after an end neither side of some conversations receives anything.
func areOver(t *testing.T, talks []*talk, end time.Time, names []string) {
	time.Sleep(time.Until(end.Add(time.Second)))
	var in, out []int64
	for _, k := range talks {
		in, out = append(in, k.toMachine.Load()), append(out, k.toClient.Load())
	}
	time.Sleep(1500 * time.Millisecond)
	for i, k := range talks {
		assert.Zero(t, k.toMachine.Load()-in[i], "%s: the machine hears the client", names[i])
		assert.Zero(t, k.toClient.Load()-out[i], "%s: the client hears the machine", names[i])
	}
}

// tracked lists what connection tracking has of an address.
func tracked(t *testing.T, s *Site, at netip.Addr) (list []connection) {
	require.NoError(t, within(s.prefix, func() error {
		all, err := listConnections()
		for _, c := range all {
			if c.called == at || c.caller == at {
				list = append(list, c)
			}
		}
		return err
	}))
	return list
}

// TestWhatEndsEndsBothWays ends conversations in each way in which something ends, while both sides go on sending: over TCP and UDP, of
// both families, where machines may call outward and where they may not.
func TestWhatEndsEndsBothWays(t *testing.T) {
	udp, tcp := flow.UDPPort(7777), flow.TCPPort(7777)
	services := flow.ServicesAt(udp).Union(flow.ServicesAt(tcp)).Union(flow.ServicesAt(tcp.Next()))
	for _, outward := range []string{"open", "closed"} {
		t.Run("outward="+outward, func(t *testing.T) {
			t.Parallel()
			s := siteOf(t)
			nouns := strings.Replace(endsNouns, "outward: open", "outward: "+outward, 1)
			e := estateOf(t, s, nouns, "")
			o, err := s.Observe(t.Context(), driver.Everything)
			require.NoError(t, err)
			gauge, _ := change.Find(o.Resources, change.Machine, "gauge-1")
			inside := gauge.Spec.Inside["landing"]
			ways := []struct{ client, called, at netip.Addr }{
				{netip.MustParseAddr("198.51.100.7"), gauge.Given.Addr4, inside[0]},
				{netip.MustParseAddr("2001:db8:ca11::7"), inside[1], inside[1]},
			}
			passage := func(id int64, left time.Duration, from ...netip.Addr) driver.Passage {
				now := time.Now()
				return driver.Passage{ID: id, Begin: now, Sentence: "open", Parts: []driver.Part{{Machines: []string{"gauge-1"}, Services: services, From: flow.AddrSet(from...), End: now.Add(left)}}}
			}
			rules := func(text string) time.Time {
				e, err = estate.Read(estate.File{Name: estate.FileName, Data: []byte(nouns)}, estate.File{Name: estate.RulesName, Data: []byte(text + "\n")})
				require.NoError(t, err)
				installAgain(t, s, e)
				return time.Now()
			}
			id := int64(0)
			for _, one := range []struct {
				what string
				end  func(id int64) time.Time
			}{
				{"natural", func(int64) time.Time { return time.Now().Add(3 * time.Second) }},
				{"close", func(id int64) time.Time { require.NoError(t, s.Shut(t.Context(), time.Now(), id)); return time.Now() }},
				{"narrow", func(id int64) time.Time {
					require.NoError(t, s.Pass(t.Context(), passage(id, time.Hour, netip.MustParseAddr("198.51.100.99"))))
					return time.Now()
				}},
				{"deny", func(int64) time.Time { return rules("deny any from everywhere to gauge-1") }},
				{"deny all", func(int64) time.Time {
					return rules("deny any from everywhere to gauge-1\ndeny any from all to internet")
				}},
				{"by hand", func(int64) time.Time {
					c, done, err := s.conn()
					require.NoError(t, err)
					defer done()
					c.FlushRuleset()
					require.NoError(t, c.Flush())
					return time.Now()
				}},
			} {
				what, end := one.what, one.end
				t.Run(what, func(t *testing.T) {
					id++
					t.Cleanup(func() {
						rules("")
						require.NoError(t, s.Shut(context.Background(), time.Now(), id))
					})
					left := time.Hour
					if what == "natural" {
						left = 3 * time.Second
					}
					from := []netip.Addr{ways[0].client, ways[1].client}
					require.NoError(t, s.Pass(t.Context(), passage(id, left, from...)))
					var talks []*talk
					var names []string
					for i, w := range ways {
						for _, service := range []flow.Service{udp, tcp} {
							talks, names = append(talks, begin(t, s, "gauge-1", w.client, w.called, w.at, service, false)), append(names, fmt.Sprintf("%s, IPv%d, %v", what, 4+2*i, service))
						}
					}
					idle := begin(t, s, "gauge-1", ways[0].client, ways[0].called, ways[0].at, tcp.Next(), true)
					at := end(id)
					if what == "natural" {
						time.Sleep(time.Until(at))
					}
					areOver(t, talks, at, names)
					if what == "natural" { // the kernel alone has refused it until now; whoever looks next deletes the entries
						_, err := s.Sessions(t.Context())
						require.NoError(t, err)
						areOver(t, talks, at, names)
					}
					if what != "by hand" {
						for i, k := range talks {
							assert.True(t, len(k.sides) == 0 || k.reset.Load() == 2, "%s: a side of TCP is not told", names[i])
						}
						for _, c := range tracked(t, s, inside[0]) {
							assert.NotEqual(t, tcp.Next(), c.arrives(), "an idle session is tracked")
						}
						for _, c := range idle.sides {
							_, _ = c.Write([]byte("."))
						}
						assert.Eventually(t, func() bool { return idle.reset.Load() == 2 }, 3*time.Second, 10*time.Millisecond, "%s: a side of an idle session is not told", what)
					}
					for _, k := range append(talks, idle) {
						k.stop()
					}
				})
			}
		})
	}
}

// TestASuccessorInheritsNothing removes a machine while others talk to it, and makes another one that gets its address.
func TestASuccessorInheritsNothing(t *testing.T) {
	s := siteOf(t)
	estateOf(t, s, endsNouns, "allow udp/7777, tcp/7777 from everywhere to gauge-1")
	client, at := netip.MustParseAddr("198.51.100.7"), netip.MustParseAddr("10.60.1.2")
	o, err := s.Observe(t.Context(), driver.Everything)
	require.NoError(t, err)
	gauge, _ := change.Find(o.Resources, change.Machine, "gauge-1")
	k := begin(t, s, "gauge-1", client, gauge.Given.Addr4, at, flow.UDPPort(7777), false)
	begin(t, s, "gauge-1", client, gauge.Given.Addr4, at, flow.TCPPort(7777), false)
	require.NotEmpty(t, tracked(t, s, at))
	without := strings.Replace(endsNouns, "  gauge-1: {image: light, size: c1m1, at: landing, address: auto}\n", "", 1)
	estateOf(t, s, without, "")
	assert.Empty(t, tracked(t, s, at), "connections of the machine that is gone")
	o, err = s.Observe(t.Context(), driver.Everything)
	require.NoError(t, err)
	assert.Equal(t, []netip.Addr{at, netip.MustParseAddr("2001:db8:60:1::2")}, o.Resting, "its addresses are not given to the next one")
	estateOf(t, s, without+"  stranger: {image: light, size: c1m1, at: landing, inside: 10.60.1.2}\n", "")
	assert.Empty(t, tracked(t, s, at), "connections of the machine before")
	var heard int
	var c net.PacketConn
	require.NoError(t, within(s.prefix+"-stranger", func() (err error) {
		c, err = net.ListenPacket("udp", "10.60.1.2:7777")
		return err
	}))
	require.NoError(t, c.SetReadDeadline(time.Now().Add(time.Second)))
	for b := make([]byte, 10); ; heard++ {
		if _, _, err := c.ReadFrom(b); err != nil {
			break
		}
	}
	assert.Zero(t, heard, "the stranger hears a client of the machine before")
	require.NoError(t, c.Close())
	k.stop()
}

// TestTwoFrontsShareNoWay publishes ports of two fronts whose names had one number when it was a hash of 30 bits.
func TestTwoFrontsShareNoWay(t *testing.T) {
	s := siteOf(t)
	nouns := strings.Replace(spreadNouns, "fronts: {quay: {network: estuary, address: auto}}", "fronts: {fjord-delta-88: {network: estuary, address: auto}, hill-isle-12: {network: estuary, address: auto}}", 1)
	forwards := "forward fjord-delta-88 http to gauge-1 on http from 198.51.100.0/24\nforward hill-isle-12 http to gauge-1 on https from 192.0.2.0/24, 198.51.100.0/25\n"
	estateOf(t, s, nouns, forwards)
	o, err := s.Observe(t.Context(), driver.Everything)
	require.NoError(t, err)
	for front, asks := range map[string]map[string]bool{
		"fjord-delta-88": {"198.51.100.7": true, "198.51.100.200": true, "192.0.2.7": false},
		"hill-isle-12":   {"198.51.100.7": true, "198.51.100.200": false, "192.0.2.7": true},
	} {
		f, _ := change.Find(o.Resources, change.Front, front)
		for from, want := range asks {
			got, err := gets(t.Context(), s.prefix+".probe", driver.Packet{Source: netip.MustParseAddr(from), Target: f.Given.Addr4, Service: 80}, want)
			require.NoError(t, err)
			assert.Equal(t, want, got, "%s from %s", front, from)
		}
	}
}

// TestAShortNameBelongsToOneFolder has another folder claim the name of a site that is on the host.
func TestAShortNameBelongsToOneFolder(t *testing.T) {
	s := siteOf(t)
	estateOf(t, s, endsNouns, "")
	other := New(t.TempDir(), s.clock)
	other.prefix = s.prefix // as if their hashes were the same
	taken := &ClaimedError{}
	require.ErrorAs(t, other.RemoveEverything(), &taken)
	_, err := other.Apply(t.Context(), change.Change{Verb: change.Make, Resource: change.Resource{Kind: change.Network, Name: "n"}}, nil)
	require.ErrorAs(t, err, &taken)
	require.ErrorAs(t, other.Install(t.Context(), &flow.Plan{}, ""), &taken)
	assert.True(t, exists(s.prefix))
}

// TestOtherToolsMakeNamespacesToo has ip-netns(8) make its first namespace after the site: the site can still be removed.
func TestOtherToolsMakeNamespacesToo(t *testing.T) {
	s := siteOf(t)
	estateOf(t, s, endsNouns, "")
	other := fmt.Sprintf("ibother%d", os.Getpid())
	for _, verb := range []string{"add", "del"} {
		out, err := exec.Command("ip", "netns", verb, other).CombinedOutput()
		require.NoError(t, err, string(out))
	}
	require.NoError(t, s.RemoveEverything())
	assert.NoFileExists(t, filepath.Join(namespaceDir, s.prefix))
}

// TestAClaimIsReadWhole has many processes claim a site's short name and read the claim at once.
func TestAClaimIsReadWhole(t *testing.T) {
	s := siteOf(t)
	require.NoError(t, s.build())
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() {
			for range 200 {
				assert.NoError(t, s.claim())
				assert.NoError(t, putFile(s.claimFile(), []byte(s.folder())))
			}
		})
	}
	all.Wait()
}
