package linux

import (
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"ironbark/internal/driver"
	"ironbark/internal/exposure"
	"ironbark/internal/flow"
	"ironbark/internal/flow/span"
	"ironbark/internal/oracle"
)

// judge looks a packet up as the kernel does, slowly. It returns the machines to which it
// gets.
func (t *Table) judge(opened map[string][]Box, p driver.Packet, at time.Time) (machines []string) {
	look := func(list []Box, b Box, byService bool) (n int) {
		now := uint64(at.UnixNano())
		for _, x := range list {
			if x.Class == b.Class && x.Ingress == b.Ingress && x.Source.Lo.Compare(b.Source.Lo) <= 0 && b.Source.Lo.Compare(x.Source.Hi) <= 0 &&
				x.Begin <= now && (x.End == 0 || now <= x.End) && (!byService || x.Services.Lo <= b.Services.Lo && b.Services.Lo <= x.Services.Hi) {
				n++
			}
		}
		return n
	}
	src := flow.One(p.Source)
	if t.Inside.Contains(src.Lo) && p.Arrives == "internet" {
		return nil
	}
	type arrival struct {
		Target
		way     uint32
		service flow.Service
	}
	arrivals := []arrival{{Target{Addr: p.Target}, untranslated, p.Service}}
	for _, d := range t.Doors {
		if d.Public == p.Target && uint64(at.UnixNano()) < d.End && (d.All || d.Service == p.Service) {
			arrivals = nil
			for _, to := range d.To {
				a := arrival{to, d.Ingress, p.Service}
				if !d.All {
					a.service = flow.TCPPort(to.Port)
					if protocol(d.Service) == 17 {
						a.service = flow.UDPPort(to.Port)
					}
				}
				arrivals = append(arrivals, a)
			}
			break
		}
	}
	for _, a := range arrivals {
		i := slices.IndexFunc(t.Class, func(m Member) bool { return m.Addr == a.Addr })
		if i < 0 {
			continue
		}
		class := t.Class[i].Class
		b := Box{Class: t.Audience[i].Class, Source: src, Services: span.Run[flow.Service]{Lo: a.service}}
		profile := uint32(0)
		for _, p := range t.Who {
			if p.Audience == b.Class && p.Source.Lo.Compare(src.Lo) <= 0 && src.Lo.Compare(p.Source.Hi) <= 0 {
				profile = p.Profile
			}
		}
		has := func(list []Entry) bool {
			return slices.ContainsFunc(list, func(e Entry) bool {
				return e.Profile == profile && e.Services.Lo <= a.service && a.service <= e.Services.Hi
			})
		}
		switch {
		case look(t.Reach, Box{Class: class, Ingress: a.way, Source: src}, false) == 0, look(t.DenyUntil, b, true) > 0, has(t.Deny):
		case look(opened[a.Addr.String()], Box{Source: src, Services: b.Services}, true) > 0, look(t.PassUntil, b, true) > 0, has(t.Pass), look(t.Own, Box{Ingress: a.way, Source: src}, false) > 0:
			machines = append(machines, a.Addr.String())
		}
	}
	return machines
}

// TestTheTableSaysWhatTheOracleSays looks random packets up in the table of random
// estates, as the kernel would. Sets have no boxes that overlap: the kernel refuses them.
func TestTheTableSaysWhatTheOracleSays(t *testing.T) {
	flows, open, calls := 0, 0, 0
	rapid.Check(t, func(t *rapid.T) {
		w := oracle.Draw(t)
		plan := w.Plan()
		table := NewTable(plan, nil, waysOf(plan))
		for _, one := range []*Table{table, table.Calls} {
			var who, entries []Box // as boxes
			for _, p := range one.Who {
				who = append(who, Box{Class: p.Audience, Source: p.Source})
			}
			for way, list := range [][]Entry{one.Deny, one.Pass} {
				for _, e := range list {
					entries = append(entries, Box{Class: e.Profile, Ingress: uint32(way), Services: e.Services})
				}
			}
			for _, set := range [][]Box{one.Reach, one.DenyUntil, one.PassUntil, one.Own, who, entries} {
				apart(t, set)
			}
		}
		opened := map[string][]Box{}
		var list []driver.Passage
		for _, o := range w.Openings {
			p := driver.Passage{ID: o.ID, Begin: o.Begin}
			for _, part := range o.Parts {
				p.Parts = append(p.Parts, driver.Part{Machines: part.Machines, Services: part.Services, From: part.From, End: part.End})
			}
			list = append(list, p)
		}
		for _, m := range plan.Machines {
			for _, i := range m.Interfaces {
				for _, a := range i.Addrs {
					opened[a.String()] = openings(list, m.Name)
				}
			}
			apart(t, openings(list, m.Name))
		}
		addrs, services := w.Interesting()
		var targets []netip.Addr
		for i := range plan.Machines {
			for _, run := range plan.AddrsOf(int32(i)).Runs() {
				targets = append(targets, run.Lo.Addr())
			}
		}
		for _, run := range plan.Own().Runs() {
			targets = append(targets, run.Lo.Addr())
		}
		for _, d := range plan.Doors {
			services = append(services, d.Service)
		}
		r := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 1))
		for _, at := range oracle.Moments {
			view := exposure.NewView(plan, at)
			for range 200 {
				src, dst, service := addrs[r.IntN(len(addrs))], targets[r.IntN(len(targets))], services[r.IntN(len(services))]
				if plan.Callable().Contains(flow.PointOf(src)) && src.Is4() == dst.Is4() { // the other way round, it is called
					want, _ := saysOf(view, driver.Packet{Source: dst, Target: src, Service: service})
					got := table.Calls.judge(nil, driver.Packet{Source: src, Target: dst, Service: service}, at)
					require.Equal(t, want, len(got) > 0, "%v calls %v %v at %v in\n%s", dst, src, service, at, w.Text)
					calls += len(got)
				}
				if src.Is4() != dst.Is4() || plan.Own().Contains(flow.PointOf(src)) {
					continue
				}
				if slices.ContainsFunc(plan.Doors, func(d flow.Published) bool { return d.Service == service && protocol(d.On) != protocol(service) }) {
					continue // the kernel has no such doors
				}
				var want []string
				for _, part := range view.Ask(span.One(service), span.One(flow.PointOf(src)), exposure.Target{Machine: -1, Address: dst}) {
					if part.Open && part.Machine >= 0 {
						want = append(want, plan.Machines[part.Machine].Name)
					}
				}
				var got []string
				for _, a := range table.judge(opened, driver.Packet{Source: src, Target: dst, Service: service}, at) {
					for _, m := range plan.Machines {
						for _, i := range m.Interfaces {
							if slices.Contains(i.Addrs, netip.MustParseAddr(a)) {
								got = append(got, m.Name)
							}
						}
					}
				}
				slices.Sort(want)
				slices.Sort(got)
				require.Equal(t, want, got, "%v to %v %v at %v in\n%s", src, dst, service, at, w.Text)
				flows++
				open += min(1, len(want))
			}
		}
	})
	t.Logf("%d packets, %d open; %d calls outside", flows, open, calls)
	require.Positive(t, open)
	require.Positive(t, calls)
}

// apart requires that no two boxes overlap.
func apart(t require.TestingT, set []Box) {
	for i, a := range set {
		for _, b := range set[i+1:] {
			meet := a.Class == b.Class && a.Ingress == b.Ingress && a.Services.Lo <= b.Services.Hi && b.Services.Lo <= a.Services.Hi &&
				a.Source.Lo.Compare(b.Source.Hi) <= 0 && b.Source.Lo.Compare(a.Source.Hi) <= 0 && a.Begin <= b.End && b.Begin <= a.End
			require.False(t, meet, "%v and %v overlap", a, b)
		}
	}
}
