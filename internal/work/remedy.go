package work

import (
	"fmt"
	"slices"
	"time"

	"ironbark/internal/estate"
	"ironbark/internal/exposure"
	"ironbark/internal/fault"
	"ironbark/internal/flow"
	"ironbark/internal/opening"
	"ironbark/internal/sentence"
)

// saying is the advice to say a sentence.
func saying(words string) fault.Advice {
	list := sentence.CommandWords(words)
	return fault.Run(list[0], list[1:]...)
}

// Remedies suggests what would open a closed part, the least first. Each is tried first: what would be refused, or would open nothing, is not offered.
func (a *Answer) Remedies(p exposure.Part, person string) []fault.Advice {
	if p.Open {
		return nil
	}
	if a.Outward {
		return a.remediesOutward(p)
	}
	services, from, to := a.Ask.Services.String(), sentence.FromWords(a.Ask.From), a.Ask.To.String()
	if !p.Target.IsMachine() && p.Machine >= 0 { // what is opened is the machine behind a front or address
		to = a.State.Plan.Machines[p.Machine].Name
		services = flow.PrintServices(p.Arrives, flow.Namings(nil, a.State.Estate))
	}
	switch p.Reason {
	case exposure.Denied:
		if p.Origin.Sentence == "" {
			return nil
		}
		return a.lift(p)
	case exposure.Default:
		return a.tried(p, fmt.Sprintf("allow %s%s to %s", services, from, to))
	case exposure.Administrative:
		if a.permitted(person, p) {
			return a.opens(p, person, "", fmt.Sprintf("open %s to %s%s for 1h because \"…\"", services, to, from))
		}
		permit := fmt.Sprintf("permit %s to open %s to %s%s up to 1h", a.who(person), services, to, from)
		return a.opens(p, person, permit, fmt.Sprintf("open %s to %s%s for 1h because \"…\"", services, to, from))
	case exposure.NoDoor:
		if p.Target.IsMachine() {
			return a.doorRemedies(p)
		}
	}
	return nil
}

// lift offers to retract a deny that is about nothing but what is asked; one that is about more is not lifted for that.
func (a *Answer) lift(p exposure.Part) []fault.Advice {
	plan := a.State.Plan
	if a.Outward {
		plan = plan.Calls()
	}
	asked := map[int32]bool{}
	for _, part := range a.Parts {
		asked[part.Machine], asked[part.Target.Machine] = true, true
	}
	if plan.Within(p.Origin, flow.Box{Services: a.Service, From: a.From}, func(m int32) bool { return asked[m] }) {
		return []fault.Advice{fault.Run("retract", p.Origin.Sentence)}
	}
	return []fault.Advice{fault.Say("the deny is for more than this: its author may add “except” for this")}
}

// tried offers an allow that would open a part, unless a guarantee speaks against it.
func (a *Answer) tried(p exposure.Part, words string) []fault.Advice {
	s, err := sentence.ParseArgs([]string{words}, fileTime)
	if err != nil || a.State.Estate.CheckSentence(s) != nil {
		return nil
	}
	if never := a.forbidden(p, true); never != "" {
		return []fault.Advice{forbiddenBy(never)}
	}
	allow := s.(sentence.Allow)
	resolve := flow.NewResolver(a.State.Estate, a.State.Plan)
	plan := a.State.Plan.With(flow.Rule{Kind: flow.Allow, From: resolve.Source(allow.From), To: resolve.Group(allow.To), Services: resolve.Services(allow.Services)})
	for _, after := range viewOf(plan, a.View.At, p.Target).Ask(p.Services, p.From, p.Target) {
		if after.Open {
			return []fault.Advice{saying(words)}
		}
	}
	return nil
}

// forbidden returns a never that speaks of a part; with standing false, one that speaks of
// openings too.
func (a *Answer) forbidden(p exposure.Part, standing bool) string {
	resolve := flow.NewResolver(a.State.Estate, a.State.Plan)
	for _, st := range a.State.Estate.SentencesOf(sentence.VerbNever) {
		n := st.Sentence.(sentence.Never)
		if (standing || !n.Standing) && resolve.Services(n.Services).Overlaps(p.Arrives) && resolve.Source(n.From).Overlaps(p.From) &&
			slices.Contains(a.names(n.To), a.machineOf(p)) {
			return n.String()
		}
	}
	return ""
}

// forbiddenBy is said in place of words that would break a guarantee.
func forbiddenBy(never string) fault.Advice {
	return fault.Say("nothing opens it: the guarantee “" + never + "” forbids it")
}

func (a *Answer) names(to sentence.Set) (list []string) {
	for _, t := range exposure.Targets(a.State.Estate, a.State.Plan, to) {
		list = append(list, exposure.TargetName(a.State.Plan, t))
	}
	return list
}

// machineOf names the machine of a part; "" where there is none.
func (a *Answer) machineOf(p exposure.Part) string {
	if p.Machine < 0 {
		return ""
	}
	return a.State.Plan.Machines[p.Machine].Name
}

// opens offers an opening, and a permit where one is missing, as far as it would be granted.
func (a *Answer) opens(p exposure.Part, person, permit, open string) (list []fault.Advice) {
	if never := a.forbidden(p, false); never != "" {
		return []fault.Advice{forbiddenBy(never)}
	}
	e := a.State.Estate
	if permit != "" {
		s, err := sentence.ParseArgs([]string{permit}, fileTime)
		if err != nil || e.CheckSentence(s) != nil {
			return a.bareRemedy(permit, open)
		}
		e = e.With(sentence.Statement{Sentence: s})
		list = append(list, saying(permit))
	}
	s, err := sentence.ParseArgs([]string{open}, a.View.At)
	if err != nil {
		return nil
	}
	words := s.(sentence.Open)
	_, err = opening.Judge(opening.Request{
		Person: person, Words: words, Now: a.View.At.Truncate(time.Second), Estate: e, Plan: a.State.Plan, Running: func(string) bool { return true },
	})
	if err != nil {
		return nil
	}
	return append(list, saying(open))
}

// bareRemedy is a permit for nobody in particular: whoever asks is no person of the estate.
func (a *Answer) bareRemedy(permit, open string) []fault.Advice {
	if len(a.State.Estate.People) > 0 {
		return []fault.Advice{saying(permit), saying(open)}
	}
	return []fault.Advice{fault.Join("", fault.Say("add people under people: in "+estate.FileName+", and then: "), saying(permit)), saying(open)}
}

// doorRemedies offer a way in to a machine that has none from a source.
func (a *Answer) doorRemedies(p exposure.Part) []fault.Advice {
	name := a.State.Plan.Machines[p.Target.Machine].Name
	if from, to, apart := familiesApart(p.From, a.State.Plan.AddrsOf(p.Target.Machine)); apart {
		return []fault.Advice{fault.Say(fmt.Sprintf("come from an %s address: %s is %s, and every address of %s is %s", to, a.Ask.From, from, name, to))}
	}
	m, ok := a.State.Estate.Machine(name)
	if !ok {
		return nil
	}
	address, front := false, ""
	for _, at := range m.Subnets {
		sub, _ := a.State.Estate.Subnet(at)
		n, _ := a.State.Estate.Network(sub.Network)
		address = address || n.Outside && estate.HasFamily(sub.Range, sentence.IPv4) && !m.Address.Wanted()
		for _, f := range a.State.Estate.Fronts {
			if f.Network == sub.Network {
				front = f.Name
			}
		}
	}
	var list []fault.Advice
	if address {
		list = append(list, fault.Say("give "+name+" a public address: ").Run("change", "machine", name, "--address", "auto"))
	}
	switch {
	case front != "":
		list = append(list, fault.Say("lead a port of "+front+" to it: ").Run("forward", front, "PORT", "to", name, "on", "PORT"))
	case !address:
		list = append(list, fault.Say(fmt.Sprintf("come from inside: %s is in no network that is “outside: true”, or has no addresses that could be reached from there", name)))
	}
	return list
}

// familiesApart tells the family of each of two sets of addresses, if they have none in common
// and each has one.
func familiesApart(from, to flow.Addrs) (string, string, bool) {
	family := func(s flow.Addrs) (four, six bool) {
		for _, run := range s.Runs() {
			four, six = four || run.Lo.Addr().Is4(), six || run.Lo.Addr().Is6()
		}
		return four, six
	}
	from4, from6 := family(from)
	to4, to6 := family(to)
	switch {
	case from4 && !from6 && to6 && !to4:
		return "IPv4", "IPv6", true
	case from6 && !from4 && to4 && !to6:
		return "IPv6", "IPv4", true
	}
	return "", "", false
}

// who names the first of a person's groups, or the person.
func (a *Answer) who(person string) string {
	for _, p := range a.State.Estate.People {
		if p.Name == person && len(p.Groups) > 0 {
			return p.Groups[0]
		}
	}
	if a.State.Estate.PersonKnown(person) {
		return person
	}
	return "PEOPLE"
}

// permitted reports whether a permit covers the part for a person, length apart.
func (a *Answer) permitted(person string, p exposure.Part) bool {
	resolve := flow.NewResolver(a.State.Estate, a.State.Plan)
	for m := range a.State.Estate.PermitsOf(person) {
		if resolve.Group(m.To).Has(p.Machine) && resolve.Services(m.Services).ContainsAll(p.Arrives) && resolve.Source(m.From).ContainsAll(p.From) {
			return true
		}
	}
	return false
}
