package view

import (
	"encoding/binary"
	"fmt"
	"iter"
	"math"
	"slices"
	"strings"
	"time"

	"ironbark/internal/change"
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
	services map[string]string // those that were put into words, by what they hold
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
		openings: st.Report.Openings, services: map[string]string{}, now: now,
	}
}

// Numbered prints numbers beside words that mean something else on the other side.
func (ph *Phrasing) Numbered(changed []change.Meaning) {
	clear(ph.services)
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
func (ph *Phrasing) service(s flow.Services) string {
	var key []byte
	for _, r := range s.Runs() {
		key = binary.AppendUvarint(binary.AppendUvarint(key, uint64(r.Lo)), uint64(r.Hi))
	}
	text, known := ph.services[string(key)]
	if !known {
		text = shortened(flow.PrintServices(s, ph.namings))
		ph.services[string(key)] = text
	}
	return text
}

// mostServices is how many names of services are told one by one.
const mostServices = 8

// shortened is a list of services of which the first are told, where they are many. JSON tells all of them.
func shortened(text string) string {
	words := strings.Split(text, ", ")
	if len(words) <= mostServices {
		return text
	}
	return strings.Join(words[:mostServices-2], ", ") + fmt.Sprintf(" and %d more", len(words)-mostServices+2)
}

// Passing tells the services and sources of a part of an opening: as they were asked for,
// where that is all of it.
func (ph *Phrasing) Passing(o opening.Opening, part opening.Part) (services, from string) {
	if len(o.Parts) == 1 && !part.Console() {
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

// likeness is the same for entries that may be one row, or one item, and rarely for others.
type likeness struct {
	origin      flow.Origin
	opening     int64
	first, last flow.Service
}

func likenessOf(e exposure.Entry) likeness {
	services := e.Services.Runs()
	return likeness{e.Origin, e.Opening, services[0].Lo, services[len(services)-1].Hi}
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
	rows = make([]entryRow, 0, len(list))
	alike := exposure.Buckets[likeness]{} // the rows of the machine, by what those that are one have in common; entries come machine by machine
	for _, e := range list {
		machine := ph.machine(e.Door.Machine, e.Door)
		if len(rows) > 0 && rows[len(rows)-1].machine != machine {
			clear(alike)
		}
		door := e.Door.Kind.String()
		if e.Door.Via != "" {
			door += " " + e.Door.Via
		}
		if e.Door.Translated() {
			door += " " + e.Door.Service.String()
		}
		i, found := alike.Place(likenessOf(e), len(rows), func(i int) bool {
			return rows[i].entry.Cause.Same(e.Cause) && rows[i].entry.Administrative == e.Administrative && rows[i].services.Equal(e.Services)
		})
		if !found {
			rows = append(rows, entryRow{machine: machine, entry: e, from: e.From, doors: []string{door}, services: e.Services})
			continue
		}
		rows[i].from = rows[i].from.Union(e.From)
		if !slices.Contains(rows[i].doors, door) {
			rows[i].doors = append(rows[i].doors, door)
		}
	}
	return rows
}

// first gathers what is open machine by machine, and returns the first rows,
// administrative ones before others, and how many there are. Cost: that of one machine of each class, and of those
// that are shown.
func (ph *Phrasing) first(open *exposure.View, most int) (rows []entryRow, total int) {
	open.Prepare()
	var administrative, other []entryRow
	take := func(rows []entryRow) {
		for _, r := range rows {
			if r.entry.Administrative && len(administrative) < most {
				administrative = append(administrative, r)
			} else if !r.entry.Administrative && len(other) < most {
				other = append(other, r)
			}
		}
	}
	type count struct{ administrative, other int }
	alike := map[int32]count{}
	for _, m := range inOrder(open.Plan) {
		n, known := alike[open.Alike(m)]
		if known && (n.administrative == 0 || len(administrative) == most) && (n.other == 0 || len(other) == most) {
			total += n.administrative + n.other
			continue
		}
		rows := ph.gather(open.Reach(m))
		if take(rows); !known {
			for _, r := range rows {
				if r.entry.Administrative {
					n.administrative++
				} else {
					n.other++
				}
			}
			alike[open.Alike(m)] = n
		}
		total += n.administrative + n.other
	}
	gateways := ph.gather(slices.Collect(open.GatewayReach()))
	take(gateways)
	rows = append(administrative, other...)
	return rows[:min(len(rows), most)], total + len(gateways)
}

// inOrder lists the machines of a plan as people count.
func inOrder(p *flow.Plan) []int32 {
	list := make([]int32, len(p.Machines))
	for i := range list {
		list[i] = int32(i)
	}
	slices.SortFunc(list, func(a, b int32) int { return sentence.CompareNames(p.Machines[a].Name, p.Machines[b].Name) })
	return list
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
	Via            string     `json:"via"`       // the front and its port, the bastion or the line
	Addresses      []string   `json:"addresses"` // where clients call; none while the site has not given one
	Machine        string     `json:"machine"`
	Service        string     `json:"service"`
	Administrative bool       `json:"administrative"`
	Until          *time.Time `json:"until"`
	Sentence       string     `json:"sentence"`
	File           string     `json:"file"`
	Line           int        `json:"line"`
	Opening        int64      `json:"opening,omitempty"`
	Then           []int64    `json:"then,omitempty"` // openings that keep it open after that
}

// ReachDoc is the document of what is open at a moment.
type ReachDoc struct {
	At    time.Time   `json:"at"`
	Reach []reachJSON `json:"reach"`
}

// ReachJSON prints the document of what is open at a moment, an entry after the other.
func (p *Printer) ReachJSON(list iter.Seq[exposure.Entry], ph *Phrasing, at time.Time) error {
	return p.JSONList(at.UTC(), "reach", func(yield func(any) bool) {
		for e := range byAddress(list) {
			if !yield(e.json(ph)) {
				return
			}
		}
	})
}

// entryJSON is one entry as programs read it.
func entryJSON(e exposure.Entry, ph *Phrasing) reachJSON {
	return alone(e).json(ph)
}

// SourceRuns are the addresses of a source as programs read them: none for a console.
func SourceRuns(s flow.Addrs) []string {
	if s.Equal(flow.ConsoleSource) {
		return []string{}
	}
	return flow.AddrRuns(s)
}

// fromWords is a source with “from” and a space before it: nothing for a console.
func (ph *Phrasing) fromWords(s flow.Addrs) string {
	if s.Equal(flow.ConsoleSource) {
		return ""
	}
	return " from " + ph.names.Plain(s)
}

func (e addressed) json(ph *Phrasing) reachJSON {
	return reachJSON{
		From: SourceRuns(e.From), FromName: ph.names.Plain(e.From), Door: e.Door.Kind.String(), Via: via(e.Door), Addresses: e.addressWords(),
		Machine: ph.machine(e.Door.Machine, e.Door), Service: strings.Join(flow.ServiceRuns(e.Services), ","), Administrative: e.Administrative,
		Until: moment(e.Until), Sentence: e.Origin.Sentence, File: e.Origin.File, Line: e.Origin.Line, Opening: e.Opening, Then: e.Then,
	}
}

func moment(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	t = t.UTC()
	return &t
}
