package exposure_test

import (
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"ironbark/internal/exposure"
	"ironbark/internal/flow"
	"ironbark/internal/oracle"
	"ironbark/internal/sentence"
)

// guaranteed draws an estate with guarantees, in which names mean one thing or another.
func guaranteed(t *rapid.T) oracle.World {
	pick := func(list ...string) string { return rapid.SampledFrom(list).Draw(t, "word") }
	file := fmt.Sprintf(`estate: small
site: sim
sources: {office: [%s]}
admin: [%s]
networks: {estuary: {space: [10.60.0.0/16], outside: true, subnets: {landing: {range: [10.60.1.0/24]}, lookout: {range: [10.60.9.0/27]}}}}
machines:
  web-1: {image: i, size: s, at: landing, address: auto, tags: {role: web}}
  web-2: {image: i, size: s, at: landing, tags: {role: %s}}
fronts: {pier: {network: estuary, address: auto}}
bastions: {beacon: {subnet: lookout, address: auto, from: [office]}}
`, pick("203.0.113.64/27", "198.51.100.0/24"), pick("tcp/5432", "tcp/6432"), pick("web", "db"))
	var rules []string
	for range rapid.IntRange(0, 4).Draw(t, "guarantees") {
		verb, standing := "never", ""
		if rapid.IntRange(0, 3).Draw(t, "always") == 0 {
			verb = "always"
		} else if rapid.Bool().Draw(t, "standing") {
			standing = " standing"
		}
		services, away, here := pick("ssh", "admin", "any", "https"), pick("office", "internet", "everywhere", "198.51.100.7"), pick("all", "web-1", "role=web", "pier", "beacon")
		if away != "everywhere" && here != "pier" && here != "beacon" && standing == "" && rapid.IntRange(0, 3).Draw(t, "outward") == 0 {
			rules = append(rules, fmt.Sprintf("%s %s from %s to %s", verb, services, here, away))
			continue
		}
		rules = append(rules, fmt.Sprintf("%s %s from %s to %s%s", verb, services, away, here, standing))
	}
	return oracle.WorldOf(file, rules...)
}

// TestCoverageIsLostAsSets compares what is told as lost with what each guarantee says, flow
// by flow.
func TestCoverageIsLostAsSets(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		a, b := guaranteed(t), guaranteed(t)
		pa, pb := a.Plan(), b.Plan()
		list := exposure.CoverageLost(exposure.Side{Estate: a.Estate, Plan: pa}, exposure.Side{Estate: b.Estate, Plan: pb})
		// What kinds of guarantee speak of a flow: 0 never, 1 never of what stands and more, 2 always.
		speaks := func(w oracle.World, p *flow.Plan, target string, service flow.Service, away flow.Point, outward bool) (kinds [3]bool) {
			resolve := flow.NewResolver(w.Estate, p)
			for _, st := range w.Estate.Sentences() {
				about := func(services sentence.Services, source, to sentence.Set) bool {
					if w.Estate.CallsOutside(to) != outward {
						return false
					}
					ends := resolve.Source(source)
					if outward {
						ends, to = resolve.Outside(to), source
					}
					names := slices.ContainsFunc(exposure.Targets(w.Estate, p, to), func(t exposure.Target) bool { return exposure.TargetName(p, t) == target })
					return names && resolve.Services(services).Contains(service) && ends.Contains(away)
				}
				switch s := st.Sentence.(type) {
				case sentence.Never:
					kinds[0] = kinds[0] || about(s.Services, s.From, s.To)
					kinds[1] = kinds[1] || !s.Standing && about(s.Services, s.From, s.To)
				case sentence.Always:
					kinds[2] = kinds[2] || about(s.Services, s.From, s.To)
				}
			}
			return kinds
		}
		for _, target := range []string{"web-1", "web-2", "pier", "beacon"} {
			for _, service := range []flow.Service{flow.TCPPort(22), flow.TCPPort(443), flow.TCPPort(5432), flow.TCPPort(6432)} {
				for _, text := range []string{"203.0.113.65", "198.51.100.7", "198.51.100.9", "192.0.2.1", "10.60.1.9"} {
					address, err := sentence.ParseAddress(text)
					require.NoError(t, err)
					away := flow.PointOf(address)
					for _, outward := range []bool{false, true} {
						was, is := speaks(a, pa, target, service, away, outward), speaks(b, pb, target, service, away, outward)
						var told [3]bool
						for _, u := range list {
							if u.Outward == outward && slices.Contains(u.Targets, target) && u.Flows.Services.Contains(service) && u.Flows.From.Contains(away) {
								told[map[bool]int{true: 2, false: map[bool]int{true: 1}[u.Standing]}[u.Always]] = true
							}
						}
						words := fmt.Sprintf("%s %v from %s, outward %v\n%s\n=====\n%s", target, service, text, outward, a.Text, b.Text)
						require.Equal(t, was[0] && !is[0], told[0], words)
						require.Equal(t, was[1] && !is[1] && !told[0], told[1], words)
						require.Equal(t, was[2] && !is[2], told[2], words)
					}
				}
			}
		}
	})
}

// TestAGuaranteeOfCallsCoversNothingThatComesIn has two of the same machine, addresses and service.
func TestAGuaranteeOfCallsCoversNothingThatComesIn(t *testing.T) {
	side := func(guarantee string) exposure.Side {
		w := oracle.WorldOf(small, guarantee)
		return exposure.Side{Estate: w.Estate, Plan: w.Plan()}
	}
	in, out := side("never ssh from office to web"), side("never ssh from web to office")
	for _, sides := range [][2]exposure.Side{{in, out}, {out, in}} {
		require.Len(t, exposure.CoverageLost(sides[0], sides[1]), 1)
		require.Empty(t, exposure.CoverageLost(sides[0], sides[0]))
	}
}
