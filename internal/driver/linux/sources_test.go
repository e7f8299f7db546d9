package linux

import (
	"net/netip"
	"testing"
	"time"

	"github.com/google/nftables"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ironbark/internal/driver"
	"ironbark/internal/flow"
)

// TestFromWhereSentencesAreUsed sends packets from many addresses outside, and holds what is noted to them: by sentence, over a new table, and no
// more once they are too many, which takes nothing from other sentences.
func TestFromWhereSentencesAreUsed(t *testing.T) {
	s := siteOf(t)
	feed, web, ping, late := "allow udp/4000 from everywhere to gauge-1", "allow https from everywhere to gauge-1", "allow ping from 192.0.2.0/24 to gauge-1", "allow udp/4001 from everywhere to gauge-1 until 2100-01-01T00:00:00Z"
	door, dns := "forward pier udp/53 to gauge-1 on udp/4002 from everywhere", "allow udp/4003 from 192.0.2.0/24 to gauge-1"
	installRules(t, s, feed, web, ping, late, door, dns)
	// What comes from the probe's namespace is nobody's use, until it seems to come by the uplink.
	at, pier := netip.MustParseAddr("203.0.113.10"), netip.MustParseAddr("203.0.113.11")
	sendTo := func(to netip.Addr, service flow.Service, from ...string) {
		require.NoError(t, within(s.prefix+".probe", func() error {
			for _, a := range from {
				if _, err := send(t.Context(), driver.Packet{Source: netip.MustParseAddr(a), Target: to, Service: service}, time.Millisecond); err != nil {
					return err
				}
			}
			return nil
		}))
	}
	count := func() (out map[string]driver.Count, noted time.Time) {
		counts, err := s.Counts(t.Context())
		require.NoError(t, err)
		out = map[string]driver.Count{}
		for _, c := range counts.List {
			out[c.Sentence] = c
		}
		return out, counts.Noted
	}
	sendTo(at, flow.TCPPort(443), "198.51.100.7")
	var got map[string]driver.Count
	var since time.Time
	require.Eventually(t, func() bool { // the packet is on its way
		got, since = count()
		return got[web].Packets > 0
	}, 10*time.Second, 50*time.Millisecond)
	assert.True(t, got[web].From.IsEmpty())
	assert.WithinDuration(t, time.Now(), since, time.Minute)
	require.NoError(t, within(s.prefix, func() error { return inGroup("probe", groupUplink) }))

	sendTo(at, flow.TCPPort(443), "198.51.100.8", "192.0.2.9", "198.51.100.8")
	sendTo(at, flow.TCPPort(80), "198.51.100.66") // which nothing lets pass
	sendTo(at, flow.Ping, "192.0.2.1", "192.0.2.2")
	sendTo(at, flow.UDPPort(4001), "198.51.100.10")
	sendTo(at, flow.UDPPort(4003), "192.0.2.3", "198.51.100.66")
	sendTo(pier, flow.UDPPort(53), "198.51.100.11")
	want := map[string][]string{
		web: {"192.0.2.9", "198.51.100.8"}, ping: {"192.0.2.1-192.0.2.2"}, late: {"198.51.100.10"}, dns: {"192.0.2.3"}, door: {"198.51.100.11"},
	}
	same := func(want map[string][]string) {
		t.Helper()
		got, noted := count()
		assert.Equal(t, since, noted, "nothing was missed")
		for _, sentence := range []string{web, feed, ping, late, door, dns} {
			assert.ElementsMatch(t, want[sentence], flow.AddrRuns(got[sentence].From), sentence)
		}
	}
	same(want)

	// Somebody comes from ever more addresses.
	var crowd []string
	for i := range mostSources + 50 {
		crowd = append(crowd, netip.AddrFrom4([4]byte{203, 0, byte(i >> 8), byte(i)}).String())
	}
	sendTo(at, flow.UDPPort(4000), crowd[:5]...)
	want[feed] = []string{"203.0.0.0-203.0.0.4"}
	same(want)
	sendTo(at, flow.UDPPort(4000), crowd...)
	delete(want, feed)
	same(want)
	got, _ = count()
	assert.True(t, got[feed].Many)
	assert.False(t, got[web].Many)
	assert.Greater(t, got[feed].Packets, uint64(mostSources))

	installRules(t, s, feed, web, dns) // what was noted under the table before it is kept
	sendTo(at, flow.TCPPort(443), "198.51.100.12")
	want[web] = append(want[web], "198.51.100.12")
	same(want)
	got, _ = count()
	assert.True(t, got[feed].Many)

	// Who writes to the packet filter may have taken something out.
	require.NoError(t, within(s.prefix, func() error {
		c, done, err := s.conn()
		if err == nil {
			c.AddTable(&nftables.Table{Name: "hand", Family: nftables.TableFamilyINet})
			err = c.Flush()
			done()
		}
		return err
	}))
	_, noted := count()
	assert.True(t, noted.After(since))
}
