// Package opening judges requests to open services for a while.
//
// A request is judged against the machine (is there a door? does it run? does a
// deny forbid it? would it break a guarantee?) and against the permits: one of
// them must cover person, services, targets, the whole source and the length.
//
//	words ─▶ request ─┬─▶ permits ──┐
//	                  ├─▶ doors ────┼─▶ Opening, or a Refusal with every reason
//	                  └─▶ guarantees┘
//
// An opening freezes its machines and addresses when it begins. Its end is part
// of the rule that is installed, so nothing must run for it to end.
package opening

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"ironbark/internal/estate"
	"ironbark/internal/exposure"
	"ironbark/internal/fault"
	"ironbark/internal/flow"
	"ironbark/internal/sentence"
)

// Reason is one reason to refuse a request, and what would remedy it.
type Reason struct {
	What    string
	Remedy  fault.Advice
	Machine string // which it is of; "" where it is of none
}

// RefusalError tells every reason for which a request is refused.
type RefusalError struct {
	Reasons []Reason
	Person  bool // the person may not; nothing is wrong with the rest
}

// Error returns the reasons in one line.
func (r *RefusalError) Error() string {
	words := make([]string, len(r.Reasons))
	for i, reason := range r.Reasons {
		words[i] = reason.What
	}
	return strings.Join(words, "; ")
}

// Kind is that of a refusal, or of a person who may not.
func (r *RefusalError) Kind() fault.Kind {
	if r.Person {
		return fault.Denied
	}
	return fault.Unavailable
}

// Request is what is asked for, and what it is judged by.
type Request struct {
	Person  string
	Words   sentence.Open // without me: addresses are written out
	Now     time.Time
	Estate  *estate.Estate // as enacted
	Plan    *flow.Plan     // as installed; other openings do not matter
	Running func(machine string) bool
	Alike   []Opening // those of the person that hold and let the same flows pass, whatever their ends
	Owed    []Opening // those of the person of which an account is owed
	Extends int64     // the one of Alike that is to be extended; 0: whichever is for the same flows, unless it begins later
}

// Granted is the answer to a request that is not refused.
type Granted struct {
	Opening Opening
	Extends bool // Opening has the number of one that holds already, and replaces it
	Shorter bool // with an earlier end
	Notes   []string
	Reached []exposure.Part // what it opens, by the doors that lead there
}

// Judge decides a request. The error is a *Refusal.
func Judge(r Request) (Granted, error) {
	r.Estate = r.Estate.AsOf(r.Now)
	j := &judge{Request: r, resolve: flow.NewResolver(r.Estate, r.Plan), part: Flows(r)}
	j.o = Opening{Person: r.Person, Request: r.Words.String(), Words: r.Words, Begin: r.Now, Emergency: r.Words.Emergency}
	extends := j.begin()
	j.judgeWaiting()
	j.judgeAccount()
	j.judgeTarget()
	j.judgePermits()
	j.judgeGuarantees()
	if slices.ContainsFunc(r.Words.From.List, func(a sentence.Atom) bool { return a.Kind() == sentence.Everywhere || a.Kind() == sentence.Internet }) {
		j.notes = append(j.notes, "that is open to whoever finds it; “from me” opens it to you alone")
	}
	if len(j.refusal.Reasons) > 0 {
		return Granted{}, &j.refusal
	}
	if j.approvals != nil {
		return Granted{Opening: j.waiting(), Notes: j.notes}, nil
	}
	j.o.Words.For, j.o.Words.Until = sentence.Duration{}, j.part.End.UTC()
	j.o.Parts = []Part{j.part}
	return Granted{Opening: j.o, Extends: extends, Shorter: extends && j.shorter, Notes: j.notes, Reached: j.reached}, nil
}

// Flows is what a request is for: its services, machines and sources.
func Flows(r Request) Part {
	resolve := flow.NewResolver(r.Estate, r.Plan)
	p := Part{From: resolve.Source(r.Words.From), Services: resolve.Services(r.Words.Services)}
	for _, m := range resolve.Group(r.Words.To).Machines {
		p.Machines = append(p.Machines, r.Plan.Machines[m].Name)
	}
	return p
}

type judge struct {
	Request
	resolve flow.Resolver
	o       Opening
	part    Part // of the opening, which has one: a permit covers all of it or none
	refusal RefusalError
	notes   []string

	view      *exposure.View // see seen
	reached   []exposure.Part
	shorter   bool             // than the one that it replaces
	machine   string           // the one that is judged
	approvals *sentence.Permit // the permit by which it waits for approvals; nil: it does not
}

func (j *judge) refuse(remedy, format string, args ...any) {
	j.advise(fault.Say(remedy), format, args...)
}

func (j *judge) advise(remedy fault.Advice, format string, args ...any) {
	j.refusal.Reasons = append(j.refusal.Reasons, Reason{What: fmt.Sprintf(format, args...), Remedy: remedy, Machine: j.machine})
}

// MostAhead is how far ahead an opening may begin.
const MostAhead = 30 * 24 * time.Hour

// begin finds the beginning and the end, and the own opening with the same services, targets and
// source, which is then extended or shortened: its length counts from its own beginning.
func (j *judge) begin() (extends bool) {
	if at := j.Words.Starting; !at.IsZero() {
		j.o.Begin = at.UTC()
		switch {
		case !at.After(j.Now):
			j.refuse("leave “starting” out, and it begins at once", "the beginning %s is not in the future", at.UTC().Format(time.RFC3339))
		case at.After(j.Now.Add(MostAhead)):
			j.refuse("", "the beginning %s is more than %s ahead", at.UTC().Format(time.RFC3339), sentence.DurationOf(MostAhead))
		}
		if j.o.Emergency {
			j.refuse("leave “starting” out", "an emergency begins at once")
		}
	}
	j.part.End = j.Words.Until
	if !j.Words.For.IsZero() {
		j.part.End = j.o.Begin.Add(j.Words.For.Length())
	}
	j.part.End = j.part.End.Truncate(time.Second) // ends are told in whole seconds, rounded to less
	if !j.part.End.After(j.Now) || !j.part.End.After(j.o.Begin) {
		j.refuse("", "the end %s is not in the future, or not after the beginning", j.part.End.UTC().Format(time.RFC3339))
	}
	if j.part.End.UTC().Year() > sentence.MaxYear {
		j.refuse("", "the end lies beyond the year %d", sentence.MaxYear)
		j.part.End = j.Now // what is refused is still told
	}
	for _, a := range j.Alike {
		if j.replaces(a) {
			j.o.ID, j.o.Begin = a.ID, a.Begin
			j.shorter = j.part.End.Before(a.End())
			return true
		}
	}
	return false
}

// replaces reports whether the request is for another end of an opening. One that begins later has a window of its own, so it is replaced where its
// number was given alone.
func (j *judge) replaces(a Opening) bool {
	if j.Extends > 0 && a.ID != j.Extends { // another with the same flows stays as it is
		return false
	}
	same := a.Person == j.Person && !a.Waits() && a.Emergency == j.o.Emergency && len(a.Parts) == 1 && a.Parts[0].SameFlows(j.part)
	if j.Words.Starting.IsZero() {
		return same && !a.Begin.After(j.Now)
	}
	return same && a.ID == j.Extends && a.Begin.Equal(j.Words.Starting)
}

// AccountTime is how long somebody has to give an account of an emergency. What is owed
// bars further emergencies from the beginning; when the time is over it is told as overdue.
const AccountTime = 24 * time.Hour

// judgeAccount holds an emergency to the accounts of those before.
func (j *judge) judgeAccount() {
	if !j.o.Emergency {
		return
	}
	for _, o := range j.Owed {
		if o.ID != j.o.ID {
			since := ""
			if j.Now.After(o.Account.Due) {
				since = ", and it is overdue since " + o.Account.Due.UTC().Format(time.RFC3339)
			}
			j.refuse(fmt.Sprintf(`account %d "what happened, and what was done"`, o.ID), "you owe an account of the emergency of opening %d%s", o.ID, since)
		}
	}
	j.o.Account.Due = j.Now.Add(AccountTime).UTC()
}

// judgeTarget asks for each machine whether anything would come of the opening.
func (j *judge) judgeTarget() {
	if len(j.part.Machines) == 0 {
		j.refuse("enact makes machines that stand in the files only", "“%s” is no machine that is there", j.Words.To)
		return
	}
	if j.part.From.IsEmpty() {
		j.refuse("", "“from %s” stands for no address", j.Words.From)
		return
	}
	if j.part.Console() {
		j.judgeConsoles()
		return
	}
	view := j.seen()
	defer func() { j.machine = "" }()
	for _, name := range j.part.Machines {
		j.machine = name
		m, _ := j.Plan.MachineByName(name)
		j.judgeRunning(name)
		var noDoor, denied, open bool
		var deny exposure.Part
		var closed, reached flow.Services
		for _, p := range view.Ask(j.part.Services, j.part.From, exposure.Target{Machine: m}) {
			noDoor = noDoor || p.Reason == exposure.NoDoor
			open = open || p.Open
			switch {
			case p.Open:
				reached = reached.Union(p.Services)
				j.reached = append(j.reached, p)
			case p.Reason == exposure.NoDoor:
				closed = closed.Union(p.Services)
			}
			if p.Reason == exposure.Denied {
				denied, deny = true, p
			}
		}
		if closed = closed.Subtract(reached); open && !closed.IsEmpty() {
			j.notes = append(j.notes, fmt.Sprintf("%s: there is no way in for %s from %s, so that stays closed", name, flow.PrintServices(closed, flow.Namings(nil, j.Estate)), j.Words.From))
		}
		switch {
		case open && denied:
			j.notes = append(j.notes, fmt.Sprintf("%s: part of the source stays out by “%s”", name, deny.Origin.Sentence))
		case open:
		case denied:
			lift := ""
			if machines := j.resolve.Group(j.Words.To); j.Plan.Within(deny.Origin, flow.Box{Services: j.part.Services, From: j.part.From}, machines.Has) {
				lift = "retract " + sentence.Shell(deny.Origin.Sentence)
			}
			j.refuse(lift, "a deny keeps all of it out of %s: “%s”", name, deny.Origin.Sentence)
		case noDoor:
			j.refuse("give it a public address, a forward, or come from inside", "there is no way in to %s from %s", name, j.Words.From)
		}
	}
}

// judgeRunning refuses a machine that does not run, unless it may by the time at which the opening begins.
func (j *judge) judgeRunning(name string) {
	if !j.Running(name) && !j.o.Begin.After(j.Now) {
		j.refuse("start "+name, "%s is not running", name)
	}
}

// judgeConsoles asks of each machine whether it has a console: the network has no say in that.
func (j *judge) judgeConsoles() {
	defer func() { j.machine = "" }()
	for _, name := range j.part.Machines {
		if j.machine = name; name == estate.SiteHost {
			j.refuse("", "the site's host has no console here")
			continue
		}
		j.judgeRunning(name)
	}
}

// seen is what is open once it is, as far as that does not hang on what it replaces.
func (j *judge) seen() *exposure.View {
	if j.view == nil {
		var machines []int32
		for _, name := range j.part.Machines {
			if m, ok := j.Plan.MachineByName(name); ok {
				machines = append(machines, m)
			}
		}
		without := j.Plan.About(machines...).WithoutOpenings(func(id int64) bool { return id == j.o.ID && id != 0 })
		j.view = exposure.NewViewOf(without.With(j.part.rule(j.o, without)), j.moment(), machines...)
	}
	return j.view
}

// moment is the one at which it opens.
func (j *judge) moment() time.Time {
	if j.o.Begin.After(j.Now) {
		return j.o.Begin
	}
	return j.Now
}

// judgePermits looks for one permit that covers the whole request, and tells of
// each that concerns the person what it lacks.
func (j *judge) judgePermits() {
	if !j.Estate.PersonKnown(j.Person) {
		j.refusal.Person = true
		j.refuse("add them under people: in "+estate.FileName+", or say --person NAME", "there is no person “%s” in the estate", j.Person)
		return
	}
	var near []Reason
	var emergency sentence.Permit // one that would cover it as an emergency
	length := j.part.End.Sub(j.o.Begin)
	for m := range j.Estate.PermitsOf(j.Person) {
		if !j.near(m) {
			continue
		}
		lacks := j.lacks(m, length)
		if len(lacks) == 0 && m.Emergency && !j.o.Emergency {
			emergency = m
			lacks = append(lacks, "it is for emergencies")
		}
		if len(lacks) == 0 && m.Approvals > 0 {
			if j.approvals == nil || m.Approvals < j.approvals.Approvals {
				j.approvals = &m
			}
			continue
		}
		if len(lacks) == 0 {
			j.part.Permit, j.approvals = m.String(), nil
			return
		}
		near = append(near, Reason{What: fmt.Sprintf("“%s” does not cover it: %s", m, strings.Join(lacks, "; "))})
	}
	if j.approvals != nil {
		j.part.Permit = j.approvals.String()
		return
	}
	j.refusal.Person = len(j.refusal.Reasons) == 0
	if len(near) > 0 {
		near[0].Remedy = fault.Say("ask for what it covers, or have the permit widened")
		if emergency.Emergency {
			near[0].Remedy = fault.Say("if it is an emergency, say so: … in emergency because …; an account of it is owed then")
		}
		j.refusal.Reasons = append(j.refusal.Reasons, near...)
		return
	}
	remedy := fmt.Sprintf("permit %s to open %s to %s%s up to %s", j.Person, j.Words.Services, j.Words.To, sentence.FromWords(j.Words.From), upTo(length))
	what := "anything"
	for range j.Estate.PermitsOf(j.Person) {
		what = j.Words.Services.String()
		break
	}
	words := sentence.CommandWords(remedy)
	j.advise(fault.Run(words[0], words[1:]...), "no permit lets %s open %s", j.Person, what)
}

// near reports whether a permit is for any of the services of the request. What a permit of others lacks is of no help.
func (j *judge) near(m sentence.Permit) bool {
	return j.part.Services.Overlaps(j.resolve.Services(m.Services))
}

// upTo is the shortest permit that covers a length: openings end at whole seconds, and begin at any moment.
func upTo(length time.Duration) sentence.Duration {
	return sentence.DurationOf(length + time.Second - 1)
}

// lacks tells in what a permit falls short of the request.
func (j *judge) lacks(m sentence.Permit, length time.Duration) (list []string) {
	if rest := j.part.Services.Subtract(j.resolve.Services(m.Services)); !rest.IsEmpty() {
		list = append(list, "it is for "+m.Services.String())
	}
	to := j.resolve.Group(m.To)
	for _, name := range j.part.Machines {
		if i, ok := j.Plan.MachineByName(name); !ok || !to.Has(i) {
			list = append(list, fmt.Sprintf("%s is not among its machines", name))
		}
	}
	if !j.resolve.Source(m.From).ContainsAll(j.part.From) {
		if !j.part.Console() && !m.From.AtConsole() { // otherwise the services say it
			list = append(list, "it is from "+m.From.String())
		}
	}
	if longest := Longest(m, j.Estate.Limits); length > longest {
		limit := ""
		if longest < m.UpTo.Length() {
			limit = " by the estate's limits"
		}
		list = append(list, fmt.Sprintf("it is up to %s%s, and this is %s", sentence.DurationOf(longest), limit, upTo(length)))
	}
	if until := flow.Earlier(m.Until, j.Estate.EndOf(j.Person)); !until.IsZero() && j.part.End.After(until) {
		list = append(list, "it ends at "+until.UTC().Format(time.RFC3339)+", and this would last longer")
	}
	if j.o.Emergency && !m.Emergency {
		list = append(list, "it is not for emergencies")
	}
	return list
}

// judgeGuarantees refuses what a never that counts more than standing sentences
// forbids, whether or not something else breaks that guarantee already.
func (j *judge) judgeGuarantees() {
	if len(j.refusal.Reasons) > 0 {
		return
	}
	view := j.seen()
	for _, st := range j.Estate.SentencesOf(sentence.VerbNever) {
		n := st.Sentence.(sentence.Never)
		if n.Standing {
			continue
		}
		services, from := j.part.Services.Intersect(j.resolve.Services(n.Services)), j.part.From.Intersect(j.resolve.Source(n.From))
		to := j.resolve.Group(n.To)
		for _, name := range j.part.Machines {
			m, _ := j.Plan.MachineByName(name)
			if services.IsEmpty() || from.IsEmpty() || !to.Has(m) {
				continue
			}
			for _, p := range view.Ask(services, from, exposure.Target{Machine: m}) {
				if p.Open {
					f := exposure.Example(p.From, p.Services)
					j.refuse("", "it would break the guarantee “%s”: %s from %s to %s", n, f.Service, f.Source, name)
					return
				}
			}
		}
	}
}
