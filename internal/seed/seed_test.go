package seed

import (
	"bytes"
	"crypto/ed25519"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestASeedIsReadAsItWasWritten(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		word := rapid.StringMatching(`[a-z][a-z0-9-]{0,20}`)
		s := Seed{
			Instance: word.Draw(t, "instance"), Host: word.Draw(t, "host"), User: "keeper", Keys: rapid.SliceOfN(rapid.String(), 1, 3).Draw(t, "keys"),
			Hash: rapid.String().Draw(t, "hash"), Passwords: rapid.Bool().Draw(t, "passwords"), MAC: "52:54:00:00:00:01",
			HostKey:   ed25519.NewKeyFromSeed(rapid.SliceOfN(rapid.Byte(), 32, 32).Draw(t, "key")),
			Addresses: []netip.Prefix{netip.MustParsePrefix("10.60.1.4/24"), netip.MustParsePrefix("2001:db8:60:1::4/128")},
			Gateways:  []netip.Addr{netip.MustParseAddr("10.60.1.1"), netip.MustParseAddr("fe80::1")},
			DNS:       []netip.Addr{netip.MustParseAddr("192.0.2.53")},
			Setup:     []Part{{"gauge.sh", rapid.String().Draw(t, "script")}}, Listens: []string{"tcp/7400-7401"}, Entropy: []byte{1, 2}, Now: time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC),
		}
		disk, err := s.Disk()
		require.NoError(t, err)
		require.Len(t, disk, Size)
		back, err := Read(bytes.NewReader(disk))
		require.NoError(t, err)
		valid := func(list []string) []string { // JSON holds no bytes that are no text
			for i := range list {
				list[i] = strings.ToValidUTF8(list[i], "�")
			}
			return list
		}
		require.Equal(t, valid(s.Keys), back.Keys)
		s.Keys, back.Keys = nil, nil
		require.Equal(t, s, back)
	})
}

func TestABlankDiskIsBlank(t *testing.T) {
	_, err := Read(bytes.NewReader(make([]byte, Size)))
	require.ErrorIs(t, err, ErrBlank)
	_, err = Seed{Host: "gauge-1", Setup: []Part{{"long.sh", strings.Repeat("echo tide\n", Size)}}}.Disk()
	require.ErrorContains(t, err, "a shorter setup")
}

func FuzzRead(f *testing.F) {
	disk, err := Seed{Instance: "i", Host: "gauge-1", User: "keeper"}.Disk()
	require.NoError(f, err)
	f.Add(16*2048+80, []byte{0xff, 0xff}, []byte(`{"up":true}`+"\n"))
	f.Fuzz(func(t *testing.T, at int, with, told []byte) {
		ReadReports(told)
		b := bytes.Clone(disk)
		if at >= 0 && at < len(b) {
			copy(b[at:], with)
		}
		_, _ = Read(bytes.NewReader(b)) // whatever it comes to, it ends
	})
}
