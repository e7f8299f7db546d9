package findings_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"ironbark/internal/estate"
	"ironbark/internal/findings"
	"ironbark/internal/flow"
	"ironbark/internal/oracle"
)

const nouns = `estate: small
site: sim
sources: {office: [203.0.113.64/27, "2001:db8:40::/48"]}
people: {mara: {groups: [ops]}, ilse: {groups: [ops, leads]}}
keys: {admin: ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIFqmBOHyzASS9qqUOVmFMRyDLS3nfOdEnKA3gpQ1Hg3k admin}
networks:
  estuary: {space: [10.60.0.0/16, "2001:db8:60::/48"], outside: true, subnets: {landing: {range: [10.60.1.0/24]}, deepwater: {range: ["2001:db8:60:2::/64"]}, lookout: {range: [10.60.9.0/27]}}}
  cellar: {space: [10.61.0.0/16], subnets: {vault: {range: [10.61.1.0/24]}}}
machines:
  web: {image: i, size: s, at: landing, address: auto, key: admin}
  deep: {image: i, size: s, at: deepwater, key: admin}
  store: {image: i, size: s, at: vault, password: true}
fronts: {pier: {network: estuary, address: auto}}
bastions: {beacon: {subnet: lookout, address: auto, from: [office]}}
limits: {opening: 4h}
`

// TestFindings states one sentence at a time and looks for what is found of it.
func TestFindings(t *testing.T) {
	const permit = "permit ops to open ssh to all from office up to 1h"
	listens := func(machine string) (flow.Services, bool) {
		return flow.ServicesAt(flow.TCPPort(443)), machine == "web"
	}
	for rule, want := range map[string]string{
		"allow https from everywhere to web until 2026-11-23T08:00:00Z":                "note ended: this sentence ended at 2026-11-23T08:00:00Z and does nothing",
		"allow https from everywhere to moor-*":                                        "caution empty: “moor-*” stands for no machine, so this sentence does nothing",
		"allow ssh from office to web":                                                 "caution guarded: administrative services stay closed to an “allow”: ssh in",
		`allow ssh from office to web standing until 2026-12-01T00:00:00Z because "x"`: "serious standing: an administrative service is left open until 2026-12-01T00:00:00Z",
		"allow https from internet to store":                                           "caution no-door: no door leads from there to there, so this sentence opens nothing",
		"allow https from office to deep":                                              "note no-family: “office” has IPv4 addresses, from which no door leads there",
		"spread pier https over web, store on https from everywhere":                   "caution no-family: store cannot be reached by front pier: they share no network or family",
		"permit ops to open ssh to moor-* from office up to 1h":                        "caution empty: “moor-*” stands for no machine, so this sentence does nothing",
		// What is hardly ever meant for everybody.
		"allow postgresql, https from internet to web":                                       "caution private-service: hardly ever meant for the whole internet: postgresql in",
		"allow any except https from everywhere to web":                                      "caution any-service: every service is open to the internet",
		"allow redis from everywhere except 192.0.2.0/24 to web":                             "caution private-service: hardly ever meant for the whole internet: redis in",
		"allow redis from 192.0.2.0/24 to web":                                               "",
		"allow redis from landing to web":                                                    "",
		"forward pier tcp/2049 to web on tcp/2049 from everywhere":                           "caution private-service: hardly ever meant for the whole internet: tcp/2049 in",
		"permit ops to open rdp to web from internet up to 1h":                               "caution wide-source: this permit lets people open to the whole internet",
		"permit ops to open rdp to web from office up to 5h":                                 "caution too-long: this permit is for longer than the estate's limit of 4h, and grants no more than that",
		"permit ops to open rdp to store from 192.0.2.7 up to 1h":                            "caution unusable-permit: nobody can use this permit: no door leads from there to there",
		"permit leads to open rdp to web from office up to 1h needing 1 approval from leads": "caution unusable-permit: nobody can use this permit: it needs more approvals than others can give",
		"permit ops to open rdp to web from office up to 1h needing 1 approval from leads":   "",
		// Doors by which nobody gets in.
		"forward pier tcp/8080 to web on http":             "note useless-door: nobody gets in by this door: no sentence lets anybody in, nor lets anybody open it",
		"forward pier tcp/8022 to web on ssh":              "",
		"forward pier tcp/8080 to web on http from office": "",
		"spread pier http over web on http":                "note useless-door: nobody gets in by this door: no sentence lets anybody in, nor lets anybody open it",
		"allow https from everywhere to web":               "",
		// Doors that do not do what they seem to.
		"forward pier tcp/8022 to web on ssh from office":                                   "caution guarded: administrative services stay closed to a door's “from”: ssh in",
		"forward pier tcp/2222 to web on tcp/2222 from office":                              "note admin-elsewhere: ssh is often moved there, and counts as administrative only where the estate says so: tcp/2222 in",
		"allow tcp/2222 from everywhere to web":                                             "note admin-elsewhere: ssh is often moved there, and counts as administrative only where the estate says so: tcp/2222 in",
		"spread pier dns over web on dns from everywhere":                                   "",
		"spread pier udp/53 over web on udp/53 from everywhere tested by tcp":               "caution never-passes: no machine can pass this test: udp/53 is no TCP, and tests are",
		"spread pier postgresql over web on postgresql from office tested by http /":        "caution never-passes: no machine can pass this test: postgresql does not speak HTTP",
		"spread pier http over web on tcp/8080 from office tested by tcp":                   "caution never-passes: no machine can pass this test: none of the machines listens on http-alt",
		"route ssh to all via beacon for mara":                                              "",
		"allow https from office except office to web":                                      "caution empty: “from office except office” stands for no address, so this sentence does nothing",
		"permit ops to open ssh to web from office up to 4h":                                "",
		"permit ops to open ssh to web from office up to 5h":                                "caution too-long: this permit is for longer than the estate's limit of 4h, and grants no more than that",
		"permit ops to open ssh to web from internet up to 1h":                              "caution wide-source: this permit lets people open to the whole internet",
		"permit ops to open ssh to store from internet up to 1h":                            "caution wide-source: this permit lets people open to the whole internet",
		"permit ops to open ssh to store from office up to 1h":                              "caution unusable-permit: nobody can use this permit: no door leads from there to there",
		"permit ops to open ssh to web from office up to 1h needing 1 approval from leads":  "",
		"permit ops to open ssh to web from office up to 1h needing 2 approvals from leads": "caution unusable-permit: nobody can use this permit: it needs more approvals than others can give",
		"permit ops to open ssh to web from 0.0.0.0/1 up to 1h":                             "",
		"permit ops to open ssh to web from 0.0.0.0/1, 128.0.0.0/4 up to 1h":                "caution wide-source: this permit lets people open to the whole internet",
		"never ssh from internet to all standing":                                           "",
	} {
		w := oracle.WorldOf(nouns, permit, rule)
		found := ""
		for _, f := range findings.Lint(w.Estate, w.Plan(), oracle.Epoch, listens) {
			if f.At.Line == 2 && f.At.File == "estate.rules" && found == "" {
				found = f.Level.String() + " " + string(f.Kind) + ": " + f.Problem
				assert.Equal(t, rule, f.Subject)
			}
		}
		assert.Equal(t, want, found, rule)
	}
	w := oracle.WorldOf(strings.Replace(nouns, "fronts: {pier: {network: estuary, address: auto}}", "", 1), permit)
	assert.Empty(t, findings.Lint(w.Estate, w.Plan(), oracle.Epoch, nil), "a plain estate has none")
}

// TestFindingsOfThings looks for what is found of machines and bastions.
func TestFindingsOfThings(t *testing.T) {
	w := oracle.WorldOf(strings.NewReplacer(", key: admin", "", "from: [office]", "from: [everywhere]").Replace(nouns), "permit ops to open ssh to web from office up to 1h", "permit moor to open ssh to store from office up to 1h")
	var list []string
	for _, f := range findings.Lint(w.Estate, w.Plan(), oracle.Epoch, nil) {
		list = append(list, string(f.Kind)+" "+f.Subject)
	}
	assert.Equal(t, []string{"wide-bastion beacon", "no-ports pier", "no-administrator deep", "no-administrator store", "no-login web", "no-login deep"}, list)
	w = oracle.WorldOf(strings.Replace(nouns, "groups: [ops, leads]", "groups: [ops, leads], until: 2026-11-23T08:00:00Z", 1), "permit ops to open ssh to all from office up to 1h needing 1 approval from leads")
	list = nil
	for _, f := range findings.Lint(w.Estate.AsOf(oracle.Epoch), w.Plan(), oracle.Epoch, nil) {
		list = append(list, string(f.Kind)+": "+f.Problem+"; "+f.Remedy.String())
	}
	assert.Contains(t, list, "nobody: nobody is in “leads”; change person NAME --group leads")
}

// TestWhoCanAdministerAMachine looks for machines that nobody has a way to administer, by sentences that hold.
func TestWhoCanAdministerAMachine(t *testing.T) {
	const standing = `allow ssh from office to web standing until 2026-11-23T10:00:00Z because "x"`
	lacks := func(at time.Time, more []flow.Rule, rules ...string) (names []string) {
		w := oracle.WorldOf(nouns, rules...)
		for _, f := range findings.Lint(w.Estate, w.Plan().With(more...), at, nil) {
			if f.Kind == findings.NoAdministrator {
				names = append(names, f.Subject)
			}
		}
		return names
	}
	all := []string{"deep", "store", "web"}
	assert.Equal(t, all, lacks(oracle.Epoch, nil))
	assert.Equal(t, all, lacks(oracle.Epoch, nil, "allow https from everywhere to all"))
	assert.Equal(t, []string{"deep", "store"}, lacks(oracle.Epoch, nil, standing))
	assert.Equal(t, all, lacks(oracle.Epoch.Add(time.Hour), nil, standing), "it has ended")
	assert.Equal(t, []string{"store", "web"}, lacks(oracle.Epoch, nil, "route ssh to deep via beacon for mara"))
	assert.Equal(t, []string{"store", "web"}, lacks(oracle.Epoch.Add(time.Hour), nil, "route ssh to deep via beacon for mara"))
	assert.Equal(t, []string{"deep", "web"}, lacks(oracle.Epoch, nil, "permit ops to open ssh to store from office up to 1h"))
	byHand := flow.Rule{Kind: flow.Standing, From: flow.AllAddrs, To: &flow.Group{Machines: []int32{0, 1, 2}}, Services: flow.AnyService, Origin: flow.Origin{Sentence: "put in by hand"}}
	assert.Equal(t, all, lacks(oracle.Epoch, []flow.Rule{byHand}), "what others put into the tables is no sentence")
}

// TestFindingsOfCalls states one sentence at a time about what machines call outside, in a network that is closed outward and in one that is open.
func TestFindingsOfCalls(t *testing.T) {
	closed := strings.Replace(nouns, `"2001:db8:60::/48"], outside: true,`, `"2001:db8:60::/48"], outside: true, outward: closed, dns: [192.0.2.53],`, 1)
	const permit = "permit ops to open ssh to all from office up to 1h"
	first := func(nouns, rule string) string {
		w := oracle.WorldOf(nouns, permit, rule)
		for _, f := range findings.Lint(w.Estate, w.Plan(), oracle.Epoch, nil) {
			if f.At.Line == 2 && f.At.File == "estate.rules" {
				return f.Level.String() + " " + string(f.Kind) + ": " + f.Problem + "; " + f.Remedy.String()
			}
		}
		return ""
	}
	for rule, want := range map[string]string{
		"allow https from web to internet":                           "",
		"allow https from moor-* to internet":                        "caution empty: “moor-*” stands for no machine, so this sentence does nothing; retract it, or name machines that are there",
		"allow https from web to 10.99.0.0/16":                       "",
		"allow https from store to internet":                         "caution no-door: none of these machines has a way to there, so this sentence does nothing; change network NAME --outside",
		"deny https from store to internet":                          "caution no-door: none of these machines has a way to there, so this sentence does nothing; change network NAME --outside",
		"deny https from web to internet":                            "",
		"deny https from web to internet until 2026-11-23T08:00:00Z": "note ended: this sentence ended at 2026-11-23T08:00:00Z and does nothing; retract it",
		"allow any from web to internet until 2026-11-23T08:00:00Z":  "note ended: this sentence ended at 2026-11-23T08:00:00Z and does nothing; retract it",
		"allow https from deep to office":                            "note no-family: “office” has IPv4 addresses, which none of these machines can call; ",
		"allow https from web to office":                             "note no-family: “office” has IPv6 addresses, which none of these machines can call; ",
		"allow any from web to internet":                             "caution any-service: machines may call every service of the internet; name the services that are meant",
		"allow any except ping from web to internet":                 "caution any-service: machines may call every service of the internet; name the services that are meant",
		"allow any from web to office":                               "note no-family: “office” has IPv6 addresses, which none of these machines can call; ",
	} {
		assert.Equal(t, want, first(closed, rule), rule)
	}
	assert.Equal(t, "note open-anyway: machines may call this anyway, since their network is open outward; change network estuary --outward closed", first(nouns, "allow https from web to internet"))
	assert.Equal(t, "note open-anyway: machines may call this anyway, since their network is open outward; change network estuary --outward closed", first(nouns, "allow https from web, store to internet"), "one that cannot call does not count")

	names := func(nouns string, rules ...string) (list []string) {
		w := oracle.WorldOf(nouns, append(rules, permit)...)
		for _, f := range findings.Lint(w.Estate, w.Plan(), oracle.Epoch, nil) {
			if f.Kind == findings.NoNames {
				list = append(list, f.Subject+": "+f.Problem+"; "+f.Remedy.String())
			}
		}
		return list
	}
	told := []string{"estuary: machines cannot ask 192.0.2.53 for names, since this network is closed outward; allow dns from estuary to 192.0.2.53"}
	assert.Equal(t, told, names(closed))
	assert.Empty(t, names(strings.Replace(closed, "outward: closed, ", "", 1)), "an open network asks anybody")
	assert.Empty(t, names(closed, "allow dns from estuary to 192.0.2.53"))
	assert.Equal(t, told, names(closed, "allow dns from web to 192.0.2.53"), "not all of them can")
	assert.Equal(t, told, names(closed, "allow dns from estuary to 192.0.2.53", "deny dns from web to internet"))
	assert.Equal(t, told, names(closed, "allow dns from estuary to 192.0.2.53 until 2026-11-23T08:00:00Z"), "that has ended")
	assert.Empty(t, names(strings.Replace(closed, "192.0.2.53", "10.60.1.53", 1)), "one inside is asked without a sentence")
}

// TestBothSidesAreAsIfLookedAtAlone draws two states of an estate that have much in common, and looks over both at once.
func TestBothSidesAreAsIfLookedAtAlone(t *testing.T) {
	pool := []string{
		"permit ops to open ssh to web from office up to 1h", "permit moor to open ssh to store from office up to 90d", "forward pier tcp/8022 to web on ssh", "forward pier tcp/8080 to web on http", "allow http from office to web",
		"allow any from internet to all", "allow rdp from office to store standing until 2026-11-23T12:00:00Z", "allow https from everywhere to web", "allow ssh from office to deep", "spread pier https over web on https", "route ssh to all via beacon for mara", "deny any from internet to web", "allow dns from web to internet",
	}
	side := func(t *rapid.T, name string) (findings.Side, []estate.File) {
		var rules []string
		for i, rule := range pool {
			if rapid.Bool().Draw(t, fmt.Sprint(name, i)) {
				rules = append(rules, rule)
			}
		}
		w := oracle.WorldOf(strings.Replace(nouns, "address: auto", rapid.SampledFrom([]string{"address: auto", "password: true"}).Draw(t, name), rapid.IntRange(0, 1).Draw(t, name+" moved")), rules...)
		nouns, said, _ := strings.Cut(w.Text, "---\n")
		return findings.Side{Estate: w.Estate, Plan: w.Plan()}, []estate.File{{Name: estate.FileName, Data: []byte(nouns)}, {Name: estate.RulesName, Data: []byte(said)}}
	}
	rapid.Check(t, func(t *rapid.T) {
		before, old := side(t, "before")
		after, files := side(t, "after")
		was, is := findings.LintBoth(before, after, oracle.Epoch, nil)
		if e, d, ok := before.Estate.Edited(old, files); ok {
			byLines(t, before, findings.Side{Estate: e, Plan: after.Plan}, d, was, is)
		}
		want := map[string]bool{}
		for _, f := range findings.Lint(before.Estate, before.Plan, oracle.Epoch, nil) {
			want[f.What()] = true
		}
		require.Equal(t, want, was)
		require.Equal(t, findings.Lint(after.Estate, after.Plan, oracle.Epoch, nil), is)
	})
}

// byLines compares what is found of the sentences that differ, and what was found before of all others, with what was found of both states.
func byLines(t *rapid.T, before, after findings.Side, d *estate.Delta, was map[string]bool, is []findings.Finding) {
	x := findings.NewCensus(before, oracle.Epoch).LintEdited(before, after, d, oracle.Epoch, nil)
	var want []findings.Judged
	others := 0
	for _, f := range is {
		if !was[f.What()] || f.Level == findings.Serious {
			want = append(want, findings.Judged{Finding: f, New: !was[f.What()]})
		} else {
			others++
		}
	}
	require.Equal(t, want, x.Told)
	require.Equal(t, others, x.Others)
	require.Equal(t, findings.NewCensus(after, oracle.Epoch), x.Census)
}
