package findings

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"sync"

	"ironbark/internal/estate"
	"ironbark/internal/fault"
	"ironbark/internal/flow"
	"ironbark/internal/sentence"
)

// privateServices are services that are hardly ever meant for everybody, by the names and
// ports of the IANA registry (RFC 6335), and a few ports that are widely used for what the
// registry calls otherwise or nothing.
var privateServices = map[string]string{
	"file sharing":             "tcp/137-139,udp/137-139,tcp/445,tcp/2049,udp/2049,tcp/548,tcp/873,udp/69,tcp/111,udp/111",
	"databases":                "tcp/1433-1434,udp/1434,tcp/1521,tcp/3306,tcp/5432,tcp/5984,tcp/6432,tcp/7000-7001,tcp/9042,tcp/9200,tcp/9300,tcp/27017-27019,tcp/50000",
	"caches and queues":        "tcp/6379,tcp/11211,udp/11211,tcp/4369,tcp/5672,tcp/9092,tcp/2181",
	"control of containers":    "tcp/2375-2377,tcp/6443,tcp/10250,tcp/10255,tcp/2379-2380",
	"directory services":       "tcp/88,udp/88,tcp/389,udp/389,tcp/464,tcp/636,tcp/3268-3269",
	"printers":                 "tcp/515,tcp/631,udp/631,tcp/9100-9107",
	"monitoring and discovery": "udp/161-162,udp/514,udp/1900,udp/5353,tcp/135,udp/135,tcp/623,udp/623",
}

// privates is the set of all of those.
var privates = sync.OnceValue(func() (all flow.Services) {
	for _, text := range privateServices {
		all = all.Union(portsOf(text))
	}
	return all
})

func portsOf(text string) flow.Services { return flow.ServicesOf(shipped{}, portList(text)) }

func portList(text string) (s sentence.Services) {
	for word := range strings.SplitSeq(text, ",") {
		one, err := sentence.ParseService(word)
		if err != nil {
			panic("findings: " + err.Error())
		}
		s.List = append(s.List, one)
	}
	return s
}

// shipped knows the names that ship with the language.
type shipped struct{}

func (shipped) Ports(name string) ([]sentence.Service, bool) { return sentence.WellKnown(name) }

// open finds what a sentence lets in from the internet at large that is hardly ever meant
// for it. What is administrative stays closed, and is told elsewhere.
func (l *looker) open(s sentence.Sentence, services sentence.Services, from sentence.Set, to *flow.Group) {
	if !l.atLarge(l.resolve.Source(from)) || !l.muchOf(l.leads(to, l.resolve.Services(services)).Intersect(l.resolve.Source(from))) {
		return
	}
	set := l.resolve.Services(services)
	if set.Contains(flow.Other) { // any, or any except some
		l.find(Caution, AnyService, s.String(), "name the services that are meant", "every service is open to the internet")
		return
	}
	l.privately(s, set)
	l.elsewhere(s, set)
}

// privately finds services hardly ever meant for everybody.
func (l *looker) privately(s sentence.Sentence, set flow.Services) {
	if found := set.Intersect(l.private).Subtract(l.p.AdminServices); !found.IsEmpty() {
		l.find(Caution, Private, s.String(), "name who needs it: from SOURCE", "hardly ever meant for the whole internet: "+flow.PrintServices(found, l.namings)+" in")
	}
}

// atLarge reports whether a source is the internet by and large, as muchOf tells. Sentences share their sources, so it is remembered by set.
func (l *looker) atLarge(from flow.Addrs) bool {
	if size(from) < l.least {
		return false
	}
	is, known := l.large[from.Memory()]
	if !known {
		is = l.muchOf(from)
		l.large[from.Memory()] = is
	}
	return is
}

// muchOf reports whether a set is half of the internet or more, in one of the families.
func (l *looker) muchOf(from flow.Addrs) bool {
	for _, f := range l.families {
		if f.size > 0 && size(from.Intersect(f.internet)) >= f.size/2 {
			return true
		}
	}
	return false
}

// families are the addresses of the internet, a family each, with their number.
type families [2]struct {
	internet flow.Addrs
	size     float64
}

func familiesOf(internet flow.Addrs) (f families) {
	for i, all := range []flow.Addrs{flow.AllIPv4, flow.AllIPv6} {
		f[i].internet = internet.Intersect(all)
		f[i].size = size(f[i].internet)
	}
	return f
}

// least is the number of addresses below which a set is not half of either family.
func (f families) least() float64 {
	least := math.Inf(1)
	for _, one := range f {
		if one.size > 0 {
			least = min(least, one.size/2)
		}
	}
	return least
}

// size is the number of addresses of a set, near enough.
func size(s flow.Addrs) (n float64) {
	for _, r := range s.Runs() {
		n += number(r.Hi) - number(r.Lo) + 1
	}
	return n
}

// number is an address as a number, near enough.
func number(p flow.Point) (n float64) {
	for _, b := range p.Addr().AsSlice() {
		n = n*256 + float64(b)
	}
	return n
}

// movedServices are ports to which administrative services are widely moved, to be found less easily.
var movedServices = []struct {
	name  string
	ports sentence.Services
}{
	{"ssh", portList("tcp/2022,tcp/2200,tcp/2222,tcp/8022,tcp/10022,tcp/22222")},
	{"telnet", portList("tcp/2323")},
	{"rdp", portList("tcp/3390,tcp/13389,tcp/33389,tcp/33890")},
	{"vnc", portList("tcp/5800-5803,tcp/5904-5910")},
}

// door finds a door by which nobody gets in: nothing lets anybody in by it, nor could.
func (l *looker) door(s sentence.Sentence, on sentence.Service, from, to sentence.Set, standing bool) {
	services := l.resolve.Services(sentence.Services{List: []sentence.Service{on}})
	l.elsewhere(s, services)
	if inside := services.Intersect(l.p.AdminServices); !inside.IsEmpty() && !from.IsEmpty() && !standing {
		l.find(Caution, Guarded, s.String(), fmt.Sprintf("leave “from” out; permit PEOPLE to open %s to %s from %s up to 2h", on, to, from),
			"administrative services stay closed to a door's “from”: "+flow.PrintServices(inside, l.namings)+" in")
		return
	}
	if !from.IsEmpty() {
		if l.atLarge(l.resolve.Source(from)) {
			l.privately(s, services)
		}
		return
	}
	guarded := l.p.AdminServices.ContainsAll(services)
	for _, m := range l.resolve.Group(to).Machines {
		if one := l.couldLet()[m]; one.all.Overlaps(services) || !guarded && one.plain.Overlaps(services) {
			return
		}
	}
	remedy := fmt.Sprintf("allow %s from SOURCE to %s", on, to)
	if guarded {
		remedy = fmt.Sprintf("permit PEOPLE to open %s to %s from SOURCE up to 2h", on, to)
	}
	l.find(Note, Useless, s.String(), remedy, "nobody gets in by this door: no sentence lets anybody in, nor lets anybody open it")
}

// lets are the services that sentences let in to a machine, or let people open: those but for administrative ones, and all.
type lets struct{ plain, all flow.Services }

func (c *common) letting() []lets {
	by := map[*flow.Group]lets{} // rules share their groups
	add := func(set flow.Services, g *flow.Group, guarded bool) {
		one := by[g]
		if guarded {
			one.all = joined(one.all, set)
		} else {
			one.plain = joined(one.plain, set)
		}
		by[g] = one
	}
	for i := range c.p.Rules {
		switch r := &c.p.Rules[i]; r.Kind {
		case flow.Allow, flow.Standing, flow.Route:
			if r.Active(c.at) && r.Origin.File != "" { // what others put into the tables is no sentence
				add(r.Services, r.To, r.Kind != flow.Allow)
			}
		}
	}
	resolve := flow.NewResolver(c.e, c.p)
	for _, st := range c.e.SentencesOf(sentence.VerbPermit) {
		o := st.Sentence.(sentence.Permit)
		add(resolve.Services(o.Services), resolve.Group(o.To), true)
	}
	letting := make([]lets, len(c.p.Machines))
	for g, one := range by {
		for _, m := range g.Machines {
			mine := &letting[m]
			mine.plain, mine.all = joined(mine.plain, one.plain), joined(mine.all, one.all)
		}
	}
	return letting
}

// joined is the union of two sets, of which one often holds the other.
func joined(a, b flow.Services) flow.Services {
	if a.ContainsAll(b) {
		return a
	}
	return a.Union(b)
}

// permit finds what is seldom meant of a permit.
func (l *looker) permit(s sentence.Permit) {
	if limit := l.e.Limits.Opening(); s.UpTo.Length() > limit {
		cut := s
		cut.UpTo = sentence.DurationOf(limit)
		l.find(Caution, TooLong, s.String(), "write it as: "+cut.String(), "this permit is for longer than the estate's limit of "+cut.UpTo.String()+", and grants no more than that")
	}
	source := l.resolve.Source(s.From)
	if l.atLarge(source) {
		l.find(Caution, WideSource, s.String(), "name where your people come from: from SOURCE", "this permit lets people open to the whole internet")
	}
	if !s.Services.Console() && l.leads(l.resolve.Group(s.To), l.resolve.Services(s.Services)).Intersect(source).IsEmpty() {
		l.find(Caution, Unusable, s.String(), "give the machines a public address or a forward, or permit it from where a door leads there", "nobody can use this permit: no door leads from there to there")
	}
	if s.Approvals > 0 && l.approvers(s) < s.Approvals {
		l.find(Caution, Unusable, s.String(), "name more people who may approve, or ask for fewer approvals", "nobody can use this permit: it needs more approvals than others can give")
	}
}

// approvers counts the most people who can approve what somebody asks for by a permit.
func (l *looker) approvers(s sentence.Permit) (most int) {
	belongs := func(person string, names []sentence.Name) bool {
		return slices.ContainsFunc(names, func(n sentence.Name) bool { return l.e.Belongs(person, n.Text) })
	}
	for _, asks := range l.e.People {
		if !belongs(asks.Name, s.People) {
			continue
		}
		n := 0
		for _, p := range l.e.People {
			if p.Name != asks.Name && belongs(p.Name, s.Approvers) {
				n++
			}
		}
		most = max(most, n)
	}
	return most
}

// fronts finds fronts that lead nowhere.
func (l *looker) fronts() {
	leads := map[string]bool{}
	for _, d := range l.p.Doors {
		leads[d.Front] = true
	}
	for _, f := range l.e.Fronts {
		if !leads[f.Name] {
			l.pos = f.At
			l.advise(Note, NoPorts, f.Name, fault.Run("spread", f.Name, "https", "over", "TARGET", "on", "https", "from", "everywhere").Say(", or ").Run("remove", "front", f.Name), "this front has no ports, and leads nowhere")
		}
	}
}

// tested finds a test that no machine can pass.
func (l *looker) tested(s sentence.Spread) {
	on := l.resolve.Services(sentence.Services{List: []sentence.Service{s.On}})
	never := func(remedy, why string) {
		l.find(Caution, NeverPasses, s.String(), remedy, "no machine can pass this test: "+why)
	}
	switch {
	case s.Tested.Kind == 0:
	case !on.IsEmpty() && on.Runs()[0].Lo >= flow.UDPPort(0):
		never("leave the test out", s.On.String()+" is no TCP, and tests are")
	case s.Tested.Kind == sentence.TestHTTP && (on.Overlaps(l.p.AdminServices) || on.Overlaps(l.private)):
		never("tested by tcp", s.On.String()+" does not speak HTTP")
	case l.nobodyListens(s.Over, on):
		never("change what comes after “on”, or what the machines listen on", "none of the machines listens on "+flow.PrintServices(on, l.namings))
	}
}

// nobodyListens reports whether it is known of all machines of a set that they listen on none of some services.
func (l *looker) nobodyListens(over sentence.Set, on flow.Services) bool {
	if l.listens == nil {
		return false
	}
	return !slices.ContainsFunc(l.resolve.Group(over).Machines, func(m int32) bool {
		listens, known := l.listens(l.p.Machines[m].Name)
		return !known || listens.Overlaps(on)
	})
}

// bastions finds bastions that answer everywhere.
func (l *looker) bastions() {
	for _, b := range l.e.Bastions {
		if l.pos = b.At; l.atLarge(l.resolve.Source(b.From)) {
			l.advise(Caution, WideBastion, b.Name, fault.Run("change", "bastion", b.Name, "--from", "SOURCE"), "this bastion answers the whole internet")
		}
	}
}

// withoutLogin finds machines that nobody can log in to.
func (l *looker) withoutLogin() {
	if l.e.Site == estate.Linux { // its light machines know no logins
		return
	}
	for _, m := range l.e.Machines {
		if len(m.Keys) == 0 && !m.Password {
			l.machine(Caution, NoLogin, m.Name, fault.Run("change", "machine", "NAME", "--key", "KEY").Say(", or --password ask"), "nobody can log in, for want of a key or a password")
		}
	}
}
