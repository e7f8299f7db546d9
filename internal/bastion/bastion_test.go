package bastion_test

import (
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"ironbark/internal/bastion"
	"ironbark/internal/flow"
	"ironbark/internal/oracle"
)

// TestWhatIsForwardedIsWhatTheSentencesSay compares the decision about single requests, and the answer about
// sets of them, with the oracle.
func TestWhatIsForwardedIsWhatTheSentencesSay(t *testing.T) {
	asked, forwarded := 0, 0
	rapid.Check(t, func(t *rapid.T) {
		w := oracle.Draw(t)
		plan := w.Plan()
		policy, ok := bastion.Compile(w.Estate, plan, w.Name("beacon"))
		require.Equal(t, len(w.Estate.Bastions) > 0, ok)
		if !ok {
			return
		}
		addrs, services := w.Interesting()
		at := rapid.SampledFrom(oracle.Moments).Draw(t, "at")
		person := rapid.SampledFrom([]string{"mara", "mara", "mara", "nobody", "ops"}).Draw(t, "person")
		all := &flow.Group{}
		for i, m := range plan.Machines {
			if m.IsSiteHost() {
				host := &flow.Group{Machines: []int32{int32(i)}}
				require.False(t, slices.ContainsFunc(policy.Ask(person, flow.AnyService, host, flow.AllAddrs, at), func(p bastion.Part) bool { return p.Forward }), "a gateway leads to the site's host")
				continue
			}
			all.Machines = append(all.Machines, int32(i))
		}
		parts := policy.Ask(person, flow.AnyService, all, flow.AllAddrs, at)
		r := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 1))
		for range 60 {
			client, service := addrs[r.IntN(len(addrs))], services[r.IntN(len(services))]
			m := w.Estate.Machines[r.IntN(len(w.Estate.Machines))]
			// Half of them lie at the edges of what the answer tells apart, and most of those of what is forwarded.
			told := parts
			if through := slices.DeleteFunc(slices.Clone(parts), func(p bastion.Part) bool { return !p.Forward }); len(through) > 0 && r.IntN(4) > 0 {
				told = through
			}
			if p := told[r.IntN(len(told))]; r.IntN(2) == 0 {
				client, service = p.Client.Runs()[r.IntN(len(p.Client.Runs()))].Hi.Addr(), p.Services.Runs()[0].Lo
				m, _ = w.Estate.Machine(p.Machine)
			}
			want := service <= flow.TCPPort(65535) && w.Forwards(w.Name("beacon"), person, client, m, service, at)
			what := []any{"%s from %s at %s to %s at %s\n%s", service, person, client, m.Name, at, w.Text}
			if service <= flow.TCPPort(65535) {
				d := policy.Judge(bastion.Request{Person: person, Client: client, Host: m.Name, Port: service.Port()}, at)
				require.Equal(t, want, d.Forward, append([]any{what[0].(string) + "\n%+v"}, append(what[1:], d)...)...)
				for _, to := range d.To {
					one := policy.Judge(bastion.Request{Person: person, Client: client, Host: to.Addr().String(), Port: to.Port()}, at)
					require.True(t, one.Forward && one.Machine == m.Name, what...)
					open := w.Ask(d.From, to.Addr(), service, at)
					require.True(t, open[0].Open, what...)
				}
			}
			hits := 0
			for _, p := range parts {
				if p.Machine == m.Name && p.Services.Contains(service) && p.Client.Contains(flow.PointOf(client)) {
					hits++
					require.Equal(t, want, p.Forward, what...)
				}
			}
			require.Equal(t, 1, hits, what...)
			asked++
			if want {
				forwarded++
			}
		}
	})
	assert.Greater(t, forwarded*100, asked, "of %d requests %d are forwarded: too few to show anything", asked, forwarded)
}

// TestOnlyThoseWithARouteMayLogIn: nobody else's keys are handed to the process that faces the internet.
func TestOnlyThoseWithARouteMayLogIn(t *testing.T) {
	w := oracle.WorldOf(`estate: small
site: sim
people: {mara: {groups: [ops]}, ilse: {}}
networks: {estuary: {space: [10.60.0.0/16], outside: true, subnets: {landing: {range: [10.60.1.0/24]}, lookout: {range: [10.60.9.0/27]}}}}
machines: {web: {image: i, size: s, at: landing, address: auto}}
bastions: {beacon: {subnet: lookout, address: auto, from: [192.0.2.0/24]}}
`, "route ssh to web via beacon for ops")
	policy, ok := bastion.Compile(w.Estate, w.Plan(), w.Name("beacon"))
	require.True(t, ok)
	a := policy.Access()
	assert.Equal(t, []string{"192.0.2.0-192.0.2.255"}, a.From)
	require.Len(t, a.People, 1)
	assert.Equal(t, "mara", a.People[0].Name)

	ask := func(person, client, host string, port uint16) bastion.Reason {
		return policy.Judge(bastion.Request{Person: person, Client: netip.MustParseAddr(client), Host: host, Port: port}, oracle.Epoch).Reason
	}
	assert.Equal(t, bastion.ByRoute, ask("mara", "192.0.2.7", "WEB", 22))
	assert.Equal(t, bastion.ByRoute, ask("mara", "::ffff:192.0.2.7", "web", 22))
	assert.Equal(t, bastion.NoRoute, ask("ilse", "192.0.2.7", "web", 22))
	assert.Equal(t, bastion.NoRoute, ask("mara", "192.0.2.7", "web", 443))
	assert.Equal(t, bastion.NotFrom, ask("mara", "198.51.100.7", "web", 22))
	for _, host := range []string{"", "localhost", "127.0.0.1", "beacon", "10.60.9.4", "web.", "[::1]", "10.60.1.77", "203.0.113.10"} {
		assert.Equal(t, bastion.NoMachine, ask("mara", "192.0.2.7", host, 22), host)
	}
	assert.Equal(t, bastion.Access{From: []string{}}, (&bastion.Policy{}).Access())
	assert.Equal(t, bastion.Decision{Reason: bastion.NotFrom}, (&bastion.Policy{}).Judge(bastion.Request{}, oracle.Epoch))
}

// TestADenyHoldsThatIsDecidedOrInstalled keeps a client out by a deny of the files, one of the tables, and both.
func TestADenyHoldsThatIsDecidedOrInstalled(t *testing.T) {
	const nouns = `estate: small
site: sim
people: {mara: {groups: [ops]}}
networks: {estuary: {space: [10.60.0.0/16, "2001:db8:60::/48"], outside: true, subnets: {landing: {range: [10.60.1.0/24, "2001:db8:60:1::/64"]}, lookout: {range: [10.60.9.0/27, "2001:db8:60:9::/64"]}}}}
machines: {web: {image: i, size: s, at: landing}}
bastions: {beacon: {subnet: lookout, address: WHERE, from: [everywhere]}}
`
	route, deny := "route ssh to web via beacon for ops", "deny ssh from 192.0.2.7 to web"
	with, without := oracle.WorldOf(strings.Replace(nouns, "WHERE", "auto", 1), route, deny), oracle.WorldOf(strings.Replace(nouns, "WHERE", "auto", 1), route)
	for name, c := range map[string]struct{ files, tables oracle.World }{"decided": {with, without}, "installed": {without, with}, "both": {with, with}} {
		policy, ok := bastion.Compile(c.files.Estate, c.tables.Plan(), "beacon")
		require.True(t, ok, name)
		out := policy.Judge(bastion.Request{Person: "mara", Client: netip.MustParseAddr("192.0.2.7"), Host: "web", Port: 22}, oracle.Epoch)
		assert.Equal(t, bastion.ByDeny, out.Reason, name)
		assert.Equal(t, deny, out.Origin.Sentence, name)
		in := policy.Judge(bastion.Request{Person: "mara", Client: netip.MustParseAddr("192.0.2.8"), Host: "web", Port: 22}, oracle.Epoch)
		assert.True(t, in.Forward && in.Origin.Sentence == route, name)
		assert.Len(t, in.To, 1, "addresses of one family, that of the gateway's own")
	}
	// What keeps the gateway itself out of one address leaves the other.
	half := oracle.WorldOf(strings.Replace(nouns, "WHERE", "auto", 1), route, "deny ssh from 0.0.0.0/0 to web")
	policy, ok := bastion.Compile(half.Estate, half.Plan(), "beacon")
	require.True(t, ok)
	d := policy.Judge(bastion.Request{Person: "mara", Client: netip.MustParseAddr("2001:db8:9::7"), Host: "web", Port: 22}, oracle.Epoch)
	require.True(t, d.Forward)
	assert.True(t, d.To[0].Addr().Is6())
	assert.Equal(t, route, d.Origin.Sentence)
	for where, want := range map[string]flow.Addrs{"auto": flow.AllAddrs, "203.0.113.10": flow.AllIPv4, `"2001:db8:77::9"`: flow.AllIPv6} {
		w := oracle.WorldOf(strings.Replace(nouns, "WHERE", where, 1), route)
		if policy, ok := bastion.Compile(w.Estate, w.Plan(), w.Name("beacon")); ok {
			assert.Equal(t, want, policy.Families(), where)
		}
	}
}
