package findings_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"ironbark/internal/findings"
	"ironbark/internal/oracle"
)

const nouns = `estate: small
site: sim
sources: {office: [203.0.113.64/27, "2001:db8:40::/48"]}
people: {mara: {groups: [ops]}}
networks:
  estuary: {space: [10.60.0.0/16, "2001:db8:60::/48"], outside: true, subnets: {landing: {range: [10.60.1.0/24]}, deepwater: {range: ["2001:db8:60:2::/64"]}}}
  cellar: {space: [10.61.0.0/16], subnets: {vault: {range: [10.61.1.0/24]}}}
machines:
  web: {image: i, size: s, at: landing, address: auto}
  deep: {image: i, size: s, at: deepwater}
  store: {image: i, size: s, at: vault}
fronts: {pier: {network: estuary, address: auto}}
`

// TestFindings states one sentence at a time and looks for what is found of it.
func TestFindings(t *testing.T) {
	for _, c := range []struct {
		rule  string
		level findings.Level
		want  string
	}{
		{"allow https from everywhere to web until 2026-11-23T08:00:00Z", findings.Note, "this sentence ended at 2026-11-23T08:00:00Z"},
		{"allow https from everywhere to moor-*", findings.Caution, "“moor-*” stands for no machine"},
		{"allow any from everywhere to web", findings.Note, "administrative services stay closed to an “allow”: rdp, vnc, winrm, ssh, telnet"},
		{"allow ssh from office to web", findings.Caution, "administrative services stay closed to an “allow”: ssh in"},
		{`allow ssh from office to web standing until 2026-12-01T00:00:00Z because "x"`, findings.Serious, "an administrative service is left open until 2026-12-01T00:00:00Z"},
		{"allow https from internet to store", findings.Caution, "no door leads from there to there"},
		{"allow https from office to deep", findings.Note, "“office” has IPv4 addresses, from which no door leads there"},
		{"spread pier https over web, store on https from everywhere", findings.Caution, "store cannot be reached by front pier"},
		{"permit ops to open ssh to moor-* from office up to 1h", findings.Caution, "“moor-*” stands for no machine"},
	} {
		w := oracle.WorldOf(nouns, c.rule)
		list := findings.Look(w.Estate, w.Plan(), oracle.Epoch)
		found := false
		for _, f := range list {
			if f.At.Line == 1 && f.At.File == "estate.rules" {
				assert.Contains(t, f.What, c.want, c.rule)
				assert.Equal(t, c.level, f.Level, c.rule)
				found = true
				break
			}
		}
		assert.True(t, found, "%s: %v", c.rule, list)
	}
	w := oracle.WorldOf(nouns, "permit ops to open ssh to web, store from office up to 1h")
	list := findings.Look(w.Estate, w.Plan(), oracle.Epoch)
	assert.Len(t, list, 1)
	assert.Contains(t, list[0].What, "nobody has a way to administer deep:")
	w = oracle.WorldOf(nouns, "permit ops to open ssh to all from office up to 1h", "allow https from everywhere to web")
	assert.Empty(t, findings.Look(w.Estate, w.Plan(), oracle.Epoch), "a plain estate has none")
}
