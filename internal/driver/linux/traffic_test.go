package linux

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ironbark/internal/driver"
	"ironbark/internal/flow"
)

func TestPartsHoldAsManyAsTheLimit(t *testing.T) {
	for _, limit := range []int{1, 16, 256, 257, 5000, 16384, 1 << 20} {
		count, each := parts(limit)
		assert.GreaterOrEqual(t, count*each, limit)
		assert.LessOrEqual(t, count*each, 2*limit+2*count)
		assert.True(t, count&(count-1) == 0 && (limit > leastParted || count*each == limit))
	}
}

// TestOneMachineDoesNotFillTheTable floods a machine with the beginnings of connections, all of them let pass: those that the kernel tracks
// stay within its limit, others are reached meanwhile, and a stop frees them.
func TestOneMachineDoesNotFillTheTable(t *testing.T) {
	s := siteOf(t)
	limited := strings.Replace(endsNouns, "at: landing, address: auto}", "at: landing, address: auto, limits: {connections: 200, new: 1000000}}", 1)
	limited = strings.Replace(limited, "gauge-2: {image: light, size: c1m1", "gauge-2: {image: light, size: c1m256", 1) + "limits: {sizes: {c1m256: {connections: 4000, new: 1000000}}}\n"
	estateOf(t, s, limited, "allow udp/7000, http from everywhere to all")
	client, at, other := netip.MustParseAddr("2001:db8:ca11::7"), netip.MustParseAddr("2001:db8:60:1::2"), netip.MustParseAddr("2001:db8:60:1::3")
	flood := func(to netip.Addr, n int) {
		for i := range n {
			inject(t, s.prefix+".probe", udpPacket(netip.AddrPortFrom(client, uint16(1024+i)), netip.AddrPortFrom(to, 7000), []byte("tide")))
		}
	}
	flood(at, 1000)
	assert.Len(t, tracked(t, s, at), 200)
	got, err := gets(t.Context(), s.prefix+".probe", driver.Packet{Source: client, Target: other, Service: 80}, true)
	require.NoError(t, err)
	assert.True(t, got, "another machine")
	got, err = gets(t.Context(), s.prefix+".probe", driver.Packet{Source: client, Target: at, Service: 80}, false)
	require.NoError(t, err)
	assert.False(t, got, "the machine that is full")
	began := time.Now()
	flood(other, 12000)
	n := len(tracked(t, s, other))
	expired := time.Since(began) > 25*time.Second // on a slow machine the first ones are gone by now
	assert.True(t, (4000 <= n || expired) && n <= 8200, "%d connections of 4,000", n)
	for i := range 3 { // tables that are installed anew begin to count at nothing
		estateOf(t, s, limited, fmt.Sprintf("allow udp/7000, http, tcp/%d from everywhere to all", 9000+i))
		assert.LessOrEqual(t, len(tracked(t, s, at)), 200)
		client = client.Next()
		flood(at, 300)
		assert.LessOrEqual(t, len(tracked(t, s, at)), 400)
	}
	_, _, err = s.Power(t.Context(), "gauge-1", driver.Power{Do: driver.Stop})
	require.NoError(t, err)
	assert.Empty(t, tracked(t, s, at), "a stop frees what it holds")
	_, _, err = s.Power(t.Context(), "gauge-1", driver.Power{Do: driver.Start})
	require.NoError(t, err)
	got, err = gets(t.Context(), s.prefix+".probe", driver.Packet{Source: client, Target: at, Service: 80}, true)
	require.NoError(t, err)
	assert.True(t, got)
	estateOf(t, s, limited, "deny any from everywhere to all")
	assert.Empty(t, tracked(t, s, other), "a deny frees what it holds")
}

// TestRatesHold sends more to a machine than it may get a second, and has it begin more than it may.
func TestRatesHold(t *testing.T) {
	s := siteOf(t)
	nouns := strings.Replace(endsNouns, "at: landing, address: auto}", "at: landing, address: auto, limits: {new: 50, packets: 300, bytes: 20000}}", 1)
	estateOf(t, s, nouns, "allow udp/7000 from everywhere to all")
	client, at := netip.MustParseAddr("2001:db8:ca11::7"), netip.MustParseAddr("2001:db8:60:1::2")
	began := time.Now()
	for i := range 200 {
		inject(t, s.prefix+".probe", udpPacket(netip.AddrPortFrom(client, uint16(1024+i)), netip.AddrPortFrom(at, 7000), []byte("tide")))
	}
	n := len(tracked(t, s, at))
	most := 70 + int(50*time.Since(began).Seconds()) // as many at once as a second takes, and what comes meanwhile
	assert.True(t, 50 <= n && n <= most, "%d connections began of 50 a second", n)
	k := begin(t, s, "gauge-1", client.Next(), at, at, flow.UDPPort(7000), false)
	time.Sleep(2 * time.Second)
	before := k.toMachine.Load()
	began = time.Now()
	for time.Since(began) < 2*time.Second {
		for range 50 {
			inject(t, s.prefix+".probe", udpPacket(netip.AddrPortFrom(client, 1024), netip.AddrPortFrom(at, 7000), make([]byte, 10)))
		}
	}
	heard := k.toMachine.Load() - before
	assert.Less(t, heard, int64(1200*time.Since(began).Seconds()/2), "of 300 packets a second, both ways")
}
