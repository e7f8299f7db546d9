package linux

import (
	"bytes"
	"encoding/binary"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"ironbark/internal/change"
	"ironbark/internal/driver"
	"ironbark/internal/flow"
)

// ipPacket is an IP packet without options (RFC 791, RFC 8200).
func ipPacket(from, to netip.Addr, proto byte, body []byte) []byte {
	if from.Is6() {
		b := append([]byte{0x60, 0, 0, 0}, binary.BigEndian.AppendUint16(nil, uint16(len(body)))...)
		b = append(append(append(b, proto, 64), from.AsSlice()...), to.AsSlice()...)
		return append(b, body...)
	}
	b := append([]byte{0x45, 0}, binary.BigEndian.AppendUint16(nil, uint16(20+len(body)))...)
	b = append(append(append(b, 0, 0, 0, 0, 64, proto, 0, 0), from.AsSlice()...), to.AsSlice()...)
	binary.BigEndian.PutUint16(b[10:], sum(b))
	return append(b, body...)
}

// sum is the checksum of the internet (RFC 1071), some of what comes before it included.
func sum(b []byte, before ...byte) uint16 {
	n := uint32(0)
	for _, part := range [][]byte{before, b} {
		for i := 0; i < len(part); i += 2 {
			n += uint32(part[i]) << 8
			if i+1 < len(part) {
				n += uint32(part[i+1])
			}
		}
	}
	for n > 0xffff {
		n = n>>16 + n&0xffff
	}
	return ^uint16(n)
}

// icmpPacket is an ICMP message with its checksum (RFC 792, RFC 4443).
func icmpPacket(from, to netip.Addr, kind byte, rest []byte) []byte {
	body := append([]byte{kind, 0, 0, 0}, rest...)
	if from.Is4() {
		binary.BigEndian.PutUint16(body[2:], sum(body))
		return ipPacket(from, to, unix.IPPROTO_ICMP, body)
	}
	pseudo := append(append([]byte{}, from.AsSlice()...), to.AsSlice()...)
	pseudo = append(binary.BigEndian.AppendUint32(pseudo, uint32(len(body))), 0, 0, 0, unix.IPPROTO_ICMPV6)
	binary.BigEndian.PutUint16(body[2:], sum(body, pseudo...))
	return ipPacket(from, to, unix.IPPROTO_ICMPV6, body)
}

// udpPacket is a datagram; over IPv4 it needs no checksum (RFC 768).
func udpPacket(from, to netip.AddrPort, data []byte) []byte {
	body := binary.BigEndian.AppendUint16(binary.BigEndian.AppendUint16(nil, from.Port()), to.Port())
	body = append(binary.BigEndian.AppendUint16(body, uint16(8+len(data))), 0, 0)
	return ipPacket(from.Addr(), to.Addr(), unix.IPPROTO_UDP, append(body, data...))
}

// inject sends a whole IP packet from a namespace, as root of a hostile machine would.
func inject(t *testing.T, namespace string, packet []byte) {
	require.NoError(t, within(namespace, func() error {
		domain, to := unix.AF_INET, unix.Sockaddr(nil)
		if packet[0]>>4 == 6 {
			domain, to = unix.AF_INET6, &unix.SockaddrInet6{Addr: [16]byte(packet[24:40])}
		} else {
			to = &unix.SockaddrInet4{Addr: [4]byte(packet[16:20])}
		}
		fd, err := unix.Socket(domain, unix.SOCK_RAW|unix.SOCK_CLOEXEC, unix.IPPROTO_RAW)
		if err != nil {
			return err
		}
		defer unix.Close(fd)
		if err := unix.Sendto(fd, packet, 0, to); err != nil && err != unix.ENETUNREACH {
			return err
		}
		return nil
	}))
}

// arrives injects a packet into one namespace, and reports whether one with its mark arrives in another within a while.
func arrives(t *testing.T, from, to string, mark []byte, packet []byte) (got bool) {
	fd := -1
	require.NoError(t, within(to, func() (err error) {
		fd, err = unix.Socket(unix.AF_PACKET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, int(binary.NativeEndian.Uint16([]byte{0, unix.ETH_P_ALL})))
		return err
	}))
	defer unix.Close(fd)
	tv := unix.NsecToTimeval((20 * time.Millisecond).Nanoseconds())
	require.NoError(t, unix.SetsockoptTimeval(fd, unix.SOL_SOCKET, unix.SO_RCVTIMEO, &tv))
	inject(t, from, packet)
	b := make([]byte, 2000)
	for end := time.Now().Add(patience); time.Now().Before(end); {
		n, at, err := unix.Recvfrom(fd, b, 0)
		if link, ok := at.(*unix.SockaddrLinklayer); err == nil && ok && link.Pkttype != unix.PACKET_OUTGOING && bytes.Contains(b[:n], mark) {
			return true
		}
	}
	return false
}

// TestAnyMeansEveryProtocol sends what is neither TCP nor UDP nor a ping: protocols without ports, and the questions that ICMP has besides.
func TestAnyMeansEveryProtocol(t *testing.T) {
	s := siteOf(t)
	mark := []byte("tide-mark-7")
	v4, v6 := netip.MustParseAddr("198.51.100.7"), netip.MustParseAddr("2001:db8:ca11::7")
	at4, at6 := netip.MustParseAddr("10.60.1.2"), netip.MustParseAddr("2001:db8:60:1::2")
	ask := append([]byte{0, 1, 0, 1}, mark...)
	o := func() netip.Addr {
		o, err := s.Observe(t.Context(), driver.Everything)
		require.NoError(t, err)
		gauge, _ := change.Find(o.Resources, change.Machine, "gauge-1")
		require.Equal(t, []netip.Addr{at4, at6}, gauge.Spec.Inside["landing"])
		return gauge.Given.Addr4
	}
	for rules, open := range map[string]map[flow.Service]bool{
		"allow any from everywhere to gauge-1":                                   {flow.Other: true, flow.Ping: true},
		"allow ping from everywhere to gauge-1":                                  {flow.Ping: true},
		"allow any except ping from everywhere to gauge-1":                       {flow.Other: true},
		"allow tcp/1-65535, udp/1-65535 from everywhere to gauge-1":              {},
		"allow any from 192.0.2.0/24 to gauge-1":                                 {},
		"allow any from everywhere to gauge-1\ndeny ping from everywhere to all": {flow.Other: true},
	} {
		estateOf(t, s, endsNouns, rules)
		public := o()
		for what, one := range map[string]struct {
			packet  []byte
			service flow.Service
		}{
			"an echo request":                        {icmpPacket(v4, public, 8, ask), flow.Ping},
			"an echo request over IPv6":              {icmpPacket(v6, at6, 128, ask), flow.Ping},
			"a request for the time":                 {icmpPacket(v4, public, 13, ask), flow.Other},
			"a request for the mask":                 {icmpPacket(v4, public, 17, ask), flow.Other},
			"a question for the name (NI) over IPv6": {icmpPacket(v6, at6, 139, ask), flow.Other},
			"GRE":                                    {ipPacket(v4, public, 47, append([]byte{0, 0, 8, 0}, mark...)), flow.Other},
			"protocol 253":                           {ipPacket(v4, public, 253, mark), flow.Other},
			"ESP over IPv6":                          {ipPacket(v6, at6, 50, append(ask, mark...)), flow.Other},
		} {
			assert.Equal(t, open[one.service], arrives(t, s.prefix+".probe", s.prefix+"-gauge-1", mark, one.packet), "%s by %s", what, rules)
		}
	}
}

// TestErrorsPassAsTheirConnectionDoes has a machine tell a client in the errors of ICMP what it may tell it no longer in datagrams.
func TestErrorsPassAsTheirConnectionDoes(t *testing.T) {
	s := siteOf(t)
	estateOf(t, s, endsNouns, "")
	client, at, mark := netip.MustParseAddrPort("198.51.100.7:40000"), netip.MustParseAddrPort("10.60.1.2:7777"), []byte("tide-mark-8")
	now := time.Now()
	require.NoError(t, s.Pass(t.Context(), driver.Passage{ID: 1, Begin: now, Sentence: "open", Parts: []driver.Part{{
		Machines: []string{"gauge-1"}, Services: flow.ServicesAt(flow.UDPPort(7777)), From: flow.AddrsAt(client.Addr()), End: now.Add(time.Hour),
	}}}))
	asked := udpPacket(client, at, mark)
	out := icmpPacket(at.Addr(), client.Addr(), 3, append(make([]byte, 4), asked...))
	assert.False(t, arrives(t, s.prefix+"-gauge-1", s.prefix+".probe", mark, out), "an error about nothing")
	called := udpPacket(client, netip.AddrPortFrom(netip.MustParseAddr("203.0.113.10"), at.Port()), mark)
	require.True(t, arrives(t, s.prefix+".probe", s.prefix+"-gauge-1", mark, called))
	assert.True(t, arrives(t, s.prefix+"-gauge-1", s.prefix+".probe", mark, out), "an error about what is open")
	c, done, err := s.conn()
	require.NoError(t, err)
	defer done()
	require.NoError(t, reopen(c, []opened{{to: at.Addr()}}, map[netip.Addr]bool{at.Addr(): true}, now)) // as an end does it, without a process
	require.NotEmpty(t, tracked(t, s, at.Addr()))
	assert.False(t, arrives(t, s.prefix+"-gauge-1", s.prefix+".probe", mark, out), "an error about what is closed")
	in := icmpPacket(client.Addr(), netip.MustParseAddr("203.0.113.10"), 3, append(make([]byte, 4), udpPacket(netip.AddrPortFrom(netip.MustParseAddr("203.0.113.10"), at.Port()), client, mark)...))
	assert.False(t, arrives(t, s.prefix+".probe", s.prefix+"-gauge-1", mark, in), "and the other way")
}
