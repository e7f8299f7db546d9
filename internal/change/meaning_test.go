package change_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ironbark/internal/change"
)

const spoken = `estate: small
site: sim
sources: {office: [203.0.113.64/27], buoys: [198.51.100.7, 198.51.100.9]}
services: {feed: tcp/7400, wide: [tcp/20-30, udp/3389]}
admin: [feed, tcp/5432]
people: {mara: {groups: [leads, ops]}, ilse: {}}
limits: {opening: 4h}
networks: {estuary: {space: [10.60.0.0/16], subnets: {landing: {range: [10.60.1.0/24]}}}}
`

// TestWordsThatMeanSomethingElse alters what words stand for, one at a time.
func TestWordsThatMeanSomethingElse(t *testing.T) {
	for _, c := range []struct{ old, now, want string }{
		{"", "", ""},
		{"estuary:", "estuary: ", ""},
		{"203.0.113.64/27", "203.0.113.96/27", "alter source office: 203.0.113.64/27 → 203.0.113.96/27"},
		{", buoys: [198.51.100.7, 198.51.100.9]", "", "remove source buoys: 198.51.100.7, 198.51.100.9"},
		{"tcp/7400", "tcp/7401", "alter service feed: tcp/7400 → tcp/7401; alter admin feed: administrative, tcp/7400 → administrative, tcp/7401"},
		{"tcp/5432]", "tcp/5432, ntp]", "make admin ntp: administrative, udp/123"},
		{", ilse: {}", "", "remove person ilse: in no group"},
		{"[leads, ops]", "[ops, leads]", ""},
		{"[leads, ops]", "[ops]", "alter person mara: in leads, ops → in ops"},
		{"opening: 4h", "opening: 2h", "alter limit opening: 4h → 2h"},
		{"site: sim\n", "site: sim\nstun: stun.example:3478\n", "make stun me: stun.example:3478"},
		{"ilse: {}", "ilse: {keys: [ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIFqmBOHyzASS9qqUOVmFMRyDLS3nfOdEnKA3gpQ1Hg3k ilse]}", "alter person ilse: in no group → in no group, key …gpQ1Hg3k"},
		{"people:", "authorities: {harbour: ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIFqmBOHyzASS9qqUOVmFMRyDLS3nfOdEnKA3gpQ1Hg3k ca}\npeople:", "make authority harbour: certificates of key …gpQ1Hg3k let people log in to gateways"},
		{"ilse: {}", "ilse: {until: 2026-12-01T00:00:00Z}", "alter person ilse: in no group → in no group, until 2026-12-01T00:00:00Z"},
		{"ilse: {}", "ilse: {keys: [{public: ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIFqmBOHyzASS9qqUOVmFMRyDLS3nfOdEnKA3gpQ1Hg3k ilse, until: 2026-12-01T00:00:00Z}]}", "alter person ilse: in no group → in no group, key …gpQ1Hg3k until 2026-12-01T00:00:00Z"},
		{"people:", "keys: {ops: {public: ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIFqmBOHyzASS9qqUOVmFMRyDLS3nfOdEnKA3gpQ1Hg3k ops, until: 2026-12-01T00:00:00Z}}\npeople:", "make key ops: lets nobody log in from 2026-12-01T00:00:00Z on"},
		{"people:", "recipients: {watchroom: {syslog: \"udp:192.0.2.9\"}}\npeople:", "make recipient watchroom: is told all of the journal: syslog udp:192.0.2.9:514"},
		{"people:", "recipients: {watchroom: {syslog: \"tls:log.saltmarsh.example\", ca: log.pem, only: [open, close]}}\npeople:", "make recipient watchroom: is told of open, close, by log.pem: syslog tls:log.saltmarsh.example:6514"},
		{"people:", "recipients: {pager: {command: [/usr/local/bin/page, now]}}\npeople:", "make recipient pager: is told all of the journal: command /usr/local/bin/page now"},
		{"people:", "edits: {approvals: 1, from: [leads, ilse]}\npeople:", "make edits approvals: that open anything, weaken a guarantee or give rights need 1 of leads or ilse"},
	} {
		var told []string
		for _, m := range change.Meanings(read(t, spoken), read(t, strings.Replace(spoken, c.old, c.now, 1))) {
			told = append(told, string(m.Verb)+" "+m.Kind+" "+m.Name+": "+m.String())
		}
		assert.Equal(t, c.want, strings.Join(told, "; "), c.now)
	}
	assert.Equal(t, "nothing → a", change.Meaning{Verb: change.Alter, After: "a"}.String())
}

// TestPortsOfLines gives each line with peers a port: its own, that of before, or the first free one.
func TestPortsOfLines(t *testing.T) {
	const lines = `estate: small
site: linux
networks: {estuary: {space: [10.60.0.0/16], subnets: {landing: {range: [10.60.1.0/24]}}}}
lines:
  a: {network: estuary, range: [172.20.0.0/24], peers: {pa: {key: nKMsCVGDzBqXUcUOw9MhOOM9q5yMvP3dnuvZ9PlxRHk=, address: 172.20.0.2}}}
  b: {network: estuary, range: [172.20.1.0/24], port: 51820, peers: {pb: {key: nKMsCVGDzBqXUcUOw9MhOOM9q5yMvP3dnuvZ9PlxRHo=, address: 172.20.1.2}}}
  c: {network: estuary, range: [172.20.2.0/24], peers: {pc: {key: nKMsCVGDzBqXUcUOw9MhOOM9q5yMvP3dnuvZ9PlxRHs=, address: 172.20.2.2}}}
  d: {network: estuary, range: [172.20.3.0/24]}
`
	ports := func(nouns string, has []change.Resource) (list []int, all []change.Resource) {
		all, err := change.Desired(read(t, nouns), has, nil, nil)
		require.NoError(t, err)
		for _, r := range all {
			if r.Kind == change.Line {
				list = append(list, r.Spec.Port)
			}
		}
		return list, all
	}
	first, has := ports(lines, nil)
	assert.Equal(t, []int{51821, 51820, 51822, 0}, first)
	kept, _ := ports(strings.Replace(lines, "port: 51820, ", "", 1), has)
	assert.Equal(t, first, kept, "a port is kept")
	moved, _ := ports(strings.Replace(lines, "port: 51820", "port: 51822", 1), has)
	assert.Equal(t, []int{51821, 51822, 51820, 0}, moved, "who says a port has it, and the other one gets a free one")
}
