package work

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"ironbark/internal/bastion"
	"ironbark/internal/estate"
	"ironbark/internal/fault"
	"ironbark/internal/flow"
	"ironbark/internal/gateway"
	"ironbark/internal/sentence"
)

// Forwarding is the answer to a question about what a bastion forwards.
type Forwarding struct {
	Ask     sentence.Ask
	State   *State
	People  []PersonForwarding
	Verdict string // open, closed or some
	Stopped bool   // nobody gets in now: the gateway is not running
}

// LookAtGateway adds to an answer whether the gateway is running. Where it is not, the verdict is closed.
func (w *Work) LookAtGateway(a *Forwarding) error {
	_, err := gateway.Ask(w.GatewayDir(a.Ask.Via.Text))
	if !errors.Is(err, gateway.ErrNotRunning) {
		return err
	}
	a.Stopped, a.Verdict = true, "closed"
	return nil
}

// PersonForwarding is what a bastion forwards for one person, or for several of whom the same is true.
type PersonForwarding struct {
	Names []string
	Parts []bastion.Part
}

// AskVia answers a question about what a bastion forwards, at a moment.
func (w *Work) AskVia(st *State, ask sentence.Ask, at time.Time) (*Forwarding, error) {
	if err := st.Estate.CheckSentence(ask); err != nil {
		return nil, err
	}
	policy, ok := bastion.Compile(st.Estate, st.Plan, ask.Via.Text)
	if !ok {
		return nil, &sentence.Error{Problem: fmt.Sprintf("bastion %s is not there", ask.Via.Text), Remedy: fault.Say("enact makes what stands in the files only; --draft asks the files")}
	}
	resolve := flow.NewResolver(st.Estate, st.Plan)
	a := &Forwarding{Ask: ask, State: st}
	clients, names := st.Plan.Everywhere(), []string{}
	if len(ask.For) == 0 {
		addrs, err := w.Caller.Addrs(st.Estate)
		if err != nil {
			return nil, err
		}
		w.Caller.tell(st.Estate, addrs)
		clients, names = flow.AddrSet(addrs...), []string{w.Person}
	}
	for _, p := range st.Estate.People {
		if slices.ContainsFunc(ask.For, func(n sentence.Name) bool { return st.Estate.Belongs(p.Name, n.Text) }) {
			names = append(names, p.Name)
		}
	}
	if own := policy.Families(); clients.Overlaps(own) { // a client of another family is no client of this gateway's
		clients = clients.Intersect(own)
	}
	services, machines := resolve.Services(ask.Services), resolve.Group(ask.To)
	if len(machines.Machines) == 0 {
		return nil, &sentence.Error{Problem: fmt.Sprintf("“%s” is nothing that is there", ask.To), Remedy: fault.Say("enact makes what stands in the files only; --draft asks the files")}
	}
	forwards, refuses := false, false
	for _, name := range names {
		parts := policy.Ask(name, services, machines, clients, at)
		for _, p := range parts {
			forwards, refuses = forwards || p.Forward, refuses || !p.Forward
		}
		i := slices.IndexFunc(a.People, func(o PersonForwarding) bool { return samePerson(st.Estate, o.Names[0], name, parts, o.Parts) })
		if i >= 0 {
			a.People[i].Names = append(a.People[i].Names, name)
			continue
		}
		a.People = append(a.People, PersonForwarding{[]string{name}, parts})
	}
	switch {
	case forwards && refuses:
		a.Verdict = "some"
	case forwards:
		a.Verdict = "open"
	default:
		a.Verdict = "closed"
	}
	return a, nil
}

// samePerson reports whether a bastion forwards the same for two people.
func samePerson(e *estate.Estate, a, b string, parts, others []bastion.Part) bool {
	return e.PersonKnown(a) == e.PersonKnown(b) && slices.EqualFunc(parts, others, func(p, o bastion.Part) bool {
		return p.Machine == o.Machine && p.Forward == o.Forward && p.Reason == o.Reason && p.Origin == o.Origin && p.Services.Equal(o.Services) && p.Client.Equal(o.Client)
	})
}
