package flow_test

import (
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ironbark/internal/estate"
	"ironbark/internal/flow"
	"ironbark/internal/sentence"
)

func parsed(t *testing.T, text string) flow.Services {
	t.Helper()
	s, err := flow.ParseServiceRuns(strings.Fields(text))
	require.NoError(t, err)
	return s
}

func TestServicesInWords(t *testing.T) {
	e := &estate.Estate{}
	namings := flow.Namings(nil, e)
	for text, want := range map[string]string{
		"tcp/22": "ssh", "tcp/22-23": "ssh, telnet", "tcp/22-24": "tcp/22-24", "tcp/0": "tcp/0", "tcp/65535 udp/0": "tcp/65535, udp/0", "ping other": "ping, other",
		"udp/65535 ping": "udp/65535, ping", "tcp/80 tcp/443": "http, https", "tcp/0-65535 udp/0-65535 ping other": "any",
		"tcp/0-79 tcp/81-65535 udp/0-65535 ping other": "any except http", "tcp/0-65535 udp/0-65535 ping": "tcp/0-65535, udp/0-65535, ping", "tcp/53 udp/53": "dns", "tcp/53": "tcp/53",
		"tcp/442-444": "tcp/442-444", "tcp/443 tcp/447": "https, tcp/447",
	} {
		assert.Equal(t, want, flow.PrintServices(parsed(t, text), namings), text)
	}
	assert.Equal(t, "ssh", flow.PrintServices(parsed(t, "tcp/22"), flow.Particular(namings)))
	all := flow.ServicesOf(e, sentence.Services{List: e.Administrative()})
	assert.Equal(t, "admin", flow.PrintServices(all, namings))
	assert.NotContains(t, flow.PrintServices(all, flow.Particular(namings)), "admin")
	for service, want := range map[flow.Service]string{
		flow.TCPPort(22): "ssh", flow.TCPPort(53): "dns", flow.UDPPort(53): "dns", flow.TCPPort(4): "tcp/4", flow.UDPPort(65535): "udp/65535", flow.TCPPort(65535): "tcp/65535", flow.UDPPort(0): "udp/0",
		flow.Ping: "ping", flow.Other: "other", flow.UDPPort(22): "udp/22",
	} {
		assert.Equal(t, want, flow.NameService(service, flow.Particular(namings)), want)
	}
	assert.Equal(t, []uint16{22, 53, 0, 0}, []uint16{flow.TCPPort(22).Port(), flow.UDPPort(53).Port(), flow.Ping.Port(), flow.Other.Port()})
	assert.Equal(t, []string{"tcp/1-2", "udp/3", "ping"}, flow.ServiceRuns(parsed(t, "tcp/1-2 udp/3 ping")))
}

const quayside = `estate: moored
site: sim
people: {mara: {groups: [ops]}}
networks:
  estuary: {space: [10.60.0.0/16], outside: true, subnets: {landing: {range: [10.60.1.0/24]}, lookout: {range: [10.60.9.0/27]}}}
machines: {web: {image: i, size: s, at: landing, address: 203.0.113.9}, store: {image: i, size: s, at: landing}}
bastions: {beacon: {subnet: lookout, address: auto, from: [198.51.100.0/24]}}
`

func moor(t *testing.T, rules string, given flow.Assigned) (*estate.Estate, *flow.Plan) {
	t.Helper()
	e, err := estate.Read(estate.File{Name: estate.FileName, Data: []byte(quayside)}, estate.File{Name: estate.RulesName, Data: []byte(rules)})
	require.NoError(t, err)
	addr := netip.MustParseAddr
	if given.Machines == nil {
		given.Machines = map[string]flow.MachineAddrs{"web": {Inside: map[string][]netip.Addr{"landing": {addr("10.60.1.4")}}}, "store": {Inside: map[string][]netip.Addr{"landing": {addr("10.60.1.5")}}}}
	}
	given.Bastions = map[string]flow.BastionAddrs{"beacon": {Inside: []netip.Addr{addr("10.60.9.4")}, Public: flow.Public{Addr4: addr("203.0.113.11"), Wants4: true}}}
	return e, flow.Compile(e, given)
}

func TestOpeningsStandBesideAPlan(t *testing.T) {
	e, p := moor(t, "allow https from 192.0.2.0/24 to web\nallow https from 192.0.2.0/24 to store\n", flow.Assigned{})
	out := flow.NewResolver(e, p).Source(sentence.Of(sentence.NameAtom("beacon")))
	assert.Equal(t, "10.60.9.4", strings.Join(flow.AddrRuns(out), ","), "what comes out of a bastion has its inside address")
	assert.Equal(t, "203.0.113.9", p.Machines[1].Public.Addr4.String(), "an address that is asked for is had before the site gave it")
	assert.Same(t, p, p.With())
	assert.Same(t, p, p.WithoutOpenings(func(int64) bool { return true }), "there are none")
	one, two := flow.Rule{Kind: flow.Opening, Opening: 1, To: p.Rules[0].To}, flow.Rule{Kind: flow.Opening, Opening: 2, To: p.Rules[0].To}
	q := p.With(one, two)
	assert.Len(t, q.Rules, 4)
	assert.Len(t, p.Rules, 2, "the plan itself stays")
	left := q.WithoutOpenings(func(id int64) bool { return id == 1 })
	require.Len(t, left.Rules, 3)
	assert.Equal(t, int64(2), left.Rules[2].Opening)
	assert.Same(t, q, q.WithoutOpenings(func(id int64) bool { return id == 7 }))
	for kind, name := range map[flow.RuleKind]string{flow.Deny: "deny", flow.Opening: "opening", flow.Route: "route", flow.Standing: "standing", flow.Allow: "allow", 0: "invalid", 9: "invalid"} {
		assert.Equal(t, name, kind.String())
	}
	for kind, name := range map[flow.DoorKind]string{flow.DoorDirect: "direct", flow.DoorBastion: "bastion", flow.DoorOutward: "outward"} {
		assert.Equal(t, name, kind.String())
	}
}

func TestAGatewayIsAMachineBehindAFront(t *testing.T) {
	e, p := moor(t, "route ssh to store via beacon for ops\n", flow.Assigned{})
	q := p.WithGatewaysAsMachines()
	require.Len(t, q.Machines, 3)
	require.Len(t, q.Doors, 1)
	door := q.Doors[0]
	assert.Equal(t, "bastion beacon", door.Origin.Sentence)
	assert.True(t, door.Standing && door.Kind == flow.DoorForward && q.Machines[door.To.Machines[0]].Name == "beacon")
	assert.Empty(t, q.Gateways)
	assert.Same(t, q, q.WithGatewaysAsMachines())
	assert.Len(t, e.Bastions, 1)
	assert.True(t, flow.Origin{Sentence: flow.OpenNetwork("estuary")}.IsOpenNetwork())
	for _, o := range []flow.Origin{{Sentence: flow.OpenNetwork("estuary"), File: "estate.rules"}, {Sentence: "network estuary"}, {Sentence: "x" + flow.OpenNetwork("estuary")}, {}} {
		assert.False(t, o.IsOpenNetwork(), o)
	}
}

func TestRowsBesideAPlan(t *testing.T) {
	e, p := moor(t, "allow https from 192.0.2.0/24 to web\nallow https from 192.0.2.0/24 to all\nallow http from store to 198.51.100.0/24\n", flow.Assigned{})
	rows := p.Rows()
	same, err := p.WithRows(nil)
	require.NoError(t, err)
	assert.Same(t, p, same)
	var rule, guard flow.Row
	var groups []flow.Row
	for _, r := range rows {
		text, err := flow.RowSentence(r)
		require.NoError(t, err)
		switch kind, _, _ := strings.Cut(r.Key, " "); kind {
		case "rule", "group":
			if kind == "group" {
				groups = append(groups, r)
			}
			if text == "allow https from 192.0.2.0/24 to web" {
				rule = r
			}
		case "guard":
			guard = r
			assert.Empty(t, text)
		}
	}
	require.NotEmpty(t, rule.Key)
	q, err := p.WithRows(append(groups, flow.Row{Key: "rule 77", Body: rule.Body}))
	require.NoError(t, err)
	assert.Len(t, q.Rules, len(p.Rules)+1)
	assert.Len(t, q.Outward, len(p.Outward), "others stay as they are")
	for _, bad := range []flow.Row{guard, {Key: "rule 77", Body: "{"}, {Key: "group 5", Body: "x"}, {Key: "rule 78", Body: rule.Body}, {Key: "door 1", Body: rule.Body}} {
		_, err := p.WithRows([]flow.Row{bad})
		require.ErrorContains(t, err, "installed table row", bad.Key)
	}
	_, err = flow.RowSentence(flow.Row{Body: "{"})
	require.Error(t, err)
	for _, body := range []string{"", "x", `"sentence"`} {
		text, err := flow.RowSentence(flow.Row{Body: body})
		require.NoError(t, err)
		assert.Empty(t, text)
	}
	whole, err := flow.FromRows(rows)
	require.NoError(t, err)
	assert.Len(t, whole.Outward, 1)
	assert.Len(t, e.Sentences(), 3)
}

// TestWhatTwoPassingRulesShare looks at what stays open of two plans whose sentences overlap: of the lesser kind, from the later beginning, until the earlier end.
func TestWhatTwoPassingRulesShare(t *testing.T) {
	at := func(hour int) time.Time { return time.Date(2026, 11, 23, hour, 0, 0, 0, time.UTC) }
	_, base := moor(t, "", flow.Assigned{})
	group := func(machines ...int32) *flow.Group { return &flow.Group{Machines: machines} }
	net := func(text string) flow.Addrs { return flow.PrefixSet(netip.MustParsePrefix(text)) }
	a := base.With(flow.Rule{Kind: flow.Standing, From: net("192.0.2.0/24"), To: group(0, 1), Services: parsed(t, "tcp/22-443"), Begin: at(9), Until: at(12), Origin: flow.Origin{Sentence: "a"}})
	for kind, want := range map[flow.RuleKind]flow.RuleKind{flow.Standing: flow.Standing, flow.Allow: flow.Allow, flow.Route: flow.Standing} {
		b := base.With(flow.Rule{Kind: kind, From: net("192.0.2.128/25"), To: group(1), Services: parsed(t, "tcp/443-500"), Begin: at(10), Until: at(11), Origin: flow.Origin{Sentence: "b"}})
		for _, both := range []*flow.Plan{flow.Intersection(a, b), flow.Intersection(b, a)} {
			require.Len(t, both.Rules, 1, kind)
			r := both.Rules[0]
			assert.Equal(t, want, r.Kind)
			assert.Equal(t, []any{at(10), at(11), []int32{1}}, []any{r.Begin, r.Until, r.To.Machines})
			assert.True(t, r.From.Equal(net("192.0.2.128/25")) && r.Services.Equal(parsed(t, "tcp/443")))
		}
		apart := base.With(flow.Rule{Kind: kind, From: net("198.51.100.0/24"), To: group(1), Services: parsed(t, "tcp/443"), Origin: flow.Origin{Sentence: "c"}})
		assert.Empty(t, flow.Intersection(a, apart).Rules)
	}
}

func TestDoorsAndListsAreWhole(t *testing.T) {
	e, p := moor(t, "allow https, http from 192.0.2.0/24 to web\n", flow.Assigned{})
	assert.Equal(t, []string{"tcp/80", "tcp/443"}, flow.ServiceRuns(p.Rules[0].Services), "each name of a list counts")
	assert.Equal(t, flow.AllIPv4, flow.AllOf(sentence.IPv4))
	assert.Equal(t, flow.AllIPv6, flow.AllOf(sentence.IPv6))
	web, _ := p.MachineByName("web")
	for _, d := range p.DoorsTo(web) {
		assert.True(t, d.Called().Equal(flow.AnyService), "a door that translates nothing is called at every service")
	}
	gateways := p.GatewayDoors()
	require.Len(t, gateways, 1)
	assert.Equal(t, int32(-1), gateways[0].Machine, "a gateway is no machine")
	assert.Equal(t, []string{"tcp/22"}, flow.ServiceRuns(gateways[0].Called()))
	assert.Len(t, e.Bastions, 1)
	// Of a port that leads elsewhere on the other side nothing is left.
	store, _ := p.MachineByName("store")
	port := func(m int32) *flow.Plan {
		q := *p
		q.Doors = []flow.Published{{Kind: flow.DoorForward, Front: "pier", Service: flow.TCPPort(443), On: flow.TCPPort(443), To: &flow.Group{Machines: []int32{m}}, From: flow.AllIPv4}}
		return &q
	}
	assert.Empty(t, flow.Intersection(port(web), port(store)).Doors)
	assert.Len(t, flow.Intersection(port(web), port(web)).Doors, 1)
}
