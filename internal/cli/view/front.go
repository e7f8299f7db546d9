package view

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"ironbark/internal/change"
	"ironbark/internal/estate"
	"ironbark/internal/exposure"
	"ironbark/internal/flow"
	"ironbark/internal/sentence"
	"ironbark/internal/work"
)

// Front is a front, its ports, the machines behind them, and who gets in by it.
type Front struct {
	Resource change.Resource
	State    *work.State
	Ports    []FrontPort
	Members  []work.Member // empty where the place tests none
	Reach    []exposure.Entry
}

// FrontPort is a port of a front.
type FrontPort struct {
	flow.Published
	Administrative bool
	LeadsTo        string // in the sentence's words
	Test           string // "" where there is none
	GetsIn         flow.Addrs
}

// FrontOf collects the ports of a front, and who gets in by them at a moment.
func FrontOf(t change.Resource, st *work.State, at time.Time) Front {
	f := Front{Resource: t, State: st}
	v := exposure.NewView(st.Plan, at)
	reach := map[int32][]exposure.Entry{}
	for _, d := range st.Plan.Doors {
		if d.Front != t.Name {
			continue
		}
		p := FrontPort{Published: d, Administrative: st.Plan.AdminServices.Contains(d.On)}
		if said, err := sentence.Parse(d.Origin.Sentence); err == nil {
			switch s := said.(type) {
			case sentence.Forward:
				p.LeadsTo = s.To.String()
			case sentence.Spread:
				p.LeadsTo = s.Over.String()
				p.Test = strings.TrimPrefix(s.Tested.String(), " tested by ")
				if p.Test != "" {
					p.Test += pace(st.Estate, t.Name)
				}
			}
		}
		for _, m := range d.To.Machines {
			if _, known := reach[m]; !known {
				reach[m] = v.Reach(m)
			}
			for _, e := range reach[m] {
				if e.Door.Translated() && e.Door.Via == t.Name && e.Door.Service == d.Service {
					f.Reach = append(f.Reach, e)
					p.GetsIn = p.GetsIn.Union(e.From)
				}
			}
		}
		f.Ports = append(f.Ports, p)
	}
	slices.SortStableFunc(f.Ports, func(a, b FrontPort) int { return cmp.Compare(a.Service, b.Service) })
	slices.SortStableFunc(f.Reach, func(a, b exposure.Entry) int { return cmp.Compare(a.Door.Machine, b.Door.Machine) })
	return f
}

// getsIn tells who gets in by a port.
func (p FrontPort) getsIn(ph *Phrasing) string {
	switch {
	case !p.GetsIn.IsEmpty():
		return ph.names.Plain(p.GetsIn)
	case !flow.Active(p.Until, ph.now):
		return "nobody: the port has ended"
	case len(p.To.Machines) == 0:
		return "nobody: it leads to no machine"
	case p.Administrative:
		return "nobody: administrative, closed until somebody opens it"
	}
	return "nobody: no sentence lets anybody in"
}

// Front prints a front.
func (p *Printer) Front(f Front, ph *Phrasing) {
	p.Resource(f.Resource, f.State)
	p.Line("")
	p.Head("Ports")
	if len(f.Ports) == 0 {
		p.Line("  none: it leads nowhere (ironbark forward %s …, ironbark spread %s …)", f.Resource.Name, f.Resource.Name)
		return
	}
	var rows [][]string
	for _, d := range f.Ports {
		rows = append(rows, []string{ph.service(flow.ServicesAt(d.Service)), d.LeadsTo + " on " + p.marked(flow.ServicesAt(d.On), ph), d.Kind.String(), d.Test, d.getsIn(ph), place(d.Origin)})
	}
	p.TableIn("  ", []string{"PORT", "LEADS TO", "BY", "TESTED BY", "WHO GETS IN", "SENTENCE"}, rows)
	if len(f.Members) > 0 {
		p.Line("")
		p.Head("Machines behind it")
		rows = nil
		for _, m := range f.Members {
			since := ""
			if !m.Since.IsZero() {
				since = Moment(m.Since, ph.now)
			}
			state := string(m.State)
			if m.State != work.MemberIn {
				state = p.Bad(state)
			}
			rows = append(rows, []string{ph.service(flow.ServicesAt(m.Service)), m.Machine, state, since, m.Why})
		}
		p.TableIn("  ", []string{"PORT", "MACHINE", "STATE", "SINCE", "WHY"}, rows)
	}
	p.Line("")
	p.Head("Who gets in by it")
	p.Reach(f.Reach, ph)
}

// FrontDoc is the document of a front.
type FrontDoc struct {
	ResourceDoc
	Ports []frontPortDoc `json:"ports"`
	Reach []reachJSON    `json:"reach"`
}

type frontPortDoc struct {
	Port           string      `json:"port"`
	By             string      `json:"by"` // forward or spread
	On             string      `json:"on"` // the service at the machines
	Administrative bool        `json:"administrative"`
	Test           string      `json:"test,omitempty"`
	From           []string    `json:"from"` // who gets in
	Until          *time.Time  `json:"until"`
	Sentence       string      `json:"sentence"`
	File           string      `json:"file"`
	Line           int         `json:"line"`
	Members        []memberDoc `json:"members"`
}

type memberDoc struct {
	Machine string           `json:"machine"`
	State   work.MemberState `json:"state,omitempty"` // none where the site tests no members
	Since   *time.Time       `json:"since"`
	Why     string           `json:"why,omitempty"`
}

// FrontJSON is the document of a front.
func FrontJSON(f Front, ph *Phrasing) FrontDoc {
	doc := FrontDoc{ResourceJSON(f.Resource, f.State), []frontPortDoc{}, []reachJSON{}}
	for _, d := range f.Ports {
		port := frontPortDoc{
			d.Service.String(), d.Kind.String(), d.On.String(), d.Administrative, d.Test, flow.AddrRuns(d.GetsIn), moment(d.Until),
			d.Origin.Sentence, d.Origin.File, d.Origin.Line,
			[]memberDoc{},
		}
		for _, i := range d.To.Machines {
			one := memberDoc{Machine: f.State.Plan.Machines[i].Name}
			for _, m := range f.Members {
				if m.Service == d.Service && m.Machine == one.Machine {
					one.State, one.Since, one.Why = m.State, moment(m.Since), m.Why
				}
			}
			port.Members = append(port.Members, one)
		}
		doc.Ports = append(doc.Ports, port)
	}
	doc.Reach = reachList(slices.Values(f.Reach), ph)
	return doc
}

// pace says how often the members of a front are tested, and when one is taken out, where the front says so.
func pace(e *estate.Estate, front string) (text string) {
	for _, f := range e.Fronts {
		if f.Name == front && f.Test.Every > 0 {
			text = " every " + sentence.DurationOf(f.Test.Every).String()
		}
		if f.Name == front && f.Test.Failures > 0 {
			text += ", out after " + Count(f.Test.Failures, "failure")
		}
	}
	return text
}
