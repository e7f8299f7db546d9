package view

import (
	"bytes"
	"cmp"
	_ "embed"
	"encoding/base64"
	"fmt"
	"html/template"
	"io"
	"slices"
	"strings"
	"sync"
	"time"

	"ironbark/internal/cost"
	"ironbark/internal/exposure"
	"ironbark/internal/findings"
	"ironbark/internal/flow"
	"ironbark/internal/picture"
	"ironbark/internal/sentence"
	"ironbark/internal/timeline"
	"ironbark/internal/work"
)

// Report is what a report tells of: a state, and how it came about.
type Report struct {
	State    *work.State
	Before   *work.State // as it was at Since
	Now      time.Time
	Since    time.Time
	Person   string
	Version  string
	Map      picture.Map
	Timeline timeline.Line
	Findings []findings.Finding
	Broken   []exposure.Broken
	Bill     cost.Bill
	Drift    *work.Drift
}

//go:embed report.html
var reportText string

var reportPage = sync.OnceValue(func() *template.Template { return template.Must(template.New("report").Parse(reportText)) })

// How many rows of a sort a report has: it is a page that somebody reads.
const (
	mostReachRows = 5000
	tableRows     = 40 // of one table
	mostBarRows   = 300
	mostListed    = 50
	mostOf        = 8
)

// The parts of a page.
type (
	pagePart  struct{ ID, Title string }
	pageShort struct{ What, Value, Class string }
	pageRow   struct {
		Service, From, Door, Until, By, Class string
		routed                                bool // by a route alone, which stands with the bastion
	}
	pageReach struct {
		To   string
		Rows []pageRow
	}
	pageVerdict struct{ Sentence, Verdict, Class string }
	pageBar     struct{ Machines, Begin, End, Kind, Text, Class string }
	pageChange  struct {
		Title string
		List  []string
	}
	pageScore struct{ Off, Level, What, Why, Of, Class string }
	pageCost  struct{ Kind, Count, Hour, Month string }
	page      struct {
		Name, Site, At, Person, Version, Since string
		Parts                                  []pagePart
		Short                                  []pageShort
		Notes                                  []string
		Reach                                  [][]pageReach // in tables of some length
		ReachLeft                              int
		Closed                                 string
		Map, Timeline                          template.HTML
		Guarantees                             []pageVerdict
		Bars                                   []pageBar
		BarsLeft                               int
		Changes                                []pageChange
		Score                                  int
		ScoreLines                             []pageScore
		Currency                               string
		Cost                                   []pageCost
	}
)

// Write writes the report as one page of HTML that needs nothing else.
func (r *Report) Write(w io.Writer) error {
	ph := NewPhrasing(r.State, r.Now)
	const layout = "2006-01-02 15:04Z"
	p := page{
		Name: shown(r.State.Estate.Name), Site: r.State.Estate.Site, At: r.Now.UTC().Format("2006-01-02 15:04:05Z"), Person: shown(r.Person), Version: r.Version, Since: r.Since.UTC().Format(layout),
		Parts: []pagePart{{"reach", "Who can reach what"}, {"map", "Map"}, {"guarantees", "Guarantees"}, {"openings", "What was open when"}, {"changes", "What changed"}, {"findings", "Findings"}, {"cost", "Cost"}},
	}
	var err error
	if p.Map, err = drawn(picture.LayOut(r.Map), "The map: what stands in which network, and what is let in. The table above tells the same."); err != nil {
		return err
	}
	if p.Timeline, err = drawn(picture.LayOutTimeline("From "+p.Since+" on", Plain(r.Timeline)), "What was open when. The table below tells the same."); err != nil {
		return err
	}
	open, admin, routed := r.reach(&p, ph)
	r.guarantees(&p)
	r.bars(&p)
	r.changes(&p, ph)
	score := findings.ScoreOf(r.Findings, len(r.Broken))
	p.Score = score.Points
	r.scored(&p, score)
	r.costs(&p)
	held := len(work.Active(r.State.Report.Openings, r.Now))
	p.Short = []pageShort{
		{"machines", fmt.Sprint(len(r.State.Report.Machines)), ""},
		{"that somebody can reach", fmt.Sprint(open), class(open > 0, "open")},
		{"with an administrative service open directly", fmt.Sprint(admin), class(admin > 0, "admin")},
		{"with one open through a bastion", fmt.Sprint(routed), class(routed > 0, "open")},
		{"open for a while", fmt.Sprint(held), class(held > 0, "open")},
		{"guarantees that are broken", fmt.Sprint(len(r.Broken)), class(len(r.Broken) > 0, "admin")},
		{"score", fmt.Sprintf("%d of %d", score.Points, findings.Whole), ""},
		{"a month, " + r.Bill.Currency, month(r.Bill.Hour()), ""},
	}
	if !r.Drift.IsEmpty() {
		p.Notes = append(p.Notes, "The site is not as it was enacted: somebody changed it. What is told here is what is there.")
	}
	if r.State.Report.Unfinished != nil {
		p.Notes = append(p.Notes, "An enactment was broken off, and is unfinished.")
	}
	return reportPage().Execute(w, p)
}

func class(yes bool, name string) string {
	if yes {
		return name
	}
	return ""
}

// mostWords is how many lines of words a drawing has that is a part of the page's text: a larger one is an image, which the page opens without.
const mostWords = 5000

// drawn is a drawing as a part of a page. The drawing escapes what it holds.
func drawn(s *picture.Scene, alt string) (template.HTML, error) {
	var b bytes.Buffer
	err := s.SVG(&b)
	if s.Words() > mostWords {
		return template.HTML(fmt.Sprintf(`<img alt="%s" loading="lazy" src="data:image/svg+xml;base64,%s">`, template.HTMLEscapeString(alt), base64.StdEncoding.EncodeToString(b.Bytes()))), err // #nosec G203
	}
	return template.HTML(b.String()), err // #nosec G203
}

// reach lists who can reach what, machines that are alike together. It counts the machines to which anything is open, anything administrative
// directly, and anything administrative through a bastion.
func (r *Report) reach(p *page, ph *Phrasing) (open, admin, routed int) {
	v := exposure.NewView(r.State.Plan, r.Now)
	v.Prepare()
	at := map[string]int{}
	var list []pageReach
	names := [][]string{}
	known := map[int32][]pageRow{}
	closed := 0
	add := func(name string, rows []pageRow) {
		key := fmt.Sprint(rows)
		i, there := at[key]
		if !there {
			i = len(list)
			at[key] = i
			list, names = append(list, pageReach{Rows: rows}), append(names, nil)
		}
		names[i] = append(names[i], name)
	}
	for _, m := range inOrder(v.Plan) {
		rows, told := known[v.Alike(m)]
		if !told {
			rows = pageRows(ph, ph.gather(v.Reach(m)))
			known[v.Alike(m)] = rows
		}
		if len(rows) == 0 {
			closed++
			continue
		}
		open++
		if slices.ContainsFunc(rows, func(r pageRow) bool { return r.Class == "admin" && !r.routed }) {
			admin++
		}
		if slices.ContainsFunc(rows, func(r pageRow) bool { return r.Class == "admin" && r.routed }) {
			routed++
		}
		add(v.Plan.Machines[m].Name, rows)
	}
	gateways := map[string][]exposure.Entry{}
	for e := range v.GatewayReach() {
		gateways[e.Door.Via] = append(gateways[e.Door.Via], e)
	}
	for _, g := range v.Plan.Gateways {
		if rows := pageRows(ph, ph.gather(gateways[g.Name])); len(rows) > 0 {
			add("bastion "+g.Name, rows)
		}
	}
	for i := range list {
		list[i].To = few(names[i])
	}
	slices.SortStableFunc(list, func(a, b pageReach) int { // what is administrative is left out last
		return cmp.Compare(a.rank(), b.rank())
	})
	total, inTable := 0, tableRows
	for _, g := range list {
		if total += len(g.Rows); total > mostReachRows {
			p.ReachLeft += len(g.Rows)
			continue
		}
		if inTable >= tableRows {
			p.Reach, inTable = append(p.Reach, nil), 0
		}
		inTable += len(g.Rows)
		p.Reach[len(p.Reach)-1] = append(p.Reach[len(p.Reach)-1], g)
	}
	if closed > 0 {
		p.Closed = Count(closed, "machine") + map[bool]string{true: " lets nobody in.", false: " let nobody in."}[closed == 1]
	}
	return open, admin, routed
}

// rank is lower where something administrative is open.
func (g pageReach) rank() int {
	if g.Rows[0].Class == "admin" {
		return 0
	}
	return 1
}

// pageRows are rows of what is open, the administrative ones first.
func pageRows(ph *Phrasing, list []entryRow) (rows []pageRow) {
	slices.SortStableFunc(list, administrativeFirst)
	for _, e := range list {
		row := pageRow{Service: ph.service(e.services), From: ph.names.Plain(e.from), Door: strings.Join(e.doors, ", "), Until: until(e.entry.Until, ph.now), By: ph.because(e.entry.Origin, e.entry.Opening) + thenWords(e.entry.Then), Class: "open", routed: e.entry.Reason == exposure.ByRoute}
		if e.entry.Administrative && e.entry.Door.Kind != flow.DoorBastion {
			row.Service, row.Class = row.Service+"!", "admin"
		}
		rows = append(rows, shownRow(row))
	}
	return rows
}

func shownRow(r pageRow) pageRow {
	for _, text := range []*string{&r.Service, &r.From, &r.Door, &r.By} {
		*text = shown(*text)
	}
	return r
}

func (r *Report) guarantees(p *page) {
	for _, st := range r.State.Estate.SentencesOf(sentence.VerbNever, sentence.VerbAlways) {
		one := pageVerdict{shown(st.Sentence.String()), "holds", "good"}
		for _, b := range r.Broken {
			if b.Guarantee == flow.OriginOf(st) {
				from, to := b.Ends()
				one.Verdict, one.Class = fmt.Sprintf("broken: %s from %s to %s", b.Flow.Service, from, to), "admin"
			}
		}
		p.Guarantees = append(p.Guarantees, one)
	}
}

// barKinds are the kinds of bars in words.
var barKinds = map[timeline.Kind]string{
	timeline.Opening: "opened", timeline.Asked: "asked for", timeline.Standing: "left open by a sentence", timeline.Deny: "denied", timeline.Outside: "changed by others", timeline.Allow: "allowed until",
}

func (r *Report) bars(p *page) {
	line, left := r.Timeline.First(mostBarRows)
	p.BarsLeft = left
	for _, row := range line.Rows {
		for _, b := range row.Bars {
			one := pageBar{Machines: row.Name(), Begin: "before", Kind: barKinds[b.Kind], Text: shown(b.Text())}
			if !b.Begin.IsZero() {
				one.Begin = Moment(b.Begin, r.Now)
			}
			if !b.End.IsZero() {
				one.End = Moment(b.End, r.Now)
			}
			switch b.Kind {
			case timeline.Standing, timeline.Outside:
				one.Class = "admin"
			case timeline.Opening, timeline.Allow:
				one.Class = "open"
			}
			p.Bars = append(p.Bars, one)
		}
	}
}

// changes tells what is said and open now, and was not, and the other way round.
func (r *Report) changes(p *page, ph *Phrasing) {
	add := func(title string, list []string) {
		if n := len(list); n > mostListed {
			list = append(slices.Clone(list[:mostListed]), fmt.Sprintf("… and %d more", n-mostListed))
		}
		if len(list) > 0 {
			p.Changes = append(p.Changes, pageChange{title, list})
		}
	}
	before := NewPhrasing(r.Before, r.Since)
	d := exposure.Compare(exposure.NewView(r.Before.Plan, r.Since), exposure.NewView(r.State.Plan, r.Now))
	rows := func(ph *Phrasing, list exposure.Changes) (words []string) {
		few, total := ph.firstRows(list, mostListed)
		for _, row := range few[:min(len(few), mostListed)] {
			words = append(words, shown(fmt.Sprintf("%s to %s from %s, by %s", ph.service(row.services), row.machine, ph.names.Plain(row.from), ph.because(row.entry.Origin, row.entry.Opening))))
		}
		if total > len(words) {
			words = append(words, fmt.Sprintf("… and %d more", total-len(words)))
		}
		return words
	}
	add("Open now, and not then", rows(ph, d.Opened))
	add("Open then, and not now", rows(before, d.Closed))
	words := func(list []sentence.Statement) (words []string) {
		for _, s := range list {
			words = append(words, shown(s.Sentence.String()))
		}
		return words
	}
	add("Said now, and not then", words(r.State.SaidBeside(r.Before)))
	add("Said then, and not now", words(r.Before.SaidBeside(r.State)))
}

func (r *Report) scored(p *page, score findings.Score) {
	type key struct {
		level findings.Level
		kind  findings.Kind
	}
	of := map[key][]string{}
	for _, f := range r.Findings {
		of[key{f.Level, f.Kind}] = append(of[key{f.Level, f.Kind}], subjectAt(shown(f.Subject), f))
	}
	for _, b := range r.Broken {
		of[key{findings.Serious, ""}] = append(of[key{findings.Serious, ""}], shown(b.Guarantee.Sentence))
	}
	for _, l := range score.Lines {
		names := of[key{l.Level, l.Kind}]
		text := strings.Join(names[:min(len(names), mostOf)], "; ")
		if len(names) > mostOf {
			text += fmt.Sprintf("; and %d more", len(names)-mostOf)
		}
		p.ScoreLines = append(p.ScoreLines, pageScore{
			fmt.Sprintf("-%d", l.Off), l.Level.String(), l.What, cmp.Or(l.Kind.Why(), "What was to stay so for certain is not so any more."), text,
			map[findings.Level]string{findings.Serious: "admin", findings.Caution: "open"}[l.Level],
		})
	}
}

func (r *Report) costs(p *page) {
	p.Currency = r.Bill.Currency
	type sum struct {
		count int
		hour  cost.Money
	}
	sums := map[string]sum{}
	var kinds []string
	for _, l := range r.Bill.Lines {
		s, known := sums[l.Kind]
		if !known {
			kinds = append(kinds, l.Kind)
		}
		sums[l.Kind] = sum{s.count + 1, s.hour + l.Hour}
	}
	for _, kind := range kinds {
		p.Cost = append(p.Cost, pageCost{kind, fmt.Sprint(sums[kind].count), hourly(sums[kind].hour), month(sums[kind].hour)})
	}
	p.Cost = append(p.Cost, pageCost{"all of it", "", hourly(r.Bill.Hour()), month(r.Bill.Hour())})
}
