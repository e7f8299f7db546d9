package exposure

import "ironbark/internal/flow"

// Step is one of the five questions as a part of an answer met it.
type Step struct {
	Question string // door, deny, administrative, pass, default
	Answer   string
	Passed   bool // the flow got past this question; the last step is the one that decided
	Origin   flow.Origin
}

// Steps tells which questions a part met and what each answered, up to the one
// that decided it.
func (v *View) Steps(p Part, namings []flow.Naming) []Step {
	if p.Reason == NoDoor && v.Plan.OfCalls() {
		return []Step{{Question: "door", Answer: "none: it has no way outside in this family"}}
	}
	if p.Reason == NoDoor {
		return []Step{{Question: "door", Answer: "none: nothing leads there from this source"}}
	}
	if p.Door.Kind == flow.DoorConsole {
		return consoleSteps(p)
	}
	steps := []Step{{Question: "door", Answer: DoorWords(p.Door), Passed: true}}
	if p.Door.Kind == flow.DoorBastion {
		return append(steps, Step{Question: "pass", Answer: "the gateway may be reached from this source", Passed: true, Origin: p.Origin})
	}
	if p.Door.Own != nil {
		steps[0].Origin = p.Door.Own.Origin
	}
	if p.Reason == Denied {
		return append(steps, Step{Question: "deny", Answer: "one matches, and a deny is absolute", Origin: p.Origin})
	}
	steps = append(steps, Step{Question: "deny", Answer: "none matches", Passed: true})
	if p.Door.Kind == flow.DoorOutward { // in a question about an address outside, calls stand beside what comes to machines
		return append(steps, callSteps(p)...)
	}
	guarded := p.Arrives.Intersect(v.Plan.AdminServices)
	words := "no, " + flow.PrintServices(p.Arrives, namings) + " is not"
	if !guarded.IsEmpty() {
		words = "yes, " + flow.PrintServices(guarded, flow.Particular(namings)) + " is"
	}
	if p.Reason == Administrative {
		return append(steps, Step{Question: "administrative", Answer: words + "; no opening, route or standing exception lets this source in"})
	}
	steps = append(steps, Step{Question: "administrative", Answer: words, Passed: true})
	if p.Open {
		return append(steps, Step{Question: "pass", Answer: passWords[p.Reason], Passed: true, Origin: p.Origin})
	}
	return append(steps,
		Step{Question: "pass", Answer: "no opening, route or allow matches", Passed: true},
		Step{Question: "default", Answer: "closed by default"})
}

// callSteps tells the last questions about what a machine calls outside, where nothing is administrative.
func callSteps(p Part) []Step {
	if p.Open {
		words := passWords[p.Reason]
		if p.Origin.IsOpenNetwork() {
			words = "no sentence need allow it"
		}
		return []Step{{Question: "pass", Answer: words, Passed: true, Origin: p.Origin}}
	}
	return []Step{
		{Question: "pass", Answer: "no allow matches", Passed: true},
		{Question: "default", Answer: "closed, as the network is “outward: closed”"},
	}
}

var passWords = map[Reason]string{
	ByOpening: "an opening lets it in", ByRoute: "a route lets it in", ByStanding: "a standing exception lets it in",
	ByAllow: "an allow lets it in", ByDoor: "the door's own from lets it in",
}

// DoorWords describes a door in a few words.
func DoorWords(d flow.Door) string {
	text := d.Kind.String()
	if d.Via != "" {
		text += " " + d.Via
	}
	address := "an address still to be given"
	if d.Address.IsValid() {
		address = d.Address.String()
	}
	switch d.Kind {
	case flow.DoorConsole:
		return "the machine's console, past the network"
	case flow.DoorOutward:
		return text + ", from " + address
	case flow.DoorForward, flow.DoorSpread, flow.DoorBastion:
		return text + ", " + d.Service.String() + " at " + address
	}
	return text + ", at " + address
}
