package linux

import (
	"net/netip"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ironbark/internal/driver"
	"ironbark/internal/flow"
)

// TestWhatElseDecidesIsSeenAndPutRight alters each kind of thing that decides about packets, as somebody with the host's own tools would.
// It is named, and an enactment puts it right.
func TestWhatElseDecidesIsSeenAndPutRight(t *testing.T) {
	s := siteOf(t)
	e := estateOf(t, s, endsNouns, "allow http from everywhere to gauge-1")
	network := func() (list []string) {
		o, err := s.Observe(t.Context(), driver.Everything)
		require.NoError(t, err)
		for _, a := range o.Network {
			list = append(list, a.What)
		}
		return list
	}
	require.Empty(t, network())
	for what, one := range map[string]struct{ do, says string }{
		"a table that drops":      {"nft add table ip other; nft add chain ip other c '{ type filter hook forward priority -300; policy drop; }'", "table ip other in the site's namespace is not Ironbark's"},
		"a table that rewrites":   {"nft add table inet nat; nft add chain inet nat c '{ type nat hook prerouting priority -150; }'; nft add rule inet nat c tcp dport 80 redirect to 81", "table inet nat in the site's namespace is not Ironbark's"},
		"its table":               {"nft delete table inet ironbark", "table inet ironbark is gone: nothing passes"},
		"its guard":               {"nft delete table inet ironbark-guard", "table inet ironbark-guard is gone: nothing passes"},
		"all tables":              {"nft flush ruleset", "table inet ironbark is gone: nothing passes"},
		"the route to a machine":  {"ip route del 10.60.1.2", "no route leads to gauge-1 at 10.60.1.2"},
		"a route of another's":    {"ip route add 198.51.100.0/24 dev lo", "the route to 198.51.100.0/24 is not Ironbark's"},
		"a route that takes it":   {"ip route replace blackhole 10.60.1.2/32", "no route leads to gauge-1 at 10.60.1.2"},
		"a routing rule":          {"ip rule add from 198.51.100.7 blackhole priority 5", "routing rule 5 is not Ironbark's"},
		"its routing rule":        {"ip rule del priority 20", "routing rule 20 is gone"},
		"a link that is down":     {"ip link set $(ip -o link show machine.gauge-1 | sed 's/[^ ]* \\([^@]*\\).*/\\1/') down", "link machine.gauge-1 is down"},
		"a link of another's":     {"ip link add other type veth peer name others", "link other in the site's namespace is not Ironbark's"},
		"an address of another's": {"ip addr add 10.60.1.2/32 dev $(ip -o link show machine.gauge-1 | sed 's/[^ ]* \\([^@]*\\).*/\\1/')", "the router's address 10.60.1.2 is not Ironbark's"},
		"an address of its own":   {"ip -6 addr del fe80::1/64 dev $(ip -o link show machine.gauge-1 | sed 's/[^ ]* \\([^@]*\\).*/\\1/')", "the router lacks its address fe80::1 on machine.gauge-1"},
		"a fixed neighbour":       {"ip neigh replace 10.60.1.2 lladdr 02:00:00:00:00:09 nud permanent dev $(ip -o link show machine.gauge-1 | sed 's/[^ ]* \\([^@]*\\).*/\\1/')", "the fixed neighbour 10.60.1.2 is not Ironbark's"},
		"a kernel setting":        {"sysctl -w net.ipv4.ip_forward=0", "kernel setting net.ipv4.ip_forward is 0, not 1"},
		"an address of a machine": {"nsenter --net=/run/netns/" + s.prefix + "-gauge-1 ip addr del 10.60.1.2/32 dev eth0", "gauge-1 lacks its address 10.60.1.2"},
		"a default route":         {"nsenter --net=/run/netns/" + s.prefix + "-gauge-1 ip route flush table main", "gauge-1 has no default route"},
		"a machine's link":        {"nsenter --net=/run/netns/" + s.prefix + "-gauge-1 ip link del eth0", "the link to gauge-1 is gone"},
	} {
		t.Run(what, func(t *testing.T) {
			out, err := exec.Command("nsenter", "--net=/run/netns/"+s.prefix, "sh", "-ec", one.do).CombinedOutput()
			require.NoError(t, err, string(out))
			assert.Contains(t, strings.Join(network(), "\n"), one.says)
			o, err := s.Observe(t.Context(), driver.Scope{Plan: true})
			require.NoError(t, err)
			assert.Equal(t, strings.HasPrefix(one.says, "table"), len(o.Network) > 0, "a question about flows carries a caution")
			installAgain(t, s, e)
			assert.Empty(t, network())
			got, err := gets(t.Context(), s.prefix+".probe", driver.Packet{Source: netip.MustParseAddr("198.51.100.7"), Target: netip.MustParseAddr("203.0.113.10"), Service: 80}, true)
			require.NoError(t, err)
			assert.True(t, got)
		})
	}
}

// TestAStartPutsALinkBack takes away the link of a machine, which its start makes again.
func TestAStartPutsALinkBack(t *testing.T) {
	s := siteOf(t)
	estateOf(t, s, endsNouns, "allow http from everywhere to gauge-1")
	for _, act := range []driver.PowerVerb{driver.Restart, driver.Start} {
		if act == driver.Start {
			_, _, err := s.Power(t.Context(), "gauge-1", driver.Power{Do: driver.Stop})
			require.NoError(t, err)
		}
		out, err := exec.Command("nsenter", "--net=/run/netns/"+s.prefix+"-gauge-1", "ip", "link", "del", "eth0").CombinedOutput()
		require.NoError(t, err, string(out))
		_, _, err = s.Power(t.Context(), "gauge-1", driver.Power{Do: act})
		require.NoError(t, err)
		got, err := gets(t.Context(), s.prefix+".probe", driver.Packet{Source: netip.MustParseAddr("198.51.100.7"), Target: netip.MustParseAddr("203.0.113.10"), Service: 80}, true)
		require.NoError(t, err)
		assert.True(t, got, act)
	}
}

// TestTheHostsToolPrintsTheTables has nft(8) print tables with something in each set, as text and as JSON.
func TestTheHostsToolPrintsTheTables(t *testing.T) {
	s := siteOf(t)
	nouns := strings.Replace(endsNouns, "address: auto}", "address: auto, limits: {connections: 5000, new: 10, packets: 100, bytes: 10000}}", 1) + "fronts: {pier: {network: estuary, address: auto}}\n"
	estateOf(t, s, nouns, `allow any from everywhere to gauge-1
deny ping, tcp/1-100 from 198.51.100.0/24 to all
deny any from 192.0.2.0/24 to all until 2100-01-01T00:00:00Z
allow udp/53, ping from 203.0.113.64/27 to gauge-2 until 2100-01-01T00:00:00Z
spread pier http over all on http from everywhere
allow https from gauge-1 to internet until 2100-01-01T00:00:00Z`)
	require.NoError(t, s.Pass(t.Context(), driver.Passage{ID: 1, Begin: s.clock.Now(), Sentence: "open", Parts: []driver.Part{{
		Machines: []string{"gauge-1"}, Services: flow.AnyService, From: flow.AddrsAt(netip.MustParseAddr("198.51.100.7")), End: s.clock.Now().Add(time.Hour),
	}}}))
	for _, args := range [][]string{{"list", "ruleset"}, {"-j", "list", "ruleset"}} {
		out, err := exec.Command("nsenter", append([]string{"--net=/run/netns/" + s.prefix, "nft"}, args...)...).Output()
		require.NoError(t, err, args)
		for _, word := range []string{"judge", "limits-1", "ended4", "ironbark-guard", "10.60.1.2"} {
			assert.Contains(t, string(out), word)
		}
	}
}
