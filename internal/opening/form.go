package opening

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"ironbark/internal/flow"
	"ironbark/internal/sentence"
)

// Opening lets flows pass from Begin until the end of its last part, that end not
// included.
type Opening struct {
	ID        int64 // counted from 1; 0 before one was given
	Person    string
	Request   string        // as it was asked for
	Words     sentence.Open // as it holds: until a moment, from addresses and names as typed
	Begin     time.Time     // may lie ahead
	Parts     []Part        // disjoint; at least one
	Approvals []Approval
	Waiting   Waiting // for approvals; nothing of it passes until it has them
	Emergency bool    // it was asked for as one
	Account   Account // that is owed for it
	Closing   bool    // it was asked to close, and it is not known yet whether it has
	Ended     time.Time
	EndedBy   string // who closed it before its end
	Why       string // why it was closed before its end
}

// Part is what of an opening one permit covers.
type Part struct {
	Machines []string // by name, fixed when it began
	Services flow.Services
	From     flow.Addrs
	End      time.Time
	Permit   string // the sentence that permits it
}

// Approval is one person's consent to an opening as it was asked for.
type Approval struct {
	Person  string    `json:"person"`
	Request string    `json:"request"`
	At      time.Time `json:"at"`
}

// Waiting is what a request waits for. The zero Waiting is nothing.
type Waiting struct {
	Needs  int           // how many approvals
	From   []string      // people and groups who may give them
	Length time.Duration // of the opening once it has them; 0: until a moment
	Until  time.Time     // that moment
}

// LapseTime is how long a request waits for its approvals.
const LapseTime = time.Hour

// Waits reports whether it waits for approvals. Then its end is when it lapses.
func (o Opening) Waits() bool { return o.Waiting.Needs > 0 }

// Account is what somebody owes an explanation for. The zero Account is none.
type Account struct {
	Due   time.Time `json:"due,omitzero"` // zero: none is owed
	Text  string    `json:"text,omitempty"`
	Given time.Time `json:"given,omitzero"`
}

// Owes reports whether an account is owed.
func (o Opening) Owes() bool { return !o.Account.Due.IsZero() && o.Account.Given.IsZero() }

// State is how an opening stands at a moment.
type State string

// The states.
const (
	Waits     State = "waiting"   // for approvals
	Scheduled State = "scheduled" // it begins later
	Open      State = "open"
	Closing   State = "closing" // asked to close, and not known to have closed
	Over      State = "over"
)

// StateAt returns the state at a moment.
func (o Opening) StateAt(at time.Time) State {
	switch {
	case !o.Active(at):
		return Over
	case o.Waits():
		return Waits
	case o.Closing:
		return Closing
	case at.Before(o.Begin):
		return Scheduled
	}
	return Open
}

// End is the end of the part that ends last.
func (o Opening) End() (end time.Time) {
	for _, p := range o.Parts {
		if p.End.After(end) {
			end = p.End
		}
	}
	return end
}

// Within reports whether each part lies within one of another opening's, and ends with it
// or before.
func (o Opening) Within(other Opening) bool {
	within := func(p Part) bool {
		return slices.ContainsFunc(other.Parts, func(q Part) bool {
			outside := func(m string) bool { return !slices.Contains(q.Machines, m) }
			return !p.End.After(q.End) && q.Services.ContainsAll(p.Services) && q.From.ContainsAll(p.From) && !slices.ContainsFunc(p.Machines, outside)
		})
	}
	return !slices.ContainsFunc(o.Parts, func(p Part) bool { return !within(p) })
}

// Brief tells in a line what an opening is for, in the words of whoever asked for it.
func (o Opening) Brief() string {
	return fmt.Sprintf("%s to %s%s", o.Words.Services, sentence.Few(o.Machines()), sentence.FromWords(o.Words.From))
}

// Describe tells in a line what passes by an opening, in numbers.
func (o Opening) Describe() string {
	words := make([]string, len(o.Parts))
	for i, p := range o.Parts {
		from := " from " + strings.Join(flow.AddrRuns(p.From), ", ")
		if p.Console() {
			from = ""
		}
		words[i] = fmt.Sprintf("%s to %s%s until %s", strings.Join(flow.ServiceRuns(p.Services), ", "), strings.Join(p.Machines, ", "), from, p.End.UTC().Format(time.RFC3339))
	}
	return strings.Join(words, "; ")
}

// Machines names the machines of all parts, as people count.
func (o Opening) Machines() (names []string) {
	for _, p := range o.Parts {
		names = append(names, p.Machines...)
	}
	slices.SortFunc(names, sentence.CompareNames)
	return slices.Compact(names)
}

// Permits are the sentences that permit its parts.
func (o Opening) Permits() (list []string) {
	for _, p := range o.Parts {
		if !slices.Contains(list, p.Permit) {
			list = append(list, p.Permit)
		}
	}
	return list
}

// Without returns the opening without some machines. One that has none left has no parts.
func (o Opening) Without(drop func(machine string) bool) Opening {
	var parts []Part
	for _, p := range o.Parts {
		if p.Machines = slices.DeleteFunc(slices.Clone(p.Machines), drop); len(p.Machines) > 0 {
			parts = append(parts, p)
		}
	}
	o.Parts = parts
	return o
}

// Active reports whether the opening is there at a moment: from its record until its
// end or its closing, whatever a clock says of its beginning, so that it is listed
// and can be closed.
func (o Opening) Active(at time.Time) bool {
	return o.Ended.IsZero() && at.Before(o.End())
}

// LetsIn reports whether some part of it is for a service of a machine from a source.
func (o Opening) LetsIn(machine string, service flow.Service, from netip.Addr) bool {
	return slices.ContainsFunc(o.Parts, func(p Part) bool {
		return slices.Contains(p.Machines, machine) && p.Services.Contains(service) && p.From.Contains(flow.PointOf(from))
	})
}

// Rules returns the rules that let the opening's flows pass in a plan, one a part; none
// while it waits for approvals.
// Machines that the plan has not are left out.
func (o Opening) Rules(p *flow.Plan) (rules []flow.Rule) {
	if o.Waits() {
		return nil
	}
	for _, part := range o.Parts {
		rules = append(rules, part.rule(o, p))
	}
	return rules
}

// Console reports whether a part is for consoles; then it is for nothing else.
func (p Part) Console() bool { return p.Services.Contains(flow.Console) }

// OpensConsole reports whether an opening is for the console of a machine.
func (o Opening) OpensConsole(machine string) bool {
	return slices.ContainsFunc(o.Parts, func(p Part) bool { return p.Console() && slices.Contains(p.Machines, machine) })
}

// SameFlows reports whether two parts let the same flows pass, ends aside.
func (p Part) SameFlows(q Part) bool {
	return p.Services.Equal(q.Services) && p.From.Equal(q.From) && slices.Equal(p.Machines, q.Machines)
}

func (p Part) rule(o Opening, plan *flow.Plan) flow.Rule {
	g := &flow.Group{}
	for _, name := range p.Machines {
		if m, ok := plan.MachineByName(name); ok {
			g.Machines = append(g.Machines, m)
		}
	}
	slices.Sort(g.Machines)
	return flow.Rule{
		Kind: flow.Opening, From: p.From, To: g, Services: p.Services, Begin: o.Begin, Until: p.End, Opening: o.ID,
		Origin: flow.Origin{Sentence: o.Words.String()},
	}
}
