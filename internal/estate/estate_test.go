package estate

import (
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v4"
	"pgregory.net/rapid"

	"ironbark/internal/sentence"
)

const tides = `estate: saltmarsh
site: sim
sources:
  office: [203.0.113.64/27, "2001:db8:40::/48"]
services:
  tidefeed: tcp/7400-7401
admin: [tcp/5432]
people:
  mara: {groups: [ops]}
  ilse: {groups: [ops, leads]}
keys:
  ops: "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIKksNuZqJe6Z/4Yvqo6HmHvmx80Tw+5mHEAKRbDx47Ey ops"
networks:
  estuary:
    space: [10.60.0.0/16, "2001:db8:60::/48"]
    outside: true
    subnets:
      landing:   {range: [10.60.1.0/24, "2001:db8:60:1::/64"]}
      deepwater: {range: ["2001:db8:60:2::/64"]}
      lookout:   {range: [10.60.9.0/27, "2001:db8:60:9::/64"]}
lines:
  headland: {network: estuary, range: [172.20.0.0/16, "2001:db8:77::/48"]}
machines:
  gauge-web-1: {image: linux-base, size: c1m2, at: landing, key: ops, tags: {role: web}}
  gauge-web-2: {image: linux-base, size: c1m2, at: landing, key: ops, tags: {role: web}}
  tide-archive: {image: linux-base, size: c2m4, at: deepwater, key: ops}
  chart-desk: {image: desktop-rdp, size: c4m8, at: landing, address: auto, password: true}
fronts:
  pier: {network: estuary, address: auto}
bastions:
  beacon: {subnet: lookout, address: auto, from: [everywhere], sessions: 20}
`

const tideRules = `# estate.rules
allow tidefeed from headland to tide-archive
deny any from 192.0.2.0/24 to all because "abuse report 17"
spread pier https over role=web on https from everywhere tested by http /healthz
forward pier tcp/8022 to gauge-web-1 on ssh
route ssh, rdp to all via beacon for ops
permit ops to open ssh to role=web from everywhere up to 4h
permit ops to open rdp to chart-desk from office up to 2h needing 1 approval from leads
never ssh, rdp from internet to all standing
never any except ping from internet to deepwater
always https from office to pier
`

func readBoth(nouns, rules string) (*Estate, error) {
	return Read(File{FileName, []byte(nouns)}, File{RulesName, []byte(rules)})
}

func TestTheExampleReads(t *testing.T) {
	e, err := readBoth(tides, tideRules)
	require.NoError(t, err)
	assert.Len(t, e.Machines, 4)
	assert.Len(t, e.Sentences(), 10)
	set := e.Sentences()[2].Sentence.(sentence.Spread).Over
	assert.Equal(t, []int{0, 1}, e.Targets(set))
	except := sentence.MustParse("allow ssh from office to estuary except landing, tide-*").(sentence.Allow).To
	assert.Empty(t, e.Targets(except))
	assert.True(t, e.Belongs("ilse", "leads"))
	assert.False(t, e.Belongs("mara", "leads"))
	assert.False(t, e.Belongs("ops", "ops"), "a group is no person")

	nouns, rules := Template(Sim, "saltmarsh", "mara", nil)
	_, err = readBoth(string(nouns), string(rules))
	require.NoError(t, err)
}

// TestErrors alters the example in one place and looks for what is told, and where.
func TestErrors(t *testing.T) {
	for name, c := range map[string]struct{ old, new, want, remedy string }{
		"tab":               {"  office:", "\toffice:", "estate.yaml:4:1: a tab in the indentation", "spaces"},
		"duplicate key":     {"  ilse:", "  mara:", "estate.yaml:10:3: “mara” stands twice in people, first on line 9", "remove one"},
		"duplicate name":    {"  pier:", "  landing:", "estate.yaml:29:3: “landing” is already the name of a subnet (line 18)", "share one set"},
		"unknown key":       {"outside: true", "outsid: true", "estate.yaml:16:5: unknown key “outsid” in network estuary", "did you mean “outside”?"},
		"outside the space": {"10.60.1.0/24", "10.61.1.0/24", "estate.yaml:18:7: 10.61.1.0/24 of subnet landing lies outside the space of network estuary", "10.60.0.0/16"},
		"overlap":           {"172.20.0.0/16", "10.60.4.0/24", "estate.yaml:22:3: 10.60.4.0/24 of line headland overlaps 10.60.0.0/16 of network estuary (line 14)", "one place"},
		"subnets overlap":   {"10.60.9.0/27", "10.60.1.64/27", "estate.yaml:20:7: 10.60.1.64/27 of subnet lookout overlaps 10.60.1.0/24 of subnet landing (line 18)", ""},
		"unknown subnet":    {"at: deepwater", "at: deepwatr", "estate.yaml:26:3: there is no subnet “deepwatr”", "did you mean “deepwater”?"},
		"unknown key pair":  {"key: ops, tags", "key: opz, tags", "there is no key “opz”", "did you mean “ops”?"},
		"bad key pair":      {"AAAAC3Nz", "AAAAB3Nz", "estate.yaml:12:8: the public key does not hold a key of the kind ssh-ed25519", "again"},
		"unknown site":      {"site: sim", "site: harbour", "there is no site “harbour”", "known are: sim"},
		"shipped service":   {"tidefeed:", "https:", "“https” is a service that ships with ironbark", "another name"},
		"reserved":          {"  office:", "  everywhere:", "is a word of the sentence language", ""},
		"no IPv4":           {"at: deepwater", "address: auto, at: deepwater", "no interface that a public IPv4 address could lead to", "IPv4 range"},
		"not outside":       {"outside: true", "outside: false", "machine chart-desk has no interface that a public IPv4 address could lead to", "outside: true"},
		"alias":             {"from: [everywhere]", "from: &x [everywhere]", "anchors and aliases", "write the value out"},
		"broken":            {"sessions: 20}", "sessions: 20", "estate.yaml:31:", ""},
		"unknown source":    {"from headland", "from hedland", "estate.rules:2:21: there is no source, line, network, subnet or machine “hedland”", "did you mean “headland”?"},
		"unknown service":   {"allow tidefeed", "allow tidefed", "estate.rules:2:7: there is no service “tidefed”", "did you mean “tidefeed”?"},
		"front as target":   {"to tide-archive", "to pier", "estate.rules:2:33: “pier” is a front, and here stands a machine, subnet or network", ""},
		"empty deny":        {"to all because", "to moor-* because", "estate.rules:3: “to moor-*” stands for no machine at all", "protects nothing"},
		"two machines":      {"to gauge-web-1 on ssh", "to gauge-web-* on ssh", "estate.rules:5:26: “gauge-web-*” is 2 machines", "spread"},
		"door taken":        {"pier tcp/8022", "pier tcp/443", "estate.rules:5:14: pier tcp/443 already leads somewhere (estate.rules:4)", "another port"},
		"no common family":  {"to gauge-web-1 on ssh", "to tide-archive on ssh", "", ""},
		"not one port":      {"on https from", "on tidefeed from", "“tidefeed” is not one protocol and one port", ""},
		"unknown group":     {"for ops", "for opps", "estate.rules:6:38: there is no person or group “opps”", "did you mean “ops”?"},
	} {
		t.Run(name, func(t *testing.T) {
			require.Contains(t, tides+tideRules, c.old)
			_, err := readBoth(strings.Replace(tides, c.old, c.new, 1), strings.Replace(tideRules, c.old, c.new, 1))
			if c.want == "" {
				require.NoError(t, err)
				return
			}
			require.Error(t, err)
			es, ok := errors.AsType[sentence.Errors](err)
			require.True(t, ok)
			assert.Contains(t, es[0].Error(), c.want)
			assert.Contains(t, es[0].Remedy.String(), c.remedy)
			assert.NotEmpty(t, es[0].Line, "the line is shown")
		})
	}
	_, err := Read(File{FileName, make([]byte, MaxFile+1)})
	require.ErrorContains(t, err, "estate.yaml: the file has 8388609 bytes; at most 8388608 are read")
	_, err = readBoth("estate: a\n---\nestate: b\n", "")
	require.ErrorContains(t, err, "expected single document")
	_, err = readBoth(strings.Replace(tides, "address: auto}", "address: [203.0.113.9]}", 1), strings.Replace(tideRules, "gauge-web-1 on ssh", "tide-archive on ssh", 1))
	require.ErrorContains(t, err, "front pier and machine tide-archive share no address family")
}

// TestEditsTouchOnlyTheirOwnLines adds a machine to awkward files and takes it
// out again: what was there stays, to the byte.
func TestEditsTouchOnlyTheirOwnLines(t *testing.T) {
	head := "estate: a\nsite: sim\n"
	entry := Mapping(Field{"image", Word("linux-base")}, Field{"at", Word("landing")}, Field{"tags", Mapping(Field{"role", Word("no")})})
	const line = `new-1: {image: linux-base, at: landing, tags: {role: "no"}}`
	for name, c := range map[string]struct{ file, want string }{
		"no section":        {head, head + "\nmachines:\n  " + line + "\n"},
		"no line end":       {"estate: a\nsite: sim", "estate: a\nsite: sim\n\nmachines:\n  " + line + "\n"},
		"empty section":     {head + "machines:   # none yet\n\nfronts:\n", head + "machines:   # none yet\n  " + line + "\n\nfronts:\n"},
		"empty braces":      {head + "machines: {} # none\n", head + "machines: {" + line + "} # none\n"},
		"comments":          {head + "machines: # ours\n    a: {image: x} # a\n    # b: {image: y}\n\n# doors\nfronts:\n", head + "machines: # ours\n    a: {image: x} # a\n    # b: {image: y}\n    " + line + "\n\n# doors\nfronts:\n"},
		"blocks":            {head + "machines:\n  a:\n    image: x\n    tags:\n      role: web   # deep\n\n\n", head + "machines:\n  a:\n    image: x\n    tags:\n      role: web   # deep\n  " + line + "\n\n\n"},
		"braces over lines": {head + "machines: {\n  a: {image: \"}\"}, # one }\n  b: {image: 'it''s'} # two\n  }\n", head + "machines: {\n  a: {image: \"}\"}, # one }\n  b: {image: 'it''s'}, " + line + " # two\n  }\n"},
		"trailing comma":    {head + "machines: {a: {image: x},}\n", head + "machines: {a: {image: x}, " + line + "}\n"},
		"flow entry last":   {head + "machines:\n  a: {image: x,\n      size: y\n  }\nfronts:\n", head + "machines:\n  a: {image: x,\n      size: y\n  }\n  " + line + "\nfronts:\n"},
		"carriage returns":  {"estate: a\r\nmachines:\r\n  a: {image: x}\r\n", "estate: a\r\nmachines:\r\n  a: {image: x}\r\n  " + line + "\r\n"},
		"json":              {`{"estate": "a", "machines": {"a": {"image": "x"}}}`, `{"estate": "a", "machines": {"a": {"image": "x"}, "new-1": {"image": "linux-base", "at": "landing", "tags": {"role": "no"}}}}`},
		"not ASCII":         {head + "# größe\nmachines: {a: {image: é}}\n", head + "# größe\nmachines: {a: {image: é}, " + line + "}\n"},
		"document end":      {head + "machines:\n  a: {image: x}\n...\n", head + "machines:\n  a: {image: x}\n  " + line + "\n...\n"},
	} {
		t.Run(name, func(t *testing.T) {
			added, err := Add([]byte(c.file), []string{"machines"}, "new-1", entry)
			require.NoError(t, err)
			assert.Equal(t, c.want, string(added))
			removed, err := Remove(added, []string{"machines"}, "new-1")
			require.NoError(t, err)
			switch name {
			case "no section":
				assert.Equal(t, head+"\nmachines:\n", string(removed))
			case "no line end":
				assert.Equal(t, head+"\nmachines:\n", string(removed))
			case "trailing comma":
				assert.Equal(t, strings.Replace(c.file, ",}", "}", 1), string(removed))
			default:
				assert.Equal(t, c.file, string(removed))
			}
		})
	}
	middle, err := Remove([]byte(tides), []string{"machines"}, "gauge-web-2")
	require.NoError(t, err)
	assert.Equal(t, regexp.MustCompile(`(?m)^  gauge-web-2.*\n`).ReplaceAllString(tides, ""), string(middle))
	sub, err := Add([]byte(tides), []string{"networks", "estuary", "subnets"}, "shoal", Mapping(Field{"range", List("10.60.3.0/24", "2001:db8:60:3::/64")}))
	require.NoError(t, err)
	assert.Contains(t, string(sub), "}\n      shoal: {range: [10.60.3.0/24, \"2001:db8:60:3::/64\"]}\nlines:")
	_, err = Add([]byte(tides), []string{"machines"}, "chart-desk", entry)
	require.ErrorContains(t, err, "is there already")
	_, err = Add([]byte("estate: a\nmachines: [a]\n"), []string{"machines"}, "b", entry)
	require.ErrorContains(t, err, "is no mapping")
}

func TestSentencesAreAppendedAndRemovedAlone(t *testing.T) {
	s := sentence.MustParse("allow https from everywhere to all")
	for _, file := range []string{"", "# c\n", "# c\n\nallow http from a to b   # why\n\n", "# c\r\n"} {
		added := AppendSentence([]byte(file), s)
		assert.Equal(t, file, string(RemoveLine(added, strings.Count(string(added), "\n"))))
	}
	assert.Equal(t, "# c\n"+s.String()+"\n", string(AppendSentence([]byte("# c"), s)))
}

// TestTheSchemaKnowsTheKeysThatAreRead compares the schema's properties with the
// keys that the reader's own error lists.
func TestTheSchemaKnowsTheKeysThatAreRead(t *testing.T) {
	var doc struct {
		Properties map[string]any
		Defs       map[string]struct{ Properties map[string]any } `json:"$defs"`
	}
	require.NoError(t, json.Unmarshal(Schema(), &doc))
	known := func(file string) string {
		_, err := readBoth(file, "")
		es, _ := errors.AsType[sentence.Errors](err)
		require.NotEmpty(t, es)
		return strings.TrimPrefix(es[0].Remedy.String(), "known here: ")
	}
	assert.Equal(t, strings.Join(sortedKeys(doc.Properties), ", "), known("zzzzzzzzzzzz: 1\n"))
	for def, section := range map[string]string{
		"person": "people", "network": "networks", "line": "lines", "machine": "machines", "front": "fronts", "bastion": "bastions", "volume": "volumes", "snapshot": "snapshots", "image": "images",
	} {
		assert.Equal(t, strings.Join(sortedKeys(doc.Defs[def].Properties), ", "), known(section+":\n  a: {zzzzzzzzzzzz: 1}\n"), def)
	}
	assert.Equal(t, strings.Join(sortedKeys(doc.Defs["subnet"].Properties), ", "), known("networks:\n  a: {subnets: {b: {zzzzzzzzzzzz: 1}}}\n"))
}

// FuzzRead looks for panics, and for errors without a place, in both files.
func FuzzRead(f *testing.F) {
	f.Add(tides, tideRules)
	f.Add("estate: {a: [", "allow")
	f.Fuzz(func(t *testing.T, nouns, rules string) {
		if _, err := readBoth(nouns, rules); err != nil {
			require.NotEmpty(t, err.Error())
			return
		}
		edited, err := Add([]byte(nouns), []string{"machines"}, "zz-new", Mapping())
		if err == nil {
			_, err = Remove(edited, []string{"machines"}, "zz-new")
		}
		_ = err
	})
}

func TestSetReplacesOneValueWhereItStands(t *testing.T) {
	head := "estate: a\nsite: sim\n"
	for name, c := range map[string]struct{ file, want string }{
		"in braces":     {head + "machines:\n  a: {image: x, size: c1m1, at: s} # ours\n", head + "machines:\n  a: {image: x, size: c2m4, at: s} # ours\n"},
		"block":         {head + "machines:\n  a:\n    size: c1m1   # small\n    at: s\n", head + "machines:\n  a:\n    size: c2m4   # small\n    at: s\n"},
		"quoted":        {head + "machines:\n  a: {size: \"c1 # m1\", at: s}\n", head + "machines:\n  a: {size: c2m4, at: s}\n"},
		"list":          {head + "machines:\n  a: {size: [a, \"]\"], at: s}\n", head + "machines:\n  a: {size: c2m4, at: s}\n"},
		"block list":    {head + "machines:\n  a:\n    size:\n      - x\n    at: s\n", head + "machines:\n  a:\n    at: s\n    size: c2m4\n"},
		"absent":        {head + "machines:\n  a: {at: s}\n", head + "machines:\n  a: {at: s, size: c2m4}\n"},
		"json":          {`{"estate": "a", "machines": {"a": {"size": "c1m1"}}}`, `{"estate": "a", "machines": {"a": {"size": "c2m4"}}}`},
		"several words": {head + "machines:\n  a:\n    size: c1m1 x\n    at: s\n", head + "machines:\n  a:\n    size: c2m4\n    at: s\n"},
	} {
		t.Run(name, func(t *testing.T) {
			got, err := Set([]byte(c.file), []string{"machines", "a"}, "size", Word("c2m4"))
			require.NoError(t, err)
			assert.Equal(t, c.want, string(got))
		})
	}
	s := sentence.MustParse("allow https from everywhere to a")
	assert.Equal(t, "# c\nallow https from everywhere to a   # why\n\n", string(ReplaceLine([]byte("# c\nallow https from everywhere to a, b # why\n\n"), 2, s)))
}

func TestAddressesOfNetworksAreHeldToWhatWorks(t *testing.T) {
	file := func(subnets, machine string) string {
		return "estate: a\nsite: sim\nnetworks: {n: {space: [10.60.0.0/16, \"fd00:60::/48\"], outside: true, subnets: {" + subnets + "}}}\nmachines: {m: {image: i, size: s, at: l" + machine + "}}\n"
	}
	for name, c := range map[string]struct{ file, problem, remedy string }{
		"overlap":           {file("l: {range: 10.60.0.0/24}, o: {range: 10.60.0.128/25}", ""), "10.60.0.128/25 of subnet o overlaps 10.60.0.0/24 of subnet l", "10.60.1.0/25 is free"},
		"no length":         {file("l: {range: 10.60.1.0}", ""), "range: 10.60.1.0 has no prefix length", "write 10.60.1.0/24"},
		"no length, six":    {file("l: {range: \"fd00:60:0:1::\"}", ""), "has no prefix length", "write fd00:60:0:1::/64"},
		"host bits":         {file("l: {range: 10.60.1.9/24}", ""), "range: 10.60.1.9/24 has host bits", "write 10.60.1.0/24"},
		"outside its space": {file("l: {range: 10.61.1.0/24}", ""), "10.61.1.0/24 of subnet l lies outside the space of network n", "its space is 10.60.0.0/16, fd00:60::/48; 10.60.0.0/24 is free"},
		"small":             {file("l: {range: 10.60.1.0/31}", ""), "10.60.1.0/31 of subnet l is too small", "make it /30 or larger: 10.60.0.0/30 is free"},
		"gateway":           {file("l: {range: 10.60.1.0/24, gateway: 10.60.2.1}", ""), "gateway 10.60.2.1 lies outside subnet l", "its range is 10.60.1.0/24"},
		"gateway, no host":  {file("l: {range: 10.60.1.0/24, gateway: 10.60.1.255}", ""), "gateway 10.60.1.255 of subnet l is no host's address", "write 10.60.1.1"},
		"allocation":        {file("l: {range: 10.60.1.0/24, allocate: 10.60.1.100-10.60.2.9}", ""), "allocate: 10.60.1.100-10.60.2.9 lies outside subnet l", ""},
		"inside elsewhere":  {file("l: {range: 10.60.1.0/24}", ", inside: 10.60.2.9"), "machine m: 10.60.2.9 lies in none of its subnets", ""},
		"inside gateway":    {file("l: {range: 10.60.1.0/24, gateway: 10.60.1.9}", ", inside: 10.60.1.9"), "10.60.1.9 is the gateway of subnet l", ""},
		"no such address":   {file("l: {range: 10.60.1.0/24}", ", address: slip"), "machine m: there is no reserved address “slip”", "reserve it: add address slip"},
		"no such script":    {file("l: {range: 10.60.1.0/24}", ", setup: gauge.sh"), "machine m: there is no script setup/gauge.sh", ""},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := readBoth(c.file, "")
			es, _ := errors.AsType[sentence.Errors](err)
			require.NotEmpty(t, es)
			assert.Contains(t, es[0].Problem, c.problem)
			assert.Contains(t, es[0].Remedy.String(), c.remedy)
		})
	}
	// What is suggested works.
	_, err := readBoth(file("l: {range: 10.60.0.0/24}, b: {range: 10.60.1.16/28}", ", inside: 10.60.0.200"), "")
	require.NoError(t, err)
}

// TestEditsChangeOneFieldOnly draws files in several styles and edits of them: the
// field has the new value, every other field its own, and every other line stays.
func TestEditsChangeOneFieldOnly(t *testing.T) {
	values := []string{"x", "10.60.1.0/24", "[a, b]", "{k: v}", "\"a # b\"", "'it''s'", "true", "12"}
	rapid.Check(t, func(t *rapid.T) {
		block := rapid.Bool().Draw(t, "block")
		lines := []string{"estate: a # ours", "site: sim", "", "machines:"}
		fields := map[string]map[string]string{}
		for i := range rapid.IntRange(1, 3).Draw(t, "machines") {
			name := fmt.Sprintf("m-%d", i)
			fields[name] = map[string]string{}
			var flow []string
			var own []string
			for j := range rapid.IntRange(1, 4).Draw(t, "fields") {
				key, value := fmt.Sprintf("f-%d", j), rapid.SampledFrom(values).Draw(t, "value")
				fields[name][key] = value
				flow = append(flow, key+": "+value)
				own = append(own, "    "+key+": "+value+rapid.SampledFrom([]string{"", "   # why"}).Draw(t, "comment"))
			}
			if block {
				lines = append(append(lines, "  "+name+":   # one"), own...)
			} else {
				lines = append(lines, "  "+name+": {"+strings.Join(flow, ", ")+"} # one")
			}
		}
		lines = append(lines, "# the end", "fronts:", "")
		file := strings.Join(lines, "\n")
		name := fmt.Sprintf("m-%d", rapid.IntRange(0, len(fields)-1).Draw(t, "name"))
		key := fmt.Sprintf("f-%d", rapid.IntRange(0, 5).Draw(t, "key"))
		set, err := Set([]byte(file), []string{"machines", name}, key, List("new", "values"))
		require.NoError(t, err, file)
		root, err := tree(set)
		require.NoError(t, err, string(set))
		for m, list := range fields {
			for f := range list {
				want, got := child(child(child(mustTree(file), "machines"), m), f), child(child(child(root, "machines"), m), f)
				if m == name && f == key {
					require.Equal(t, []string{"new", "values"}, []string{got.Content[0].Value, got.Content[1].Value})
				} else {
					require.True(t, same(want, got, nil), "%s of %s\n%s", f, m, set)
				}
			}
		}
		before, after := strings.Split(file, "\n"), strings.Split(string(set), "\n")
		require.InDelta(t, len(before), len(after), 1)
		differ := 0
		for _, line := range before {
			if !slices.Contains(after, line) {
				differ++
			}
		}
		require.LessOrEqual(t, differ, 1, "%s\n=====\n%s", file, set)
		if _, there := fields[name][key]; there {
			gone, err := Remove(set, []string{"machines", name}, key)
			require.NoError(t, err)
			_, there := Lookup(gone, []string{"machines", name}, key)
			require.False(t, there)
		}
	})
}

func mustTree(file string) *yaml.Node {
	root, err := tree([]byte(file))
	if err != nil {
		panic(err)
	}
	return root
}

func TestACrowdIsToldBeforeItIsRead(t *testing.T) {
	var b strings.Builder
	b.WriteString("estate: saltmarsh\nmachines:\n  # many\n")
	for i := range MaxMachines + 1 {
		fmt.Fprintf(&b, "  m%d:\n    image: a\n", i)
	}
	b.WriteString("people:\n  mara: {}\n")
	_, err := Read(File{Name: FileName, Data: []byte(b.String())})
	require.ErrorContains(t, err, "at most 100000 machines, and here are 100001")
	require.ErrorContains(t, err, "estate.yaml:2")
	few, err := Read(File{Name: FileName, Data: []byte("estate: saltmarsh\nsite: sim\nnetworks: {e: {space: 10.0.0.0/16, subnets: {s: {range: 10.0.0.0/24}}}}\nmachines:\n  a: {image: i, size: s, at: s}\n\n  # between\n  b:\n    image: i\n    size: s\n    at: s\n")})
	require.NoError(t, err)
	assert.Len(t, few.Machines, 2)
}

// TestFreeRangesAreTheFirst looks for room in networks that have some, little and none.
func TestFreeRangesAreTheFirst(t *testing.T) {
	e, err := readBoth(`estate: saltmarsh
site: sim
networks:
  estuary: {space: [10.60.0.0/23, "2001:db8:60::/48"], subnets: {landing: {range: [10.60.0.0/24]}, deep: {range: ["2001:db8:60::/64"]}}}
  cellar: {space: [10.61.0.0/24], subnets: {vault: {range: [10.61.0.0/25]}}}
`, "")
	require.NoError(t, err)
	for _, c := range []struct {
		network string
		family  sentence.Family
		bits    int
		want    string
	}{
		{"estuary", sentence.IPv4, 24, "10.60.1.0/24"},
		{"estuary", sentence.IPv4, 25, "10.60.1.0/25"},
		{"estuary", sentence.IPv4, 23, ""},
		{"estuary", sentence.IPv6, 64, "2001:db8:60:1::/64"},
		{"cellar", sentence.IPv4, 25, "10.61.0.128/25"},
		{"cellar", sentence.IPv4, 32, "10.61.0.128/32"},
		{"cellar", sentence.IPv6, 64, ""},
		{"shoal", sentence.IPv4, 24, ""},
		{"estuary", sentence.IPv4, -1, ""},
		{"estuary", sentence.IPv6, 129, ""},
	} {
		free, ok := e.FreeRange(c.network, c.family, c.bits)
		assert.Equal(t, c.want != "", ok, "%+v", c)
		if ok {
			assert.Equal(t, c.want, free.String())
		}
	}
}

// TestWhatIsTakenOutOfBracesLeavesTheRestAsItStood takes single entries out of mappings in braces, in several styles.
func TestWhatIsTakenOutOfBracesLeavesTheRestAsItStood(t *testing.T) {
	const head = "estate: a\nmachines: "
	for _, c := range []struct{ was, name, want string }{
		{"{a: {x: 1}, b: {y: [2, 3]}, c: {}}", "a", "{b: {y: [2, 3]}, c: {}}"},
		{"{a: {x: 1}, b: {y: [2, 3]}, c: {}}", "b", "{a: {x: 1}, c: {}}"},
		{"{a: {x: 1}, b: {y: [2, 3]}, c: {}}", "c", "{a: {x: 1}, b: {y: [2, 3]}}"},
		{"{a: {},   b: {}}", "a", "{b: {}}"},
		{"{a: {},b: {},c: {}}", "b", "{a: {},c: {}}"},
		{"{ a: {} }", "a", "{  }"},
		{"{a: {}}", "a", "{}"},
		{"{a: {}, b: {}, }", "b", "{a: {}, }"},
		{"{a: {i: '}, b', j: \"\\\"{,\"}, b: {}}", "a", "{b: {}}"},
		{"{a: {i: 'it''s', j: x'y}, b: {}, c: {}}", "b", "{a: {i: 'it''s', j: x'y}, c: {}}"},
		{"{\n  a: {}, # one, }\n  b: {} # two\n  }", "b", "{\n  a: {} # two\n  }"},
		{"{\n  a: {}, # one, }\n  b: {}\n  }", "a", "{\n  # one, }\n  b: {}\n  }"},
	} {
		got, err := Remove([]byte(head+c.was+"\n"), []string{"machines"}, c.name)
		require.NoError(t, err, c.was)
		assert.Equal(t, head+c.want+"\n", string(got), "%s without %s", c.was, c.name)
		assert.NoError(t, yaml.Unmarshal(got, &map[string]any{}), string(got))
	}
	_, err := Remove([]byte(head+"{a: {}}\n"), []string{"machines"}, "b")
	require.Error(t, err)
}

// TestWhatIsReadIsWhatIsSaid reads what other packages go by: what machines may call, who is in a network, which addresses peers have.
func TestWhatIsReadIsWhatIsSaid(t *testing.T) {
	for said, open := range map[string]bool{"": false, "outside: true": true, "outside: true, outward: open": true, "outside: true, outward: closed": false, "outward: closed": false} {
		e, err := readBoth("estate: a\nsite: sim\nnetworks: {n: {"+strings.TrimPrefix(said+", space: [10.60.0.0/16]", ", ")+"}}\n", "")
		require.NoError(t, err, said)
		assert.Equal(t, open, e.Networks[0].OpenOutward, said)
	}
	e, err := readBoth(`estate: a
site: linux
networks: {n: {space: [10.60.0.0/16], outside: true, subnets: {s: {range: [10.60.1.0/24]}, u: {range: [10.60.2.0/24]}}}, whole: {space: [10.61.0.0/24], subnets: {all-of-it: {range: [10.61.0.0/24]}}}}
machines: {b: {image: i, size: s, at: [s, u], tags: {role: web}}, a: {image: i, size: s, at: u}}
uplink: {public: [203.0.113.0/28]}
lines: {headland: {network: n, range: [172.20.0.0/24], peers: {desk: {key: nKMsCVGDzBqXUcUOw9MhOOM9q5yMvP3dnuvZ9PlxRHk=, address: [172.20.0.2, 172.20.0.3]}}}}
`, "")
	require.NoError(t, err)
	targets := func(text string) []int {
		return e.Targets(sentence.MustParse("deny any from everywhere to " + text).(sentence.Deny).To)
	}
	for text, want := range map[string][]int{"n": {0, 1}, "u": {0, 1}, "s": {0}, "all": {0, 1}, "all except a": {0}, "role=web, a": {0, 1}, "a, a": {1}, "u except role=web": {1}, "whole": {}, "s, u": {0, 1}} {
		assert.ElementsMatch(t, want, targets(text), text)
	}
	desk := e.Sources[len(e.Sources)-1]
	assert.Equal(t, "desk", desk.Name)
	assert.Len(t, desk.Ranges, 2, "a peer is a source of its own addresses")
	for site, image := range map[string]string{Sim: "linux-base", Linux: "tiny"} {
		nouns, rules := Template(site, "tides", "mara", nil)
		_, err := readBoth(string(nouns), string(rules))
		require.NoError(t, err)
		assert.Contains(t, string(nouns), "site: "+site)
		assert.Contains(t, string(nouns), image)
	}
}
