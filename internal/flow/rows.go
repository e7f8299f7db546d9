package flow

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"net/netip"
	"slices"
	"time"

	"ironbark/internal/estate"
)

// Row is one row of the tables that a site installs: a plan, taken apart into
// rows that stand by themselves. Key is unique; rows with equal keys and bodies
// are equal, so two plans are compared row by row.
type Row struct {
	Key  string
	Body string // JSON
}

type rowNoun struct {
	Name       string         `json:"name"`
	Network    string         `json:"network,omitempty"`
	Space      []string       `json:"space,omitempty"`
	Outside    bool           `json:"outside,omitempty"`
	Outward    string         `json:"outward,omitempty"` // of a network that is outside: closed, or nothing for open
	Joins      []string       `json:"joins,omitempty"`
	Interfaces []rowInterface `json:"interfaces,omitempty"`
	Inside     []netip.Addr   `json:"inside,omitempty"`
	Wants4     bool           `json:"wants4,omitempty"`
	Wants6     bool           `json:"wants6,omitempty"`
	Public4    *netip.Addr    `json:"public4,omitempty"`
	Public6    *netip.Addr    `json:"public6,omitempty"`
	From       []string       `json:"from,omitempty"`
	Machines   []string       `json:"machines,omitempty"`
}

type rowInterface struct {
	Subnet  string       `json:"subnet"`
	Network string       `json:"network"`
	Addrs   []netip.Addr `json:"addresses"`
}

type rowRule struct {
	Kind     string     `json:"kind"`
	From     []string   `json:"from,omitempty"`
	Group    string     `json:"group"`
	Services []string   `json:"services,omitempty"`
	Front    string     `json:"front,omitempty"`
	Service  string     `json:"service,omitempty"`
	On       string     `json:"on,omitempty"`
	Standing bool       `json:"standing,omitempty"`
	Begin    *time.Time `json:"begin,omitempty"`
	Until    *time.Time `json:"until,omitempty"`
	Opening  int64      `json:"opening,omitempty"`
	Sentence string     `json:"sentence"`
	File     string     `json:"file,omitempty"`
	Line     int        `json:"line,omitempty"`
}

// Rows takes the plan apart. Rows come sorted by key.
func (p *Plan) Rows() []Row {
	w := &rowWriter{p: p, groups: map[*Group]string{}}
	w.put("guard", "", ServiceRuns(p.AdminServices))
	if !p.ExcludedSources.IsEmpty() {
		w.put("nowhere", "", AddrRuns(p.ExcludedSources))
	}
	for _, n := range p.Networks {
		w.put("network", n.Name, rowNoun{Name: n.Name, Space: AddrRuns(n.Space), Outside: n.Outside, Outward: outwardWord(n), Joins: n.Joins})
	}
	for _, l := range p.Lines {
		w.put("line", l.Name, rowNoun{Name: l.Name, Network: l.Network, Space: AddrRuns(l.Range)})
	}
	for _, m := range p.Machines {
		row := rowNoun{Name: m.Name}
		row.public(m.Public)
		for _, i := range m.Interfaces {
			row.Interfaces = append(row.Interfaces, rowInterface(i))
		}
		w.put("machine", m.Name, row)
	}
	for _, f := range p.Fronts {
		row := rowNoun{Name: f.Name, Network: f.Network}
		row.public(f.Public)
		w.put("front", f.Name, row)
	}
	for _, g := range p.Gateways {
		row := rowNoun{Name: g.Name, Network: g.Network, Inside: g.Inside, From: AddrRuns(g.From)}
		row.public(g.Public)
		w.put("gateway", g.Name, row)
	}
	for _, d := range p.Doors {
		w.rule("door", rowRule{
			Kind: d.Kind.String(), From: AddrRuns(d.From), Group: w.group(d.To), Front: d.Front, Service: d.Service.String(),
			On: d.On.String(), Standing: d.Standing, Until: moment(d.Until), Sentence: d.Origin.Sentence, File: d.Origin.File, Line: d.Origin.Line,
		})
	}
	for _, r := range p.Outward {
		w.rule(outwardRow, w.ruleRow(r))
	}
	return w.sorted(p.Rules)
}

// outwardRow is the kind of row that an outward rule has.
const outwardRow = "outward"

// outwardWord is what a network's row says of calls outside. Rows that say nothing were written when all networks were open.
func outwardWord(n Network) string {
	if n.Outside && !n.OpenOutward {
		return estate.OutwardClosed
	}
	return ""
}

// sorted puts rules, and returns all rows by key, each once.
func (w *rowWriter) sorted(rules []Rule) []Row {
	for _, r := range rules {
		w.rule("rule", w.ruleRow(r))
	}
	slices.SortFunc(w.rows, func(a, b Row) int { return cmp.Compare(a.Key, b.Key) })
	return slices.CompactFunc(w.rows, func(a, b Row) bool { return a.Key == b.Key })
}

func (w *rowWriter) ruleRow(r Rule) rowRule {
	return rowRule{
		Kind: r.Kind.String(), From: AddrRuns(r.From), Group: w.group(r.To), Services: ServiceRuns(r.Services),
		Begin: moment(r.Begin), Until: moment(r.Until), Opening: r.Opening, Sentence: r.Origin.Sentence, File: r.Origin.File, Line: r.Origin.Line,
	}
}

func (r *rowNoun) public(pub Public) {
	r.Wants4, r.Wants6 = pub.Wants4, pub.Wants6
	if pub.Addr4.IsValid() {
		r.Public4 = &pub.Addr4
	}
	if pub.Addr6.IsValid() {
		r.Public6 = &pub.Addr6
	}
}

func (r *rowNoun) readPublic() Public {
	pub := Public{Wants4: r.Wants4, Wants6: r.Wants6}
	if r.Public4 != nil {
		pub.Addr4 = *r.Public4
	}
	if r.Public6 != nil {
		pub.Addr6 = *r.Public6
	}
	return pub
}

func moment(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	t = t.UTC()
	return &t
}

func readMoment(t *time.Time) time.Time {
	if t == nil {
		return time.Time{}
	}
	return *t
}

type rowWriter struct {
	p      *Plan
	rows   []Row
	groups map[*Group]string
}

func (w *rowWriter) put(kind, name string, body any) {
	text, err := json.Marshal(body)
	if err != nil {
		panic("flow: a row does not marshal: " + err.Error())
	}
	w.rows = append(w.rows, Row{Key: kind + " " + name, Body: string(text)})
}

// rule puts a row whose key is the digest of its body.
func (w *rowWriter) rule(kind string, r rowRule) {
	w.put(kind, "", r)
	last := &w.rows[len(w.rows)-1]
	last.Key = kind + " " + digest(last.Body)
}

func digest(text string) string {
	sum := sha256.Sum256([]byte(text))
	return hex.EncodeToString(sum[:])
}

// group puts the row of a group once and returns its key.
func (w *rowWriter) group(g *Group) string {
	if key, ok := w.groups[g]; ok {
		return key
	}
	names := make([]string, len(g.Machines))
	for i, m := range g.Machines {
		names[i] = w.p.Machines[m].Name
	}
	w.groups[g] = w.named(names)
	return w.groups[g]
}

// named puts the row of a group of machines by name and returns its key.
func (w *rowWriter) named(machines []string) string {
	text, _ := json.Marshal(machines)
	key := digest(string(text))
	w.put("group", key, rowNoun{Name: key, Machines: machines})
	return key
}

func nonEmpty(words ...string) []string {
	return slices.DeleteFunc(words, func(w string) bool { return w == "" })
}

// RuleRows returns the rows of rules that are installed beside the plan: the
// rules and their groups.
func (p *Plan) RuleRows(rules ...Rule) []Row {
	w := &rowWriter{p: p, groups: map[*Group]string{}}
	return w.sorted(rules)
}

// CallRows returns the rows of rules about what machines call outside, and their groups.
func (p *Plan) CallRows(rules ...Rule) []Row {
	w := &rowWriter{p: p, groups: map[*Group]string{}}
	for _, r := range rules {
		w.rule(outwardRow, w.ruleRow(r))
	}
	return w.sorted(nil)
}

// NamedRows returns the rows of a rule and of the machines that it is for, in names: they
// do not hang on any plan. The rule's own group is not looked at.
func NamedRows(r Rule, machines []string) []Row {
	w := &rowWriter{groups: map[*Group]string{}}
	r.To = &Group{}
	w.groups[r.To] = w.named(machines)
	return w.sorted([]Rule{r})
}

// RowSentence returns the sentence that a row of a rule or a door stands for; "" for others.
func RowSentence(r Row) (string, error) {
	var body struct {
		Sentence string `json:"sentence"`
	}
	if r.Body == "" || r.Body[0] != '{' {
		return "", nil
	}
	err := json.Unmarshal([]byte(r.Body), &body)
	return body.Sentence, err
}

// SortedRows returns rows by key.
func SortedRows(bodies map[string]string) []Row {
	rows := make([]Row, 0, len(bodies))
	for key, body := range bodies {
		rows = append(rows, Row{key, body})
	}
	slices.SortFunc(rows, func(a, b Row) int { return cmp.Compare(a.Key, b.Key) })
	return rows
}
