package findings_test

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"ironbark/internal/findings"
	"ironbark/internal/flow"
	"ironbark/internal/oracle"
	"ironbark/internal/sentence"
)

const used = `estate: saltmarsh
site: sim
sources: {office: [203.0.113.64/27]}
people: {mara: {groups: [ops]}}
limits: {image: 30d}
keys: {ops: "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIKksNuZqJe6Z/4Yvqo6HmHvmx80Tw+5mHEAKRbDx47Ey ops", spare: "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIMi2wGHoWR3+qr79utfNrMDs5TkA8LsCFghgoOPvfSrM spare"}
networks:
  estuary:
    space: [10.60.0.0/16, "2001:db8:60::/48"]
    outside: true
    subnets: {landing: {range: [10.60.1.0/24, "2001:db8:60:1::/64"]}, plain: {range: [10.60.2.0/24]}, lookout: {range: [10.60.9.0/27]}}
machines:
  web-1: {image: gauge-os, size: s, at: landing, address: auto, key: ops}
  web-2: {image: gauge-os, size: s, at: plain, address: auto, key: [ops, spare]}
  web-3: {image: gauge-os, size: s, at: plain, address: auto, key: ops}
  web-4: {image: gauge-os, size: s, at: plain, key: ops}
  web-5: {image: gauge-os, size: s, at: plain, key: ops}
images: {gauge-os: {file: gauge-os.qcow2}}
bastions: {beacon: {subnet: lookout, address: auto, from: [office]}}
`

func TestPosture(t *testing.T) {
	w := oracle.WorldOf(used, strings.Split(strings.TrimSpace(`
permit ops to open ssh to web-1 from internet up to 1h
permit ops to open ssh to web-2 from internet up to 1h
permit ops to open ssh to web-3 from office up to 1h in emergency
permit ops to open ssh to web-4 from office up to 1h
allow https from 0.0.0.0/0 to web-1
allow https from 0.0.0.0/0 to web-2
deny https from ::/0 to web-1
deny https from ::/0 to web-1 until 2026-11-23T09:00:00Z
route ssh to web-3, web-4 via beacon for ops
allow ssh from office to web-1 standing until 2026-11-30T09:00:00Z because "soon"
allow ssh from office to web-1 standing until 2026-11-30T09:00:01Z because "later"
allow ping from 192.0.2.0/24 to web-1
allow http from 198.18.0.0/15 to web-1
allow smtp from everywhere to web-2
`), "\n")...)
	require.Len(t, w.Estate.Sentences(), 14)
	addrs := func(list ...string) (s flow.Addrs) {
		for _, a := range list {
			s = s.Union(flow.AddrsAt(netip.MustParseAddr(a)))
		}
		return s
	}
	some, inside := addrs("198.51.100.7", "198.51.100.9", "203.0.113.1", "10.60.2.4"), addrs("10.60.2.4", "2001:db8:60:1::5")
	var many flow.Addrs
	for i := range byte(9) {
		many = many.Union(flow.AddrsAt(netip.AddrFrom4([4]byte{198, 51, i, 1})))
	}
	one, all := flow.AddrSet(netip.MustParseAddr("198.51.100.7")), flow.AllAddrs
	facts := findings.Facts{
		Before: w.Estate, Loose: []string{"keys/ops"}, Made: map[string]time.Time{"gauge-os": oracle.Epoch.Add(-31 * 24 * time.Hour)},
		From: map[string]flow.Addrs{
			"allow https from 0.0.0.0/0 to web-1": some, "allow https from 0.0.0.0/0 to web-2": many, "allow ping from 192.0.2.0/24 to web-1": one,
			"allow http from 198.18.0.0/15 to web-1": one, "allow smtp from everywhere to web-2": inside,
		},
		Uses: map[string][]flow.Addrs{"permit ops to open ssh to web-1 from internet up to 1h": {one, one, one}, "permit ops to open ssh to web-2 from internet up to 1h": {one, one, all}},
	}
	plan := w.Plan()
	sits, _ := plan.MachineByName("web-4")
	at := flow.Rule{Kind: flow.Opening, From: flow.ConsoleSource, To: &flow.Group{Machines: []int32{sits}}, Services: flow.ConsoleOnly, Begin: oracle.Epoch, Until: oracle.Epoch.Add(time.Hour), Opening: 3}
	later := at
	later.Begin = oracle.Epoch.Add(time.Minute)
	plan = plan.With(at, later)
	told := func(facts findings.Facts) (list []string) {
		for _, f := range findings.Posture(findings.Side{Estate: w.Estate, Plan: plan}, oracle.Epoch, facts) {
			one := fmt.Sprint(f.Level, " ", f.Kind, " ", f.At.Line, " ", f.Subject)
			if _, from, told := strings.Cut(f.Remedy.String(), "used from: "); told {
				one += ": " + from
			}
			list = append(list, one)
			require.NotEmpty(t, f.Kind.What())
			require.NotEmpty(t, f.Kind.Why())
		}
		return list
	}
	assert.Equal(t, []string{
		"note wider-than-used 1 permit ops to open ssh to web-1 from internet up to 1h",
		"caution unused-permit 4 permit ops to open ssh to web-4 from office up to 1h",
		"note one-family 5 allow https from 0.0.0.0/0 to web-1",
		"note wider-than-used 5 allow https from 0.0.0.0/0 to web-1: from 10.60.2.0/24, 198.51.100.0/24, 203.0.113.0/24",
		"caution one-family 7 deny https from ::/0 to web-1",
		"note ends-soon 10 allow ssh from office to web-1 standing until 2026-11-30T09:00:00Z because \"soon\"",
		"note wider-than-used 13 allow http from 198.18.0.0/15 to web-1: from 198.51.100.0/24",
		"note wider-than-used 14 allow smtp from everywhere to web-2: from 10.60.2.0/24, 2001:db8:60:1::/64",
		"note unneeded-address 15 web-3",
		"note console-open 16 web-4",
		"note one-key 6 ops",
		"serious loose-key 0 keys/ops",
		"note old-image 18 gauge-os",
	}, told(facts))
	bare := told(findings.Facts{})
	for _, kind := range []findings.Kind{findings.UnusedPermit, findings.WiderThanUsed, findings.LooseKey, findings.OldImage} {
		assert.False(t, slices.ContainsFunc(bare, func(f string) bool { return strings.Contains(f, string(kind)) }), "what is not known is not told: %s", kind)
	}
}

// TestWhatEndsIsTold has people, keys, exceptions and images end at the edges of what is told.
func TestWhatEndsIsTold(t *testing.T) {
	at := func(d time.Duration) string { return oracle.Epoch.Add(d).Format(time.RFC3339) }
	const day = 24 * time.Hour
	keys := strings.Split(used[strings.Index(used, `"ssh-ed25519`)+1:], `"`)
	for _, c := range []struct {
		end  time.Duration
		want []string // of the person, the key that is on machines, and the one that is on none
	}{
		{-1 * time.Second, []string{"note ended-right", "serious ended-right", "note ended-right"}},
		{0, []string{"note ended-right", "serious ended-right", "note ended-right"}},
		{time.Second, []string{"note ends-soon", "note ends-soon", "note ends-soon"}},
		{7 * day, []string{"note ends-soon", "note ends-soon", "note ends-soon"}},
		{7*day + time.Second, nil},
	} {
		file := strings.Replace(used, "people: {mara: {groups: [ops]}}", "people: {mara: {groups: [ops]}, ilse: {groups: [ops], until: "+at(c.end)+"}}", 1)
		file = strings.Replace(file, `{ops: "`+keys[0]+`", spare: "`+keys[2]+`"}`, fmt.Sprintf(`{ops: {public: "%s", until: %s}, other: {public: "%s", until: %s}, spare: "%s"}`, keys[0], at(c.end), keys[0], at(c.end), keys[2]), 1)
		w := oracle.WorldOf(file, `allow ssh from office to web-1 standing until `+at(max(c.end, time.Second))+` because "x"`)
		var rights, exceptions []string
		for _, f := range findings.Posture(findings.Side{Estate: w.Estate, Plan: w.Plan()}, oracle.Epoch, findings.Facts{}) {
			switch told := fmt.Sprint(f.Level, " ", f.Kind); {
			case f.Kind != findings.EndsSoon && f.Kind != findings.EndedRight:
			case f.At.File == "estate.rules":
				exceptions = append(exceptions, told)
			default:
				rights = append(rights, told)
			}
		}
		assert.Equal(t, c.want, rights, c.end)
		assert.Equal(t, c.end <= 7*day, len(exceptions) == 1, c.end)
	}
	w := oracle.WorldOf(used)
	for age, old := range map[time.Duration]bool{30 * day: false, 30*day + 1: true} {
		list := findings.Posture(findings.Side{Estate: w.Estate, Plan: w.Plan()}, oracle.Epoch, findings.Facts{Made: map[string]time.Time{"gauge-os": oracle.Epoch.Add(-age)}})
		assert.Equal(t, old, slices.ContainsFunc(list, func(f findings.Finding) bool { return f.Kind == findings.OldImage }), age)
	}
}

// TestTooFewWhoMayApproveAreTold has those end who may approve edits.
func TestTooFewWhoMayApproveAreTold(t *testing.T) {
	told := func(approvals int, ends ...time.Duration) (list []string) {
		people := "mara: {groups: [ops]}"
		for i, end := range ends {
			people += fmt.Sprintf(", w%d: {groups: [watch]%s}", i, map[bool]string{true: ", until: " + oracle.Epoch.Add(end).Format(time.RFC3339)}[end != 0])
		}
		file := strings.Replace(used, "people: {mara: {groups: [ops]}}", "people: {"+people+"}\nedits: {approvals: "+fmt.Sprint(approvals)+", from: [watch]}", 1)
		w := oracle.WorldOf(file)
		for _, f := range findings.Posture(findings.Side{Estate: w.Estate, Plan: w.Plan()}, oracle.Epoch, findings.Facts{}) {
			if f.Kind == findings.NoSecond {
				list = append(list, fmt.Sprint(f.Level, " ", f.Problem))
			}
		}
		return list
	}
	const day = 24 * time.Hour
	assert.Empty(t, told(1, 0))
	assert.Empty(t, told(1, day, 0))
	assert.Empty(t, told(1, 7*day+time.Second))
	assert.Equal(t, []string{"serious from 2026-11-30T09:00:00Z on no more than 0 may approve edits, and they need 1"}, told(1, 7*day))
	assert.Equal(t, []string{"serious from 2026-11-24T09:00:00Z on no more than 1 may approve edits, and they need 2"}, told(2, day, 0))
	assert.Equal(t, []string{"serious no more than 1 may approve edits, and they need 2"}, told(2, -day, 0))
}

// TestWiderThanUsedHasEdges uses sentences from so many places, and of so many addresses.
func TestWiderThanUsedHasEdges(t *testing.T) {
	place := func(family string, n int) string {
		return map[string]string{"4": fmt.Sprintf("198.51.%d.255", n), "6": fmt.Sprintf("2001:db8:9:%x::7", n)}[family]
	}
	for _, c := range []struct {
		from string
		used map[string]int // how many places by family
		told bool
	}{
		{"198.48.0.0/13", map[string]int{"4": 8}, true}, // 256 times eight /24
		{"198.48.0.0/14", map[string]int{"4": 8}, false},
		{"198.48.0.0/13", map[string]int{"4": 9}, false},
		{"0.0.0.0/0", map[string]int{"4": 8}, true},
		{"0.0.0.0/0", map[string]int{"4": 9}, false},
		{"0.0.0.0/0", map[string]int{"4": 4, "6": 4}, true},
		{"198.51.0.0/16", map[string]int{"4": 1}, true},
		{"198.51.0.0/16", map[string]int{"4": 2}, false},
		{"198.51.0.0/17", map[string]int{"4": 1}, false},
		{"198.51.0.0/17, 2001:db8:9::/48", map[string]int{"4": 1}, true}, // much of the other family is for nobody
		{"198.51.0.0/17, 2001:db8:9::/57", map[string]int{"4": 1}, false},
		{"2001:db8:9::/48", map[string]int{"6": 8}, true},
		{"2001:db8:9::/54", map[string]int{"6": 8}, false},
		{"198.51.0.0/16", nil, false},
	} {
		text := "allow https from " + c.from + " to web-1"
		w := oracle.WorldOf(used, text)
		require.Len(t, w.Estate.Sentences(), 1, text)
		text = w.Estate.Sentences()[0].Sentence.String()
		var from flow.Addrs
		for family, n := range c.used {
			for i := range n {
				from = from.Union(flow.AddrsAt(netip.MustParseAddr(place(family, i))))
			}
		}
		facts := findings.Facts{Before: w.Estate, From: map[string]flow.Addrs{text: from}}
		told := func(facts findings.Facts) bool {
			return slices.ContainsFunc(findings.Posture(findings.Side{Estate: w.Estate, Plan: w.Plan()}, oracle.Epoch, facts), func(f findings.Finding) bool { return f.Kind == findings.WiderThanUsed })
		}
		assert.Equal(t, c.told, told(facts), "%s used from %v", text, c.used)
		facts.Before = nil
		assert.False(t, told(facts), "it has not been there for long")
	}
}

// TestAScoreIsWhatItsLinesLeave adds up findings of any kinds.
func TestAScoreIsWhatItsLinesLeave(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var list []findings.Finding
		for range rapid.IntRange(0, 60).Draw(t, "findings") {
			list = append(list, findings.Finding{Level: rapid.SampledFrom([]findings.Level{findings.Note, findings.Caution, findings.Serious}).Draw(t, "level"), Kind: rapid.SampledFrom(findings.Kinds()).Draw(t, "kind")})
		}
		broken := rapid.IntRange(0, 3).Draw(t, "broken")
		s := findings.ScoreOf(list, broken)
		left, count := findings.Whole, 0
		for i, l := range s.Lines {
			require.True(t, l.Off > 0 && l.Count > 0 && l.What != "")
			require.True(t, i == 0 || s.Lines[i-1].Off >= l.Off)
			left -= l.Off
			count += l.Count
		}
		require.Equal(t, max(left, 0), s.Points)
		require.Equal(t, len(list)+broken, count)
		more := findings.ScoreOf(append(list, findings.Finding{Level: findings.Note, Kind: findings.Ended}), broken+1)
		require.LessOrEqual(t, more.Points, s.Points, "more is never better")
	})
	two := findings.ScoreOf([]findings.Finding{{Level: findings.Serious, Kind: findings.Standing}, {Level: findings.Serious, Kind: findings.Standing}}, 0)
	assert.Equal(t, 80, two.Points)
	many := findings.ScoreOf(slices.Repeat([]findings.Finding{{Level: findings.Caution, Kind: findings.NoDoor}}, 50), 2)
	assert.Equal(t, 100-12-60, many.Points)
}

// TestOnlyWhatClosesOrTidiesUpIsFixed goes through the kinds of findings of sentences.
func TestOnlyWhatClosesOrTidiesUpIsFixed(t *testing.T) {
	fixable := func(kind findings.Kind, s sentence.Sentence) bool {
		return findings.Finding{Kind: kind, Level: findings.Caution}.Fixable(s)
	}
	for _, kind := range findings.Kinds() {
		assert.False(t, fixable(kind, sentence.Deny{}) && kind != findings.Ended && kind != findings.UnusedPermit && kind != findings.Useless, "a deny that is not over is never retracted: %s", kind)
		assert.False(t, fixable(kind, sentence.Never{}) && kind != findings.Ended && kind != findings.UnusedPermit && kind != findings.Useless, kind)
	}
	assert.True(t, fixable(findings.NoDoor, sentence.Allow{}))
	assert.False(t, fixable(findings.Standing, sentence.Allow{}), "somebody may work by it")
	assert.False(t, findings.Finding{Kind: findings.Guarded, Level: findings.Note}.Fixable(sentence.Allow{}), "it lets other services in")
	assert.False(t, fixable(findings.Guarded, sentence.Forward{}), "openings go by it")
}
