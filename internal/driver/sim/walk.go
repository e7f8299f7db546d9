package sim

import (
	"context"
	"encoding/json"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"ironbark/internal/driver"
	"ironbark/internal/flow"
)

// This file is the stand-in cloud's packet filter. It reads the rows of the
// installed tables and walks one packet through them, a row at a time. It uses
// none of the analysis: no address sets, no plan, no doors. That the two agree
// on every flow is evidence for both, and the tests rest on it.

// row is any row of the tables; each kind uses the fields it has.
type row struct {
	Name       string   `json:"name"`
	Network    string   `json:"network"`
	Space      []string `json:"space"`
	Outside    bool     `json:"outside"`
	Outward    string   `json:"outward"`
	Joins      []string `json:"joins"`
	Interfaces []struct {
		Network   string       `json:"network"`
		Addresses []netip.Addr `json:"addresses"`
	} `json:"interfaces"`
	Wants4   bool        `json:"wants4"`
	Public4  *netip.Addr `json:"public4"`
	Public6  *netip.Addr `json:"public6"`
	From     []string    `json:"from"`
	Machines []string    `json:"machines"`
	Kind     string      `json:"kind"`
	Group    string      `json:"group"`
	Services []string    `json:"services"`
	Front    string      `json:"front"`
	Service  string      `json:"service"`
	On       string      `json:"on"`
	Standing bool        `json:"standing"`
	Begin    *time.Time  `json:"begin"`
	Until    *time.Time  `json:"until"`
	Sentence string      `json:"sentence"`
}

// Walker judges packets by a set of installed rows.
type Walker struct {
	guard, nowhere                           []string
	networks, lines, machines, fronts, gates []row
	doors, rules, outward                    []row
	groups                                   map[string][]string
}

// NewWalker reads rows.
func NewWalker(rows []flow.Row) (*Walker, error) {
	w := &Walker{groups: map[string][]string{}}
	for _, r := range rows {
		kind, _, _ := strings.Cut(r.Key, " ")
		if list := map[string]*[]string{"guard": &w.guard, "nowhere": &w.nowhere}[kind]; list != nil {
			if err := json.Unmarshal([]byte(r.Body), list); err != nil {
				return nil, err
			}
			continue
		}
		var b row
		if err := json.Unmarshal([]byte(r.Body), &b); err != nil {
			return nil, err
		}
		switch kind {
		case "network":
			w.networks = append(w.networks, b)
		case "line":
			w.lines = append(w.lines, b)
		case "machine":
			w.machines = append(w.machines, b)
		case "front":
			w.fronts = append(w.fronts, b)
		case "gateway":
			w.gates = append(w.gates, b)
		case "door":
			w.doors = append(w.doors, b)
		case "rule":
			w.rules = append(w.rules, b)
		case "outward":
			w.outward = append(w.outward, b)
		case "group":
			w.groups[b.Name] = b.Machines
		}
	}
	return w, nil
}

// Walk sends a packet at a moment.
func (w *Walker) Walk(p driver.Packet, at time.Time) []driver.ProbeResult {
	from := w.place(p.Source)
	if from == "" || p.Arrives != "" && p.Arrives != from || p.Source.Is4() != p.Target.Is4() {
		return []driver.ProbeResult{{Reason: "no-door"}} // forged: no such source comes from there, or no packet at all
	}
	service := p.Service.String()
	m, calls := w.holder(p.Source)
	if host, ok := w.holder(p.Target); ok && host.Name == "site-host" {
		if _, from := w.callsFrom(m, p.Target.Is4()); calls && from == p.Source {
			return []driver.ProbeResult{w.judge(host.Name, p.Source, service, row{}, at)}
		}
		return []driver.ProbeResult{{Reason: "no-door"}}
	}
	if calls && w.place(p.Target) == "internet" && m.Name != "site-host" {
		return []driver.ProbeResult{w.call(m, p, service, at)}
	}
	fromOutside := from == "internet" || w.network(strings.TrimPrefix(from, "network ")).Outside && strings.HasPrefix(from, "network ")
	for _, g := range w.gates {
		if is(g.Public4, p.Target) || is(g.Public6, p.Target) {
			open := fromOutside && service == "tcp/22" && inRuns(p.Source, g.From) && w.network(g.Network).Outside
			if open {
				return []driver.ProbeResult{{Open: true, Reason: "door", By: "bastion " + g.Name}}
			}
			return []driver.ProbeResult{{Reason: "no-door"}}
		}
	}
	for _, f := range w.fronts {
		if is(f.Public4, p.Target) || is(f.Public6, p.Target) {
			if !fromOutside || !w.network(f.Network).Outside {
				return []driver.ProbeResult{{Reason: "no-door"}}
			}
			return w.throughFront(f, p, service, at)
		}
	}
	for _, m := range w.machines {
		if is(m.Public4, p.Target) {
			for _, i := range m.Interfaces {
				if w.network(i.Network).Outside && hasFamily(i.Addresses, true) && m.Wants4 && fromOutside {
					return []driver.ProbeResult{w.judge(m.Name, p.Source, service, row{}, at)}
				}
			}
			return []driver.ProbeResult{{Reason: "no-door"}}
		}
		for _, i := range m.Interfaces {
			for _, a := range i.Addresses {
				if a == p.Target && w.inside(from, i.Network, a, fromOutside) {
					return []driver.ProbeResult{w.judge(m.Name, p.Source, service, row{}, at)}
				}
			}
		}
	}
	return []driver.ProbeResult{{Reason: "no-door"}}
}

// holder finds the machine with an inside address.
func (w *Walker) holder(a netip.Addr) (row, bool) {
	for _, m := range w.machines {
		for _, i := range m.Interfaces {
			for _, own := range i.Addresses {
				if own == a {
					return m, true
				}
			}
		}
	}
	return row{}, false
}

// call judges a packet by which a machine calls an address outside. It leaves by the machine's first interface of the
// family in a network that has a gateway, from the address that it has there.
func (w *Walker) call(m row, p driver.Packet, service string, at time.Time) driver.ProbeResult {
	network, from := w.callsFrom(m, p.Target.Is4())
	if from != p.Source {
		return driver.ProbeResult{Reason: "no-door"}
	}
	for _, kind := range []string{"deny", "allow"} {
		for _, r := range w.outward {
			if r.Kind == kind && w.holds(r, m.Name, at) && inServices(service, r.Services) && inRuns(p.Target, r.From) {
				return driver.ProbeResult{Open: kind == "allow", Reason: kind, By: r.Sentence}
			}
		}
	}
	if network.Outward == "closed" {
		return driver.ProbeResult{Reason: "default"}
	}
	return driver.ProbeResult{Open: true, Reason: "allow", By: "network " + network.Name + " is open outward"}
}

// callsFrom is the address from which a machine calls outside in a family, and its network; invalid: it does not.
func (w *Walker) callsFrom(m row, v4 bool) (network row, from netip.Addr) {
	for _, i := range m.Interfaces {
		for _, a := range i.Addresses {
			private := netip.MustParsePrefix("fc00::/7").Contains(a) || netip.MustParsePrefix("fe80::/10").Contains(a)
			if n := w.network(i.Network); n.Outside && a.Is4() == v4 && !private {
				return n, a
			}
		}
	}
	return row{}, netip.Addr{}
}

// holds reports whether a row is for a machine at a moment.
func (w *Walker) holds(r row, machine string, at time.Time) bool {
	return (r.Until == nil || at.Before(*r.Until)) && (r.Begin == nil || !at.Before(*r.Begin)) && slices.Contains(w.groups[r.Group], machine)
}

// place tells where a source belongs: "network N", "line L" or "internet"; "" for
// the estate's own public addresses, from which nothing ever comes.
func (w *Walker) place(a netip.Addr) string {
	if inRuns(a, w.nowhere) || a.IsLinkLocalUnicast() {
		return ""
	}
	for _, group := range [][]row{w.machines, w.fronts, w.gates} {
		for _, r := range group {
			if is(r.Public4, a) || is(r.Public6, a) {
				return ""
			}
		}
	}
	for _, n := range w.networks {
		if inRuns(a, n.Space) {
			return "network " + n.Name
		}
	}
	for _, l := range w.lines {
		if inRuns(a, l.Space) {
			return "line " + l.Name
		}
	}
	return "internet"
}

func (w *Walker) network(name string) row {
	for _, n := range w.networks {
		if n.Name == name {
			return n
		}
	}
	return row{}
}

// inside reports whether an inside address can be called from a place.
func (w *Walker) inside(from, network string, to netip.Addr, fromOutside bool) bool {
	if from == "network "+network {
		return true
	}
	for _, j := range w.network(network).Joins {
		if from == "network "+j {
			return true
		}
	}
	for _, l := range w.lines {
		if from == "line "+l.Name && l.Network == network {
			return true
		}
	}
	private := netip.MustParsePrefix("fc00::/7").Contains(to) || netip.MustParsePrefix("fe80::/10").Contains(to)
	return to.Is6() && !private && w.network(network).Outside && fromOutside
}

// throughFront finds what a front's port leads to, and judges it there.
func (w *Walker) throughFront(f row, p driver.Packet, service string, at time.Time) (fates []driver.ProbeResult) {
	for _, d := range w.doors {
		if d.Front != f.Name || d.Service != service || d.Until != nil && !at.Before(*d.Until) {
			continue
		}
		for _, name := range w.groups[d.Group] {
			for _, m := range w.machines {
				if m.Name != name {
					continue
				}
				for _, i := range m.Interfaces {
					if i.Network == f.Network && hasFamily(i.Addresses, p.Target.Is4()) {
						fates = append(fates, w.judge(name, p.Source, d.On, d, at))
						break
					}
				}
			}
		}
	}
	if len(fates) == 0 {
		return []driver.ProbeResult{{Reason: "no-door"}}
	}
	return fates
}

// judge asks the tables about a packet that arrives at a machine.
func (w *Walker) judge(machine string, source netip.Addr, service string, door row, at time.Time) driver.ProbeResult {
	r := w.verdict(machine, source, service, door, at)
	r.Machine, r.Arrives = machine, service
	return r
}

func (w *Walker) verdict(machine string, source netip.Addr, service string, door row, at time.Time) driver.ProbeResult {
	matches := func(r row) bool {
		return w.holds(r, machine, at) && inServices(service, r.Services) && inRuns(source, r.From)
	}
	for _, r := range w.rules {
		if r.Kind == "deny" && matches(r) {
			return driver.ProbeResult{Reason: "deny", By: r.Sentence}
		}
	}
	administrative := inServices(service, w.guard)
	for _, kind := range []string{"opening", "route", "standing", "allow"} {
		for _, r := range w.rules {
			if r.Kind == kind && (kind != "allow" || !administrative) && matches(r) {
				return driver.ProbeResult{Open: true, Reason: kind, By: r.Sentence}
			}
		}
	}
	if door.Kind != "" && (door.Until == nil || at.Before(*door.Until)) && (door.Standing || !administrative) && inRuns(source, door.From) {
		return driver.ProbeResult{Open: true, Reason: "door", By: door.Sentence}
	}
	if administrative {
		return driver.ProbeResult{Reason: "administrative"}
	}
	return driver.ProbeResult{Reason: "default"}
}

func is(a *netip.Addr, b netip.Addr) bool { return a != nil && *a == b }

func hasFamily(list []netip.Addr, v4 bool) bool {
	for _, a := range list {
		if a.Is4() == v4 {
			return true
		}
	}
	return false
}

// inRuns looks an address up in runs such as 192.0.2.0-192.0.2.255.
func inRuns(a netip.Addr, runs []string) bool {
	for _, r := range runs {
		first, last, ranged := strings.Cut(r, "-")
		if !ranged {
			last = first
		}
		lo, err1 := netip.ParseAddr(first)
		hi, err2 := netip.ParseAddr(last)
		if err1 == nil && err2 == nil && lo.BitLen() == a.BitLen() && lo.Compare(a) <= 0 && a.Compare(hi) <= 0 {
			return true
		}
	}
	return false
}

// inServices looks a service such as tcp/22 up in runs such as tcp/1-1023.
func inServices(service string, runs []string) bool {
	proto, port, _ := strings.Cut(service, "/")
	n, _ := strconv.Atoi(port)
	for _, r := range runs {
		p, ports, _ := strings.Cut(r, "/")
		if p != proto {
			continue
		}
		first, last, ranged := strings.Cut(ports, "-")
		if !ranged {
			last = first
		}
		lo, _ := strconv.Atoi(first)
		hi, _ := strconv.Atoi(last)
		if lo <= n && n <= hi {
			return true
		}
	}
	return false
}

// Probe sends a packet through the installed tables.
func (s *Site) Probe(ctx context.Context, p driver.Packet) ([]driver.ProbeResult, error) {
	w, m, err := s.walker(ctx)
	if err != nil {
		return nil, fmt.Errorf("the installed tables: %w", err)
	}
	return w.at(m, s.clock.Now(), p), nil
}
