package flow_test

import (
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"ironbark/internal/estate"
	"ironbark/internal/flow"
	"ironbark/internal/oracle"
)

// TestAnEditedPlanIsTheOneThatIsCompiled draws worlds and edits of their sentences, and compiles what differs alone.
func TestAnEditedPlanIsTheOneThatIsCompiled(t *testing.T) {
	edited := 0
	files := func(w oracle.World) []estate.File {
		nouns, rules, _ := strings.Cut(w.Text, "---\n")
		return []estate.File{{Name: estate.FileName, Data: []byte(nouns)}, {Name: estate.RulesName, Data: []byte(rules)}}
	}
	rapid.Check(t, func(t *rapid.T) {
		first := oracle.Draw(t)
		second := first.Altered(t)
		e, d, ok := first.Estate.Edited(files(first), files(second))
		if !ok {
			return
		}
		edited++
		before, want := flow.Compile(first.Estate, first.Given), flow.Compile(second.Estate, first.Given)
		edit := before.Edited(e, d)
		require.Equal(t, want.Rows(), edit.Plan.Rows())
		assert.Equal(t, flow.SameTables(before, want), edit.Same)
		origins := func(list []flow.Rule) (out []flow.Origin) {
			for _, r := range list {
				out = append(out, r.Origin)
			}
			return out
		}
		assert.Equal(t, origins(want.Rules), origins(edit.Plan.Rules), "in the order of the files")
		assert.Equal(t, origins(want.Outward), origins(edit.Plan.Outward))
		assert.Len(t, before.Rules, len(want.Rules)-len(edit.In)+len(edit.Out))
		assert.Len(t, before.Outward, len(want.Outward)-len(edit.OutwardIn)+len(edit.OutwardOut))
		var about []int32
		for m := range before.Machines {
			for _, r := range append(edit.In, edit.Out...) {
				if r.To.Has(int32(m)) {
					about = append(about, int32(m))
					break
				}
			}
		}
		assert.Equal(t, about, edit.Machines)
		for _, r := range edit.In {
			for _, there := range before.Rules {
				assert.False(t, r.To != there.To && assert.ObjectsAreEqual(r.To, there.To), "rules with equal targets share their group")
			}
		}
	})
	assert.Greater(t, edited, 10)
}

const moored = `estate: moored
site: sim
people: {mara: {groups: [ops]}}
services: {feed: [tcp/7400, udp/7400]}
networks: {estuary: {space: [10.60.0.0/16, "2001:db8:60::/48"], outside: true, subnets: {landing: {range: [10.60.1.0/24, "2001:db8:60:1::/64"]}, lookout: {range: [10.60.9.0/27]}}}}
addresses: {jetty: ipv6}
machines: {web: {image: i, size: s, at: landing}}
fronts: {pier: {network: estuary, address: [jetty]}, quay: {network: estuary, address: auto}}
bastions: {beacon: {subnet: lookout, address: auto, from: [everywhere]}}
`

// TestWhatSentencesCompileTo compiles one sentence at a time, and tells what is in the plan of it.
func TestWhatSentencesCompileTo(t *testing.T) {
	for text, want := range map[string]string{
		"allow feed from 192.0.2.7 to web": "allow tcp/7400,udp/7400", "allow feed, https from 192.0.2.7 to web": "allow tcp/443,tcp/7400,udp/7400", "allow tcp/80 from 192.0.2.7 to web": "allow tcp/80",
		"allow any from 192.0.2.7 to tier=none": "", "allow any from 192.0.2.7 except 192.0.2.0/24 to web": "", "allow any except any from 192.0.2.7 to web": "!",
		"allow ssh from 192.0.2.7 to web standing until 2026-12-01T00:00:00Z because \"x\"": "standing tcp/22", "deny ping from 192.0.2.7 to web": "deny ping", "route ssh to web via beacon for ops": "route tcp/22", "route ssh to tier=none via beacon for ops": "",
		"forward pier tcp/8022 to web on ssh": "tcp/8022 on tcp/22", "forward pier tcp/8022 to tier=none on ssh": "", "spread quay https over web on feed from everywhere": "!", "spread quay https over tier=none on https from everywhere": "",
		"allow https from web to internet": "outward allow tcp/443", "deny https from web to 192.0.2.7": "outward deny tcp/443", "allow https from tier=none to internet": "", "allow https from web to internet except internet": "",
		"permit ops to open ssh to web from everywhere up to 1h": "", "never ssh from internet to all": "",
	} {
		e, err := estate.Read(estate.File{Name: estate.FileName, Data: []byte(moored)}, estate.File{Name: estate.RulesName, Data: []byte(text + "\n")})
		if want == "!" {
			require.Error(t, err, text)
			continue
		}
		require.NoError(t, err, text)
		inside := map[string][]netip.Addr{"landing": {netip.MustParseAddr("10.60.1.4"), netip.MustParseAddr("2001:db8:60:1::4")}}
		given := flow.Public{Addr6: netip.MustParseAddr("2001:db8:1::5")}
		p := flow.Compile(e, flow.Assigned{
			Machines: map[string]flow.MachineAddrs{"web": {Inside: inside}}, Fronts: map[string]flow.Public{"pier": given, "quay": {Addr4: netip.MustParseAddr("203.0.113.9")}},
			Bastions: map[string]flow.BastionAddrs{"beacon": {Inside: []netip.Addr{netip.MustParseAddr("10.60.9.4")}}},
		})
		var told []string
		for _, r := range p.Rules {
			told = append(told, r.Kind.String()+" "+strings.Join(flow.ServiceRuns(r.Services), ","))
		}
		for _, r := range p.Outward {
			told = append(told, "outward "+r.Kind.String()+" "+strings.Join(flow.ServiceRuns(r.Services), ","))
		}
		for _, d := range p.Doors {
			told = append(told, d.Service.String()+" on "+d.On.String())
		}
		assert.Equal(t, want, strings.Join(told, "; "), text)
		assert.Equal(t, flow.Public{Wants6: true, Addr6: given.Addr6}, p.Fronts[0].Public, "a reserved address is all that a front has")
		assert.Equal(t, flow.Public{Wants4: true, Wants6: true, Addr4: netip.MustParseAddr("203.0.113.9")}, p.Fronts[1].Public)
		assert.Equal(t, flow.Public{Wants4: true}, p.Gateways[0].Public)
	}
}
