package findings

import (
	"fmt"
	"slices"
	"strings"

	"ironbark/internal/estate"
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

// private is the set of all of those.
func (l *looker) privates() flow.Services {
	if l.private.IsEmpty() {
		for _, text := range privateServices {
			l.private = l.private.Union(portsOf(text))
		}
	}
	return l.private
}

func portsOf(text string) flow.Services {
	var list []sentence.Service
	for word := range strings.SplitSeq(text, ",") {
		s, err := sentence.ParseService(word)
		if err != nil {
			panic("findings: " + err.Error())
		}
		list = append(list, s)
	}
	return flow.ServicesOf(shipped{}, sentence.Services{List: list})
}

// shipped knows the names that ship with the language.
type shipped struct{}

func (shipped) Ports(name string) ([]sentence.Service, bool) { return sentence.Shipped(name) }

// open finds what a sentence lets in from the internet at large that is hardly ever meant
// for it. What is administrative stays closed, and is told elsewhere.
func (l *looker) open(s sentence.Sentence, services sentence.Services, from sentence.Set, to *flow.Group) {
	if !l.atLarge(l.resolve.Source(from)) || !l.atLarge(l.leads(to).Intersect(l.resolve.Source(from))) {
		return
	}
	set := l.resolve.Services(services)
	if set.Contains(flow.Other) { // any, or any except some
		l.find(Caution, AnyService, s.String(), "name the services that are meant", "every service is open to the internet")
		return
	}
	l.privately(s, set)
}

// privately finds services hardly ever meant for everybody.
func (l *looker) privately(s sentence.Sentence, set flow.Services) {
	if found := set.Intersect(l.privates()).Subtract(l.p.Guard); !found.IsEmpty() {
		l.find(Caution, Private, s.String(), "name who needs it: from SOURCE", "hardly ever meant for the whole internet: "+flow.PrintServices(found, l.namings)+" in")
	}
}

// atLarge reports whether a source is the internet by and large: half of it or more, in one
// of the families.
func (l *looker) atLarge(from flow.Addrs) bool {
	for _, family := range []flow.Addrs{flow.AllIPv4, flow.AllIPv6} {
		if all := size(l.p.Internet().Intersect(family)); all > 0 && size(from.Intersect(l.p.Internet()).Intersect(family)) >= all/2 {
			return true
		}
	}
	return false
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

// door finds a door by which nobody gets in: nothing lets anybody in by it, nor could.
func (l *looker) door(s sentence.Sentence, on sentence.Service, from, to sentence.Set) {
	services := l.resolve.Services(sentence.Services{List: []sentence.Service{on}})
	if !from.Absent() {
		if l.atLarge(l.resolve.Source(from)) {
			l.privately(s, services)
		}
		return
	}
	group := l.resolve.Group(to)
	speaks := func(other sentence.Services, target sentence.Set) bool {
		if !l.resolve.Services(other).Overlaps(services) {
			return false
		}
		machines := l.resolve.Group(target)
		return slices.ContainsFunc(group.Machines, machines.Has)
	}
	guarded := l.p.Guard.Covers(services)
	for _, st := range l.e.Sentences {
		switch o := st.Sentence.(type) {
		case sentence.Allow:
			if (o.Standing || !guarded) && flow.Active(o.Until, l.at) && speaks(o.Services, o.To) {
				return
			}
		case sentence.Permit:
			if speaks(o.Services, o.To) {
				return
			}
		case sentence.Route:
			if speaks(o.Services, o.To) {
				return
			}
		}
	}
	mend := fmt.Sprintf("allow %s from SOURCE to %s", on, to)
	if guarded {
		mend = fmt.Sprintf("permit PEOPLE to open %s to %s from SOURCE up to 2h", on, to)
	}
	l.find(Note, Useless, s.String(), mend, "nobody gets in by this door: no sentence lets anybody in, nor lets anybody open it")
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
	if l.leads(l.resolve.Group(s.To)).Intersect(source).IsEmpty() {
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

// bastions finds bastions that answer everywhere.
func (l *looker) bastions() {
	for _, b := range l.e.Bastions {
		if l.pos = b.At; l.atLarge(l.resolve.Source(b.From)) {
			l.find(Caution, WideBastion, b.Name, "ironbark change bastion "+b.Name+" --from SOURCE", "this bastion answers the whole internet")
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
			l.machine(Caution, NoLogin, m.Name, "ironbark change machine NAME --key KEY, or --password ask", "nobody can log in, for want of a key or a password")
		}
	}
}
