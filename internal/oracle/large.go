package oracle

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"time"

	"ironbark/internal/change"
	"ironbark/internal/estate"
	"ironbark/internal/flow"
)

// Large is a made-up estate of a size, as a team that grew for years would have
// it: networks of 200 machines in four subnets, roles of 25 machines, named
// sources with overlapping prefixes, lines, fronts, both families.
type Large struct {
	Nouns, Rules string
	Openings     int // how many openings go with it
}

// MakeLarge makes an estate of n machines and about ten sentences for each. Equal
// seeds make equal estates.
//
// Of the services named 20 % are https, 65 % one of 40 own ones, 5 % ranges and
// 2 % any. Of the sentences 45 % speak of a role, 25 % of a subnet or network, 4 % of single
// machines (one machine in twenty has a few of its own), 1 % of all machines (at
// most 100), and the rest publish, permit and route.
func MakeLarge(n int, seed uint64) Large {
	r := rand.New(rand.NewPCG(seed, uint64(n)))
	networks := max(1, n/200)
	var y strings.Builder
	y.WriteString("estate: saltmarsh\nsite: sim\nsources:\n")
	sources := max(10, n/25)
	for i := range sources {
		// Overlapping on purpose: a /16 in one, /24s of it in others.
		fmt.Fprintf(&y, "  buoy-%d: [%d.%d.%d.0/24, \"2001:db8:%x::/48\", 198.18.%d.0/%d]\n", i, 20+i%80, i%7, i%256, 0x1000+i, i%4*64, 18+i%7)
	}
	y.WriteString("services:\n")
	const services = 40
	for i := range services {
		fmt.Fprintf(&y, "  feed-%d: [tcp/%d-%d, udp/%d]\n", i, 7000+i*10, 7000+i*10+i%8, 7000+i*10)
	}
	y.WriteString("admin: [tcp/5432, tcp/9200-9210]\npeople:\n  mara: {groups: [ops]}\n  ilse: {groups: [ops, leads]}\nnetworks:\n")
	for i := range networks {
		joins := ""
		if i > 0 && i%3 == 0 {
			joins = fmt.Sprintf("    joins: [reach-%d]\n", i-1)
		}
		fmt.Fprintf(&y, "  reach-%d:\n    space: [10.%d.%d.0/21, \"2001:db8:%x::/48\"]\n    outside: %t\n%s    subnets:\n", i, 60+i/32, i%32*8, 0x8000+i, i%5 != 4, joins)
		for s := range 4 {
			fmt.Fprintf(&y, "      pool-%d-%d: {range: [10.%d.%d.0/24, \"2001:db8:%x:%x::/64\"]}\n", i, s, 60+i/32, i%32*8+s, 0x8000+i, s+1)
		}
		fmt.Fprintf(&y, "      gate-%d: {range: [10.%d.%d.0/27, \"2001:db8:%x:99::/64\"]}\n", i, 60+i/32, i%32*8+7, 0x8000+i)
	}
	return finishLarge(n, r, &y, networks, sources, services)
}

// at returns the network, subnet and role of a machine.
func at(i int) (network, subnet, role int) { return i / 200, i / 50 % 4, i / 25 }

func finishLarge(n int, r *rand.Rand, y *strings.Builder, networks, sources, services int) Large {
	y.WriteString("lines:\n")
	for i := range max(1, networks/10) {
		fmt.Fprintf(y, "  strand-%d: {network: reach-%d, range: [172.%d.%d.0/24, \"2001:db8:%x::/48\"]}\n", i, i*5%networks, 20+i/256, i%256, 0xc000+i)
	}
	y.WriteString("machines:\n")
	for i := range n {
		network, subnet, role := at(i)
		address := ""
		if i%50 == 0 && network%5 != 4 {
			address = ", address: auto"
		}
		fmt.Fprintf(y, "  gauge-%d: {image: linux-web, size: c1m1, at: pool-%d-%d, tags: {role: r%d, tier: t%d}%s}\n", i, network, subnet, role, i%3, address)
	}
	y.WriteString("fronts:\n")
	var outside []int
	for i := range networks {
		if i%5 != 4 {
			outside = append(outside, i)
			fmt.Fprintf(y, "  pier-%d: {network: reach-%d, address: auto}\n", i, i)
		}
	}
	y.WriteString("bastions:\n")
	for _, i := range outside {
		fmt.Fprintf(y, "  beacon-%d: {subnet: gate-%d, address: auto, from: [everywhere]}\n", i, i)
	}
	var b strings.Builder
	service := func() string {
		switch n := r.IntN(100); {
		case n < 2:
			return "any"
		case n < 7:
			return fmt.Sprintf("tcp/%d-%d", 1000+r.IntN(20)*100, 3400+r.IntN(10)*100)
		case n < 27:
			return "https"
		case n < 35:
			return "http, https, ping"
		}
		return fmt.Sprintf("feed-%d", r.IntN(services))
	}
	source := func() string {
		switch r.IntN(12) {
		case 0:
			return "everywhere"
		case 1:
			return "internet except buoy-0"
		case 2:
			return fmt.Sprintf("reach-%d", r.IntN(networks))
		case 3, 4:
			return fmt.Sprintf("role=r%d", r.IntN(max(1, n/25)))
		case 5:
			return fmt.Sprintf("198.51.%d.0/%d", r.IntN(4)*64, 18+r.IntN(7))
		}
		return fmt.Sprintf("buoy-%d", r.IntN(sources))
	}
	verb := func() string {
		if r.IntN(8) == 0 {
			return "deny"
		}
		return "allow"
	}
	line := func(target string) {
		what, from := service(), source()
		if wide := from == "everywhere" || strings.HasPrefix(from, "internet"); wide && what != "http, https, ping" {
			what = "https" // nobody opens much to everybody, nor denies it
		}
		fmt.Fprintf(&b, "%s %s from %s to %s\n", verb(), what, from, target)
	}
	sentences := 12 * n
	for i := range min(100, max(1, sentences/100)) {
		fmt.Fprintf(&b, "deny any from 192.0.2.%d to all\n", i)
	}
	for range sentences * 4 / 100 {
		line(fmt.Sprintf("gauge-%d", r.IntN(max(1, n/20))*20))
	}
	for range sentences * 45 / 100 {
		line(fmt.Sprintf("role=r%d", r.IntN(max(1, n/25))))
	}
	for range sentences * 25 / 100 {
		network := r.IntN(networks)
		if r.IntN(20) == 0 {
			line(fmt.Sprintf("reach-%d", network))
		} else if network < n/200 {
			line(fmt.Sprintf("pool-%d-%d", network, r.IntN(4)))
		}
	}
	for i := range n { // one forward for every tenth machine, a spread a role
		network, _, role := at(i)
		if network%5 == 4 {
			continue
		}
		if i%10 == 3 {
			fmt.Fprintf(&b, "forward pier-%d tcp/%d to gauge-%d on ssh\n", network, 20000+i%200, i)
		}
		if i%25 == 0 {
			fmt.Fprintf(&b, "spread pier-%d tcp/%d over role=r%d on https from %s\n", network, 30000+role%8, role, source())
		}
	}
	for i := range sentences * 10 / 100 {
		fmt.Fprintf(&b, "permit ops to open ssh to role=r%d from buoy-%d up to 4h\n", i%max(1, n/25), r.IntN(sources))
	}
	for i, network := range outside {
		if i%2 == 0 {
			fmt.Fprintf(&b, "route ssh, rdp to reach-%d via beacon-%d for ops\n", network, network)
		}
	}
	return Large{Nouns: y.String(), Rules: b.String(), Openings: n / 100}
}

// Read reads the estate and gives addresses as a site would.
func (l Large) Read() (*estate.Estate, flow.Assigned, error) {
	e, err := estate.Read(estate.File{Name: estate.FileName, Data: []byte(l.Nouns)}, estate.File{Name: estate.RulesName, Data: []byte(l.Rules)})
	if err != nil {
		return nil, flow.Assigned{}, err
	}
	resources, err := change.Desired(e, nil, nil, nil)
	if err != nil {
		return nil, flow.Assigned{}, err
	}
	return e, assign(resources), nil
}

// Opened returns the plan with an opening of ssh, for an hour from a moment, on
// machines spread over the estate.
func (l Large) Opened(p *flow.Plan, from time.Time) *flow.Plan {
	rules := make([]flow.Rule, 0, l.Openings)
	ssh, _ := flow.ParseServiceRuns([]string{"tcp/22"})
	source, _ := flow.ParseAddrRuns([]string{"198.51.100.7"})
	for i := range l.Openings {
		rules = append(rules, flow.Rule{
			Kind: flow.Opening, From: source, To: &flow.Group{Machines: []int32{int32(i * 100)}}, Services: ssh,
			Until: from.Add(time.Hour), Opening: int64(i + 1), Origin: flow.Origin{Sentence: fmt.Sprintf("open ssh to machine %d", i*100)},
		})
	}
	return p.With(rules...)
}
