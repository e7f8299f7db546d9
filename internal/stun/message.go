package stun

import (
	"crypto/rand"
	"encoding/binary"
	"net/netip"
)

// This file is the messages of the binding method (RFC 8489, section 5), as far as it takes them: a header of 20 bytes, and attributes of which each
// fills whole words of four bytes.
//
//	0        2        4        8             20
//	│ type   │ length │ cookie │ transaction │ attributes: type, length, value …

// id is the identifier of a transaction: an answer has that of its question.
type id [12]byte

// cookie is in each message (section 5).
const cookie = 0x2112A442

// Types of messages (section 5) and of the attributes that are read (section 14).
const (
	bindingRequest   = 0x0001
	bindingSuccess   = 0x0101
	mappedAddress    = 0x0001 // of servers that know RFC 3489 alone
	xorMappedAddress = 0x0020
)

const headerSize = 20

// newID returns an identifier that nobody can guess.
func newID() (i id) {
	_, _ = rand.Read(i[:]) // it never fails
	return i
}

// message is a message without attributes.
func message(kind uint16, i id) []byte {
	m := binary.BigEndian.AppendUint16(make([]byte, 0, headerSize+24), kind)
	m = binary.BigEndian.AppendUint16(m, 0)
	m = binary.BigEndian.AppendUint32(m, cookie)
	return append(m, i[:]...)
}

// answer is the answer to a question: that it was seen to come from an address.
func answer(i id, seen netip.AddrPort) []byte {
	m := message(bindingSuccess, i)
	addr := seen.Addr().Unmap()
	value := []byte{0, family(addr)}
	value = binary.BigEndian.AppendUint16(value, seen.Port())
	value = append(value, addr.AsSlice()...)
	mask(value, i)
	m = binary.BigEndian.AppendUint16(m, xorMappedAddress)
	m = binary.BigEndian.AppendUint16(m, uint16(len(value)))
	m = append(m, value...)
	binary.BigEndian.PutUint16(m[2:], uint16(len(m)-headerSize))
	return m
}

// parse takes a message apart; false where it is none.
func parse(raw []byte) (kind uint16, i id, attributes []byte, ok bool) {
	if len(raw) < headerSize || raw[0]&0xC0 != 0 || binary.BigEndian.Uint32(raw[4:]) != cookie || int(binary.BigEndian.Uint16(raw[2:])) != len(raw)-headerSize {
		return 0, id{}, nil, false
	}
	copy(i[:], raw[8:])
	return binary.BigEndian.Uint16(raw), i, raw[headerSize:], true
}

// mapped reads the address out of the answer to a question; false for anything else.
func mapped(raw []byte, question id) (netip.Addr, bool) {
	kind, i, rest, ok := parse(raw)
	if !ok || kind != bindingSuccess || i != question {
		return netip.Addr{}, false
	}
	var plain netip.Addr
	for len(rest) >= 4 {
		what, size := binary.BigEndian.Uint16(rest), int(binary.BigEndian.Uint16(rest[2:]))
		padded := (size + 3) &^ 3
		if rest = rest[4:]; padded > len(rest) {
			return netip.Addr{}, false
		}
		value := append([]byte{}, rest[:size]...)
		switch rest = rest[padded:]; what {
		case xorMappedAddress:
			mask(value, i)
			return address(value)
		case mappedAddress:
			plain, _ = address(value)
		}
	}
	return plain, plain.IsValid()
}

// address reads the value of an attribute with an address (section 14.1). One that says nothing is none.
func address(value []byte) (netip.Addr, bool) {
	if len(value) < 4 {
		return netip.Addr{}, false
	}
	a, ok := netip.AddrFromSlice(value[4:])
	if !ok || family(a) != value[1] || a.Unmap().IsUnspecified() {
		return netip.Addr{}, false
	}
	return a.Unmap(), true
}

func family(a netip.Addr) byte {
	if a.Is4() {
		return 1
	}
	return 2
}

// mask puts the cookie and the identifier over the port and the address of a value, or takes them off (section 14.2): some routers rewrite each address
// that they see in a packet.
func mask(value []byte, i id) {
	key := append(binary.BigEndian.AppendUint32(nil, cookie), i[:]...)
	for k := range value[min(4, len(value)):] {
		if k < len(key) {
			value[4+k] ^= key[k]
		}
	}
	if len(value) >= 4 {
		value[2] ^= key[0]
		value[3] ^= key[1]
	}
}
