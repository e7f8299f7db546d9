// Package clientnet is a network in which plain programs are clients of a cloud that is not there: each
// packet they send is judged before anything answers it.
//
//	a program ──▶ the kernel of a network namespace ──▶ a TUN device ──▶ Stack ──▶ Cloud
//
// What a cloud would drop is silent, what it would refuse is refused, and what it lets pass is a
// connection. The TCP of the other side is that of gVisor (gvisor.dev/gvisor, pkg/tcpip), which shows the
// first packet of a connection before it is answered: a socket that listens cannot be silent to some.
package clientnet

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"

	"gvisor.dev/gvisor/pkg/tcpip"
	"gvisor.dev/gvisor/pkg/tcpip/adapters/gonet"
	"gvisor.dev/gvisor/pkg/tcpip/header"
	"gvisor.dev/gvisor/pkg/tcpip/link/fdbased"
	"gvisor.dev/gvisor/pkg/tcpip/link/nested"
	"gvisor.dev/gvisor/pkg/tcpip/network/ipv4"
	"gvisor.dev/gvisor/pkg/tcpip/network/ipv6"
	"gvisor.dev/gvisor/pkg/tcpip/stack"
	"gvisor.dev/gvisor/pkg/tcpip/transport/icmp"
	"gvisor.dev/gvisor/pkg/tcpip/transport/tcp"
	"gvisor.dev/gvisor/pkg/waiter"

	"ironbark/internal/fault"
)

// ErrRefused says that something is there, and nothing listens on that port.
var ErrRefused = errors.New("connection refused")

// Cloud is what stands behind a stack. Implementations are safe for concurrent use.
type Cloud interface {
	// Dial connects a client to an address. Any error but ErrRefused means silence.
	Dial(ctx context.Context, from netip.Addr, to netip.AddrPort) (net.Conn, error)
	// Ping reports whether an echo request is answered.
	Ping(ctx context.Context, from, to netip.Addr) bool
}

// MTU is that of the TUN device.
const MTU = 1500

// mostAtOnce is how many connections may be about to begin.
const mostAtOnce = 4096

const nic tcpip.NICID = 1

// Serve answers what comes from a TUN device (Linux's tuntap.rst, without packet information) until ctx
// ends. The descriptor stays the caller's.
func Serve(ctx context.Context, tun int, cloud Cloud) error {
	link, err := fdbased.New(&fdbased.Options{FDs: []int{tun}, MTU: MTU, PacketDispatchMode: fdbased.Readv, RXChecksumOffload: true})
	if err != nil {
		return err
	}
	s := stack.New(stack.Options{
		NetworkProtocols:   []stack.NetworkProtocolFactory{ipv4.NewProtocol, ipv6.NewProtocol},
		TransportProtocols: []stack.TransportProtocolFactory{tcp.NewProtocol, icmp.NewProtocol4, icmp.NewProtocol6},
		HandleLocal:        false,
	})
	defer s.Destroy()
	forwarder := tcp.NewForwarder(s, 0, mostAtOnce, func(r *tcp.ForwarderRequest) { connect(ctx, r, cloud) })
	s.SetTransportProtocolHandler(tcp.ProtocolNumber, forwarder.HandlePacket)
	sack := tcpip.TCPSACKEnabled(true)
	if e := s.SetTransportProtocolOption(tcp.ProtocolNumber, &sack); e != nil {
		return errors.New(e.String())
	}
	if e := s.CreateNIC(nic, newPings(ctx, link, cloud)); e != nil {
		return errors.New(e.String())
	}
	for _, e := range []tcpip.Error{s.SetPromiscuousMode(nic, true), s.SetSpoofing(nic, true)} {
		if e != nil {
			return errors.New(e.String())
		}
	}
	s.SetRouteTable([]tcpip.Route{{Destination: header.IPv4EmptySubnet, NIC: nic}, {Destination: header.IPv6EmptySubnet, NIC: nic}})
	<-ctx.Done()
	return nil
}

func addrOf(a tcpip.Address) netip.Addr {
	b, _ := netip.AddrFromSlice(a.AsSlice())
	return b
}

// connect judges the first packet of a connection.
func connect(ctx context.Context, r *tcp.ForwarderRequest, cloud Cloud) {
	id := r.ID()
	from, to := addrOf(id.RemoteAddress), netip.AddrPortFrom(addrOf(id.LocalAddress), id.LocalPort)
	there, err := cloud.Dial(ctx, from, to)
	if err != nil {
		r.Complete(errors.Is(err, ErrRefused))
		return
	}
	var queue waiter.Queue
	ep, e := r.CreateEndpoint(&queue)
	r.Complete(false)
	if e != nil {
		_ = there.Close()
		return
	}
	ep.SocketOptions().SetKeepAlive(true)
	go Join(gonet.NewTCPConn(&queue, ep), there)
}

// Join copies both ways until both are at their end. A connection that breaks off breaks the other one
// off.
func Join(a, b net.Conn) {
	done := make(chan error, 2)
	pass := func(to, from net.Conn) {
		_, err := io.Copy(to, from)
		if half, ok := to.(interface{ CloseWrite() error }); ok && err == nil {
			err = half.CloseWrite()
		}
		done <- err
	}
	go pass(a, b)
	go pass(b, a)
	if err := <-done; err == nil {
		<-done
	}
	_ = a.Close()
	_ = b.Close()
}

// pings lets those echo requests (RFC 792, RFC 4443) through to the stack, which answers all, that the
// cloud answers. Other ICMP and all UDP goes no further.
type pings struct {
	nested.Endpoint
	ctx   context.Context
	cloud Cloud
}

func newPings(ctx context.Context, link stack.LinkEndpoint, cloud Cloud) *pings {
	p := &pings{ctx: ctx, cloud: cloud}
	p.Init(link, p)
	return p
}

// DeliverNetworkPacket judges a packet before the stack sees it.
func (p *pings) DeliverNetworkPacket(protocol tcpip.NetworkProtocolNumber, pkt *stack.PacketBuffer) {
	view := pkt.Data().AsRange().ToSlice()
	from, to, kind, payload, ok := parse(protocol, view)
	switch {
	case !ok:
	case kind == header.TCPProtocolNumber:
		p.Endpoint.DeliverNetworkPacket(protocol, pkt)
	case isEcho(kind, payload):
		pkt.IncRef()
		go func() {
			defer pkt.DecRef()
			if p.cloud.Ping(p.ctx, from, to) && p.ctx.Err() == nil {
				p.Endpoint.DeliverNetworkPacket(protocol, pkt)
			}
		}()
	}
}

// parse reads the addresses and the protocol of a packet.
func parse(protocol tcpip.NetworkProtocolNumber, b []byte) (from, to netip.Addr, kind tcpip.TransportProtocolNumber, payload []byte, ok bool) {
	switch protocol {
	case header.IPv4ProtocolNumber:
		h := header.IPv4(b)
		if len(b) < header.IPv4MinimumSize || !h.IsValid(len(b)) {
			return from, to, 0, nil, false
		}
		return addrOf(h.SourceAddress()), addrOf(h.DestinationAddress()), h.TransportProtocol(), h.Payload(), true
	case header.IPv6ProtocolNumber:
		h := header.IPv6(b)
		if len(b) < header.IPv6MinimumSize || !h.IsValid(len(b)) {
			return from, to, 0, nil, false
		}
		return addrOf(h.SourceAddress()), addrOf(h.DestinationAddress()), h.TransportProtocol(), h.Payload(), true
	}
	return from, to, 0, nil, false
}

func isEcho(kind tcpip.TransportProtocolNumber, b []byte) bool {
	switch {
	case len(b) < 8:
		return false
	case kind == header.ICMPv4ProtocolNumber:
		return header.ICMPv4(b).Type() == header.ICMPv4Echo
	case kind == header.ICMPv6ProtocolNumber:
		return header.ICMPv6(b).Type() == header.ICMPv6EchoRequest
	}
	return false
}

// NeverError says that a network cannot be made here.
type NeverError struct{ Err error }

// Error tells why.
func (n *NeverError) Error() string {
	return fmt.Sprintf("no network of clients can be made here: %v", n.Err)
}

// Advice says what can be done instead.
func (n *NeverError) Advice() fault.Advice {
	return fault.Say("listen on ports of this computer: ").Run("sim", "listen", "--loopback")
}

// Kind is that of hosts that cannot be used.
func (n *NeverError) Kind() fault.Kind { return fault.Unsupported }

// Unwrap returns the cause.
func (n *NeverError) Unwrap() error { return n.Err }
