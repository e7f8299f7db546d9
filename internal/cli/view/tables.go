package view

import (
	"fmt"
	"net/netip"
	"time"

	"ironbark/internal/driver"
	"ironbark/internal/flow"
)

// chainWords say what chains are for.
var chainWords = map[string]string{
	"source": "before translation", "doors": "translation", "limits": "how much machines may take", "judge": "what goes through, in both directions",
	"opened": "openings", "calls": "what machines call outside", "refuse": "where refused packets end", "ironbark-guard": "after everything",
}

// Tables prints installed tables: each chain with its filter rules, and from where each comes.
func (p *Printer) Tables(t *driver.Tables, ph *Phrasing) {
	if len(t.Names) == 0 {
		p.Line("No tables are installed: nothing passes.")
		return
	}
	p.Wrap("", fmt.Sprintf("Tables in the namespace %s: %s", t.Where, few(t.Names)))
	for i := 0; i < len(t.Rules); {
		chain := t.Rules[i].Chain
		p.Line("")
		p.Head("chain " + chain + ": " + chainWords[chain])
		var rows [][]string
		for ; i < len(t.Rules) && t.Rules[i].Chain == chain; i++ {
			rows = append(rows, []string{ph.filterRule(t.Rules[i]), ph.filterOrigin(t.Rules[i])})
		}
		p.TableIn("  ", []string{"FILTER RULE", "FROM"}, rows)
	}
	if t.Held > 0 {
		p.Line("")
		p.Line("Further datagrams are refused for %s.", Count(t.Held, "ended conversation"))
	}
}

// filterRule prints a filter rule in words.
func (ph *Phrasing) filterRule(r driver.FilterRule) string {
	switch r.Verdict {
	case driver.FilterDo:
		if len(r.Machines) > 0 {
			return r.Words + ": " + few(r.Machines)
		}
		return r.Words
	case driver.FilterLead:
		text := "lead " + ph.service(r.Called) + " at " + r.Public.String() + " to " + few(r.Machines)
		if !r.Services.Equal(r.Called) {
			text += " " + ph.service(r.Services)
		}
		return text
	}
	from, to := ph.names.Plain(r.Addrs), few(r.Machines)
	if r.Calls {
		from, to = to, from
	}
	text := fmt.Sprintf("%s %s from %s to %s", r.Verdict, ph.service(r.Services), from, to)
	if !r.Begin.IsZero() && r.Begin.After(ph.now) {
		text += " starting " + Moment(r.Begin, ph.now)
	}
	if !r.End.IsZero() {
		text += " until " + Moment(r.End, ph.now)
	}
	return text
}

// filterOrigin says from where a filter rule comes.
func (ph *Phrasing) filterOrigin(r driver.FilterRule) string {
	switch {
	case r.Opening != 0:
		return fmt.Sprintf("opening %d", r.Opening)
	case r.Origin.Sentence == "":
		return "always there"
	}
	return sentenceAt(r.Origin)
}

// TablesDoc is the document of installed tables.
type TablesDoc struct {
	Namespace string          `json:"namespace"`
	Tables    []string        `json:"tables"`
	Rules     []filterRuleDoc `json:"rules"`
	Held      int             `json:"held"` // ended conversations
}

// filterRuleDoc is a part of the document TablesDoc.
type filterRuleDoc struct {
	Chain    string     `json:"chain"`
	Verdict  string     `json:"verdict"` // pass, refuse, lead or do
	Words    string     `json:"words"`
	Machines []string   `json:"machines"`
	Services []string   `json:"services"`
	From     []string   `json:"from"`   // empty where machines call
	To       []string   `json:"to"`     // what machines call
	Public   string     `json:"public"` // of lead: the address that clients call
	Called   []string   `json:"called"` // of lead: the services there
	Begin    *time.Time `json:"begin"`
	Until    *time.Time `json:"until"`
	Opening  int64      `json:"opening,omitempty"`
	Sentence string     `json:"sentence"`
	File     string     `json:"file"`
	Line     int        `json:"line"`
}

// TablesJSON is the document of installed tables.
func TablesJSON(t *driver.Tables, ph *Phrasing) TablesDoc {
	doc := TablesDoc{Namespace: t.Where, Tables: append([]string{}, t.Names...), Rules: []filterRuleDoc{}, Held: t.Held}
	for _, r := range t.Rules {
		one := filterRuleDoc{
			Chain: r.Chain, Verdict: string(r.Verdict), Words: ph.filterRule(r), Machines: append([]string{}, r.Machines...), Services: append([]string{}, flow.ServiceRuns(r.Services)...),
			From: []string{}, To: []string{}, Called: append([]string{}, flow.ServiceRuns(r.Called)...), Begin: moment(r.Begin), Until: moment(r.End),
			Opening: r.Opening, Sentence: r.Origin.Sentence, File: r.Origin.File, Line: r.Origin.Line,
		}
		addrs := append([]string{}, flow.AddrRuns(r.Addrs)...)
		if r.Calls {
			one.To = addrs
		} else {
			one.From = addrs
		}
		if r.Public != (netip.Addr{}) {
			one.Public = r.Public.String()
		}
		doc.Rules = append(doc.Rules, one)
	}
	return doc
}
