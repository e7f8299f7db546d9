package linux

import (
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/google/nftables"
	"github.com/google/nftables/expr"
	"github.com/mdlayher/netlink"
	"github.com/vishvananda/netns"
	"golang.org/x/sys/unix"
)

// filterConn reads the packet filter of a namespace, and writes to it in transactions.
type filterConn struct {
	*nftables.Conn
	namespace netns.NsHandle
}

// socketBuffer is how many bytes a table may have: 100,000 boxes have some 12 MB.
const socketBuffer = 64 << 20

// roomy gives a connection room for a whole table, which is one message of some megabytes.
func roomy(c *netlink.Conn) error {
	return errors.Join(c.SetWriteBuffer(socketBuffer), c.SetReadBuffer(socketBuffer))
}

// conn opens the packet filter of the router's namespace.
func (s *Site) conn() (*filterConn, func(), error) {
	ns, err := netns.GetFromPath(filepath.Join(namespaceDir, s.prefix))
	if err != nil {
		return nil, nil, err
	}
	c, err := nftables.New(nftables.WithNetNSFd(int(ns)), nftables.AsLasting(), nftables.WithSockOptions(roomy))
	if err != nil {
		return nil, nil, errors.Join(err, ns.Close())
	}
	return &filterConn{c, ns}, func() {
		_ = c.CloseLasting()
		_ = ns.Close()
	}, nil
}

// commitTime is how long the kernel may take for a transaction.
const commitTime = 2 * time.Minute

// commit has the library write down what fill says, and sends all of it in one transaction: the kernel takes it whole or
// not at all. Where no answer comes, nobody knows which, and the error says so.
func (c *filterConn) commit(fill func(*nftables.Conn) error) error {
	messages, err := gathered(fill)
	if err != nil || len(messages) == 0 {
		return err
	}
	conn, err := netlink.Dial(unix.NETLINK_NETFILTER, &netlink.Config{NetNS: int(c.namespace)})
	if err != nil {
		return err
	}
	defer conn.Close()
	if err := errors.Join(roomy(conn), conn.SetDeadline(time.Now().Add(commitTime))); err != nil {
		return err
	}
	// The last message before the end of the batch is acknowledged after the whole was taken, or refused.
	last := len(messages) - 2
	for i := range messages {
		messages[i].Header.Length, messages[i].Header.Sequence, messages[i].Header.PID = 0, 0, 0
		messages[i].Header.Flags &^= netlink.Acknowledge | netlink.Echo
	}
	messages[last].Header.Flags |= netlink.Acknowledge
	sent, err := conn.SendMessages(messages)
	if err != nil {
		return fmt.Errorf("writing to the packet filter: %w", err)
	}
	for {
		answers, err := conn.Receive()
		if errors.Is(err, os.ErrDeadlineExceeded) {
			return fmt.Errorf("whether the packet filter took what was written is not known: %w", err)
		}
		if err != nil { // that of the first message that was refused
			return fmt.Errorf("writing to the packet filter: %w", err)
		}
		for _, a := range answers {
			if a.Header.Sequence == sent[last].Header.Sequence {
				return nil
			}
		}
	}
}

// errGathered ends what the library begins to send.
var errGathered = errors.New("gathered")

// gathered are the messages of a transaction, its beginning and its end among them. The library writes them down; they are not sent.
func gathered(fill func(*nftables.Conn) error) (messages []netlink.Message, err error) {
	c, err := nftables.New(nftables.WithTestDial(func(list []netlink.Message) ([]netlink.Message, error) {
		messages = list
		return nil, errGathered
	}))
	if err != nil {
		return nil, err
	}
	if err := fill(c); err != nil {
		return nil, err
	}
	if err := c.Flush(); err != nil && !errors.Is(err, errGathered) {
		return nil, err
	}
	for i, m := range messages {
		if m.Header.Type != unix.NFNL_SUBSYS_NFTABLES<<8|unix.NFT_MSG_NEWRULE {
			continue
		}
		header := 4 // struct nfgenmsg
		data, err := withDirections(m.Data[header:])
		if err != nil {
			return nil, err
		}
		messages[i].Data = append(m.Data[:header:header], data...)
	}
	return messages, nil
}

// The library writes no direction beside the keys for addresses of connections (NFT_CT_SRC_IP and its kin), and beside those for
// ports in a form that the kernel takes for another. So a key carries its direction in its third byte, one higher, and
// [withDirections] puts it where it belongs.
const directionShift = 16

// ofConnection puts something that a packet's connection has in a direction into a register: 0 is the direction of its first packet, 1
// that of the answers.
func ofConnection(key, direction, reg uint32) []expr.Any {
	return []expr.Any{&expr.Ct{Key: expr.CtKey(key | (direction+1)<<directionShift), Register: register(reg)}}
}

// withDirections returns the attributes of a rule (linux/netfilter/nf_tables.h) with the directions that [ofConnection] wrote into its keys
// in attributes of their own.
func withDirections(rule []byte) ([]byte, error) {
	return mapAttributes(rule, func(kind uint16, expressions []byte) ([]byte, error) {
		if kind&nestedMask != unix.NFTA_RULE_EXPRESSIONS {
			return expressions, nil
		}
		return mapAttributes(expressions, func(_ uint16, one []byte) ([]byte, error) {
			name := ""
			return mapAttributes(one, func(kind uint16, value []byte) ([]byte, error) {
				switch {
				case kind == unix.NFTA_EXPR_NAME:
					name = unix.ByteSliceToString(value)
				case kind&nestedMask == unix.NFTA_EXPR_DATA && name == "ct":
					return withDirection(value)
				}
				return value, nil
			})
		})
	})
}

// withDirection is withDirections for what one expression about a connection has.
func withDirection(data []byte) ([]byte, error) {
	direction := byte(0)
	out, err := mapAttributes(data, func(kind uint16, value []byte) ([]byte, error) {
		if kind != unix.NFTA_CT_KEY || len(value) != 4 {
			return value, nil
		}
		direction = value[3-directionShift/8]
		return []byte{0, 0, 0, value[3]}, nil
	})
	if err != nil || direction == 0 {
		return out, err
	}
	out = binary.NativeEndian.AppendUint16(out, 5)
	out = binary.NativeEndian.AppendUint16(out, unix.NFTA_CT_DIRECTION)
	return pad(append(out, direction-1)), nil
}

const nestedMask = ^uint16(unix.NLA_F_NESTED | unix.NLA_F_NET_BYTEORDER)

// mapAttributes returns attributes with other values, each in its place.
func mapAttributes(data []byte, change func(kind uint16, value []byte) ([]byte, error)) (out []byte, err error) {
	for len(data) >= 4 {
		length, kind := int(binary.NativeEndian.Uint16(data)), binary.NativeEndian.Uint16(data[2:])
		if length < 4 || length > len(data) {
			return nil, errors.New("an attribute of the packet filter is cut off")
		}
		value, err := change(kind, data[4:length])
		if err != nil {
			return nil, err
		}
		out = binary.NativeEndian.AppendUint16(out, uint16(4+len(value)))
		out = append(binary.NativeEndian.AppendUint16(out, kind), value...)
		out = pad(out)
		data = data[min(len(data), (length+3)&^3):]
	}
	return out, nil
}
