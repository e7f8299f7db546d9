package clientnet

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gvisor.dev/gvisor/pkg/tcpip"
	"gvisor.dev/gvisor/pkg/tcpip/header"
)

// echo is an echo request from 198.51.100.7 to 203.0.113.10, without checksums.
var echo = []byte{
	0x45, 0, 0, 28, 0, 1, 0, 0, 64, 1, 0, 0, 198, 51, 100, 7, 203, 0, 113, 10,
	8, 0, 0, 0, 0, 1, 0, 1,
}

func TestWhatAPacketIsIsRead(t *testing.T) {
	from, to, kind, payload, ok := parse(header.IPv4ProtocolNumber, echo)
	require.True(t, ok)
	assert.Equal(t, netip.MustParseAddr("198.51.100.7"), from)
	assert.Equal(t, netip.MustParseAddr("203.0.113.10"), to)
	assert.True(t, isEcho(kind, payload))
	for what, alter := range map[string]func([]byte){
		"an answer": func(b []byte) { b[20] = 0 }, "UDP": func(b []byte) { b[9] = 17 }, "a longer one than came": func(b []byte) { b[3] = 200 }, "a head that is too short": func(b []byte) { b[0] = 0x41 },
	} {
		b := append([]byte{}, echo...)
		alter(b)
		_, _, kind, payload, ok := parse(header.IPv4ProtocolNumber, b)
		assert.False(t, ok && isEcho(kind, payload), what)
	}
	_, _, _, _, ok = parse(header.IPv6ProtocolNumber, echo)
	assert.False(t, ok)
}

// FuzzPacket hands in packets that are none.
func FuzzPacket(f *testing.F) {
	f.Add(true, echo)
	f.Add(false, append([]byte{0x60, 0, 0, 0, 0, 8, 58, 64}, make([]byte, 40)...))
	f.Fuzz(func(t *testing.T, v4 bool, b []byte) {
		protocol := tcpip.NetworkProtocolNumber(header.IPv6ProtocolNumber)
		if v4 {
			protocol = header.IPv4ProtocolNumber
		}
		from, to, kind, payload, ok := parse(protocol, b)
		if ok {
			assert.Equal(t, v4, from.Is4())
			assert.Equal(t, v4, to.Is4())
			assert.LessOrEqual(t, len(payload), len(b))
			isEcho(kind, payload)
		}
	})
}
