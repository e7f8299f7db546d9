package view

import (
	"fmt"
	"iter"
	"math"
	"slices"
	"strings"
	"time"

	"ironbark/internal/change"
	"ironbark/internal/driver"
	"ironbark/internal/exposure"
	"ironbark/internal/flow"
	"ironbark/internal/opening"
	"ironbark/internal/sentence"
	"ironbark/internal/work"
)

// Moment prints a moment for people: the day only where it is another one than now's.
func Moment(t, now time.Time) string {
	t = t.UTC()
	if t.Format(time.DateOnly) == now.UTC().Format(time.DateOnly) {
		return t.Format("15:04:05Z")
	}
	return t.Format("2006-01-02 15:04Z")
}

// Left tells how long it is until a moment, in at most two units.
func Left(until, now time.Time) string {
	d := until.Sub(now)
	if d <= 0 {
		return "over"
	}
	d = (d + time.Second - 1).Truncate(time.Second) // an hour asked for is told as an hour
	if d >= time.Hour {
		d = d.Truncate(time.Minute)
	}
	return sentence.DurationOf(d).String()
}

// Phrasing knows the names of a state: what services, sources, machines and
// openings are called.
type Phrasing struct {
	names    *exposure.Names
	namings  []flow.Naming
	plan     *flow.Plan
	openings []opening.Opening
	now      time.Time
	mark     string // before places in files, where they are not those of now
}

// NewPhrasing collects the names that a state's listings use.
func NewPhrasing(st *work.State, now time.Time) *Phrasing {
	var own []string
	for _, s := range st.Estate.Services {
		own = append(own, s.Name)
	}
	return &Phrasing{
		names: exposure.NewNames(st.Estate, st.Plan), namings: flow.Namings(own, st.Estate), plan: st.Plan,
		openings: st.Report.Openings, now: now,
	}
}

// Numbered prints numbers beside words that mean something else on the other side.
func (ph *Phrasing) Numbered(changed []change.Meaning) {
	for _, m := range changed {
		if m.Verb != change.Alter {
			continue
		}
		switch m.Kind {
		case "source":
			ph.names.Number(m.Name)
		case "service":
			for i, n := range ph.namings {
				if n.Name == m.Name {
					ph.namings[i].Name = fmt.Sprintf("%s (%s)", n.Name, strings.Join(flow.ServiceRuns(n.Set), " "))
				}
			}
		}
	}
}

// service prints a set of services by names, with the ports of a single one.
func (ph *Phrasing) service(s flow.Services) string { return flow.PrintServices(s, ph.namings) }

// Passing tells the services and sources of a part of an opening: as they were asked for,
// where that is all of it.
func (ph *Phrasing) Passing(o opening.Opening, part opening.Part) (services, from string) {
	if len(o.Parts) == 1 {
		return o.Words.Services.String(), o.Words.From.String()
	}
	return ph.service(part.Services), ph.names.Plain(part.From)
}

func (ph *Phrasing) machine(i int32, d flow.Door) string {
	if i < 0 {
		return d.Via
	}
	return ph.plan.Machines[i].Name
}

func place(o flow.Origin) string {
	if o.File == "" {
		return ""
	}
	return fmt.Sprintf("%s:%d", o.File, o.Line)
}

// because tells the sentence behind something and where it stands; an opening is
// told by its number, its owner and its reason.
func (ph *Phrasing) because(o flow.Origin, id int64) string {
	for _, open := range ph.openings {
		if open.ID == id && id > 0 {
			return fmt.Sprintf("opening %d by %s because %s", id, open.Person, sentence.Quote(open.Words.Because))
		}
	}
	return sentenceAt(o)
}

func until(t, now time.Time) string {
	if t.IsZero() {
		return ""
	}
	return Moment(t, now) + ", " + Left(t, now) + " left"
}

// entryRow is one row of a listing of what is open: entries that differ only in
// their doors are one for the reader.
type entryRow struct {
	machine  string
	entry    exposure.Entry
	from     flow.Addrs
	doors    []string
	services flow.Services
	before   time.Time // of a difference in ends
}

// gather joins entries of one machine, service and sentence over their doors.
func (ph *Phrasing) gather(list []exposure.Entry) (rows []entryRow) {
	first := 0 // entries come machine by machine
	for _, e := range list {
		machine := ph.machine(e.Door.Machine, e.Door)
		if len(rows) > 0 && rows[len(rows)-1].machine != machine {
			first = len(rows)
		}
		door := e.Door.Kind.String()
		if e.Door.Via != "" {
			door += " " + e.Door.Via
		}
		if e.Door.Translated() {
			door += " " + e.Door.Service.String()
		}
		i := slices.IndexFunc(rows[first:], func(r entryRow) bool {
			return r.machine == machine && r.entry.Origin == e.Origin && r.entry.Opening == e.Opening && r.entry.Reason == e.Reason && r.entry.Until.Equal(e.Until) &&
				r.entry.Administrative == e.Administrative && r.services.Equal(e.Services)
		})
		if i < 0 {
			rows = append(rows, entryRow{machine: machine, entry: e, from: e.From, doors: []string{door}, services: e.Services})
			continue
		}
		i += first
		rows[i].from = rows[i].from.Union(e.From)
		if !slices.Contains(rows[i].doors, door) {
			rows[i].doors = append(rows[i].doors, door)
		}
	}
	return rows
}

// first gathers what is open machine by machine, and returns the first rows,
// administrative ones before others, and how many there are. Cost: memory for one
// machine at a time, however much is open.
func (ph *Phrasing) first(open iter.Seq[exposure.Entry], most int) (rows []entryRow, total int) {
	var administrative, other []entryRow
	var batch []exposure.Entry
	flush := func() {
		for _, r := range ph.gather(batch) {
			total++
			if r.entry.Administrative && len(administrative) < most {
				administrative = append(administrative, r)
			} else if !r.entry.Administrative && len(other) < most {
				other = append(other, r)
			}
		}
		batch = batch[:0]
	}
	for e := range open {
		if len(batch) > 0 && ph.machine(batch[0].Door.Machine, batch[0].Door) != ph.machine(e.Door.Machine, e.Door) {
			flush()
		}
		batch = append(batch, e)
	}
	flush()
	rows = append(administrative, other...)
	return rows[:min(len(rows), most)], total
}

func administrativeFirst(a, b entryRow) int {
	switch {
	case a.entry.Administrative == b.entry.Administrative:
		return 0
	case a.entry.Administrative:
		return -1
	}
	return 1
}

// Reach prints what is open.
func (p *Printer) Reach(list []exposure.Entry, ph *Phrasing) {
	c := &cited{}
	rows := p.flowRows(ph.gather(list), math.MaxInt, ph, func(r entryRow) string { return until(r.entry.Until, ph.now) }, c)
	if len(rows) == 0 {
		p.Line("Nothing is reachable.")
		return
	}
	p.Table([]string{"TO", "SERVICE", "FROM", "DOOR", "UNTIL", "BY"}, rows)
	if len(c.list) > 0 {
		p.Line("")
		c.tell(p, "")
	}
}

// reachJSON is an entry as programs read it.
type reachJSON struct {
	From           []string   `json:"from"`
	FromName       string     `json:"fromName"`
	Door           string     `json:"door"`
	Via            string     `json:"via"`
	Machine        string     `json:"machine"`
	Service        string     `json:"service"`
	Administrative bool       `json:"administrative"`
	Until          *time.Time `json:"until"`
	Sentence       string     `json:"sentence"`
	File           string     `json:"file"`
	Line           int        `json:"line"`
	Opening        int64      `json:"opening,omitempty"`
}

// ReachDoc is the document that ReachJSON makes.
type ReachDoc struct {
	At    time.Time   `json:"at"`
	Reach []reachJSON `json:"reach"`
}

// ReachJSON is the document of what is open at a moment.
func ReachJSON(list []exposure.Entry, ph *Phrasing, at time.Time) ReachDoc {
	out := make([]reachJSON, 0, len(list))
	for _, e := range list {
		out = append(out, entryJSON(e, ph))
	}
	return ReachDoc{at.UTC(), out}
}

func entryJSON(e exposure.Entry, ph *Phrasing) reachJSON {
	return reachJSON{
		From: flow.AddrRuns(e.From), FromName: ph.names.Plain(e.From), Door: e.Door.Kind.String(), Via: via(e.Door),
		Machine: ph.machine(e.Door.Machine, e.Door), Service: strings.Join(flow.ServiceRuns(e.Services), ","), Administrative: e.Administrative,
		Until: moment(e.Until), Sentence: e.Origin.Sentence, File: e.Origin.File, Line: e.Origin.Line, Opening: e.Opening,
	}
}

func via(d flow.Door) string {
	switch {
	case d.Translated() || d.Kind == flow.DoorBastion:
		return d.Via + " " + d.Service.String()
	case d.Via != "":
		return d.Via
	case d.Address.IsValid():
		return d.Address.String()
	}
	return ""
}

func moment(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	t = t.UTC()
	return &t
}

// Answer prints the answer to a question: the verdict in one sentence, the
// questions that were asked, and what would mend it.
func (p *Printer) Answer(a *work.Answer, ph *Phrasing, person string) {
	parts := joinFamilies(a.Parts)
	for i, part := range parts {
		if len(parts) > 1 && i == 0 {
			p.Wrap("", fmt.Sprintf("%s: %s from %s to %s, in %d parts", a.Verdict, a.Ask.Services, a.Ask.From, a.Ask.To, len(parts)))
		}
		if len(parts) > 1 {
			p.Line("")
		}
		p.part(a, part, ph, person, len(parts) == 1)
	}
}

// joinFamilies joins parts that differ in the family of their sources alone, and in the
// doors that each family has to a machine.
func joinFamilies(parts []exposure.Part) (out []exposure.Part) {
	for _, p := range parts {
		_, six, apart := familyOf(p.From)
		i := slices.IndexFunc(out, func(o exposure.Part) bool {
			return o.Open == p.Open && o.Reason == p.Reason && o.Origin == p.Origin && o.Opening == p.Opening && o.Target == p.Target && o.Machine == p.Machine &&
				o.Until.Equal(p.Until) && o.Services.Equal(p.Services) && o.Arrives.Equal(p.Arrives) && apart && otherFamily(o.From, six) && (o.Target.Machine >= 0 || o.Door.Kind == p.Door.Kind && o.Door.Via == p.Door.Via)
		})
		if i < 0 {
			out = append(out, p)
			continue
		}
		out[i].From = out[i].From.Union(p.From)
	}
	return out
}

// familyOf tells which families a set has; apart, that it is one.
func familyOf(s flow.Addrs) (four, six, apart bool) {
	parts := flow.ByFamily(s)
	six, four = !parts[0].IsEmpty(), !parts[1].IsEmpty()
	return four, six, four != six
}

func otherFamily(s flow.Addrs, than6 bool) bool {
	_, six, apart := familyOf(s)
	return apart && six != than6
}

func (p *Printer) part(a *work.Answer, part exposure.Part, ph *Phrasing, person string, alone bool) {
	word := "closed"
	if part.Open {
		word = p.Open("open") + "  "
	}
	target := exposure.TargetName(a.State.Plan, part.Target)
	head := fmt.Sprintf("%s from %s to %s", ph.service(part.Services), ph.names.Plain(part.From), target)
	if part.Machine >= 0 && part.Target.Machine < 0 {
		head += fmt.Sprintf(", which leads to %s %s", ph.machine(part.Machine, part.Door), ph.service(part.Arrives))
	}
	if silent := silentWords(a, part, ph); silent != "" {
		head += ", " + p.Bad("but nothing answers:") + " " + silent
	}
	p.Wrap(word+"  ", head)
	p.Wrap("        ", reasonWords(part, ph))
	if !alone {
		return
	}
	p.Line("")
	steps := a.View.Steps(part, ph.namings)
	for i, s := range steps {
		text := s.Answer
		if s.Origin.Sentence != "" {
			text += ": " + ph.because(s.Origin, 0)
		}
		mark := " "
		if i == len(steps)-1 {
			mark = "→" // this one decided
		}
		p.Wrap(fmt.Sprintf("  %s %d %-16s", mark, i+1, s.Question), text)
	}
	if m, listens, known := a.Machine(part); known {
		text := string(m.State)
		if listens {
			text += ", and something listens on " + ph.service(part.Arrives.Intersect(m.Listens))
		} else if m.State == "running" {
			text += ", but nothing listens on " + ph.service(part.Arrives)
		}
		p.Wrap("    then the machine  ", text)
	}
	if mend := a.Mend(part, person); len(mend) > 0 {
		p.Line("")
		p.Line("  to open it")
		for _, m := range mend {
			if verb, _, _ := strings.Cut(m, " "); slices.Contains(mendVerbs, verb) {
				m = "ironbark " + m
			}
			p.Wrap("    ", m)
		}
	}
}

// silentWords tells why nothing answers where flows are let in; "" where something does, or
// nobody knows.
func silentWords(a *work.Answer, part exposure.Part, ph *Phrasing) string {
	m, listens, known := a.Machine(part)
	switch {
	case !known || !part.Open || listens && m.State == driver.Running:
		return ""
	case m.State != driver.Running:
		return fmt.Sprintf("%s is %s", ph.machine(part.Machine, part.Door), m.State)
	}
	return fmt.Sprintf("%s does not listen on %s", ph.machine(part.Machine, part.Door), ph.service(part.Arrives))
}

// mendVerbs are the commands that a suggestion may be; others are advice.
var mendVerbs = []string{"open", "permit", "allow", "retract"}

// reasonWords tells why a part is as it is, in one line.
func reasonWords(part exposure.Part, ph *Phrasing) string {
	switch part.Reason {
	case exposure.NoDoor:
		return "no way in: nothing leads there from this source"
	case exposure.Denied:
		return "denied by “" + part.Origin.Sentence + "”"
	case exposure.Administrative:
		return "administrative, and nobody has opened it"
	case exposure.Default:
		return "by default: nothing says it may pass"
	case exposure.ByOpening:
		return fmt.Sprintf("by opening %d, until %s", part.Opening, until(part.Until, ph.now))
	}
	text := "by “" + part.Origin.Sentence + "”"
	if !part.Until.IsZero() {
		text += ", until " + until(part.Until, ph.now)
	}
	return text
}

// AnswerDoc is the document of an answer: with parts, or with one part whose steps it tells.
type AnswerDoc struct {
	Flow      whyFlow     `json:"flow"`
	Verdict   string      `json:"verdict"`
	Reason    string      `json:"reason,omitempty"`
	Door      *whyDoor    `json:"door,omitempty"`
	DecidedBy *whyBy      `json:"decidedBy,omitempty"`
	Until     *time.Time  `json:"until,omitempty"`
	Steps     []whyStep   `json:"steps,omitempty"`
	Machine   *whyMachine `json:"machine,omitempty"`
	Mend      []string    `json:"mend,omitempty"`
	Parts     []whyPart   `json:"parts,omitempty"`
}

type whyMachine struct {
	Running   bool `json:"running"`
	Listening bool `json:"listening"`
}

type whyFlow struct {
	Source  string    `json:"source"`
	Target  string    `json:"target"`
	Service string    `json:"service"`
	At      time.Time `json:"at"`
}

type whyDoor struct {
	Kind    string `json:"kind"`
	Via     string `json:"via,omitempty"`
	Address string `json:"address"`
	Service string `json:"service"`
}

type whyBy struct {
	Sentence string `json:"sentence"`
	File     string `json:"file"`
	Line     int    `json:"line"`
}

type whyStep struct {
	Question string `json:"question"`
	Answer   string `json:"answer"`
	Passed   bool   `json:"passed"`
	Sentence string `json:"sentence"`
}

type whyPart struct {
	From      []string   `json:"from"`
	FromName  string     `json:"fromName"`
	Target    string     `json:"target"`
	Machine   string     `json:"machine,omitempty"`
	Service   string     `json:"service"`
	Verdict   string     `json:"verdict"`
	Reason    string     `json:"reason"`
	Door      *whyDoor   `json:"door,omitempty"`
	DecidedBy whyBy      `json:"decidedBy"`
	Until     *time.Time `json:"until,omitempty"`
}

// AnswerJSON is the document of an answer.
func AnswerJSON(a *work.Answer, ph *Phrasing, person string, at time.Time) AnswerDoc {
	doc := AnswerDoc{
		Flow:    whyFlow{a.Ask.From.String(), a.Ask.To.String(), strings.Join(flow.ServiceRuns(a.Service), ","), at.UTC()},
		Verdict: a.Verdict,
	}
	if len(a.Parts) > 1 {
		for _, part := range a.Parts {
			verdict := "closed"
			if part.Open {
				verdict = "open"
			}
			machine := ""
			if part.Machine >= 0 {
				machine = a.State.Plan.Machines[part.Machine].Name
			}
			doc.Parts = append(doc.Parts, whyPart{
				From: flow.AddrRuns(part.From), FromName: ph.names.Plain(part.From), Target: exposure.TargetName(a.State.Plan, part.Target), Machine: machine,
				Service: strings.Join(flow.ServiceRuns(part.Services), ","), Verdict: verdict, Reason: string(part.Reason), Door: doorJSON(part),
				DecidedBy: whyBy(part.Origin), Until: moment(part.Until),
			})
		}
		return doc
	}
	part := a.Parts[0]
	doc.Reason, doc.Door, doc.Mend = string(part.Reason), doorJSON(part), a.Mend(part, person)
	doc.DecidedBy = &whyBy{part.Origin.Sentence, part.Origin.File, part.Origin.Line}
	doc.Until = moment(part.Until)
	for _, s := range a.View.Steps(part, ph.namings) {
		doc.Steps = append(doc.Steps, whyStep{s.Question, s.Answer, s.Passed, s.Origin.Sentence})
	}
	if m, listens, known := a.Machine(part); known {
		doc.Machine = &whyMachine{m.State == "running", listens}
	}
	return doc
}

func doorJSON(part exposure.Part) *whyDoor {
	if part.Door.Kind == 0 {
		return nil
	}
	called := part.Services
	if part.Door.Translated() {
		called = part.Door.Called()
	}
	d := &whyDoor{Kind: part.Door.Kind.String(), Via: part.Door.Via, Service: strings.Join(flow.ServiceRuns(called), ",")}
	if part.Door.Address.IsValid() {
		d.Address = part.Door.Address.String()
	}
	return d
}

// Why tells in a few words why a part of an answer is as it is.
func Why(part exposure.Part, ph *Phrasing) string { return reasonWords(part, ph) }
