package view

import (
	"iter"
	"time"

	"ironbark/internal/cost"
	"ironbark/internal/exposure"
	"ironbark/internal/findings"
	"ironbark/internal/flow"
	"ironbark/internal/rights"
	"ironbark/internal/sentence"
	"ironbark/internal/work"
)

// reviewResource is a part of the document ReviewDoc.
type reviewResource struct {
	Verb   string   `json:"verb"`
	Kind   string   `json:"kind"`
	Name   string   `json:"name"`
	Detail []string `json:"detail"`
}

// reviewBroken is a part of the document ReviewDoc.
type reviewBroken struct {
	Guarantee string    `json:"guarantee"`
	File      string    `json:"file"`
	Line      int       `json:"line"`
	At        time.Time `json:"at"`
	Source    string    `json:"source"`
	Service   string    `json:"service"`
	Target    string    `json:"target"`
	Potential bool      `json:"potential"`
	By        string    `json:"by"`
}

// reviewMeaning is a part of the document ReviewDoc.
type reviewMeaning struct {
	Verb   string `json:"verb"`
	Kind   string `json:"kind"`
	Name   string `json:"name"`
	Before string `json:"before"`
	After  string `json:"after"`
}

// reviewEnding is a part of the document ReviewDoc.
type reviewEnding struct {
	Opening  int64      `json:"opening"`
	Narrowed bool       `json:"narrowed"`
	Why      string     `json:"why"`
	Lost     []lossJSON `json:"lost"`
}

// reviewWeakened is a part of the document ReviewDoc.
type reviewWeakened struct {
	Guarantee string   `json:"guarantee"`
	File      string   `json:"file"`
	Line      int      `json:"line"`
	Always    bool     `json:"always"`
	Standing  bool     `json:"standing"`
	Targets   []string `json:"targets"`
	Services  []string `json:"services"`
	From      []string `json:"from"`
	Source    string   `json:"source"`
	Service   string   `json:"service"`
	Door      bool     `json:"door"`
	Outward   bool     `json:"outward,omitempty"` // of calls of the targets: from is what they call
}

// ReviewDoc is the document that ReviewJSON makes.
type ReviewDoc struct {
	Verdict   string           `json:"verdict"`
	Nothing   bool             `json:"nothing"`
	Stopped   []string         `json:"stopped"`
	Resources []reviewResource `json:"resources"`
	Said      []string         `json:"said"`
	Back      []string         `json:"retracted"`
	Meanings  []reviewMeaning  `json:"meanings"`
	Ending    []reviewEnding   `json:"ending"`
	Opened    []reachJSON      `json:"opened"`
	Closed    []reachJSON      `json:"closed"`
	Moved     []movedJSON      `json:"moved"`
	Gained    []reachJSON      `json:"gainedDoors"`
	Lost      []reachJSON      `json:"lostDoors"`
	Outward   outwardJSON      `json:"outward"`
	More      []RightDoc       `json:"mayMore"`
	Less      []RightDoc       `json:"mayLess"`
	Freed     []freedJSON      `json:"givenBack"`
	Weakened  []reviewWeakened `json:"weakened"`
	Findings  []FindingDoc     `json:"findings"`
	Broken    []reviewBroken   `json:"broken"`
	Before    BillDoc          `json:"before"`
	After     BillDoc          `json:"after"`
	Drift     DriftDoc         `json:"drift"`
	Notes     []string         `json:"notes"`
}

// ReviewJSON is the document of a review.
func ReviewJSON(r *work.Review, before, after *Phrasing) ReviewDoc {
	doc := ReviewDoc{
		Nothing: r.IsEmpty(), Stopped: append([]string{}, r.Stopped()...), Resources: []reviewResource{}, Said: texts(r.Added), Back: texts(r.Retracted), Broken: []reviewBroken{},
		Opened: changesJSON(r.Exposure.Opened, after), Closed: changesJSON(r.Exposure.Closed, before), Moved: movedDocs(r.Exposure.Moved, after),
		Verdict: verdict(r), Gained: changesJSON(r.Exposure.Gained, after), Lost: changesJSON(r.Exposure.Lost, before),
		Outward: outwardDoc(r, before, after),
		More:    RightsJSON(r.Rights.Gained), Less: RightsJSON(r.Rights.Lost), Freed: []freedJSON{}, Weakened: []reviewWeakened{}, Meanings: []reviewMeaning{}, Ending: []reviewEnding{},
		Before: BillJSON(r.Before), After: BillJSON(r.After), Drift: DriftJSON(r.Drift, before), Notes: advices(r.Notes),
	}
	for _, c := range r.Changes {
		detail := c.How
		if len(detail) == 0 {
			detail = []string{c.Resource.Describe()}
		}
		doc.Resources = append(doc.Resources, reviewResource{string(c.Verb), string(c.Resource.Kind), c.Resource.Name, detail})
	}
	for _, m := range r.Meanings {
		doc.Meanings = append(doc.Meanings, reviewMeaning{string(m.Verb), m.Kind, m.Name, m.Before, m.After})
	}
	for _, e := range r.Ending {
		one := reviewEnding{e.Opening.ID, e.Narrowed, e.Why, []lossJSON{}}
		for _, l := range e.Lost {
			one.Lost = append(one.Lost, lossJSON{l.Part.Machines, flow.ServiceRuns(l.Part.Services), SourceRuns(l.Part.From), moment(l.End), l.By})
		}
		doc.Ending = append(doc.Ending, one)
	}
	for _, u := range r.Weakened {
		doc.Weakened = append(doc.Weakened, reviewWeakened{
			u.Guarantee.Sentence, u.Guarantee.File, u.Guarantee.Line, u.Always, u.Standing, u.Targets,
			flow.ServiceRuns(u.Flows.Services), flow.AddrRuns(u.Flows.From), u.Example.Source.String(), u.Example.Service.String(), u.Door, u.Outward,
		})
	}
	for _, f := range r.Freed {
		doc.Freed = append(doc.Freed, freedJSON{f.Address.String(), append([]string{}, f.NamedBy...)})
	}
	var list []findings.Finding
	for _, f := range r.Findings {
		list = append(list, f.Finding)
	}
	doc.Findings = FindingsJSON(list)
	for _, b := range r.Broken {
		from, to := b.Ends()
		doc.Broken = append(doc.Broken, reviewBroken{
			b.Guarantee.Sentence, b.Guarantee.File, b.Guarantee.Line, b.At.UTC(), from, b.Flow.Service.String(), to, b.Potential, b.By.Origin.Sentence,
		})
	}
	return doc
}

// lossJSON is what an opening loses; with an end it is lost from then on.
type lossJSON struct {
	Machines []string   `json:"machines"`
	Services []string   `json:"services"`
	From     []string   `json:"from"`
	End      *time.Time `json:"end"`
	Permit   string     `json:"permit"`
}

type freedJSON struct {
	Address string   `json:"address"`
	NamedBy []string `json:"namedBy"`
}

// movedJSON is a difference of ends: before is the end that it had.
type movedJSON struct {
	reachJSON
	Before *time.Time `json:"before"`
}

func movedDocs(list exposure.Changes, ph *Phrasing) []movedJSON {
	out := []movedJSON{}
	for c := range list.All() {
		out = append(out, movedJSON{entryJSON(c.Entry, ph), moment(c.Before)})
	}
	return out
}

// RightDoc is what some people may do.
type RightDoc struct {
	May       string   `json:"may"`
	People    []string `json:"people"`
	Machines  []string `json:"machines"`
	Services  []string `json:"services"`
	From      []string `json:"from"`
	Via       string   `json:"via"`
	Length    string   `json:"length"`
	Approvals int      `json:"approvals"`
	Approvers []string `json:"approvers"`
	Emergency bool     `json:"emergency"`
	Sentence  string   `json:"sentence"`
	File      string   `json:"file"`
	Line      int      `json:"line"`
	DeniedBy  string   `json:"deniedBy,omitempty"` // in a review: the deny that takes it, or took it
	Instead   *Terms   `json:"instead,omitempty"`  // in a review: on what terms the other side gives the same
}

// Terms are how long, and with what, something may be opened.
type Terms struct {
	Length    string     `json:"length"`
	Approvals int        `json:"approvals"`
	Emergency bool       `json:"emergency"`
	Until     *time.Time `json:"until,omitempty"`
}

// RightsJSON are rights as programs read them.
func RightsJSON(list []rights.Right) []RightDoc {
	out := make([]RightDoc, 0, len(list))
	for _, r := range list {
		one := RightDoc{
			May: r.Kind.String(), People: r.People, Machines: append([]string{}, r.Machines...), Services: flow.ServiceRuns(r.Flows.Services), From: SourceRuns(r.Flows.From),
			Via: r.Via, Approvals: r.Approvals, Approvers: append([]string{}, r.Approvers...), Emergency: r.Emergency, Sentence: r.Origin.Sentence, File: r.Origin.File, Line: r.Origin.Line,
		}
		if r.Kind == rights.Open {
			one.Length, one.DeniedBy = sentence.DurationOf(r.Length).String(), r.Denied.Sentence
			if o := r.Instead; o != nil {
				one.Instead = &Terms{sentence.DurationOf(o.Length).String(), o.Approvals, o.Emergency, moment(o.Until)}
			}
		}
		out = append(out, one)
	}
	return out
}

func texts(list []sentence.Statement) []string {
	out := make([]string, 0, len(list))
	for _, s := range list {
		out = append(out, s.Sentence.String())
	}
	return out
}

func changesJSON(list exposure.Changes, ph *Phrasing) []reachJSON {
	return reachList(entriesIn(list), ph)
}

// entriesIn are the entries of changes.
func entriesIn(list exposure.Changes) iter.Seq[exposure.Entry] {
	return func(yield func(exposure.Entry) bool) {
		for c := range list.All() {
			if !yield(c.Entry) {
				return
			}
		}
	}
}

// FindingDoc is one finding as programs read it.
type FindingDoc struct {
	Level   string `json:"level"`
	Kind    string `json:"kind"`
	What    string `json:"what"`
	Subject string `json:"subject"`
	Why     string `json:"why"` // it matters
	Remedy  string `json:"remedy"`
	File    string `json:"file"`
	Line    int    `json:"line"`
}

// FindingsJSON is the list of findings as programs read it.
func FindingsJSON(list []findings.Finding) []FindingDoc {
	out := make([]FindingDoc, 0, len(list))
	for _, f := range list {
		out = append(out, FindingDoc{f.Level.String(), string(f.Kind), f.What(), f.Subject, f.Kind.Why(), Advice(f.Remedy), f.At.File, f.At.Line})
	}
	return out
}

// BillDoc is the document that BillJSON makes.
type BillDoc struct {
	Month string       `json:"month"`
	Used  cost.Amounts `json:"used"`
}

// BillJSON is a bill as programs read it: money as decimal strings with their currency.
func BillJSON(b cost.Bill) BillDoc {
	money := func(m cost.Money) string { return m.String() + " " + b.Currency }
	return BillDoc{money(b.Month()), b.Used}
}
