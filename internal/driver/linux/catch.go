package linux

import (
	"context"
	"encoding/binary"
	"errors"
	"net/netip"
	"time"

	"golang.org/x/sys/unix"

	"ironbark/internal/driver"
	"ironbark/internal/flow"
)

// leaves sends a packet from a namespace to an address outside, and tells whether it gets through the packet filter. Nobody outside
// need answer: it is looked for where the router sends what the probe, or a site without an uplink, calls outside.
func (s *Site) leaves(ctx context.Context, namespace string, p driver.Packet, expected bool) (bool, error) {
	fd := -1
	err := within(s.prefix+".probe", func() (err error) {
		fd, err = unix.Socket(unix.AF_PACKET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, int(binary.NativeEndian.Uint16([]byte{0, unix.ETH_P_ALL})))
		return err
	})
	if err != nil {
		return false, err
	}
	defer unix.Close(fd)
	end := time.Now().Add(patience)
	if expected {
		end = time.Now().Add(longer)
	}
	for {
		sent := make(chan error, 1)
		go func() {
			sent <- within(namespace, func() error {
				_, err := send(ctx, p, patience)
				return err
			})
		}()
		caught, err := catch(fd, p, time.Now().Add(patience))
		err = errors.Join(err, <-sent)
		if caught || err != nil || !time.Now().Before(end) {
			return caught, err
		}
	}
}

// catch waits until a packet is received, or a moment has come (packet(7)).
func catch(fd int, p driver.Packet, end time.Time) (bool, error) {
	tv := unix.NsecToTimeval((20 * time.Millisecond).Nanoseconds())
	if err := unix.SetsockoptTimeval(fd, unix.SOL_SOCKET, unix.SO_RCVTIMEO, &tv); err != nil {
		return false, err
	}
	buffer := make([]byte, 256)
	for time.Now().Before(end) {
		n, from, err := unix.Recvfrom(fd, buffer, 0)
		switch {
		case errors.Is(err, unix.EAGAIN), errors.Is(err, unix.EINTR):
			continue
		case err != nil:
			return false, err
		}
		if link, ok := from.(*unix.SockaddrLinklayer); ok && link.Pkttype != unix.PACKET_OUTGOING && isPacket(buffer[:n], p) {
			return true, nil
		}
	}
	return false, nil
}

// isPacket reports whether bytes are an IP packet with a packet's addresses and service (RFC 791, RFC 8200 without extension headers).
func isPacket(b []byte, p driver.Packet) bool {
	var proto byte
	var src, dst netip.Addr
	var rest []byte
	switch {
	case len(b) >= 20 && b[0]>>4 == 4 && len(b) >= int(b[0]&15)*4:
		src, _ = netip.AddrFromSlice(b[12:16])
		dst, _ = netip.AddrFromSlice(b[16:20])
		proto, rest = b[9], b[int(b[0]&15)*4:]
	case len(b) >= 40 && b[0]>>4 == 6:
		src, _ = netip.AddrFromSlice(b[8:24])
		dst, _ = netip.AddrFromSlice(b[24:40])
		proto, rest = b[6], b[40:]
	}
	if src != p.Source || dst != p.Target || len(rest) < 4 {
		return false
	}
	port := binary.BigEndian.Uint16(rest[2:])
	switch {
	case p.Service < flow.UDPPort(0):
		return proto == unix.IPPROTO_TCP && port == p.Service.Port()
	case p.Service < flow.Ping:
		return proto == unix.IPPROTO_UDP && port == p.Service.Port()
	}
	return proto == unix.IPPROTO_ICMP && rest[0] == 8 || proto == unix.IPPROTO_ICMPV6 && rest[0] == 128
}
