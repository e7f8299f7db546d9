package exposure_test

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"ironbark/internal/exposure"
	"ironbark/internal/flow"
	"ironbark/internal/opening"
	"ironbark/internal/oracle"
	"ironbark/internal/sentence"
)

const small = `estate: small
site: sim
sources: {office: [203.0.113.64/27, "2001:db8:40::/48"]}
people: {mara: {groups: [ops]}}
networks:
  estuary:
    space: [10.60.0.0/16, "2001:db8:60::/48"]
    outside: true
    subnets:
      landing: {range: [10.60.1.0/24, "2001:db8:60:1::/64"]}
      deepwater: {range: ["2001:db8:60:2::/64"]}
      lookout: {range: [10.60.9.0/27, "2001:db8:60:9::/64"]}
  harbour:
    space: [10.61.0.0/16]
    joins: [estuary]
    subnets: {quay: {range: [10.61.1.0/24]}}
  shoal:
    space: [10.62.0.0/16]
    joins: [harbour]
    subnets: {bank: {range: [10.62.1.0/24]}}
lines:
  headland: {network: estuary, range: [172.20.0.0/16]}
machines:
  web: {image: i, size: s, at: landing, address: auto}
  deep: {image: i, size: s, at: deepwater}
  dock: {image: i, size: s, at: quay}
  sand: {image: i, size: s, at: bank}
fronts:
  pier: {network: estuary, address: auto}
bastions:
  beacon: {subnet: lookout, address: auto, from: [office]}
`

// reach prints what is open at a machine, a line an entry.
func reach(w oracle.World, p *flow.Plan, machine string, at time.Time) string {
	m, ok := p.MachineByName(machine)
	if !ok {
		panic("no machine " + machine)
	}
	names := exposure.NewNames(w.Estate, p)
	var lines []string
	for _, e := range exposure.NewView(p, at).Reach(m) {
		door := e.Door.Kind.String()
		if e.Door.Via != "" {
			door += " " + e.Door.Via
		}
		lines = append(lines, fmt.Sprintf("%s: %s %s by %s", door, names.Plain(e.From), strings.Join(flow.ServiceRuns(e.Services), ","), e.Reason))
	}
	return strings.Join(lines, "\n")
}

// TestClauses has a case for each clause of docs/language.md that decides what is open.
func TestClauses(t *testing.T) {
	for name, c := range map[string]struct {
		rules   []string
		machine string
		at      time.Duration
		want    string
	}{
		"closed by default": {nil, "web", 0, ""},
		"a range keeps its administrative part closed": {
			[]string{"allow tcp/20-24 from office to deep"},
			"deep", 0,
			"direct: office (IPv6) tcp/20-21,tcp/24 by allow",
		},
		"any covers every protocol and no administrative service": {
			[]string{"allow any from 2001:db8:40::7 to deep"},
			"deep", 0,
			"direct: 2001:db8:40::7 tcp/0-21,tcp/24-3388,tcp/3390-5899,tcp/5904-5984,tcp/5987-65535,udp/0-3388,udp/3390-65535,ping,other by allow",
		},
		"any except takes away": {
			[]string{"allow any except ping, tcp/1-65535 from 2001:db8:40::7 to deep"},
			"deep", 0,
			"direct: 2001:db8:40::7 tcp/0,udp/0-3388,udp/3390-65535,other by allow",
		},
		"ping is neither a port nor the rest": {[]string{"allow ping from office to deep"}, "deep", 0, "direct: office (IPv6) ping by allow"},
		"standing lets administrative services in": {
			[]string{`allow tcp/22-24 from office to deep standing until 2026-11-23T10:00:00Z because "x"`},
			"deep", 0,
			"direct: office (IPv6) tcp/22-23 by standing\ndirect: office (IPv6) tcp/24 by standing",
		},
		"at exactly its end a sentence is over": {[]string{"allow https from office to deep until 2026-11-23T10:00:00Z"}, "deep", time.Hour, ""},
		"just before its end it holds":          {[]string{"allow https from office to deep until 2026-11-23T10:00:00Z"}, "deep", time.Hour - 1, "direct: office (IPv6) tcp/443 by allow"},
		"an ending deny opens":                  {[]string{"allow https from office to deep", "deny any from everywhere to all until 2026-11-23T10:00:00Z"}, "deep", time.Hour, "direct: office (IPv6) tcp/443 by allow"},
		"a deny is absolute": {
			[]string{"allow https from office to web", `allow ssh from office to web standing until 2026-11-23T10:00:00Z because "x"`, "deny any from 203.0.113.64/28 to all", "deny any from 2001:db8::/32 to all"},
			"web", 0,
			"direct: 203.0.113.80/28 tcp/22 by standing\ndirect: 203.0.113.80/28 tcp/443 by allow",
		},
		"except takes away by address": {
			[]string{"allow https from office, 198.51.100.0/24 except 203.0.113.64/28, 2001:db8::/32 to web"},
			"web", 0,
			"direct: 198.51.100.0/24, 203.0.113.80/28 tcp/443 by allow",
		},
		"a joined network comes in from inside, and is not passed on": {
			[]string{"allow https from everywhere to dock"}, "dock", 0, "inside: harbour, shoal, estuary (IPv4) tcp/443 by allow",
		},
		"joining is mutual and not transitive":         {[]string{"allow https from everywhere to sand"}, "sand", 0, "inside: harbour, shoal tcp/443 by allow"},
		"a line leads to its network and nowhere else": {[]string{"allow https from headland to all"}, "web", 0, "line headland: headland tcp/443 by allow"},
		"a line leads not to joined networks":          {[]string{"allow https from headland to all"}, "dock", 0, ""},
		"a globally routable range is a direct door":   {[]string{"allow https from internet to deep"}, "deep", 0, "direct: internet (IPv6) tcp/443 by allow"},
		"a forward translates, and ssh stays ssh":      {[]string{"forward pier tcp/8022 to web on ssh from everywhere"}, "web", 0, ""},
		"a door's own from is for that door": {
			[]string{"forward pier tcp/8443 to web on https from office"},
			"web", 0,
			"forward pier: office (IPv4) tcp/443 by door\nforward pier: office (IPv6) tcp/443 by door",
		},
		"an allow holds through every door": {
			[]string{"forward pier tcp/8443 to web on https", "allow https from 203.0.113.64 to web"},
			"web", 0,
			"direct: 203.0.113.64 tcp/443 by allow\nforward pier: 203.0.113.64 tcp/443 by allow",
		},
		"a forward can be standing": {
			[]string{`forward pier tcp/8022 to web on ssh from 203.0.113.64 standing until 2026-11-23T10:00:00Z because "x"`},
			"web", 0,
			"forward pier: 203.0.113.64 tcp/22 by door",
		},
		"a spread serves each machine in the families that it has": {
			[]string{"spread pier https over web, deep on https from office"}, "deep", 0, "spread pier: office (IPv6) tcp/443 by door",
		},
		"a route is for the gateway's own inside address": {
			[]string{"route ssh to web via beacon for ops"},
			"web", 0,
			"direct: beacon (IPv4) tcp/22 by route\ninside: beacon (IPv4) tcp/22 by route\ninside: beacon (IPv6) tcp/22 by route",
		},
		"what lasts longest is named": {
			[]string{"allow https from office to deep until 2026-11-23T10:00:00Z", "allow https from 2001:db8:40::/64 to deep"},
			"deep", 0,
			"direct: 2001:db8:40::/64 tcp/443 by allow\ndirect: office (IPv6) except 2001:db8:40::/64 tcp/443 by allow",
		},
	} {
		t.Run(name, func(t *testing.T) {
			w := oracle.WorldOf(small, c.rules...)
			require.Len(t, w.Estate.Sentences(), len(c.rules), "every sentence is sound")
			assert.Equal(t, c.want, reach(w, w.Plan(), c.machine, oracle.Epoch.Add(c.at)))
		})
	}
}

func open(t *testing.T, w oracle.World, words string) opening.Opening {
	t.Helper()
	s, err := sentence.ParseArgs([]string{words}, oracle.Epoch)
	require.NoError(t, err)
	o := s.(sentence.Open)
	resolve := flow.NewResolver(w.Estate, w.Plan())
	return opening.Opening{ID: 7, Person: "mara", Words: o, Begin: oracle.Epoch, Parts: []opening.Part{{Machines: []string{"web"}, From: resolve.Source(o.From), Services: resolve.Services(o.Services), End: oracle.Epoch.Add(o.For.Length())}}}
}

func TestAnOpeningIsOverriddenByADeny(t *testing.T) {
	w := oracle.WorldOf(small, "deny ssh from 203.0.113.64/28 to web until 2026-11-23T09:30:00Z")
	w.Openings = []opening.Opening{open(t, w, `open ssh to web from 203.0.113.64/27 for 1h because "x"`)}
	assert.Equal(t, "direct: 203.0.113.80/28 tcp/22 by opening", reach(w, w.Plan(), "web", oracle.Epoch))
	assert.Equal(t, "direct: office (IPv4) tcp/22 by opening", reach(w, w.Plan(), "web", oracle.Epoch.Add(30*time.Minute)))
	assert.Equal(t, "", reach(w, w.Plan(), "web", oracle.Epoch.Add(time.Hour)))
}

// TestReachIsDisjointAndComplete holds the entries of random estates to their
// promise: no two share a flow, and together they are what the oracle lets in.
func TestReachIsDisjointAndComplete(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		w := oracle.Draw(t)
		p := w.Plan()
		at := rapid.SampledFrom(oracle.Moments).Draw(t, "at")
		view := exposure.NewView(p, at)
		addrs, services := w.Interesting()
		r := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 1))
		for m := range p.Machines {
			entries := view.Reach(int32(m))
			one, target := exposure.NewViewOf(p, at, int32(m)), exposure.Target{Machine: int32(m)}
			require.Equal(t, view.Ask(flow.AnyService, p.Everywhere(), target), one.Ask(flow.AnyService, p.Everywhere(), target), "a view of one machine says the same of it")
			for i, a := range entries {
				for _, b := range entries[:i] {
					same := a.Door.Kind == b.Door.Kind && a.Door.Via == b.Door.Via && a.Door.Address == b.Door.Address && a.Door.Service == b.Door.Service
					require.False(t, same && a.From.Overlaps(b.From) && a.Services.Overlaps(b.Services), "two entries share flows\n%s", w.Text)
				}
			}
			for range 60 {
				src, service := addrs[r.IntN(len(addrs))], services[r.IntN(len(services))]
				for _, d := range p.DoorsTo(int32(m)) {
					if !d.Address.IsValid() || d.Translated() || !d.From.Contains(flow.PointOf(src)) {
						continue
					}
					told := slices.ContainsFunc(entries, func(e exposure.Entry) bool {
						return e.Door.Address == d.Address && e.Door.Kind == d.Kind && e.Door.Via == d.Via && e.From.Contains(flow.PointOf(src)) && e.Services.Contains(service)
					})
					for _, v := range w.Ask(src, d.Address, service, at) {
						if v.Machine == p.Machines[m].Name {
							require.Equal(t, v.Open, told, "%v to %v %v through %v\n%s", src, d.Address, service, d.Kind, w.Text)
						}
					}
				}
			}
		}
	})
}

// TestNamesMeanWhatTheySay puts random sets into words and reads the words as a
// source: the same addresses come back.
func TestNamesMeanWhatTheySay(t *testing.T) {
	read := 0
	rapid.Check(t, func(t *rapid.T) {
		w := oracle.Draw(t)
		p := w.Plan()
		names, resolve := exposure.NewNames(w.Estate, p), flow.NewResolver(w.Estate, p)
		sets := []flow.Addrs{p.Everywhere(), p.Internet(), p.Everywhere().Subtract(p.Internet())}
		for _, r := range p.Rules {
			sets = append(sets, r.From)
		}
		for m := range p.Machines {
			sets = append(sets, p.AddrsOf(int32(m)))
			for _, d := range p.DoorsTo(int32(m)) {
				sets = append(sets, d.From)
			}
		}
		for range 30 {
			set := rapid.SampledFrom(sets).Draw(t, "a")
			switch other := rapid.SampledFrom(sets).Draw(t, "b"); rapid.IntRange(0, 3).Draw(t, "how") {
			case 0:
				set = set.Union(other)
			case 1:
				set = set.Intersect(other)
			case 2:
				set = set.Subtract(other)
			}
			if set.IsEmpty() {
				continue
			}
			text := names.Plain(set)
			require.Equal(t, names.PlainSlowly(set), text)
			list, _ := names.Listed(set, math.MaxInt)
			for longest := max(0, len(list)-20); longest < len(list)+2; longest++ {
				short, ok := names.Listed(set, longest)
				require.Equal(t, len(list) <= longest, ok, "%s within %d bytes", list, longest)
				require.True(t, !ok || short == list)
			}
			if strings.Contains(text, "(") || strings.Contains(text, w.Name("beacon")) {
				continue // a family is told for people; gateways are no sources
			}
			s, err := sentence.Parse("allow any from " + text + " to all")
			require.NoError(t, err, text)
			require.NoError(t, w.Estate.CheckSentence(s), text)
			require.True(t, resolve.Source(s.(sentence.Allow).From).Equal(set), "%s for %v\n%s", text, flow.AddrRuns(set), w.Text)
			read++
		}
	})
	require.Greater(t, read, 500)
}

// TestTheFirstOfTheShortestWordsIsTaken has sets for which several words are of one length: two exceptions, and an exception and a list.
func TestTheFirstOfTheShortestWordsIsTaken(t *testing.T) {
	address := func(i int) string { return fmt.Sprintf("198.51.100.%d", 100+2*i) }
	upTo := func(from, to int) (list []string) {
		for i := from; i < to; i++ {
			list = append(list, address(i))
		}
		return list
	}
	few, rest := upTo(0, 15), upTo(15, 26)
	list, except := strings.Join(few, ", "), " except "+strings.Join(rest, ", ")
	for by := -1; by <= 1; by++ { // the exception is shorter than the list, as long, or longer
		name := strings.Repeat("x", len(list)+by-len(except))
		nouns := fmt.Sprintf("%s  %s: [%s]\n  aa: [192.0.2.0-192.0.2.76, 192.0.2.78-192.0.2.255]\n  d: [192.0.2.0-192.0.2.6, 192.0.2.8-192.0.2.255]\n", "estate: small\nsite: sim\nsources:\n", name, strings.Join(slices.Concat(few, rest), ", "))
		w := oracle.WorldOf(nouns)
		p := w.Plan()
		names, resolve := exposure.NewNames(w.Estate, p), flow.NewResolver(w.Estate, p)
		words := func(text string) string {
			s, err := sentence.ParseSource(text)
			require.NoError(t, err)
			said := names.Plain(resolve.Source(s))
			require.Equal(t, names.PlainSlowly(resolve.Source(s)), said)
			return said
		}
		require.Equal(t, map[bool]string{true: name + except, false: list}[by < 0], words(list))
		require.Contains(t, []string{"aa except 192.0.2.7", "d except 192.0.2.77"}, words("aa except 192.0.2.7"))
	}
}

// TestASentenceIsInForceIfItsAbsenceIsNoticed takes each rule away in turn, and
// compares with what is told of it at each machine.
func TestASentenceIsInForceIfItsAbsenceIsNoticed(t *testing.T) {
	count := map[exposure.EffectState]int{}
	rapid.Check(t, func(t *rapid.T) {
		w := oracle.Draw(t)
		p := w.Plan()
		view := exposure.NewView(p, oracle.Epoch)
		for i, r := range p.Rules {
			if !flow.Active(r.Until, oracle.Epoch) || slices.ContainsFunc(p.Rules, func(o flow.Rule) bool { return o.Origin == r.Origin && o.Opening != r.Opening }) {
				continue
			}
			without := *p
			without.Rules = slices.Delete(slices.Clone(p.Rules), i, i+1)
			was, is := boxes(view, flow.Addrs{}, byDoor), boxes(exposure.NewView(&without, oracle.Epoch), flow.Addrs{}, byDoor)
			for _, m := range r.To.Machines {
				noticed := false
				for key := range keys(was, is) {
					for _, s := range points(was[key], is[key]) {
						noticed = noticed || strings.HasPrefix(key, p.Machines[m].Name+" ") && !at(was[key], s).Equal(at(is[key], s))
					}
				}
				for _, e := range view.Effects(m) {
					if e.Origin == r.Origin && e.Opening == r.Opening {
						count[e.State]++
						require.Equal(t, noticed, e.State == exposure.InForce, "%s at %s is told to be %s: %s\n%s", r.Origin.Sentence, p.Machines[m].Name, e.State, e.Why, w.Text)
					}
				}
			}
		}
	})
	t.Logf("%v", count)
	for _, state := range []exposure.EffectState{exposure.InForce, exposure.Redundant, exposure.Overridden, exposure.Dead} {
		require.Positive(t, count[state], state)
	}
}

// TestPathsAreTheShortestAndReal compares the lengths with a search over single
// machines, and holds every hop to what is open.
func TestPathsAreTheShortestAndReal(t *testing.T) {
	found := 0
	rapid.Check(t, func(t *rapid.T) {
		w := oracle.Draw(t)
		p := w.Plan()
		view := exposure.NewView(p, oracle.Epoch)
		leads := func(from flow.Addrs, to int) bool {
			return slices.ContainsFunc(view.Reach(int32(to)), func(e exposure.Entry) bool { return e.From.Overlaps(from) })
		}
		// Lengths by relaxing every pair until nothing changes.
		length := make([]int, len(p.Machines))
		for round := range len(p.Machines) + 1 {
			for to := range p.Machines {
				if length[to] > 0 {
					continue
				}
				for from := range p.Machines {
					if round > 0 && length[from] == round && from != to && leads(p.AddrsOf(int32(from)), to) {
						length[to] = round + 1
					}
				}
				if round == 0 && leads(p.Internet(), to) {
					length[to] = 1
				}
			}
		}
		ways := view.Paths(p.Internet(), false)
		for m, machine := range p.Machines {
			paths := ways.To(machine.Name)
			require.Equal(t, length[m] > 0, len(paths) > 0, "%s\n%s", machine.Name, w.Text)
			for _, path := range paths {
				found++
				require.Len(t, path, length[m])
				for i, hop := range path {
					from := p.Internet()
					if i > 0 {
						require.Equal(t, path[i-1].To, hop.From)
						m, _ := p.MachineByName(hop.From)
						from = p.AddrsOf(m)
					}
					require.True(t, hop.Entry.From.Overlaps(from), "%v\n%s", hop, w.Text)
				}
			}
		}
	})
	require.Positive(t, found)
}

// tiny is an estate that lies in 16 IPv4 and 64 IPv6 addresses, so that every
// flow there is can be tried. What is outside of them is one address for all.
const tiny = `estate: tiny
site: sim
sources: {buoy: [192.0.2.4/30, "2001:db8::10/124"]}
people: {mara: {groups: [ops]}}
networks:
  pool:
    space: [192.0.2.8/29, "2001:db8::20/123"]
    outside: true
    subnets:
      left: {range: [192.0.2.8/29, "2001:db8::20/124"]}
      gate: {range: ["2001:db8::30/124"]}
lines: {rope: {network: pool, range: [192.0.2.0/31]}}
machines:
  a: {image: i, size: s, at: left}
  b: {image: i, size: s, at: left, tags: {role: web}}
bastions: {lamp: {subnet: gate, address: auto, from: [buoy]}}
`

// TestPartsOfAnAnswerAreThoseOfSingleFlows asks about everything at once, and about single flows: each flow lies in one part, which says of it what is said of the
// flow alone, and no two parts say the same of the same sources through the same door.
func TestPartsOfAnAnswerAreThoseOfSingleFlows(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		w := oracle.Draw(t)
		p := w.Plan()
		view := exposure.NewView(p, rapid.SampledFrom(oracle.Moments).Draw(t, "at"))
		addrs, services := w.Interesting()
		r := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 2))
		targets := []exposure.Target{}
		for m := range p.Machines {
			targets = append(targets, exposure.Target{Machine: int32(m)})
		}
		for _, f := range p.Fronts {
			targets = append(targets, exposure.Target{Machine: -1, Front: f.Name})
		}
		for _, target := range targets {
			parts := view.Ask(flow.AnyService, p.Everywhere(), target)
			for i, a := range parts {
				for _, b := range parts[:i] {
					alike := a.Machine == b.Machine && a.Open == b.Open && a.Cause.Same(b.Cause) &&
						a.Door.Kind == b.Door.Kind && a.Door.Via == b.Door.Via && a.Door.Address == b.Door.Address && a.Door.Family == b.Door.Family && a.Door.Service == b.Door.Service
					require.False(t, alike && a.From.Equal(b.From), "two parts that are one: %+v and %+v\n%s", a, b, w.Text)
				}
			}
			for range 40 {
				src, service := addrs[r.IntN(len(addrs))], services[r.IntN(len(services))]
				if !p.Everywhere().Contains(flow.PointOf(src)) {
					continue
				}
				var told []exposure.Part
				for _, part := range parts {
					if part.Services.Contains(service) && part.From.Contains(flow.PointOf(src)) {
						told = append(told, part)
					}
				}
				alone := view.Ask(flow.ServicesAt(service), flow.AddrsAt(src), target)
				require.Len(t, told, len(alone), "%v from %v to %v\n%s", service, src, exposure.TargetName(p, target), w.Text)
				for i, one := range alone {
					of := []any{one.Machine, one.Open, one.Reason, one.Origin, one.Opening, one.Until, one.Door.Kind, one.Door.Via, one.Door.Address, one.Door.Service}
					is := []any{told[i].Machine, told[i].Open, told[i].Reason, told[i].Origin, told[i].Opening, told[i].Until, told[i].Door.Kind, told[i].Door.Via, told[i].Door.Address, told[i].Door.Service}
					require.Equal(t, of, is, "%v from %v to %v\n%s", service, src, exposure.TargetName(p, target), w.Text)
				}
			}
		}
	})
}
