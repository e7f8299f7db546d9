package view

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"ironbark/internal/change"
	"ironbark/internal/driver"
	"ironbark/internal/estate"
	"ironbark/internal/exposure"
	"ironbark/internal/flow"
	"ironbark/internal/work"
)

// Machine is a machine, who gets in, and what the sentences about it come to.
type Machine struct {
	Name     string
	Resource change.Resource // the zero Resource where only the files have it
	State    driver.Machine
	Volumes  []change.Resource
	Boot     driver.Boot
	Reach    []exposure.Entry
	Calls    []exposure.Entry // what it may call outside: where they tell of sources, read destinations
	Effects  []exposure.Effect
	Could    []work.CouldOpen       // who may open what of it
	Sessions []driver.Session       // that go on
	Counts   *driver.Counts         // nil: the site counts nothing
	Traffic  *driver.MachineTraffic // nil: the site limits nothing
}

// Machine prints a machine.
func (p *Printer) Machine(m Machine, ph *Phrasing) {
	p.Head(m.Name)
	if m.Resource.Name != "" {
		p.Wrap("  is       ", m.Resource.Describe())
		p.Wrap("  inside   ", strings.Join(m.Resource.InsideWords(), " "))
		var public []string
		if m.Resource.Given.Addr4.IsValid() {
			public = append(public, m.Resource.Given.Addr4.String())
		}
		for _, a := range publicV6(ph.plan, m.Name) {
			public = append(public, a.String())
		}
		if len(public) > 0 {
			p.Wrap("  public   ", strings.Join(public, " "))
		}
		if m.Traffic != nil {
			p.Wrap("  limits   ", fmt.Sprintf("%s; %d connections now", m.Traffic.Limits, m.Traffic.Connections))
		}
		if m.State.State != "" {
			p.Wrap("  doing    ", state(m.State)+", listens on "+ph.listens(m.State))
		}
		for _, v := range m.Volumes {
			p.Wrap("  volume   ", fmt.Sprintf("%s: %s, %d GB %s disk", v.Spec.Device, v.Name, v.Spec.GB, v.Spec.Speed))
		}
		if m.State.Locked {
			p.Wrap("  password ", "none is set, so nobody gets in with one")
		}
		for _, r := range m.Boot.Setup {
			p.setup(r, ph)
		}
		if d := change.Drift([]change.Resource{m.Resource}, nil); len(d) > 0 {
			p.Wrap("  drift    ", d[0].String())
		}
	} else {
		p.Line("  is       not on the site: enact makes it")
	}
	p.Line("")
	p.Head("Who gets in")
	p.Reach(m.Reach, ph)
	for i, s := range m.Sessions {
		if i == 0 {
			p.Line("")
			p.Head("In session now")
		}
		p.Line("  %s", Session(s, ph.now))
	}
	p.Line("")
	p.Head("What it may call outside")
	p.Called(m.Calls, ph)
	p.Line("")
	p.Head("Who may open what for a while")
	if len(m.Could) == 0 {
		p.Line("  nobody anything: no permit covers it")
	}
	p.couldOpen(m.Could, ph, func(one work.CouldOpen) string { return few(one.People) })
	p.hinderedHere(m.Could)
	p.Line("")
	p.Head("What the sentences about it come to here")
	switch {
	case len(m.Effects) == 0 && len(m.Could) > 0:
		p.Line("  no rule but the permits above applies")
	case len(m.Effects) == 0:
		p.Line("  no rule applies")
	}
	var rows [][]string
	for _, e := range m.Effects {
		rows = append(rows, []string{string(e.State), ph.because(e.Origin, e.Opening), effectWhy(e)})
	}
	p.TableIn("  ", nil, rows)
	if m.Counts == nil {
		return
	}
	if used := UsedOf(slices.Concat(m.Reach, m.Calls), m.Counts); len(used) > 0 {
		p.Line("")
		p.Head("What let anything pass, here and at other machines")
		p.Used(used, m.Counts, ph)
	}
}

// mostOutput is how many of the last lines of a first boot's output are shown.
const mostOutput = 12

func (p *Printer) setup(r driver.SetupResult, ph *Phrasing) {
	end := fmt.Sprintf("%s ended with %d at %s", r.Name, r.Exit, Moment(r.At, ph.now))
	if r.Exit != 0 {
		end = p.Bad(end)
	}
	p.Wrap("  setup    ", end)
	lines := strings.Split(strings.TrimRight(r.Output, "\n"), "\n")
	if extra := len(lines) - mostOutput; extra > 0 {
		p.Line("           … %s before", Count(extra, "line"))
		lines = lines[extra:]
	}
	for _, line := range lines {
		if line != "" {
			p.Wrap("           "+p.Quiet("| "), line)
		}
	}
}

func effectWhy(e exposure.Effect) string {
	if e.By.Sentence == "" {
		return e.Why
	}
	return e.Why + " by " + sentenceAt(e.By)
}

// machineEffect is a part of the document MachineDoc.
type machineEffect struct {
	State    string `json:"state"`
	Sentence string `json:"sentence"`
	File     string `json:"file"`
	Line     int    `json:"line"`
	Opening  int64  `json:"opening,omitempty"`
	Why      string `json:"why"`
	By       string `json:"by"`
}

// MachineDoc is the document that MachineJSON makes.
type MachineDoc struct {
	Name      string               `json:"name"`
	What      string               `json:"what"`
	State     string               `json:"state"`
	Listens   []string             `json:"listens"`
	Setup     []driver.SetupResult `json:"setup"`
	Volumes   []string             `json:"volumes"`
	Reach     []reachJSON          `json:"reach"`
	Calls     []callJSON           `json:"calls"`
	Could     []CouldDoc           `json:"could"`
	Sessions  []SessionDoc         `json:"sessions"`
	Sentences []machineEffect      `json:"sentences"`
	Used      []usedJSON           `json:"used,omitempty"`
	Traffic   *trafficJSON         `json:"traffic,omitempty"`
}

// trafficJSON is what a machine takes of the network, and may take.
type trafficJSON struct {
	Connections int            `json:"connections"`
	Limits      estate.Traffic `json:"limits"`
}

// stateWord names the state for programs: “not made” where the machine is in the files alone, “unknown” where the question is about another time.
func (m Machine) stateWord() string {
	if m.Resource.Name == "" {
		return "not made"
	}
	return cmp.Or(string(m.State.State), "unknown")
}

// MachineJSON is the document of a machine.
func MachineJSON(m Machine, ph *Phrasing) MachineDoc {
	doc := MachineDoc{m.Name, m.Resource.Describe(), m.stateWord(), flow.ServiceRuns(m.State.Listens), append([]driver.SetupResult{}, m.Boot.Setup...), []string{}, []reachJSON{}, []callJSON{}, []CouldDoc{}, []SessionDoc{}, []machineEffect{}, nil, nil}
	if m.Traffic != nil {
		doc.Traffic = &trafficJSON{m.Traffic.Connections, m.Traffic.Limits}
	}
	for _, v := range m.Volumes {
		doc.Volumes = append(doc.Volumes, v.Name)
	}
	doc.Reach = reachList(slices.Values(m.Reach), ph)
	doc.Calls = callList(slices.Values(m.Calls), ph)
	for _, s := range m.Sessions {
		doc.Sessions = append(doc.Sessions, SessionJSON(s))
	}
	for _, one := range m.Could {
		doc.Could = append(doc.Could, CouldJSON(one))
	}
	for _, e := range m.Effects {
		doc.Sentences = append(doc.Sentences, machineEffect{string(e.State), e.Origin.Sentence, e.Origin.File, e.Origin.Line, e.Opening, e.Why, e.By.Sentence})
	}
	if m.Counts != nil {
		for _, u := range UsedOf(slices.Concat(m.Reach, m.Calls), m.Counts) {
			doc.Used = append(doc.Used, u.json())
		}
	}
	return doc
}
