package linux

import (
	"cmp"
	"context"
	"database/sql"
	"fmt"
	"slices"
	"strings"

	"ironbark/internal/change"
	"ironbark/internal/driver"
	"ironbark/internal/estate"
	"ironbark/internal/flow"
	"ironbark/internal/flow/span"
	"ironbark/internal/store"
)

// Tables lists what the installed tables do.
func (s *Site) Tables(ctx context.Context) (*driver.Tables, error) {
	if !exists(s.prefix) {
		return &driver.Tables{Where: s.prefix}, nil
	}
	o, err := s.Observe(ctx, driver.Everything) // what somebody else wrote is read back
	if err != nil {
		return nil, err
	}
	out := &driver.Tables{Where: s.prefix}
	var ways Ways
	err = s.read(ctx, func(tx *sql.Tx) (err error) {
		var m meta
		if err := store.ReadMeta(ctx, tx, &m); err != nil {
			return err
		}
		ways, err = readWays(ctx, tx, &m)
		return err
	})
	if err != nil {
		return nil, err
	}
	err = within(s.prefix, func() error {
		list, err := tableNames()
		for _, t := range list {
			out.Names = append(out.Names, familyNames[t.Family]+" "+t.Name)
		}
		if err != nil {
			return err
		}
		over, err := readEnded()
		out.Held = len(over)
		return err
	})
	slices.Sort(out.Names)
	out.Rules = slices.Concat(
		fixed("source", "drop packets of a machine from an address that is not its own", "drop packets from outside with an address of the estate's"),
		s.leads(o.Plan, ways),
		s.limitRules(o.Resources),
		fixed("judge", "refuse packets that belong to no connection and begin none", "refuse packets to which no door leads", "judge answers as the first packet of their connection"),
		judged("judge", o.Plan.Rules, o.Plan, flow.Deny, flow.Route, flow.Standing, flow.Allow),
		ownRules(o.Plan),
		judged(openedName, o.Plan.Rules, o.Plan, flow.Opening),
		judged("calls", o.Plan.Calls().Rules, o.Plan, flow.Deny, flow.Allow),
		fixed("refuse", "reset TCP, and drop everything else"),
		fixed(guardName, "drop every packet that the chain judge has not passed"),
	)
	return out, err
}

// fixed are rules that are always there.
func fixed(chain string, words ...string) (list []driver.FilterRule) {
	for _, w := range words {
		list = append(list, driver.FilterRule{Chain: chain, Verdict: driver.FilterDo, Words: w})
	}
	return list
}

// judged are rules of some kinds as a chain has them, in the order of the kinds.
func judged(chain string, rules []flow.Rule, plan *flow.Plan, kinds ...flow.RuleKind) (list []driver.FilterRule) {
	calls := chain == "calls"
	for _, kind := range kinds {
		for _, r := range rules {
			if r.Kind != kind {
				continue
			}
			one := driver.FilterRule{Chain: chain, Verdict: driver.FilterPass, Machines: named(plan, r.To.Machines), Services: r.Services, Addrs: r.From, Calls: calls, Begin: r.Begin, End: r.Until, Origin: r.Origin, Opening: r.Opening}
			switch {
			case kind == flow.Deny:
				one.Verdict = driver.FilterRefuse
			case kind == flow.Allow && !calls:
				one.Services = r.Services.Subtract(plan.AdminServices)
			}
			if !one.Services.IsEmpty() {
				list = append(list, one)
			}
		}
	}
	return list
}

func named(plan *flow.Plan, machines []int32) (names []string) {
	for _, m := range machines {
		names = append(names, plan.Machines[m].Name)
	}
	return names
}

// leads are the translations of public addresses.
func (s *Site) leads(plan *flow.Plan, ways Ways) (list []driver.FilterRule) {
	origins := map[uint32]flow.Origin{}
	for i := range plan.Doors {
		if way, ok := ways.of(&plan.Doors[i]); ok {
			origins[way] = plan.Doors[i].Origin
		}
	}
	for _, d := range NewTable(plan, s.running, ways).Doors {
		one := driver.FilterRule{Chain: "doors", Verdict: driver.FilterLead, Public: d.Public, Origin: origins[d.Ingress], Called: span.One(d.Service), Services: flow.AnyService}
		for _, to := range d.To {
			one.Machines = append(one.Machines, to.Machine)
		}
		if d.All {
			one.Called, one.Origin = flow.AnyService, flow.Origin{Sentence: "address of machine " + one.Machines[0]}
		} else if on := d.To[0].Port; on > 0 {
			one.Services = span.One(flow.TCPPort(on))
			if protocol(d.Service) == 17 {
				one.Services = span.One(flow.UDPPort(on))
			}
		} else {
			one.Services = one.Called
		}
		if one.Origin.Sentence == "" {
			one.Origin.Sentence = "bastion " + one.Machines[0]
		}
		list = append(list, one)
	}
	return list
}

// ownRules are what the doors' own sources let pass.
func ownRules(plan *flow.Plan) (list []driver.FilterRule) {
	for _, d := range plan.Doors {
		if !d.From.IsEmpty() && (d.Standing || !plan.AdminServices.Contains(d.On)) {
			list = append(list, driver.FilterRule{Chain: "judge", Verdict: driver.FilterPass, Machines: named(plan, d.To.Machines), Services: span.One(d.On), Addrs: d.From, End: d.Until, Origin: d.Origin})
		}
	}
	for _, g := range plan.Gateways {
		list = append(list, driver.FilterRule{Chain: "judge", Verdict: driver.FilterPass, Machines: []string{g.Name}, Services: span.One(flow.GatewayService), Addrs: g.From, Origin: flow.Origin{Sentence: "bastion " + g.Name}})
	}
	return list
}

// limitRules are what machines may take of the network.
func (s *Site) limitRules(list []change.Resource) (out []driver.FilterRule) {
	limits := limitsOf(list)
	by := map[[2]string][]string{} // by words, and where the limits come from
	for _, t := range list {
		if t.Kind == change.Machine {
			l := limits[t.Name].Or(ownLimits())
			words := fmt.Sprintf("%d connections at once and %d new ones a second", l.Connections, l.New)
			if l.Packets > 0 {
				words += fmt.Sprintf(", %d packets a second", l.Packets)
			}
			if l.Bytes > 0 {
				words += fmt.Sprintf(", %d bytes a second", l.Bytes)
			}
			key := [2]string{words, "the site's own limits"}
			if limits[t.Name] != (estate.Traffic{}) {
				key[1] = "limits of machine " + t.Name
			}
			by[key] = append(by[key], t.Name)
		}
	}
	for key, names := range by {
		out = append(out, driver.FilterRule{Chain: "limits", Verdict: driver.FilterDo, Machines: names, Words: "drop packets beyond " + key[0], Origin: flow.Origin{Sentence: key[1]}})
	}
	slices.SortFunc(out, func(a, b driver.FilterRule) int {
		return cmp.Or(strings.Compare(a.Words, b.Words), strings.Compare(a.Origin.Sentence, b.Origin.Sentence))
	})
	return out
}
