package flow_test

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ironbark/internal/estate"
	"ironbark/internal/flow"
)

// TestDoors lists the doors to two machines, those by which they call outside, and those to the gateway.
func TestDoors(t *testing.T) {
	e, err := estate.Read(estate.File{Name: estate.FileName, Data: []byte(`estate: moored
site: sim
sources: {office: [203.0.113.64/27]}
networks:
  estuary: {space: [10.60.0.0/16, "2001:db8:60::/48"], outside: true, subnets: {landing: {range: [10.60.1.0/24, "2001:db8:60:1::/64"]}, lookout: {range: [10.60.9.0/27]}}}
  cellar: {space: [10.61.0.0/16, "fd00:61::/48"], joins: [estuary], subnets: {vault: {range: [10.61.1.0/24, "fd00:61:0:1::/64"]}}}
lines: {headland: {network: estuary, range: [172.20.0.0/24]}}
machines: {web: {image: i, size: s, at: landing, address: auto}, store: {image: i, size: s, at: vault}}
fronts: {pier: {network: estuary, address: auto}}
bastions: {beacon: {subnet: lookout, address: auto, from: [office]}}
`)}, estate.File{Name: estate.RulesName, Data: []byte("forward pier tcp/8022 to web on ssh\nspread pier https over web on tcp/8443 from office\n")})
	require.NoError(t, err)
	addr := netip.MustParseAddr
	p := flow.Compile(e, flow.Assigned{
		Machines: map[string]flow.MachineAddrs{
			"web":   {Inside: map[string][]netip.Addr{"landing": {addr("10.60.1.4"), addr("2001:db8:60:1::4")}}, Public: addr("203.0.113.9")},
			"store": {Inside: map[string][]netip.Addr{"vault": {addr("10.61.1.4"), addr("fd00:61:0:1::4")}}},
		},
		Fronts:   map[string]flow.Public{"pier": {Addr4: addr("203.0.113.10"), Addr6: addr("2001:db8:1::10")}},
		Bastions: map[string]flow.BastionAddrs{"beacon": {Inside: []netip.Addr{addr("10.60.9.4")}, Public: flow.Public{Addr4: addr("203.0.113.11")}}},
	})
	told := func(doors []flow.Door) string {
		var lines []string
		for _, d := range doors {
			line := fmt.Sprint(d.Kind, " ", d.Via, " ", d.Family, " ", d.Address, " ", strings.Join(flow.ServiceRuns(d.Arrives), ","), " from ", d.From.Contains(flow.PointOf(addr("192.0.2.1"))), " ",
				d.From.Contains(flow.PointOf(addr("2001:db8:2::1"))), " ", d.From.Contains(flow.PointOf(addr("10.60.1.9"))), " ", d.From.Contains(flow.PointOf(addr("172.20.0.9"))), " ", d.From.Contains(flow.PointOf(addr("203.0.113.70"))))
			lines = append(lines, strings.Replace(strings.Replace(line, "tcp/0-65535,udp/0-65535,ping,other", "any", 1), "  ", " ", 1))
		}
		return strings.Join(lines, "\n")
	}
	web, _ := p.MachineByName("web")
	store, _ := p.MachineByName("store")
	// from: the internet over IPv4, and over IPv6; the own network; the line; the office
	assert.Equal(t, `direct IPv4 203.0.113.9 any from true false true false true
direct IPv6 2001:db8:60:1::4 any from false true false false false
forward pier IPv4 203.0.113.10 tcp/22 from true false true false true
forward pier IPv6 2001:db8:1::10 tcp/22 from false true false false false
spread pier IPv4 203.0.113.10 tcp/8443 from true false true false true
spread pier IPv6 2001:db8:1::10 tcp/8443 from false true false false false
inside IPv4 10.60.1.4 any from false false true false false
inside IPv6 2001:db8:60:1::4 any from false false false false false
line headland IPv4 10.60.1.4 any from false false false true false`, told(p.DoorsTo(web)))
	assert.Equal(t, `inside IPv4 10.61.1.4 any from false false true false false
inside IPv6 fd00:61:0:1::4 any from false false false false false`, told(p.DoorsTo(store)), "of a joined network all is inside, and a private IPv6 address is reached from nowhere else")
	assert.Equal(t, `outward IPv4 10.60.1.4 any from true false false false true
outward IPv6 2001:db8:60:1::4 any from false true false false false`, told(p.Calls().DoorsTo(web)))
	assert.Empty(t, p.Calls().DoorsTo(store), "its network is not outside")
	assert.Equal(t, `bastion beacon IPv4 203.0.113.11 tcp/22 from false false false false true`, told(p.GatewayDoors()))
	same, err := flow.FromBinary(string(p.Binary()))
	require.NoError(t, err)
	rows, err := flow.FromRows(p.Rows())
	require.NoError(t, err)
	for _, again := range []*flow.Plan{same, rows} {
		assert.Equal(t, told(p.DoorsTo(web)), told(again.DoorsTo(web)), "as it was written")
		assert.True(t, flow.SameTables(p, again))
	}
}
