package estate

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"ironbark/internal/sentence"
)

// checkSentences checks that sentences speak of things that exist, and that
// doors do not collide.
func (r *reader) checkSentences() {
	doors := map[string]sentence.Pos{}
	for _, s := range r.estate.Sentences() {
		before := len(r.errs)
		r.relation(s, doors)
		for _, e := range r.errs[before:] {
			e.Line = s.Text
		}
	}
}

// CheckSentence checks one sentence against the estate, as if it stood in its
// files: names known and of the right kind, sets not empty where that is an
// error. The error is sentence.Errors. Doors that collide are found by Read.
func (e *Estate) CheckSentence(s sentence.Sentence) error {
	r := &reader{estate: e}
	r.reasonShows(sentence.Pos{}, s)
	r.relation(sentence.Statement{Sentence: s}, map[string]sentence.Pos{})
	if len(r.errs) == 0 {
		return nil
	}
	line := s.String()
	for _, err := range r.errs {
		err.Line = line
	}
	return r.errs
}

// reasonShows refuses a reason that would act on the terminal of whoever reads it, and one that is too long.
func (r *reader) reasonShows(at sentence.Pos, s sentence.Sentence) {
	because := sentence.Reason(s)
	if problem := sentence.ReasonProblem(because); because != "" && problem != "" {
		r.fail(at, "the reason "+problem, "")
	}
}

func (r *reader) relation(stated sentence.Statement, doors map[string]sentence.Pos) {
	switch s := stated.Sentence.(type) {
	case sentence.Allow:
		r.servicesKnown(s.Services)
		r.fromTo(s.From, s.To, KindHost)
		r.hostCallers(s.From, s.To)
		if !r.estate.CallsOutside(s.To) {
			r.notAdmin(s.Services)
		} else if s.Standing {
			r.fail(s.To.List[0].At(), "what machines call outside needs no “standing”: nothing is administrative there", "leave it out")
		}
	case sentence.Deny:
		r.servicesKnown(s.Services)
		r.fromTo(s.From, s.To, KindHost)
		r.notEmpty(stated.At, s.From, s.To)
	case sentence.Forward:
		r.forward(stated.At, s, doors)
	case sentence.Spread:
		r.spread(stated.At, s, doors)
	case sentence.Route:
		r.servicesKnown(s.Services)
		r.targetNames(s.To)
		r.noun(s.Via.At, s.Via.Text, KindBastion)
		r.peopleKnown(s.For)
	case sentence.Permit:
		r.peopleKnown(s.People)
		r.servicesKnown(s.Services)
		r.targetNames(s.To, KindHost)
		r.sourceNames(s.From)
		r.hostCallers(s.From, s.To)
		r.peopleKnown(s.Approvers)
	case sentence.Never:
		r.servicesKnown(s.Services)
		r.fromTo(s.From, s.To, KindFront, KindBastion, KindHost)
		r.notEmpty(stated.At, s.From, s.To)
	case sentence.Always:
		r.servicesKnown(s.Services)
		r.fromTo(s.From, s.To, KindFront, KindBastion, KindHost)
		r.notEmpty(stated.At, s.From, s.To)
	case sentence.Open:
		r.servicesKnown(s.Services)
		r.targetNames(s.To, KindHost)
		r.sourceNames(s.From)
		r.hostCallers(s.From, s.To)
	case sentence.Ask:
		r.servicesKnown(s.Services)
		if s.Via.Text != "" {
			r.peopleKnown(s.For)
			r.noun(s.Via.At, s.Via.Text, KindBastion)
			r.targetNames(s.To)
			return
		}
		if r.estate.AsksOutside(s) {
			r.destination(s.To)
			r.callers(s.From)
			return
		}
		r.sourceNames(s.From, KindBastion)
		r.question(s.To)
	}
}

func (r *reader) servicesKnown(s sentence.Services) {
	for _, one := range slices.Concat(s.List, s.Except) {
		r.serviceKnown(one)
	}
}

// notAdmin refuses the word for all administrative services where they stay closed anyway,
// and where one standing exception would be one for whatever becomes administrative later.
func (r *reader) notAdmin(s sentence.Services) {
	for _, one := range slices.Concat(s.List, s.Except) {
		if name, _ := one.Name(); name == sentence.AdminName {
			r.fail(one.At(), "an “allow” never opens what is administrative, so “admin” cannot stand in it",
				"let people open it for a while: permit PEOPLE to open admin to TARGET from SOURCE up to 2h")
		}
	}
}

func (r *reader) serviceKnown(s sentence.Service) ([]sentence.Service, bool) {
	name, named := s.Name()
	if !named {
		return []sentence.Service{s}, true
	}
	ports, ok := r.estate.Ports(name)
	if !ok {
		known := slices.Concat(sortedKeys(r.estate.names.services), sentence.ShippedNames(), []string{sentence.ConsoleName})
		remedy := suggest(name, known)
		if remedy == "" {
			remedy = "write its ports, such as tcp/8443, or name it under services: in " + FileName
		}
		r.fail(s.At(), fmt.Sprintf("there is no service “%s”", name), remedy)
	}
	return ports, ok
}

// port holds a service to one protocol and one port.
func (r *reader) port(s sentence.Service) (proto sentence.Protocol, port uint16, ok bool) {
	list, known := r.serviceKnown(s)
	if !known {
		return 0, 0, false
	}
	if len(list) == 1 {
		if p, lo, hi, ported := list[0].Ports(); ported && lo == hi {
			return p, lo, true
		}
	}
	r.fail(s.At(), fmt.Sprintf("“%s” is not one protocol and one port", s), "write it as tcp/443")
	return 0, 0, false
}

func (r *reader) peopleKnown(names []sentence.Name) {
	for _, n := range names {
		if !r.estate.names.people[n.Text] {
			r.fail(n.At, fmt.Sprintf("there is no person or group “%s”", n.Text), suggest(n.Text, slices.Collect(maps.Keys(r.estate.names.people))))
		}
	}
}

// sourceNames checks the atoms of a source. Besides those that may stand anywhere, nouns of further
// kinds may stand there.
func (r *reader) sourceNames(s sentence.Set, further ...Kind) {
	kinds := append([]Kind{KindSource, KindLine, KindNetwork, KindSubnet, KindMachine, KindHost}, further...)
	for _, a := range slices.Concat(s.List, s.Except) {
		if a.Kind() == sentence.Named {
			r.noun(a.At(), a.Text(), kinds...)
		}
		if n, named := r.estate.Lookup(a.Said()); named && a.Said() != "" {
			r.fail(a.At(), fmt.Sprintf("“%s” is said for everywhere, and is the name of a %s here", a.Said(), n.Kind), "write everywhere, or name it in a rules file")
		}
	}
}

// targetNames checks the atoms of a target: machines, and what further kinds there are.
func (r *reader) targetNames(s sentence.Set, further ...Kind) {
	kinds := append([]Kind{KindMachine, KindSubnet, KindNetwork}, further...)
	for _, a := range slices.Concat(s.List, s.Except) {
		_, known := r.estate.Lookup(a.Text())
		switch kind := a.Kind(); {
		case kind == sentence.Everywhere, kind == sentence.Named && !known && sentence.MeansEverywhere(a.Text()):
			r.fail(a.At(), fmt.Sprintf("“%s” is no target: machines are named", a), "every machine is “all”; what machines call outside is “internet”, in an allow, a deny or a guarantee")
		case kind == sentence.Named:
			r.noun(a.At(), a.Text(), kinds...)
		case kind == sentence.All, kind == sentence.Pattern, kind == sentence.Tagged:
		default:
			r.fail(a.At(), fmt.Sprintf("“%s” is no target: machines are named, by name, pattern, tag, subnet, network or all", a), "")
		}
	}
}

// hostCallers refuses sources other than machines in a sentence that lets something pass to the site's host: only machines reach it through the site.
func (r *reader) hostCallers(from, to sentence.Set) {
	if !r.estate.TargetsHost(to) {
		return
	}
	for _, a := range from.List {
		n, known := r.estate.Lookup(a.Text())
		switch {
		case a.Kind() == sentence.All, a.Kind() == sentence.Pattern, a.Kind() == sentence.Tagged:
		case a.Kind() == sentence.Named && (!known || n.Kind == KindMachine || n.Kind == KindSubnet || n.Kind == KindNetwork):
		default:
			r.fail(a.At(), fmt.Sprintf("nothing leads from “%s” to %s: machines of the site reach it", a, SiteHost), "name machines, a subnet, a network or all after “from”")
		}
	}
}

// question checks the target of a question, which may also be an address.
func (r *reader) question(s sentence.Set) {
	for _, a := range slices.Concat(s.List, s.Except) {
		switch a.Kind() {
		case sentence.Named:
			r.noun(a.At(), a.Text(), KindMachine, KindSubnet, KindNetwork, KindFront, KindBastion, KindHost)
		case sentence.All, sentence.Pattern, sentence.Tagged, sentence.Address:
		default:
			r.fail(a.At(), fmt.Sprintf("“%s” is no target of a question: name machines, a front, a bastion or one address", a), "")
		}
	}
	if len(s.Except) > 0 && slices.ContainsFunc(s.Except, func(a sentence.Atom) bool { return a.Kind() == sentence.Address }) {
		r.fail(s.Except[0].At(), "an address cannot be excepted from machines", "")
	}
}

// notEmpty fails on a source or target that stands for nothing at all, which in
// a guarantee or a deny is never meant.
func (r *reader) notEmpty(at sentence.Pos, from, to sentence.Set) {
	e := r.estate
	const remedy = "a deny or a guarantee over nothing protects nothing"
	if e.CallsOutside(to) {
		if !e.sourceMayHold(to) {
			r.fail(at, fmt.Sprintf("“to %s” stands for no address at all", to), remedy)
		}
		if len(e.Targets(from)) == 0 {
			r.fail(at, fmt.Sprintf("“from %s” stands for no machine at all", from), remedy)
		}
		return
	}
	if !e.sourceMayHold(from) {
		r.fail(at, fmt.Sprintf("“from %s” stands for no address at all", from), remedy)
	}
	fronts := slices.ContainsFunc(to.List, func(a sentence.Atom) bool {
		n, _ := e.Lookup(a.Text())
		return a.Kind() == sentence.Named && (n.Kind == KindFront || n.Kind == KindBastion) && !slices.ContainsFunc(to.Except, func(x sentence.Atom) bool { return x.Text() == a.Text() })
	})
	if !fronts && !e.TargetsHost(to) && len(e.Targets(to)) == 0 {
		r.fail(at, fmt.Sprintf("“to %s” stands for no machine at all", to), remedy)
	}
}

// sourceMayHold reports whether a source can stand for an address, as far as the
// files tell: machines have addresses, and what is excepted is looked at by name.
func (e *Estate) sourceMayHold(s sentence.Set) bool {
	for _, a := range s.List {
		switch a.Kind() {
		case sentence.All, sentence.Pattern, sentence.Tagged:
			if len(e.MachinesOf(a)) == 0 {
				continue
			}
		}
		if !slices.ContainsFunc(s.Except, func(x sentence.Atom) bool { return x.String() == a.String() || x.Kind() == sentence.Everywhere }) {
			return true
		}
	}
	return false
}

// door fails when front, protocol and port already lead somewhere.
func (r *reader) door(at sentence.Pos, front sentence.Name, s sentence.Service, doors map[string]sentence.Pos) {
	r.noun(front.At, front.Text, KindFront)
	proto, port, ok := r.port(s)
	if !ok {
		return
	}
	key := fmt.Sprintf("%s %s/%d", front.Text, proto, port)
	if other, taken := doors[key]; taken {
		r.fail(sentence.Pos{File: at.File, Line: at.Line, Col: max(s.At().Col, 1)}, fmt.Sprintf("%s already leads somewhere (%s)", key, other), "take another port, or retract one of the two")
		return
	}
	doors[key] = at
}

func (r *reader) forward(at sentence.Pos, s sentence.Forward, doors map[string]sentence.Pos) {
	r.door(at, s.Front, s.Service, doors)
	r.port(s.On)
	r.targetNames(s.To)
	r.sourceNames(s.From)
	machines := r.estate.Targets(s.To)
	if len(machines) > 1 {
		names := make([]string, len(machines))
		for i, m := range machines {
			names[i] = r.estate.Machines[m].Name
		}
		r.fail(s.To.List[0].At(), fmt.Sprintf("“%s” is %d machines (%s), and one port leads to one machine", s.To, len(machines), strings.Join(names, ", ")),
			"spread leads one port to several machines")
		return
	}
	if len(machines) == 1 {
		r.commonFamily(s.Front, s.To.List[0].At(), r.estate.Machines[machines[0]])
	}
}

func (r *reader) spread(at sentence.Pos, s sentence.Spread, doors map[string]sentence.Pos) {
	r.door(at, s.Front, s.Service, doors)
	r.port(s.On)
	r.targetNames(s.Over)
	r.sourceNames(s.From)
}

// commonFamily fails when a front and a machine share no address family.
func (r *reader) commonFamily(front sentence.Name, at sentence.Pos, m Machine) {
	f, ok := r.estate.Lookup(front.Text)
	if !ok || f.Kind != KindFront {
		return
	}
	for _, family := range sentence.Families {
		if r.estate.frontHas(r.estate.Fronts[f.I], family) && r.estate.machineHas(m, family) {
			return
		}
	}
	r.fail(at, fmt.Sprintf("front %s and machine %s share no address family", front, m.Name), "IPv4 and IPv6 are not translated into each other")
}

// frontHas reports whether a front has or will get an address of a family: an
// automatic one has each family of its network.
func (e *Estate) frontHas(f Front, family sentence.Family) bool {
	if len(f.Address.Fixed)+len(f.Address.Reserved) > 0 {
		return slices.ContainsFunc(f.Address.Fixed, func(a netip.Addr) bool { return sentence.FamilyOf(a) == family }) ||
			slices.ContainsFunc(f.Address.Reserved, func(name string) bool { held, ok := e.Reserved(name); return ok && held.family() == family })
	}
	n, ok := e.Network(f.Network)
	return ok && HasFamily(n.Space, family)
}

func (e *Estate) machineHas(m Machine, family sentence.Family) bool {
	return slices.ContainsFunc(m.Subnets, func(at string) bool {
		s, ok := e.Subnet(at)
		return ok && HasFamily(s.Range, family)
	})
}
