package stun

import (
	"context"
	"encoding/binary"
	"encoding/hex"
	"net"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func listen(t *testing.T) net.PacketConn {
	c, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = c.Close() })
	return c
}

func TestAServerTellsWhatItSees(t *testing.T) {
	c := listen(t)
	ctx, stop := context.WithCancel(t.Context())
	done := make(chan error)
	go func() {
		done <- Serve(ctx, c, func(at netip.AddrPort) netip.AddrPort {
			return netip.AddrPortFrom(netip.MustParseAddr("198.51.100.7"), at.Port())
		})
	}()
	list, err := Addrs(t.Context(), c.LocalAddr().String())
	require.NoError(t, err)
	assert.Equal(t, []netip.Addr{netip.MustParseAddr("198.51.100.7")}, list)
	stop()
	require.NoError(t, <-done)
}

// TestOnlyTheAnswerIsTaken has a server answer as others would who do not know the question.
func TestOnlyTheAnswerIsTaken(t *testing.T) {
	c := listen(t)
	at := func(a string) netip.AddrPort { return netip.AddrPortFrom(netip.MustParseAddr(a), 7) }
	go func() {
		buf := make([]byte, 1500)
		n, from, err := c.ReadFrom(buf)
		kind, question, _, ok := parse(buf[:n])
		if err != nil || !ok || kind != bindingRequest {
			return
		}
		failed := answer(question, at("192.0.2.66"))
		binary.BigEndian.PutUint16(failed, 0x0111)
		for _, a := range [][]byte{
			[]byte("no message of that kind"),
			answer(newID(), at("192.0.2.66")),
			failed,
			message(bindingSuccess, question),
			answer(question, at("0.0.0.0")),
			answer(question, at("198.51.100.7")),
		} {
			_, _ = c.WriteTo(a, from)
		}
	}()
	list, err := Addrs(t.Context(), c.LocalAddr().String())
	require.NoError(t, err)
	assert.Equal(t, []netip.Addr{netip.MustParseAddr("198.51.100.7")}, list)
}

func TestASilentServerIsGivenUp(t *testing.T) {
	began := time.Now()
	_, err := Addrs(t.Context(), listen(t).LocalAddr().String())
	require.ErrorIs(t, err, errSilent)
	assert.Less(t, time.Since(began), 10*time.Second)
}

// TestTheSamplesOfTheStandard reads the answers of RFC 5769, sections 2.2 and 2.3, and one as servers of RFC 3489 give it.
func TestTheSamplesOfTheStandard(t *testing.T) {
	bytes := func(text string) []byte {
		b, err := hex.DecodeString(strings.Join(strings.Fields(text), ""))
		require.NoError(t, err)
		return b
	}
	question := id(bytes("b7e7a701 bc34d686 fa87dfae"))
	for want, raw := range map[string][]byte{
		"192.0.2.1": bytes(`0101003c 2112a442 b7e7a701 bc34d686 fa87dfae 8022000b 74657374 20766563 746f7220
			00200008 0001a147 e112a643 00080014 2b91f599 fd9e90c3 8c7489f9 2af9ba53 f06be7d7 80280004 c07d4c96`),
		"2001:db8:1234:5678:11:2233:4455:6677": bytes(`01010048 2112a442 b7e7a701 bc34d686 fa87dfae 8022000b 74657374 20766563 746f7220
			00200014 0002a147 0113a9fa a5d3f179 bc25f4b5 bed2b9d9 00080014 a382954e 4be67bf1 1784c97c 8292c275 bfe3ed41 80280004 c8fb0b4c`),
		"192.0.2.7": bytes("0101000c 2112a442 b7e7a701 bc34d686 fa87dfae 00010008 00018055 c0000207"),
	} {
		a, ok := mapped(raw, question)
		require.True(t, ok, want)
		assert.Equal(t, want, a.String())
		if raw[3] > 12 {
			again, ok := mapped(answer(question, netip.AddrPortFrom(a, 32853)), question)
			assert.True(t, ok && again == a)
			assert.Contains(t, string(raw), string(answer(question, netip.AddrPortFrom(a, 32853))[headerSize:]), "the attribute is as in the sample")
		}
	}
}

func FuzzMapped(f *testing.F) {
	question := id{1, 2, 3}
	m := answer(question, netip.MustParseAddrPort("198.51.100.7:7"))
	f.Add(m)
	f.Add(m[:21])
	f.Add(answer(question, netip.MustParseAddrPort("[2001:db8::7]:7")))
	f.Add([]byte{})
	f.Fuzz(func(t *testing.T, raw []byte) {
		a, ok := mapped(raw, question)
		if ok {
			assert.True(t, a.IsValid() && !a.IsUnspecified() && !a.Is4In6())
			other := question
			other[0]++
			_, taken := mapped(raw, other)
			assert.False(t, taken)
		}
	})
}
