package oracle

import (
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"time"

	"pgregory.net/rapid"

	"ironbark/internal/change"
	"ironbark/internal/estate"
	"ironbark/internal/flow"
	"ironbark/internal/flow/span"
	"ironbark/internal/opening"
	"ironbark/internal/sentence"
)

// Epoch is the moment around which the drawn worlds have their ends.
var Epoch = time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)

// Moments are moments before, at and after the ends of drawn sentences.
var Moments = []time.Time{Epoch, Epoch.Add(20*time.Minute - time.Nanosecond), Epoch.Add(20 * time.Minute), Epoch.Add(time.Hour - time.Nanosecond), Epoch.Add(time.Hour), Epoch.Add(3 * time.Hour)}

const nouns = `estate: drawn
site: sim
sources:
  office: [203.0.113.64/27, "2001:db8:40::/48"]
  buoys: [198.51.100.3-198.51.100.9]
services:
  tidefeed: tcp/7400-7401
  wide: [tcp/20-30, udp/3389]
admin: [tcp/5432%s]
people:
  mara: {groups: [ops]}
networks:
  estuary:
    space: [10.60.0.0/16, "2001:db8:60::/48"]
    outside: %t
    outward: %s
    subnets:
      landing: {range: [10.60.1.0/24, "2001:db8:60:1::/64"]}
      deepwater: {range: ["2001:db8:60:2::/64"]}
      lookout: {range: [10.60.9.0/27, "2001:db8:60:9::/64"]}
  harbour:
    space: [10.61.0.0/16, "fd00:61::/48"]
    outside: %t
    joins: [%s]
    subnets:
      quay: {range: [10.61.1.0/24, "fd00:61:0:1::/64"]}
  shoal:
    space: [10.62.0.0/24, "2001:db8:62::/48"]
    outside: %t
    outward: %s
    subnets:
      bank: {range: [10.62.0.0/25, "2001:db8:62:1::/64"]}
lines:
  headland: {network: %s, range: [172.20.0.0/16, "2001:db8:77::/48"]}
addresses: {slip: ipv4}
%smachines:
`

// uplinks are what a drawn estate has of a host.
var uplinks = []string{"", "uplink: {public: [203.0.113.0/26]}\n"}

// hostAddrs are those of the host: two of them in a drawn source, one in a network.
var hostAddrs = []netip.Addr{
	netip.MustParseAddr("198.51.100.1"), netip.MustParseAddr("203.0.113.70"), netip.MustParseAddr("2001:db8:40::7"), netip.MustParseAddr("10.60.77.1"), netip.MustParseAddr("fe80::77"),
}

var (
	services = []string{"ssh", "https", "ping", "any", "tcp/20-25", "udp/3380-3400", "any except ssh", "any except tcp/443, ping, tidefeed", "tidefeed", "wide", "https, rdp", "tcp/5432", "dns, ntp"}
	sources  = []string{"everywhere", "internet", "all", "office", "buoys", "headland", "estuary", "landing", "quay", "shoal", "m-1", "m-*", "role=web", "198.51.100.7", "198.51.100.0/24", "2001:db8::/32", "10.60.1.4-10.61.1.5", "2001:db8:60:1::/64", "everywhere", "internet", "estuary", "site-host"}
	targets  = []string{"all", "all", "m-1", "m-2", "m-*", "role=web", "role=db", "landing", "deepwater", "quay", "estuary", "harbour", "shoal"}
	subnets  = []string{"landing", "deepwater", "quay", "bank", "[landing, quay]", "[deepwater, bank]"}
	callers  = []string{"all", "all", "m-1", "m-2", "m-*", "role=web", "landing", "estuary", "shoal"}
	away     = []string{"internet", "internet", "office", "buoys", "198.51.100.7", "198.51.100.0/24", "2001:db8:1000::/36", "192.0.2.0-203.0.113.255", "2001:db8:40::/44"}
	called   = []string{"https", "tcp/8022", "tcp/5432", "udp/514", "tcp/23"}
	tails    = []string{"", "", "", " until 2026-11-23T10:00:00Z", " until 2026-11-23T12:00:00Z", " until 2026-11-23T08:00:00Z"}
)

// Draw draws a world: two to six machines, two fronts and a bastion in three
// networks, four to sixteen sentences of every form that concerns flows, and up
// to three openings.
func Draw(t *rapid.T) World {
	return DrawShifted(t, rapid.IntRange(0, shifts-1).Draw(t, "shift"))
}

// shifts is how many worlds differ in their names, and in the subnets of their machines.
const shifts = 6000

// DrawShifted is Draw with names and the machines' subnets settled by shift, so that two
// worlds with one shift differ only in what can be altered.
func DrawShifted(t *rapid.T, shift int) World {
	rename := namesOf(shift)
	pick := func(label string, list []string) string { return rename(rapid.SampledFrom(list).Draw(t, label)) }
	outside := func() bool { return rapid.IntRange(0, 3).Draw(t, "outside") > 0 }
	outward := func(outside bool) string {
		if !outside {
			return "closed"
		}
		return pick("outward", []string{"open", "closed"})
	}
	first, third := outside(), outside()
	file := fmt.Sprintf(rename(nouns), pick("admin", []string{"", ", wide", ", ping"}), first, outward(first), outside(), pick("joins", []string{"", "estuary", "shoal"}), third, outward(third), pick("line", []string{"estuary", "harbour"}), pick("uplink", uplinks))
	slip := rapid.IntRange(0, 8).Draw(t, "slip") // which machine has the reserved address; 0: the front; 7, 8: none
	for i := range rapid.IntRange(2, 6).Draw(t, "machines") {
		at := subnets[(i+shift)%len(subnets)]
		extra := pick("tags", []string{"", ", tags: {role: web}", ", tags: {role: db}"}) + pick("address", []string{"", ", address: auto"})
		if i+1 == slip {
			extra = ", address: slip"
		}
		file += rename(fmt.Sprintf("  m-%d: {image: linux-base, size: c1m1, at: %s%s}\n", i+1, at, extra))
	}
	if first {
		front := "auto"
		if slip == 0 {
			front = "slip"
		}
		file += rename("fronts:\n  pier: {network: estuary, address: " + front + "}\nbastions:\n  beacon: {subnet: lookout, address: auto, from: [" + pick("from", []string{"everywhere", "office", "internet"}) + "]}\n")
	}
	set := setDrawer(t, pick)
	var rules []string
	for range rapid.IntRange(4, 16).Draw(t, "sentences") {
		rules = append(rules, rename(drawSentence(t, pick, set)))
	}
	w := settle(file, rules)
	w.rename = rename
	return drawOpenings(t, w, set)
}

// setDrawer draws sets of atoms out of a list, now and then several, less some.
func setDrawer(t *rapid.T, pick func(string, []string) string) func(label string, list []string) string {
	return func(label string, list []string) string {
		s := pick(label, list)
		if rapid.IntRange(0, 3).Draw(t, "more") == 0 {
			s += ", " + pick(label, list)
		}
		if rapid.IntRange(0, 3).Draw(t, "less") == 0 {
			s += " except " + pick(label, list)
		}
		return s
	}
}

// WithoutHost returns the world without an uplink, for sites that have none.
func (w World) WithoutHost() World {
	file, rules, _ := strings.Cut(w.Text, "---\n")
	for _, uplink := range uplinks {
		file = strings.Replace(file, uplink, "", 1)
	}
	out := settle(file, strings.Split(rules, "\n"))
	out.rename, out.Openings = w.rename, slices.DeleteFunc(w.Openings, func(o opening.Opening) bool {
		return slices.ContainsFunc(o.Parts, func(p opening.Part) bool { return slices.Contains(p.Machines, estate.SiteHost) })
	})
	return out
}

// Altered draws a world that differs from w in a few sentences.
func (w World) Altered(t *rapid.T) World {
	pick := func(label string, list []string) string { return w.Name(rapid.SampledFrom(list).Draw(t, label)) }
	file, rules, _ := strings.Cut(w.Text, "---\n")
	var lines []string
	for line := range strings.SplitSeq(rules, "\n") {
		if rapid.IntRange(0, 4).Draw(t, "keep") > 0 {
			lines = append(lines, line)
		}
	}
	for range rapid.IntRange(0, 3).Draw(t, "new") {
		lines = append(lines, w.Name(drawSentence(t, pick, setDrawer(t, pick))))
	}
	out := settle(file, lines)
	out.rename = w.rename
	return out
}

func drawSentence(t *rapid.T, pick func(string, []string) string, set func(string, []string) string) string {
	middle := func() string {
		return pick("services", services) + " from " + set("source", sources) + " to " + set("target", targets)
	}
	standing := func(yes bool) string {
		if yes {
			return " standing until 2026-11-23T10:00:00Z because \"drawn\""
		}
		return pick("tail", tails)
	}
	outward := func() string {
		return pick("services", services) + " from " + set("callers", callers) + " to " + set("away", away) + pick("tail", tails)
	}
	switch rapid.IntRange(0, 13).Draw(t, "verb") {
	case 0, 1:
		return "deny " + middle() + pick("tail", tails)
	case 2:
		return "allow " + middle() + standing(true)
	case 3:
		from := pick("from", []string{"", " from " + pick("source", sources)})
		return "forward pier " + pick("called", called) + " to " + pick("machine", []string{"m-1", "m-2", "m-3"}) + " on " + pick("on", called) + from + standing(from != "" && rapid.Bool().Draw(t, "standing"))
	case 4:
		return "spread pier " + pick("called", called) + " over " + pick("target", targets) + " on " + pick("on", called) + pick("from", []string{"", " from " + set("source", sources)})
	case 6:
		return "permit ops to open " + pick("services", services) + " to " + set("target", targets) + " from everywhere up to 4h"
	case 10, 11:
		return "allow " + outward()
	case 12:
		return "deny " + outward()
	case 13:
		return pick("to the host", []string{"allow ", "allow ", "deny "}) + pick("services", services) + " from " + set("callers", callers) + " to site-host" + pick("tail", tails)
	case 5:
		return "route " + pick("services", services) + " to " + set("target", targets) + " via beacon for ops"
	}
	return "allow " + middle() + pick("tail", tails)
}

// WorldOf reads files into a world, with addresses given as a site would. Lines of
// the rules that are in error are left out.
func WorldOf(nouns string, rules ...string) World { return settle(nouns, rules) }

// settle reads the files, leaving out the lines that are in error: a drawn
// sentence may speak of what was not drawn.
func settle(file string, rules []string) World {
	for {
		text := strings.Join(rules, "\n")
		e, err := estate.Read(estate.File{Name: estate.FileName, Data: []byte(file)}, estate.File{Name: estate.RulesName, Data: []byte(text)})
		if err == nil {
			return World{Estate: e, Given: give(e), Text: file + "---\n" + text}
		}
		before := file + strings.Join(rules, "\n")
		for _, one := range slices.Backward(err.(sentence.Errors)) {
			if one.At.File == estate.RulesName && one.At.Line <= len(rules) {
				rules[one.At.Line-1] = ""
				continue
			}
			lines := strings.Split(file, "\n")
			lines[one.At.Line-1] = asked.ReplaceAllString(lines[one.At.Line-1], "")
			file = strings.Join(lines, "\n")
		}
		if before == file+strings.Join(rules, "\n") {
			panic("oracle: the drawn files cannot be mended: " + err.Error())
		}
	}
}

// asked is the address that a machine asks for.
var asked = regexp.MustCompile(`, address: [a-z0-9-]+`)

// give gives addresses as a site would.
func give(e *estate.Estate) flow.Assigned {
	resources, err := change.Desired(e, nil, nil, nil)
	if err != nil {
		panic(err)
	}
	return assign(resources)
}

// assign gives public addresses in the order of the things.
func assign(resources []change.Resource) flow.Assigned {
	next4, next6 := netip.MustParseAddr("203.0.113.10"), netip.MustParseAddr("2001:db8:f:1::10")
	for i := range resources {
		if resources[i].Spec.Auto4 {
			resources[i].Given.Addr4, next4 = next4, next4.Next()
		}
		if resources[i].Spec.Auto6 {
			resources[i].Given.Addr6, next6 = next6, next6.Next()
		}
	}
	given := change.Assigned(change.Planned(resources, resources))
	given.Host = hostAddrs
	return given
}

func drawOpenings(t *rapid.T, w World, set func(string, []string) string) World {
	if len(w.Estate.Machines) == 0 {
		return w
	}
	text := ""
	for i := range rapid.IntRange(0, 3).Draw(t, "openings") {
		if i == 0 || rapid.Bool().Draw(t, "another") {
			text = w.Name("open " + rapid.SampledFrom(services).Draw(t, "services") + " to m-1 from " + set("source", sources) + " until 2026-11-23T10:00:00Z because \"drawn\"")
		}
		s, err := sentence.ParseArgs([]string{text}, Epoch)
		if err != nil || w.Estate.CheckSentence(s) != nil {
			continue
		}
		words := s.(sentence.Open)
		resolve := flow.NewResolver(w.Estate, w.Plan())
		o := opening.Opening{ID: int64(i + 1), Person: "mara", Words: words, Begin: Epoch.Add(rapid.SampledFrom([]time.Duration{-time.Minute, 20 * time.Minute, time.Hour}).Draw(t, "begin"))}
		end := words.Until.Add(rapid.SampledFrom([]time.Duration{0, 0, -30 * time.Minute, time.Hour}).Draw(t, "later"))
		for part := range rapid.IntRange(1, 2).Draw(t, "parts") {
			machine := estate.SiteHost
			if i := rapid.IntRange(0, len(w.Estate.Machines)).Draw(t, "machine"); i < len(w.Estate.Machines) {
				machine = w.Estate.Machines[i].Name
			}
			o.Parts = append(o.Parts, opening.Part{
				Machines: []string{machine},
				From:     resolve.Source(words.From), Services: resolve.Services(words.Services), End: end.Add(time.Duration(-part) * time.Minute),
			})
		}
		w.Openings = append(w.Openings, o)
	}
	return w
}

// Plan compiles the world's flow plan, openings included.
func (w World) Plan() *flow.Plan {
	p := flow.Compile(w.Estate, w.Given)
	var rules []flow.Rule
	for _, o := range w.Openings {
		rules = append(rules, o.Rules(p)...)
	}
	return p.With(rules...)
}

// Interesting lists addresses and services at, just before and just after the
// edges that matter in the world.
func (w World) Interesting() (addrs []netip.Addr, list []flow.Service) {
	near := func(a netip.Addr) {
		for _, x := range []netip.Addr{a, a.Prev(), a.Next()} {
			if x.IsValid() && x.BitLen() == a.BitLen() && !x.Is4In6() {
				addrs = append(addrs, x)
			}
		}
	}
	p := w.Plan()
	edges := func(s flow.Addrs) {
		for _, r := range s.Runs() {
			near(r.Lo.Addr())
			near(r.Hi.Addr())
		}
	}
	for i := range p.Machines {
		edges(p.AddrsOf(int32(i)))
	}
	edges(p.Own())
	for _, n := range p.Networks {
		edges(n.Space)
	}
	for _, l := range p.Lines {
		edges(l.Range)
	}
	var all flow.Services
	for _, r := range slices.Concat(p.Rules, p.Outward) {
		edges(r.From)
		all = all.Union(span.Of(r.Services.Runs()...))
		for _, run := range r.Services.Runs() {
			list = append(list, run.Lo, run.Hi, min(run.Hi+1, flow.Other), max(run.Lo, 1)-1)
		}
	}
	list = append(list, flow.TCPPort(22), flow.TCPPort(443), flow.TCPPort(8022), flow.UDPPort(514), flow.TCPPort(23), flow.Ping, flow.Other)
	slices.SortFunc(addrs, netip.Addr.Compare)
	slices.Sort(list)
	return slices.Compact(addrs), slices.Compact(list)
}
