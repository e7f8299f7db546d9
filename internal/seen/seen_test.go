package seen

import (
	"context"
	"net"
	"net/netip"
	"testing"
	"time"

	"github.com/pion/stun/v3"
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
	tell := func(setters ...stun.Setter) []byte {
		m, err := stun.Build(setters...)
		require.NoError(t, err)
		return m.Raw
	}
	at := func(a string) stun.Setter { return &stun.XORMappedAddress{IP: net.ParseIP(a), Port: 7} }
	go func() {
		buf := make([]byte, 1500)
		n, from, err := c.ReadFrom(buf)
		question := &stun.Message{Raw: buf[:n]}
		if err != nil || question.Decode() != nil {
			return
		}
		for _, answer := range [][]byte{
			[]byte("no message of that kind"),
			tell(stun.TransactionID, stun.BindingSuccess, at("192.0.2.66")),
			tell(question, stun.BindingError, at("192.0.2.66")),
			tell(question, stun.BindingSuccess),
			tell(question, stun.BindingSuccess, at("0.0.0.0")),
			tell(question, stun.BindingSuccess, at("198.51.100.7")),
		} {
			_, _ = c.WriteTo(answer, from)
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

func FuzzMapped(f *testing.F) {
	id := [stun.TransactionIDSize]byte{1, 2, 3}
	m, err := stun.Build(stun.NewTransactionIDSetter(id), stun.BindingSuccess, &stun.XORMappedAddress{IP: net.ParseIP("198.51.100.7"), Port: 7})
	require.NoError(f, err)
	f.Add(m.Raw)
	f.Add(m.Raw[:21])
	f.Add([]byte{})
	f.Fuzz(func(t *testing.T, raw []byte) {
		a, ok := mapped(raw, id)
		if ok {
			assert.True(t, a.IsValid() && !a.IsUnspecified() && !a.Is4In6())
			other := id
			other[0]++
			_, taken := mapped(raw, other)
			assert.False(t, taken)
		}
	})
}
