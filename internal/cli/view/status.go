package view

import (
	"cmp"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"time"

	"ironbark/internal/change"
	"ironbark/internal/driver"
	"ironbark/internal/exposure"
	"ironbark/internal/findings"
	"ironbark/internal/flow"
	"ironbark/internal/opening"
	"ironbark/internal/sentence"
	"ironbark/internal/work"
)

// most is how many lines of one kind a status shows.
const most = 12

// Status prints the estate on one screen: machines, what is reachable now,
// openings with the time left, drift and findings.
func (p *Printer) Status(st *work.State, drift *work.Drift, sum Summary, now time.Time) {
	ph := NewPhrasing(st, now)
	name := st.Estate.Name
	if st.Alone {
		p.Head("What the site itself has, " + now.UTC().Format("2006-01-02 15:04:05Z"))
		p.Wrap("  ", "what was decided cannot be read, so nobody can tell who asked for what; ironbark close --all closes what is open for a while")
	} else if len(st.Report.Files)+len(st.Report.Resources) == 0 {
		p.Line("Nothing was enacted yet: ironbark review tells what the files would do.")
		return
	}
	if !st.Alone {
		p.Head(fmt.Sprintf("%s on %s, %s", cmp.Or(name, "no estate"), cmp.Or(st.Estate.Site, "the site"), now.UTC().Format("2006-01-02 15:04:05Z")))
	}
	switch {
	case st.Report.Unfinished != nil:
		p.Wrap("  ", p.Bad("unfinished")+fmt.Sprintf(": an enactment by %s was broken off; ironbark enact completes it", st.Report.Unfinished.Person))
	case st.Differ:
		p.Wrap("  ", "the files differ from what is installed: ironbark review")
	}
	p.machines(st, ph)
	if !drift.IsEmpty() {
		p.Line("")
		p.Head("Drift: not as it was enacted")
		p.Drift(drift, ph)
	}
	p.Line("")
	p.Head("Reachable now")
	if sum.Total == 0 {
		p.Line("  nothing")
	}
	for _, r := range sum.Rows {
		text := fmt.Sprintf("%s → %s %s", ph.names.Plain(r.From), r.Machine, p.marked(r.Services, ph))
		if t := r.Until; !t.IsZero() {
			text += ", " + Left(t, now) + " left"
		}
		if m, known := st.Report.Machines[r.Machine]; known && m.State != driver.Running {
			text += ", but nothing answers: it is " + string(m.State)
		}
		p.Wrap("  ", text)
	}
	if sum.Total > len(sum.Rows) {
		p.Line("  … and %d more: ironbark reach", sum.Total-len(sum.Rows))
	}
	p.Line("")
	p.Head("Open for a while")
	active := work.Active(st.Report.Openings, now)
	if len(active) == 0 {
		p.Line("  nothing")
	}
	for _, o := range active {
		mark := "  "
		if o.Emergency {
			mark += p.Bad("emergency") + "  "
		}
		if o.Waits() {
			p.Wrap(mark, fmt.Sprintf("%d  %s, asked for by %s and waiting for approval: nothing is open yet", o.ID, o.Brief(), o.Person))
			continue
		}
		if o.StateAt(now) == opening.Scheduled {
			p.Wrap(mark, fmt.Sprintf("%d  %s, from %s until %s, by %s because %q", o.ID, o.Brief(), Moment(o.Begin, now), Moment(o.End(), now), o.Person, o.Words.Because))
			continue
		}
		p.Wrap(mark, fmt.Sprintf("%d  %s, %s left, by %s because %q", o.ID, o.Brief(), Left(o.End(), now), cmp.Or(o.Person, "somebody"), o.Words.Because))
	}
	p.Line("")
	p.Head("Findings")
	for _, b := range sum.Broken {
		p.Broken(b)
	}
	if len(sum.Levels)+len(sum.Broken) == 0 {
		p.Line("  none")
		return
	}
	p.Findings(sum.Serious, "ironbark findings --all")
	p.Wrap("  ", fmt.Sprintf("likely mistakes: %d serious, %s, %s; these and what needs upkeep: ironbark findings", sum.Levels[findings.Serious], Count(sum.Levels[findings.Caution], "caution"), Count(sum.Levels[findings.Note], "note")))
}

var machineHeads = []string{"MACHINE", "STATE", "SIZE", "AT", "INSIDE", "PUBLIC", "LISTENS ON"}

// machineRows lists machines; ph may be without names.
func machineRows(st *work.State, list []change.Resource, ph *Phrasing) (rows [][]string) {
	for _, t := range list {
		m := st.Report.Machines[t.Name]
		public := "none"
		six := len(publicV6(st.Plan, t.Name)) > 0 // reached from outside at the addresses that it has inside
		switch four := t.Given.Addr4; {
		case four.IsValid() && six:
			public = four.String() + ", IPv6"
		case four.IsValid():
			public = four.String()
		case six:
			public = "IPv6"
		}
		rows = append(rows, []string{t.Name, state(m), t.Spec.Size, strings.Join(t.Spec.Subnets, ", "), strings.Join(t.InsideWords(), " "), public, ph.listens(m)})
	}
	return rows
}

// publicV6 are the IPv6 addresses at which a machine can be called from outside, if anything
// lets it.
func publicV6(plan *flow.Plan, machine string) (list []netip.Addr) {
	m, ok := plan.MachineByName(machine)
	if !ok {
		return nil
	}
	for _, d := range plan.DoorsTo(m) {
		if d.Kind == flow.DoorDirect && d.Family == sentence.IPv6 && d.Address.IsValid() && !slices.Contains(list, d.Address) {
			list = append(list, d.Address)
		}
	}
	return list
}

// state tells how a machine is doing.
func state(m driver.Machine) string {
	text := string(m.State)
	if m.Failed != "" {
		text += ", setup failed"
	}
	switch {
	case m.Silent:
		text += ", does not answer"
	case m.Interrupted:
		text += ", by itself"
	case m.Forced && m.State == driver.Stopped:
		text += " (hard)"
	}
	return text
}

func (p *Printer) machines(st *work.State, ph *Phrasing) {
	var list []*change.Resource
	for i := range st.Report.Resources {
		if t := &st.Report.Resources[i]; t.Kind == change.Machine {
			list = append(list, t)
		}
	}
	p.Line("")
	if len(list) == 0 {
		p.Line("  no machines")
		return
	}
	slices.SortFunc(list, func(a, b *change.Resource) int { return sentence.CompareNames(a.Name, b.Name) })
	states := map[driver.State]int{}
	for _, t := range list {
		states[st.Report.Machines[t.Name].State]++
	}
	var first []change.Resource
	for _, t := range list[:min(len(list), most)] {
		first = append(first, *t)
	}
	rows := machineRows(st, first, ph)
	for i := range rows { // one screen has no room for sizes
		rows[i] = slices.Delete(rows[i], 2, 3)
	}
	p.TableIn("  ", slices.Delete(slices.Clone(machineHeads), 2, 3), rows)
	p.interrupted(st)
	if extra := len(list) - most; extra > 0 {
		var words []string
		for _, s := range slices.Sorted(maps.Keys(states)) {
			words = append(words, fmt.Sprintf("%d %s", states[s], s))
		}
		p.Line("  … and %d more: ironbark show machine; in all %s", extra, strings.Join(words, ", "))
	}
}

// interrupted tells of machines that nobody stopped and that are stopped, or paused.
func (p *Printer) interrupted(st *work.State) {
	var paused []string
	for name, m := range st.Report.Machines {
		if m.State == driver.Paused {
			paused = append(paused, name)
		}
	}
	slices.Sort(paused)
	for _, one := range []struct {
		what, then string
		names      []string
	}{
		{"ended by themselves", "ironbark site restore starts them, and ironbark console NAME --log may tell why", st.Report.Interrupted()},
		{"paused", "the host's disk is full; once there is room, ironbark start NAME lets them go on, and nothing is lost", paused},
	} {
		if len(one.names) == 0 {
			continue
		}
		text := strings.Join(one.names[:min(len(one.names), most)], ", ")
		if extra := len(one.names) - most; extra > 0 {
			text += fmt.Sprintf(" and %d more", extra)
		}
		p.Wrap("  "+p.Bad(one.what)+"  ", text+": "+one.then)
	}
}

func (ph *Phrasing) listens(m driver.Machine) string {
	if m.State != driver.Running {
		return "nothing"
	}
	if m.Listens.IsEmpty() {
		return "nothing yet"
	}
	return ph.service(m.Listens)
}

// statusMachine is a part of the document StatusDoc.
type statusMachine struct {
	Name      string    `json:"name"`
	State     string    `json:"state"`
	Since     time.Time `json:"since"`
	Itself    bool      `json:"stoppedByItself,omitempty"`
	Addresses []string  `json:"addresses"`
	Public    string    `json:"public,omitempty"`
	Listens   []string  `json:"listens"`
}

// statusOpen is a part of the document StatusDoc.
type statusOpen struct {
	ID   int64     `json:"id"`
	Text string    `json:"sentence"`
	By   string    `json:"person"`
	End  time.Time `json:"end"`
	Left int64     `json:"left"`
}

// StatusDoc is the document that StatusJSON makes.
type StatusDoc struct {
	Estate     string          `json:"estate"`
	At         time.Time       `json:"at"`
	Differ     bool            `json:"differ"`
	Unfinished bool            `json:"unfinished"`
	Machines   []statusMachine `json:"machines"`
	Reach      []reachJSON     `json:"reach"`
	Openings   []statusOpen    `json:"openings"`
	Findings   []FindingDoc    `json:"findings"`
	Broken     int             `json:"broken"`
	Drift      DriftDoc        `json:"drift"`
	Recipients []RecipientDoc  `json:"recipients"`
}

// StatusJSON is the document of a status.
func StatusJSON(st *work.State, drift *work.Drift, reach []exposure.Entry, found []findings.Finding, broken []exposure.Broken, recipients []work.Told, now time.Time) StatusDoc {
	ph := NewPhrasing(st, now)
	doc := StatusDoc{
		Estate: st.Estate.Name, At: now.UTC(), Differ: st.Differ, Unfinished: st.Report.Unfinished != nil,
		Machines: []statusMachine{}, Reach: []reachJSON{}, Openings: []statusOpen{}, Findings: FindingsJSON(found), Broken: len(broken), Drift: DriftJSON(drift, ph), Recipients: RecipientsJSON(recipients),
	}
	for _, t := range st.Report.Resources {
		if t.Kind != change.Machine {
			continue
		}
		m := st.Report.Machines[t.Name]
		row := statusMachine{Name: t.Name, State: string(m.State), Since: m.Since.UTC(), Itself: m.Interrupted, Addresses: t.InsideWords(), Listens: flow.ServiceRuns(m.Listens)}
		if t.Given.Addr4.IsValid() {
			row.Public = t.Given.Addr4.String()
		}
		doc.Machines = append(doc.Machines, row)
	}
	doc.Reach = reachList(slices.Values(reach), ph)
	for _, o := range work.Active(st.Report.Openings, now) {
		doc.Openings = append(doc.Openings, statusOpen{o.ID, o.Words.String(), o.Person, o.End().UTC(), int64(o.End().Sub(now).Seconds())})
	}
	return doc
}
