package work

import (
	"slices"

	"ironbark/internal/flow"
	"ironbark/internal/sentence"
)

// Offers reports whether the person may open what is closed, as things are.
func (c *NoAccessError) Offers(person string) bool {
	for _, p := range c.Answer.Parts {
		if !p.Open {
			remedy := c.Answer.Remedies(p, person)
			if len(remedy) != 1 {
				return false
			}
			commands := remedy[0].Commands()
			return len(commands) == 1 && commands[0].Verb == "open"
		}
	}
	return false
}

// Others names others who may open what is closed, or get there through a bastion.
func (c *NoAccessError) Others(person string) (names []string) {
	e := c.Answer.State.Estate
	resolve := flow.NewResolver(e, c.Answer.State.Plan)
	m, ok := c.Answer.State.Plan.MachineByName(c.Machine)
	if !ok {
		return nil
	}
	var people []sentence.Name
	for _, st := range e.SentencesOf(sentence.VerbPermit, sentence.VerbRoute) {
		switch s := st.Sentence.(type) {
		case sentence.Permit:
			if resolve.Group(s.To).Has(m) && resolve.Services(s.Services).Contains(c.Service) {
				people = append(people, s.People...)
			}
		case sentence.Route:
			if resolve.Group(s.To).Has(m) && resolve.Services(s.Services).Contains(c.Service) {
				people = append(people, s.For...)
			}
		}
	}
	for _, p := range e.People {
		if p.Name != person && slices.ContainsFunc(people, func(n sentence.Name) bool { return e.Belongs(p.Name, n.Text) }) {
			names = append(names, p.Name)
		}
	}
	return names
}
