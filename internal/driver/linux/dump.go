package linux

import (
	"encoding/binary"
	"errors"
	"fmt"
	"time"

	"github.com/google/nftables"
	"github.com/google/nftables/expr"
	"github.com/mdlayher/netlink"
	"golang.org/x/sys/unix"
)

// dumpBuffer is how much of a set is read at once. The kernel finds its place in a set of
// intervals anew for each part, so small parts of a large set take for ever. It gives no larger ones.
const dumpBuffer = 64 << 10

// ask asks a part of netfilter for all that it has of something, and hands over each message that comes, from its struct
// nfgenmsg on. The thread is in the namespace that is asked. The error is errInterrupted where it was written to meanwhile.
func ask(message uint16, family uint8, attrs []byte, each func(body []byte) error) error {
	fd, err := unix.Socket(unix.AF_NETLINK, unix.SOCK_RAW|unix.SOCK_CLOEXEC, unix.NETLINK_NETFILTER)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	question := netlink.Message{
		Header: netlink.Header{Type: netlink.HeaderType(message), Flags: netlink.Request | netlink.Dump, Sequence: 1},
		Data:   append([]byte{family, unix.NFNETLINK_V0, 0, 0}, attrs...),
	}
	question.Header.Length = uint32(unix.SizeofNlMsghdr + len(question.Data))
	data, err := question.MarshalBinary()
	if err != nil {
		return err
	}
	if err := unix.Sendto(fd, data, 0, &unix.SockaddrNetlink{Family: unix.AF_NETLINK}); err != nil {
		return err
	}
	buffer := make([]byte, dumpBuffer)
	interrupted := false
	for {
		n, _, err := unix.Recvfrom(fd, buffer, 0)
		if err != nil {
			return err
		}
		part := append([]byte{}, buffer[:n]...) // whoever gets it keeps it
		for len(part) >= unix.SizeofNlMsghdr {
			length := int(binary.NativeEndian.Uint32(part))
			if length < unix.SizeofNlMsghdr || length > len(part) {
				return errors.New("a message of the packet filter is cut off")
			}
			kind, flags, body := binary.NativeEndian.Uint16(part[4:]), binary.NativeEndian.Uint16(part[6:]), part[unix.SizeofNlMsghdr:length]
			part = part[min(len(part), (length+3)&^3):]
			interrupted = interrupted || flags&unix.NLM_F_DUMP_INTR != 0
			switch {
			case kind == unix.NLMSG_DONE && interrupted:
				return errInterrupted
			case kind == unix.NLMSG_DONE:
				return nil
			case kind == unix.NLMSG_ERROR:
				if len(body) >= 4 {
					return unix.Errno(-int32(binary.NativeEndian.Uint32(body)))
				}
				return errors.New("the packet filter answers with an error")
			case len(body) >= 4:
				if err := each(body); err != nil {
					return err
				}
			}
		}
	}
}

// askFilter asks the packet filter; see [ask].
func askFilter(message uint16, attrs []byte, each func(body []byte) error) error {
	return ask(unix.NFNL_SUBSYS_NFTABLES<<8|message, unix.AF_UNSPEC, attrs, each)
}

// dump reads the elements of a set of the one table (NFT_MSG_GETSETELEM,
// linux/netfilter/nf_tables.h). The thread is in the router's namespace.
func dump(set string) (list []nftables.SetElement, err error) {
	ae := netlink.NewAttributeEncoder()
	ae.String(unix.NFTA_SET_ELEM_LIST_TABLE, tableName)
	ae.String(unix.NFTA_SET_ELEM_LIST_SET, set)
	attrs, err := ae.Encode()
	if err != nil {
		return nil, err
	}
	err = ask(unix.NFNL_SUBSYS_NFTABLES<<8|unix.NFT_MSG_GETSETELEM, unix.NFPROTO_INET, attrs, func(body []byte) (err error) {
		list, err = appendElements(list, body[4:])
		return err
	})
	return list, err
}

// errInterrupted says that somebody wrote to the packet filter while it was read.
var errInterrupted = errors.New("the packet filter was written to while it was read")

// untilWhole does what reads something again where it was interrupted, some times.
func untilWhole(read func() error) (err error) {
	for range 10 {
		if err = read(); !errors.Is(err, errInterrupted) && !errors.Is(err, unix.EINTR) {
			break
		}
	}
	return err
}

// dumpWhole is dump, again where it was interrupted.
func dumpWhole(set string) (list []nftables.SetElement, err error) {
	err = untilWhole(func() error {
		list, err = dump(set)
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("the set %s of the packet filter: %w", set, err)
	}
	return list, nil
}

// eachAttribute calls do for the attributes of a message. Nested ones are read by calling it again.
func eachAttribute(data []byte, do func(kind uint16, value []byte) error) error {
	for len(data) >= 4 {
		length, kind := int(binary.NativeEndian.Uint16(data)), binary.NativeEndian.Uint16(data[2:])
		if length < 4 || length > len(data) {
			return errors.New("an attribute of the packet filter is cut off")
		}
		if err := do(kind&^(unix.NLA_F_NESTED|unix.NLA_F_NET_BYTEORDER), data[4:length]); err != nil {
			return err
		}
		data = data[min(len(data), (length+3)&^3):]
	}
	return nil
}

// The attributes of an element for which x/sys/unix has no name.
const (
	elementKeyEnd      = 10 // NFTA_SET_ELEM_KEY_END
	elementExpressions = 11 // NFTA_SET_ELEM_EXPRESSIONS
)

func appendElements(list []nftables.SetElement, body []byte) ([]nftables.SetElement, error) {
	err := eachAttribute(body, func(kind uint16, value []byte) error {
		if kind != unix.NFTA_SET_ELEM_LIST_ELEMENTS {
			return nil
		}
		return eachAttribute(value, func(_ uint16, value []byte) error {
			var e nftables.SetElement
			err := readElement(&e, value)
			list = append(list, e)
			return err
		})
	})
	return list, err
}

func readElement(e *nftables.SetElement, body []byte) error {
	inner := func(value []byte) (out []byte) {
		_ = eachAttribute(value, func(kind uint16, v []byte) error {
			if kind == unix.NFTA_DATA_VALUE {
				out = v
			}
			return nil
		})
		return out
	}
	return eachAttribute(body, func(kind uint16, value []byte) error {
		switch kind {
		case unix.NFTA_SET_ELEM_KEY:
			e.Key = inner(value)
		case unix.NFTA_SET_ELEM_DATA:
			e.Val = inner(value)
		case elementKeyEnd:
			e.KeyEnd = inner(value)
		case unix.NFTA_SET_ELEM_FLAGS:
			e.IntervalEnd = len(value) == 4 && binary.BigEndian.Uint32(value)&unix.NFT_SET_ELEM_INTERVAL_END != 0
		case unix.NFTA_SET_ELEM_EXPIRATION:
			if len(value) == 8 {
				e.Expires = time.Duration(binary.BigEndian.Uint64(value)) * time.Millisecond
			}
		case unix.NFTA_SET_ELEM_EXPR:
			return readCounter(e, value)
		case elementExpressions:
			return eachAttribute(value, func(_ uint16, v []byte) error { return readCounter(e, v) })
		}
		return nil
	})
}

// readCounter reads what an element has counted.
func readCounter(e *nftables.SetElement, body []byte) error {
	return eachAttribute(body, func(kind uint16, value []byte) error {
		if kind != unix.NFTA_EXPR_DATA {
			return nil
		}
		var c expr.Counter
		err := eachAttribute(value, func(kind uint16, v []byte) error {
			if len(v) != 8 {
				return nil
			}
			switch kind {
			case unix.NFTA_COUNTER_BYTES:
				c.Bytes = binary.BigEndian.Uint64(v)
			case unix.NFTA_COUNTER_PACKETS:
				c.Packets = binary.BigEndian.Uint64(v)
			}
			return nil
		})
		e.Counter = &c
		return err
	})
}
