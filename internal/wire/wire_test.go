package wire

import (
	"net/netip"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestKeys(t *testing.T) {
	// RFC 7748, section 6.1.
	private := Key{0x77, 0x07, 0x6d, 0x0a, 0x73, 0x18, 0xa5, 0x7d, 0x3c, 0x16, 0xc1, 0x72, 0x51, 0xb2, 0x66, 0x45, 0xdf, 0x4c, 0x2f, 0x87, 0xeb, 0xc0, 0x99, 0x2a, 0xb1, 0x77, 0xfb, 0xa5, 0x1d, 0xb9, 0x2c, 0x2a}
	assert.Equal(t, "hSDwCYkwp1R0i33ctD73Wg2/Og0mOBr066SpjqqbTmo=", private.Public().String())
	again, err := ParseKey(private.String())
	require.NoError(t, err)
	assert.Equal(t, private, again)
	for _, bad := range []string{"", "x", "hSDwCYkwp1R0i33ctD73Wg2/Og0mOBr066SpjqqbTm==", private.String() + "AAAA"} {
		_, err := ParseKey(bad)
		require.Error(t, err, bad)
	}
}

func TestConfig(t *testing.T) {
	c := Config{
		About: "gauge, a peer of headland", Private: "KEY", Addrs: []netip.Addr{netip.MustParseAddr("172.20.0.2"), netip.MustParseAddr("2001:db8:77::2")},
		Endpoint: "192.0.2.20:51820", Allowed: []netip.Prefix{netip.MustParsePrefix("10.60.0.0/16")},
	}
	assert.Equal(t, `# gauge, a peer of headland
[Interface]
PrivateKey = KEY
Address = 172.20.0.2/32, 2001:db8:77::2/128

[Peer]
PublicKey = AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA=
Endpoint = 192.0.2.20:51820
AllowedIPs = 10.60.0.0/16
PersistentKeepalive = 25
`, c.String())
	drawn, err := QR(c.String())
	require.NoError(t, err)
	assert.Greater(t, len(drawn), 1000)
}

// TestState reads what a device tells, and what its process keeps of it.
func TestState(t *testing.T) {
	s := stateOf("private_key=00\nlisten_port=51820\npublic_key=8520f0098930a754748b7ddcb43ef75a0dbf3a0d26381af4eba4a98eaa9b4e6a\nendpoint=192.0.2.9:40000\nlast_handshake_time_sec=1790000000\nlast_handshake_time_nsec=5\ntx_bytes=7\nrx_bytes=9\n")
	assert.Equal(t, State{"hSDwCYkwp1R0i33ctD73Wg2/Og0mOBr066SpjqqbTmo=": {Handshake: time.Unix(1790000000, 5).UTC(), From: netip.MustParseAddrPort("192.0.2.9:40000"), Received: 9, Sent: 7}}, s)
	path := filepath.Join(t.TempDir(), "status")
	assert.Empty(t, ReadState(path))
	require.NoError(t, os.WriteFile(path, []byte(`{"a":{"received":1,"sent":2}}{"old`), 0o600))
	assert.Equal(t, State{"a": {Received: 1, Sent: 2}}, ReadState(path))
}
