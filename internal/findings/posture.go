package findings

import (
	"fmt"
	"slices"
	"strconv"
	"time"

	"ironbark/internal/estate"
	"ironbark/internal/fault"
	"ironbark/internal/flow"
	"ironbark/internal/sentence"
)

// UnusedAfter is how long nobody has used a right until that is told.
const UnusedAfter = 90 * 24 * time.Hour

// nearEnd is how long before its end a standing exception, or a right, is told.
const nearEnd = 7 * 24 * time.Hour

// fewUses is how many openings tell from where a permit is used.
const fewUses = 3

// oneKeyMachines is for how many machines one key is told to be everywhere.
const oneKeyMachines = 5

// Facts is what is known besides the files and the tables. What is left out is not looked at.
type Facts struct {
	Before *estate.Estate          // as it was enacted [UnusedAfter] ago
	Uses   map[string][]flow.Addrs // by permit, from where each opening since then was
	Loose  []string                // files of private keys that others can read
	Made   map[string]time.Time    // images of the estate's own, by name
	Takes  []Takes                 // what takes most of the room for connections
	From   map[string]flow.Addrs   // by sentence, from where all was that it has let pass for longer than [UnusedAfter]
}

// Posture returns what is found of how an estate has come to be used: rights that nobody uses or that end, what is wider than it need be, what is left on. It
// is looked at beside [Lint], which tells of mistakes. Cost: linear in the sentences and the machines.
func Posture(of Side, at time.Time, facts Facts) []Finding {
	l := newLooker(of, at, nil)
	before := saidIn(facts.Before)
	for _, st := range of.Estate.SentencesOf(sentence.VerbAllow, sentence.VerbDeny, sentence.VerbForward, sentence.VerbSpread, sentence.VerbPermit) {
		l.pos = st.At
		switch s := st.Sentence.(type) {
		case sentence.Allow:
			l.endsSoon(s, s.Standing, s.Until)
			l.oneFamily(s, s.From, s.To, s.Services)
			if !l.e.CallsOutside(s.To) {
				l.usedFrom(s, s.From, before, facts)
			}
		case sentence.Deny:
			l.oneFamily(s, s.From, s.To, s.Services)
		case sentence.Forward:
			l.endsSoon(s, s.Standing, s.Until)
			l.usedFrom(s, s.From, before, facts)
		case sentence.Spread:
			l.usedFrom(s, s.From, before, facts)
		case sentence.Permit:
			l.used(s, before, facts)
			l.endsSoon(s, !s.Until.IsZero(), s.Until)
		}
	}
	l.ends()
	l.seconds()
	l.unneeded()
	l.consoles()
	l.takes(facts.Takes)
	l.oneKey()
	for _, path := range facts.Loose {
		l.pos = sentence.Pos{}
		l.find(Serious, LooseKey, path, "chmod 600 "+path, "others on this computer can read this private key")
	}
	for _, i := range l.e.Images {
		if made := facts.Made[i.Name]; !made.IsZero() && at.Sub(made) > l.e.Limits.Image() {
			l.pos = i.At
			l.find(Note, OldImage, i.Name, "add an image of today, and have machines made of that", fmt.Sprintf("this image was added more than %s ago", sentence.DurationOf(l.e.Limits.Image())))
		}
	}
	return l.list
}

// endsSoon finds a standing exception that is near its end.
func (l *looker) endsSoon(s sentence.Sentence, standing bool, until time.Time) {
	if left := until.Sub(l.at); standing && left > 0 && left <= nearEnd {
		l.find(Note, EndsSoon, s.String(), "let it end, or say it again with a later end while it is needed", "this exception ends soon, at "+until.UTC().Format(time.RFC3339))
	}
}

// ends finds people and keys whose end has come, or is near.
func (l *looker) ends() {
	right := func(name, what string, until time.Time, at sentence.Pos, level Level, advice fault.Advice) {
		l.pos = at
		switch left := until.Sub(l.at); {
		case until.IsZero():
		case left <= 0:
			l.advise(level, EndedRight, name, advice, what+" ended at "+until.UTC().Format(time.RFC3339))
		case left <= nearEnd:
			l.find(Note, EndsSoon, name, "let it end, or give it a later end", what+" ends soon, at "+until.UTC().Format(time.RFC3339))
		}
	}
	for _, p := range l.e.People {
		right(p.Name, "what this person may do", p.Until, p.At, Note, fault.Run("remove", "person", p.Name))
		for _, k := range p.Keys {
			right(p.Name, "a key of this person", p.Ends[k], p.At, Note, fault.Say("take the key out: ").Run("change", "person", p.Name, "--public-key", "…"))
		}
	}
	held := map[string]bool{}
	for _, m := range l.e.Machines {
		for _, k := range m.Keys {
			held[k] = true
		}
	}
	for _, k := range l.e.Keys {
		level := Note
		if held[k.Name] { // what is inside a machine opens it, whoever asks
			level = Serious
		}
		right(k.Name, "this key", k.Until, k.At, level, fault.Say("give its machines another one: ").Run("change", "machine", "…", "--key", "NAME"))
	}
}

// seconds finds that too few people may approve edits, or soon will.
func (l *looker) seconds() {
	rule := l.e.Edits
	able := func(at time.Time) (n int) {
		then := l.e.AsOf(at)
		for _, p := range l.e.People {
			if then.MayApproveEdits(p.Name) {
				n++
			}
		}
		return n
	}
	moments := []time.Time{l.at}
	for _, p := range l.e.People {
		if p.Until.After(l.at) && p.Until.Sub(l.at) <= nearEnd {
			moments = append(moments, p.Until)
		}
	}
	slices.SortFunc(moments, time.Time.Compare)
	for _, at := range moments {
		if n := able(at); n < rule.Approvals {
			when := ""
			if at.After(l.at) {
				when = "from " + at.UTC().Format(time.RFC3339) + " on "
			}
			l.pos = rule.At
			l.find(Serious, NoSecond, "edits", "give them a later end, or name more people, while somebody can approve that", fmt.Sprintf("%sno more than %d may approve edits, and they need %d", when, n, rule.Approvals))
			return
		}
	}
}

// oneFamily finds sentences about the whole of one family of addresses, and nothing of the other, from which doors lead there as well.
func (l *looker) oneFamily(s sentence.Sentence, from, to sentence.Set, services sentence.Services) {
	if l.e.CallsOutside(to) || !flow.Active(sentence.EndOf(s), l.at) {
		return
	}
	source := l.resolve.Source(from)
	if !l.atLarge(source) {
		return
	}
	leads := l.leads(l.resolve.Group(to), l.resolve.Services(services))
	for _, f := range sentence.Families {
		if all := flow.AllOf(f); source.Overlaps(all) || !l.muchOf(leads.Intersect(all)) {
			continue
		}
		if _, deny := s.(sentence.Deny); deny {
			l.find(Caution, OneFamily, s.String(), "name both families: from internet, or from everywhere", "this deny leaves "+f.String()+" out, from which doors lead there as well")
		} else {
			l.find(Note, OneFamily, s.String(), "name both families: from internet, or from everywhere", "this sentence leaves "+f.String()+" out, from which doors lead there as well")
		}
	}
}

// used finds a permit that nobody has used for long, and one that was used from far fewer addresses than it is for.
func (l *looker) used(s sentence.Permit, before map[string]bool, facts Facts) {
	text := s.String()
	uses := facts.Uses[text]
	if before[text] && len(uses) == 0 && !s.Emergency {
		l.find(Caution, UnusedPermit, text, "retract it: "+text, "nobody has used this permit for "+sentence.DurationOf(UnusedAfter).String())
		return
	}
	if len(uses) < fewUses || !l.atLarge(l.resolve.Source(s.From)) {
		return
	}
	var all flow.Addrs
	for _, u := range uses {
		all = all.Union(u)
	}
	if !all.IsEmpty() && !l.muchOf(all) {
		l.find(Note, WiderThanUsed, text, "name where it is used from, in place of “"+s.From.String()+"”", fmt.Sprintf("this permit is for most of the internet, and all %d openings by it were from few addresses of it", len(uses)))
	}
}

// unneeded finds machines with a public address for which a bastion would do.
func (l *looker) unneeded() {
	routed := map[int]bool{}
	for _, st := range l.e.SentencesOf(sentence.VerbRoute) {
		for _, i := range l.e.Targets(st.Sentence.(sentence.Route).To) {
			routed[i] = true
		}
	}
	for _, i := range needNoAddress(l.e) {
		if routed[i] {
			l.machine(Note, UnneededAddress, l.e.Machines[i].Name, fault.Run("change", "machine", l.e.Machines[i].Name, "--address", "none"), "a public address is needed for nothing but what a route through a bastion does")
		}
	}
}

// NeedNoAddress names the machines of a network that have a public address of their own, and to which no
// sentence lets anybody in from outside but for administrative services: people could get there through a
// bastion.
func NeedNoAddress(e *estate.Estate, network string) (names []string) {
	for _, i := range needNoAddress(e) {
		if slices.ContainsFunc(e.Machines[i].Subnets, func(at string) bool {
			s, ok := e.Subnet(at)
			return ok && s.Network == network
		}) {
			names = append(names, e.Machines[i].Name)
		}
	}
	return names
}

func needNoAddress(e *estate.Estate) (list []int) {
	admin := flow.ServicesOf(e, sentence.Services{List: e.Administrative()})
	needed := map[int]bool{}
	mark := func(to sentence.Set, yes bool) {
		if yes {
			for _, i := range e.Targets(to) {
				needed[i] = true
			}
		}
	}
	for _, st := range e.Sentences() {
		switch s := st.Sentence.(type) {
		case sentence.Allow:
			mark(s.To, !flow.ServicesOf(e, s.Services).Subtract(admin).IsEmpty() || s.Standing)
		case sentence.Permit:
			mark(s.To, !s.Services.Console() && !flow.ServicesOf(e, s.Services).Subtract(admin).IsEmpty())
		case sentence.Always:
			mark(s.To, true)
		}
	}
	for i, m := range e.Machines {
		if m.Address.Wanted() && !needed[i] {
			list = append(list, i)
		}
	}
	return list
}

// consoles finds machines whose console is open.
func (l *looker) consoles() {
	for _, r := range l.p.Rules {
		if !r.OpensConsole() || !r.Active(l.at) {
			continue
		}
		for _, m := range r.To.Machines {
			l.machine(Note, ConsoleOpen, l.p.Machines[m].Name, fault.Run("close", strconv.FormatInt(r.Opening, 10)).Say(", once it is not needed"),
				fmt.Sprintf("its console is open until %s, past every rule of the network", r.Until.UTC().Format(time.RFC3339)))
		}
	}
}

// oneKey finds a key by which somebody gets into every machine.
func (l *looker) oneKey() {
	on := map[string]int{}
	machines := 0
	for _, m := range l.e.Machines {
		if len(m.Keys) > 0 {
			machines++
		}
		for _, k := range m.Keys {
			on[k]++
		}
	}
	for _, k := range l.e.Keys {
		if machines >= oneKeyMachines && on[k.Name] == machines {
			l.pos = k.At
			l.advise(Note, OneKey, k.Name, fault.Say("give machines of different purposes keys of their own: ").Run("add", "key", "NAME").Say(", ").Run("change", "machine", "…", "--key", "NAME"), fmt.Sprintf("this key opens every one of %d machines", machines))
		}
	}
}

// Fixable reports whether retracting the sentence of a finding only closes something, or only tidies up.
func (f Finding) Fixable(s sentence.Sentence) bool {
	_, allow := s.(sentence.Allow)
	switch f.Kind {
	case Ended, UnusedPermit, Useless:
		return true
	case Empty, NoDoor, OpenAnyway:
		return allow
	case Guarded:
		return allow && f.Level == Caution // it opens nothing at all
	}
	return false
}
