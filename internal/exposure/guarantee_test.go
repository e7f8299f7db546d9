package exposure_test

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"ironbark/internal/exposure"
	"ironbark/internal/flow"
	"ironbark/internal/oracle"
	"ironbark/internal/sentence"
)

// TestGuaranteesAgreeWithTryingEverything tries every flow of a tiny estate at
// every moment that matters, and compares with what is told of its guarantees.
func TestGuaranteesAgreeWithTryingEverything(t *testing.T) {
	broken, held := 0, 0
	sources := []string{"everywhere", "internet", "buoy", "pool", "rope", "all", "a", "192.0.2.2/31", "192.0.2.5", "2001:db8::12/127", "2001:db8::/126"}
	targets := []string{"all", "a", "b", "role=web", "left"}
	services := []string{"ssh", "tcp/443", "tcp/21-23", "ping", "any", "any except ssh"}
	away := []string{"internet", "buoy", "192.0.2.2/31", "192.0.2.5", "192.0.2.0/29 except 192.0.2.4"}
	var tried []netip.Addr
	for a := range 16 {
		tried = append(tried, netip.AddrFrom4([4]byte{192, 0, 2, byte(a)}))
	}
	for a := range 64 {
		b := netip.MustParseAddr("2001:db8::").As16()
		b[15] = byte(a)
		tried = append(tried, netip.AddrFrom16(b))
	}
	tried = append(tried, netip.MustParseAddr("198.51.100.1"), netip.MustParseAddr("2001:db8:ffff::1"))
	arriving := []flow.Service{0, flow.TCPPort(20), flow.TCPPort(21), flow.TCPPort(22), flow.TCPPort(23), flow.TCPPort(24), flow.TCPPort(443), flow.TCPPort(3389), flow.UDPPort(53), flow.Ping, flow.Other}
	rapid.Check(t, func(t *rapid.T) {
		pick := func(list []string) string { return rapid.SampledFrom(list).Draw(t, "pick") }
		var rules []string
		for range rapid.IntRange(0, 3).Draw(t, "outward rules") {
			rules = append(rules, pick([]string{"allow", "allow", "deny"})+" "+pick(services)+" from "+pick(targets)+" to "+pick(away)+pick([]string{"", " until 2026-11-23T10:00:00Z"}))
		}
		for range rapid.IntRange(0, 6).Draw(t, "rules") {
			tail := rapid.SampledFrom([]string{"", "", " until 2026-11-23T10:00:00Z", " until 2026-11-23T12:00:00Z"}).Draw(t, "tail")
			verb := rapid.SampledFrom([]string{"allow", "allow", "deny"}).Draw(t, "verb")
			rules = append(rules, verb+" "+pick(services)+" from "+pick(sources)+" to "+pick(targets)+tail)
		}
		if rapid.Bool().Draw(t, "permit") {
			rules = append(rules, "permit ops to open "+pick(services)+" to "+pick(targets)+" from "+pick(sources)+" up to 1h")
		}
		if rapid.IntRange(0, 2).Draw(t, "route") == 0 {
			rules = append(rules, "route "+pick(services)+" to "+pick(targets)+" via lamp for ops")
		}
		verb := rapid.SampledFrom([]string{"never", "always"}).Draw(t, "guarantee")
		tail := ""
		if verb == "never" && rapid.Bool().Draw(t, "standing") {
			tail = " standing"
		}
		guarantee := verb + " " + pick(services) + " from " + pick(sources) + " to " + pick(targets) + tail
		if rapid.IntRange(0, 2).Draw(t, "outward") == 0 {
			guarantee = verb + " " + pick(services) + " from " + pick(targets) + " to " + pick(away)
		}
		nouns := strings.Replace(tiny, "outside: true", "outside: true\n    outward: "+pick([]string{"open", "closed"}), 1)
		w := oracle.WorldOf(nouns, append(rules, guarantee)...)
		p := w.Plan()
		got := exposure.Guarantees(w.Estate, p, oracle.Epoch)
		want := tryEverything(w, p, guarantee, tried, arriving)
		require.Equal(t, want != "", len(got) > 0, "%s: trying finds %q, the analysis %v\n%s", guarantee, want, got, w.Text)
		if len(got) > 0 {
			broken++
		} else {
			held++
		}
	})
	t.Logf("%d guarantees were broken, %d held", broken, held)
	require.Positive(t, broken)
	require.Positive(t, held)
}

// TestAGuaranteeOfAFrontIsOfWhatArrivesThere: the machine behind it is called by another service, which no guarantee names.
func TestAGuaranteeOfAFrontIsOfWhatArrivesThere(t *testing.T) {
	for _, standing := range []string{"", " standing"} {
		w := oracle.WorldOf(small, "forward pier tcp/8443 to web on https", "allow https from office to web", "never tcp/8443 from everywhere to pier"+standing)
		got := exposure.Guarantees(w.Estate, w.Plan(), oracle.Epoch)
		require.Len(t, got, 1)
		require.Equal(t, "pier", got[0].Target)
		require.Equal(t, flow.TCPPort(8443), got[0].Flow.Service)
		require.False(t, got[0].Potential)
	}
}

// callBreaks names a machine whose call to an address outside breaks a guarantee, or "".
func callBreaks(w oracle.World, p *flow.Plan, dst netip.Addr, service flow.Service, at time.Time, services sentence.Services, from, to sentence.Set, never bool) string {
	if !p.Internet().Contains(flow.PointOf(dst)) || !w.InSource(dst, to) || !w.InServices(service, services) {
		return ""
	}
	for _, i := range w.Estate.Targets(from) {
		m := w.Estate.Machines[i]
		open := false
		for _, list := range w.Given.Machines[m.Name].Inside {
			for _, src := range list {
				for _, v := range w.Ask(src, dst, service, at) {
					open = open || v.Open
				}
			}
		}
		if open == never {
			return m.Name
		}
	}
	return ""
}

// tryEverything returns the first flow that breaks a guarantee, or "".
func tryEverything(w oracle.World, p *flow.Plan, guarantee string, tried []netip.Addr, arriving []flow.Service) string {
	s := sentence.MustParse(guarantee)
	never, isNever := s.(sentence.Never)
	always, _ := s.(sentence.Always)
	services, from, to := never.Services, never.From, never.To
	if !isNever {
		services, from, to = always.Services, always.From, always.To
	}
	for _, moment := range oracle.Moments {
		for _, src := range tried {
			for _, service := range arriving {
				if w.Estate.CallsOutside(to) {
					if m := callBreaks(w, p, src, service, moment, services, from, to, isNever); m != "" {
						return fmt.Sprint(m, " ", src, " ", service, " ", moment)
					}
					continue
				}
				if !w.InSource(src, from) || !w.InServices(service, services) {
					continue
				}
				for _, i := range w.Estate.Targets(to) {
					m := w.Estate.Machines[i]
					open := false
					for _, list := range w.Given.Machines[m.Name].Inside {
						for _, dst := range list {
							for _, v := range w.Ask(src, dst, service, moment) {
								open = open || v.Open
							}
						}
					}
					possible := open || isNever && !never.Standing && w.Possible(src, m, service, moment)
					if isNever && (possible && !never.Standing || open && w.Standing(src, m, service, moment)) || !isNever && !open {
						return fmt.Sprint(src, " ", m.Name, " ", service, " ", moment)
					}
				}
			}
		}
	}
	return ""
}
