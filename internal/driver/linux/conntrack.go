package linux

import (
	"encoding/binary"
	"errors"
	"fmt"
	"net/netip"
	"time"

	"github.com/mdlayher/netlink"
	"golang.org/x/sys/unix"

	"ironbark/internal/flow"
)

// connection is an entry of the kernel's connection tracking.
type connection struct {
	caller, to       netip.Addr // who began it, and the address that was called
	called, answered netip.Addr // who answers, and the address to which the answers go: after translation
	proto            uint8      // as IP has it
	toPort, port     uint16     // that was called, and at which is answered; 0 where the protocol has none
	callerPort       uint16
	kind             uint8 // of ICMP: the type of the first message
	state            uint8 // of TCP (enum tcp_conntrack)
	mark             uint32
	since            time.Time // zero where the kernel does not keep it
	tuples           []byte    // the attributes by which the kernel knows it
}

// service is the one that was called: that of the first packet, before translation.
func (c *connection) service() flow.Service { return c.serviceOf(c.toPort) }

// arrives is the one at which it arrives.
func (c *connection) arrives() flow.Service { return c.serviceOf(c.port) }

func (c *connection) serviceOf(port uint16) flow.Service {
	switch c.proto {
	case unix.IPPROTO_TCP:
		return flow.TCPPort(port)
	case unix.IPPROTO_UDP:
		return flow.UDPPort(port)
	case unix.IPPROTO_ICMP, unix.IPPROTO_ICMPV6:
		if c.kind == families[0].echo || c.kind == families[1].echo {
			return flow.Ping
		}
	}
	return flow.Other
}

// hasPorts reports whether the protocol has ports that the tables know.
func (c *connection) hasPorts() bool {
	return c.proto == unix.IPPROTO_TCP || c.proto == unix.IPPROTO_UDP
}

// listConnections lists what the kernel tracks in the thread's namespace (IPCTNL_MSG_CT_GET, linux/netfilter/nfnetlink_conntrack.h).
// Cost: linear in the entries, some microseconds each. What comes or goes meanwhile may be missing.
func listConnections() (list []connection, err error) {
	for _, family := range []uint8{unix.AF_INET, unix.AF_INET6} {
		err := ask(unix.NFNL_SUBSYS_CTNETLINK<<8|messageGet, family, nil, func(body []byte) error {
			c, err := readConnection(body[4:])
			list = append(list, c)
			return err
		})
		if err != nil && !errors.Is(err, errInterrupted) {
			return nil, fmt.Errorf("connection tracking: %w", err)
		}
	}
	return list, nil
}

// The messages and attributes of connection tracking (linux/netfilter/nfnetlink_conntrack.h), for which x/sys/unix has no names.
const (
	messageGet    = 1
	messageDelete = 2

	tupleOrig, tupleReply, protoInfo, connMark, connID, connZone, timestamp = 1, 2, 4, 8, 12, 18, 20

	tupleIP, tupleProto                               = 1, 2
	srcV4, dstV4, srcV6, dstV6                        = 1, 2, 3, 4
	protoNum, protoSrc, protoDst, icmpType, icmpType6 = 1, 2, 3, 5, 8
	infoTCP, stateTCP                                 = 1, 1
	timeStart                                         = 1
)

type tuple struct {
	src, dst   netip.Addr
	proto      uint8
	from, port uint16
	kind       uint8
}

func readConnection(body []byte) (c connection, err error) {
	var orig, reply tuple
	keep := func(kind uint16, value []byte) {
		c.tuples = binary.NativeEndian.AppendUint16(c.tuples, uint16(4+len(value)))
		c.tuples = pad(append(binary.NativeEndian.AppendUint16(c.tuples, kind), value...))
	}
	err = eachAttribute(body, func(kind uint16, value []byte) error {
		switch kind {
		case tupleOrig:
			keep(kind|unix.NLA_F_NESTED, value)
			return readTuple(&orig, value)
		case tupleReply:
			return readTuple(&reply, value)
		case connID, connZone:
			keep(kind, value)
		case connMark:
			if len(value) == 4 {
				c.mark = binary.BigEndian.Uint32(value)
			}
		case protoInfo:
			return eachAttribute(value, func(kind uint16, value []byte) error {
				if kind != infoTCP {
					return nil
				}
				return eachAttribute(value, func(kind uint16, value []byte) error {
					if kind == stateTCP && len(value) == 1 {
						c.state = value[0]
					}
					return nil
				})
			})
		case timestamp:
			return eachAttribute(value, func(kind uint16, value []byte) error {
				if kind == timeStart && len(value) == 8 {
					c.since = time.Unix(0, int64(binary.BigEndian.Uint64(value)))
				}
				return nil
			})
		}
		return nil
	})
	c.caller, c.to, c.called, c.answered = orig.src, orig.dst, reply.src, reply.dst
	c.proto, c.kind, c.callerPort = orig.proto, orig.kind, orig.from
	if c.hasPorts() {
		c.toPort, c.port = orig.port, reply.from
	}
	return c, err
}

func readTuple(t *tuple, body []byte) error {
	return eachAttribute(body, func(kind uint16, value []byte) error {
		in := kind
		return eachAttribute(value, func(kind uint16, value []byte) error {
			switch {
			case in == tupleIP && (kind == srcV4 || kind == srcV6):
				t.src, _ = netip.AddrFromSlice(value)
			case in == tupleIP && (kind == dstV4 || kind == dstV6):
				t.dst, _ = netip.AddrFromSlice(value)
			case in != tupleProto:
			case kind == protoNum && len(value) == 1:
				t.proto = value[0]
			case kind == protoSrc && len(value) == 2:
				t.from = binary.BigEndian.Uint16(value)
			case kind == protoDst && len(value) == 2:
				t.port = binary.BigEndian.Uint16(value)
			case (kind == icmpType || kind == icmpType6) && len(value) == 1:
				t.kind = value[0]
			}
			return nil
		})
	})
}

// deleteConnections deletes entries. The thread is in their namespace. An entry that is gone already is not an error.
func deleteConnections(list []connection) error {
	if len(list) == 0 {
		return nil
	}
	conn, err := netlink.Dial(unix.NETLINK_NETFILTER, nil)
	if err != nil {
		return err
	}
	defer conn.Close()
	if err := conn.SetDeadline(time.Now().Add(commitTime)); err != nil {
		return err
	}
	var errs error
	for _, c := range list {
		family := byte(unix.AF_INET)
		if c.caller.Is6() {
			family = unix.AF_INET6
		}
		_, err := conn.Execute(netlink.Message{
			Header: netlink.Header{Type: unix.NFNL_SUBSYS_CTNETLINK<<8 | messageDelete, Flags: netlink.Request | netlink.Acknowledge},
			Data:   append([]byte{family, unix.NFNETLINK_V0, 0, 0}, c.tuples...),
		})
		if err != nil && !errors.Is(err, unix.ENOENT) {
			errs = errors.Join(errs, fmt.Errorf("ending the connection from %s to %s: %w", c.caller, c.to, err))
		}
	}
	return errs
}
