package linux

import (
	"context"
	"errors"
	"io"
	"net"
	"net/netip"
	"slices"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"ironbark/internal/change"
	"ironbark/internal/driver"
	"ironbark/internal/exposure"
	"ironbark/internal/flow"
	"ironbark/internal/flow/span"
)

// How long a packet that is tried may take, for what is dropped is silent: at first, and
// once more where something should have answered.
const (
	patience = 250 * time.Millisecond
	longer   = 3 * time.Second
)

// again is how long is waited for an answer to a packet that is sent once more. A connection
// sends its first packet again by itself; whatever else was lost on the way is not.
func again(p driver.Packet) time.Duration {
	if p.Service < flow.UDPPort(0) {
		return longer
	}
	return 2 * patience
}

// dialer dials from any address in the probe's namespace.
func dialer(network string, from netip.Addr, timeout time.Duration) *net.Dialer {
	d := &net.Dialer{
		Timeout: timeout,
		// A connection that is let pass no more is told so by the answer to what keeps it alive.
		KeepAliveConfig: net.KeepAliveConfig{Enable: true, Idle: time.Second, Interval: time.Second, Count: 2},
		Control: func(_, _ string, c syscall.RawConn) (err error) {
			failed := c.Control(func(fd uintptr) {
				if from.Is4() {
					err = unix.SetsockoptInt(int(fd), unix.SOL_IP, unix.IP_TRANSPARENT, 1)
				} else {
					err = unix.SetsockoptInt(int(fd), unix.SOL_IPV6, unix.IPV6_TRANSPARENT, 1)
				}
			})
			return errors.Join(failed, err)
		},
	}
	if strings.HasPrefix(network, "udp") {
		d.LocalAddr = &net.UDPAddr{IP: from.AsSlice()}
	} else {
		d.LocalAddr = &net.TCPAddr{IP: from.AsSlice()}
	}
	return d
}

// gets sends a packet from a namespace and tells whether it gets to a machine: something
// answers, if only that nothing listens.
func gets(ctx context.Context, namespace string, p driver.Packet, expected bool) (got bool, err error) {
	err = within(namespace, func() error {
		got, err = send(ctx, p, patience)
		for end := time.Now().Add(longer); err == nil && expected && !got && time.Now().Before(end); {
			got, err = send(ctx, p, again(p))
		}
		return err
	})
	return got, err
}

func send(ctx context.Context, p driver.Packet, patience time.Duration) (bool, error) {
	switch {
	case p.Service < flow.UDPPort(0):
		c, err := dialer("tcp", p.Source, patience).DialContext(ctx, "tcp", netip.AddrPortFrom(p.Target, p.Service.Port()).String())
		if err == nil {
			return true, c.Close()
		}
		return errors.Is(err, unix.ECONNREFUSED), nil
	case p.Service < flow.Ping:
		c, err := dialer("udp", p.Source, longer).DialContext(ctx, "udp", netip.AddrPortFrom(p.Target, p.Service.Port()).String())
		if err != nil {
			return false, err
		}
		defer c.Close()
		if _, err := c.Write([]byte("?")); err != nil {
			return errors.Is(err, unix.ECONNREFUSED), nil
		}
		_ = c.SetReadDeadline(time.Now().Add(patience))
		_, err = c.Read(make([]byte, 1))
		return err == nil || errors.Is(err, unix.ECONNREFUSED), nil
	case p.Service == flow.Ping:
		return ping(p.Source, p.Target, patience)
	}
	return false, errors.New("what has no ports is not tried")
}

// ping sends an echo request (RFC 792, RFC 4443) from any address.
func ping(from, to netip.Addr, patience time.Duration) (bool, error) {
	domain, proto, kind := unix.AF_INET, unix.IPPROTO_ICMP, byte(8)
	if from.Is6() {
		domain, proto, kind = unix.AF_INET6, unix.IPPROTO_ICMPV6, 128
	}
	fd, err := unix.Socket(domain, unix.SOCK_RAW|unix.SOCK_CLOEXEC, proto)
	if err != nil {
		return false, err
	}
	defer unix.Close(fd)
	if from.Is4() {
		err = unix.SetsockoptInt(fd, unix.SOL_IP, unix.IP_TRANSPARENT, 1)
	} else {
		err = unix.SetsockoptInt(fd, unix.SOL_IPV6, unix.IPV6_TRANSPARENT, 1)
	}
	if err := errors.Join(err, unix.Bind(fd, sockaddr(from))); err != nil {
		return false, err
	}
	id := uint16(time.Now().UnixNano() >> 10)
	message := []byte{kind, 0, 0, 0, byte(id >> 8), byte(id), 0, 1}
	if from.Is4() { // the kernel fills in that of IPv6
		sum := uint32(0)
		for i := 0; i < len(message); i += 2 {
			sum += uint32(message[i])<<8 | uint32(message[i+1])
		}
		sum = sum>>16 + sum&0xffff
		message[2], message[3] = byte(^sum>>8), byte(^sum)
	}
	if err := unix.Sendto(fd, message, 0, sockaddr(to)); err != nil {
		return false, err
	}
	end := time.Now().Add(patience)
	buffer := make([]byte, 256)
	for {
		left := time.Until(end)
		if left <= 0 {
			return false, nil
		}
		tv := unix.NsecToTimeval(left.Nanoseconds())
		if err := unix.SetsockoptTimeval(fd, unix.SOL_SOCKET, unix.SO_RCVTIMEO, &tv); err != nil {
			return false, err
		}
		n, _, err := unix.Recvfrom(fd, buffer, 0)
		if err != nil {
			return false, nil // nobody answered in time
		}
		answer := buffer[:n]
		if from.Is4() && n > 20 {
			answer = buffer[20:n]
		}
		if len(answer) >= 8 && (answer[0] == 0 || answer[0] == 129) && answer[4] == byte(id>>8) && answer[5] == byte(id) {
			return true, nil
		}
	}
}

func sockaddr(a netip.Addr) unix.Sockaddr {
	if a.Is4() {
		return &unix.SockaddrInet4{Addr: a.As4()}
	}
	return &unix.SockaddrInet6{Addr: a.As16()}
}

// Probe sends a packet in the kernel. Whether it gets there is the kernel's word; where to
// and why is the analysis's of what is installed. Where the two disagree, the reason is
// “kernel”.
func (s *Site) Probe(ctx context.Context, p driver.Packet) ([]driver.ProbeResult, error) {
	o, err := s.Observe(ctx, driver.Scope{Plan: true, After: -1})
	if err != nil {
		return nil, err
	}
	view := exposure.NewView(o.Plan, s.clock.Now())
	var list []driver.ProbeResult
	for _, part := range view.Ask(flow.ServicesAt(p.Service), span.One(flow.PointOf(p.Source)), exposure.Target{Machine: -1, Address: p.Target}) {
		r := driver.ProbeResult{Open: part.Open, Reason: string(part.Reason), By: part.Origin.Sentence}
		if part.Machine >= 0 {
			r.Machine = o.Plan.Machines[part.Machine].Name
		}
		list = append(list, r)
	}
	if !exists(s.prefix + ".probe") {
		return list, nil
	}
	open := slices.ContainsFunc(list, func(r driver.ProbeResult) bool { return r.Open })
	got, err := s.tried(ctx, o.Plan, p, open)
	if err != nil {
		return nil, err
	}
	if got != open {
		return []driver.ProbeResult{{Open: got, Reason: "kernel"}}, nil
	}
	return list, nil
}

// tried sends a packet from the probe. One that a machine sends to an address outside, in whose place the probe sends it, is looked for where
// it leaves.
func (s *Site) tried(ctx context.Context, plan *flow.Plan, p driver.Packet, expected bool) (bool, error) {
	if plan.Internet().Contains(flow.PointOf(p.Target)) {
		return s.leaves(ctx, s.prefix+".probe", p, expected)
	}
	return gets(ctx, s.prefix+".probe", p, expected)
}

// Dial begins a TCP session from an address, in the kernel.
func (s *Site) Dial(ctx context.Context, from netip.Addr, to netip.AddrPort) (net.Conn, error) {
	bastion, err := s.whoseAddress(ctx, change.Bastion, from)
	if err != nil {
		return nil, err
	}
	if bastion != "" {
		return s.dialFrom(ctx, bastion, from, to)
	}
	list, err := s.Probe(ctx, driver.Packet{Source: from, Target: to.Addr(), Service: flow.TCPPort(to.Port())})
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(list, func(r driver.ProbeResult) bool { return r.Open })
	if i < 0 {
		return nil, &driver.UnreachableError{To: to, Reason: list[0].Reason}
	}
	var c net.Conn
	err = within(s.prefix+".probe", func() (err error) {
		c, err = dialer("tcp", from, 5*time.Second).DialContext(ctx, "tcp", to.String())
		return err
	})
	if name, is := strings.CutPrefix(list[i].By, "bastion "); is && list[i].Machine == "" && errors.Is(err, unix.ECONNREFUSED) {
		return nil, &driver.NoGatewayError{Bastion: name}
	}
	if errors.Is(err, unix.ECONNREFUSED) {
		_, m, _ := s.look(ctx, list[i].Machine)
		return nil, &driver.RefusedError{To: to, Machine: list[i].Machine, State: m.State}
	}
	if err != nil {
		return nil, err
	}
	return &session{c}, nil
}

// session is one that the kernel may end: that is its end, and no error.
type session struct{ net.Conn }

func (s *session) Read(b []byte) (int, error) {
	n, err := s.Conn.Read(b)
	if errors.Is(err, unix.ECONNRESET) || errors.Is(err, unix.ETIMEDOUT) {
		err = io.EOF
	}
	return n, err
}

// Unwrap returns the connection.
func (s *session) Unwrap() net.Conn { return s.Conn }
