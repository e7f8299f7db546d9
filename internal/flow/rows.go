package flow

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"ironbark/internal/estate"
	"ironbark/internal/parallel"
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

// FromRows puts a plan together again. Machines that a group names and no row
// has are left out of it: less is open, never more, for rules that pass; a deny
// cannot concern what is not there.
func FromRows(rows []Row) (*Plan, error) {
	p := &Plan{Machines: make([]Machine, 0, len(rows)/2)}
	groups := make(map[string]*Group, len(rows)/4)
	r := rowReader{p: p, groups: groups}
	each := func(read func(kind string, row Row) error) error {
		for _, row := range rows {
			kind, _, _ := strings.Cut(row.Key, " ")
			if err := read(kind, row); err != nil {
				return fmt.Errorf("installed table row %q: %w", row.Key, err)
			}
		}
		return nil
	}
	if err := each(r.noun); err != nil {
		return nil, err
	}
	slices.SortFunc(p.Machines, func(a, b Machine) int { return cmp.Compare(a.Name, b.Name) })
	p.finish()
	if err := each(r.group); err != nil {
		return nil, err
	}
	if err := r.rules(rows); err != nil {
		return nil, err
	}
	sortRules(p.Rules)
	sortRules(p.Outward)
	slices.SortFunc(p.Doors, func(a, b Published) int { return a.Origin.Compare(b.Origin) })
	p.finishDoors()
	return p, nil
}

func sortRules(list []Rule) {
	slices.SortFunc(list, func(a, b Rule) int {
		return cmp.Or(a.Origin.Compare(b.Origin), cmp.Compare(a.Opening, b.Opening))
	})
}

// WithRows returns the plan with rules that are installed beside it, as [NamedRows] writes them: what [FromRows] makes of their rows and the
// plan's own together. Other rows are refused.
func (p *Plan) WithRows(rows []Row) (*Plan, error) {
	if len(rows) == 0 {
		return p, nil
	}
	q := *p
	q.Rules = nil
	r := rowReader{p: &q, groups: map[string]*Group{}}
	for _, row := range rows {
		kind, _, _ := strings.Cut(row.Key, " ")
		if kind != "rule" && kind != "group" {
			return nil, fmt.Errorf("installed table row %q stands beside the plan, and is no rule", row.Key)
		}
		if err := r.group(kind, row); err != nil {
			return nil, fmt.Errorf("installed table row %q: %w", row.Key, err)
		}
	}
	if err := r.rules(rows); err != nil {
		return nil, err
	}
	q.Rules = slices.Concat(p.Rules, q.Rules)
	sortRules(q.Rules)
	return &q, nil
}

type rowReader struct {
	p      *Plan
	groups map[string]*Group
}

func (r rowReader) noun(kind string, row Row) error {
	if kind == "guard" || kind == "nowhere" {
		return r.set(kind, row.Body)
	}
	if kind == "group" || kind == "rule" || kind == "door" || kind == outwardRow {
		return nil
	}
	if kind == "machine" {
		if m, ok := machineRow(row.Body); ok {
			r.p.Machines = append(r.p.Machines, m)
			return nil
		}
	}
	var n rowNoun
	if err := json.Unmarshal([]byte(row.Body), &n); err != nil {
		return err
	}
	space, err := ParseAddrRuns(n.Space)
	if err != nil {
		return err
	}
	from, err := ParseAddrRuns(n.From)
	if err != nil {
		return err
	}
	switch kind {
	case "network":
		r.p.Networks = append(r.p.Networks, Network{Name: n.Name, Space: space, Outside: n.Outside, OpenOutward: n.Outside && n.Outward == "", Joins: n.Joins})
	case "line":
		r.p.Lines = append(r.p.Lines, Line{Name: n.Name, Network: n.Network, Range: space})
	case "machine":
		m := Machine{Name: n.Name, Public: n.readPublic()}
		for _, i := range n.Interfaces {
			m.Interfaces = append(m.Interfaces, Interface(i))
		}
		r.p.Machines = append(r.p.Machines, m)
	case "front":
		r.p.Fronts = append(r.p.Fronts, Front{Name: n.Name, Network: n.Network, Public: n.readPublic()})
	case "gateway":
		r.p.Gateways = append(r.p.Gateways, Gateway{Name: n.Name, Network: n.Network, Inside: n.Inside, Public: n.readPublic(), From: from})
	default:
		return fmt.Errorf("unknown kind %q", kind)
	}
	return nil
}

// set reads a row that is a list of runs and nothing else.
func (r rowReader) set(kind, body string) (err error) {
	var words []string
	if err := json.Unmarshal([]byte(body), &words); err != nil {
		return err
	}
	if kind == "guard" {
		r.p.AdminServices, err = ParseServiceRuns(words)
	} else {
		r.p.ExcludedSources, err = ParseAddrRuns(words)
	}
	return err
}

func (r rowReader) group(kind string, row Row) error {
	if kind != "group" {
		return nil
	}
	n, ok := groupRow(row.Body)
	if !ok {
		n = rowNoun{}
		if err := json.Unmarshal([]byte(row.Body), &n); err != nil {
			return err
		}
	}
	g := &Group{Machines: make([]int32, 0, len(n.Machines))}
	for _, name := range n.Machines {
		if m, ok := r.p.byName[name]; ok {
			g.Machines = append(g.Machines, m)
		}
	}
	slices.Sort(g.Machines)
	r.groups[n.Name] = g
	return nil
}

// rules reads the rows of rules and doors, on all processors: there may be many.
func (r rowReader) rules(rows []Row) error {
	type read struct {
		rule Rule
		door *Published
		err  error
	}
	rows = slices.DeleteFunc(slices.Clone(rows), func(row Row) bool {
		kind, _, _ := strings.Cut(row.Key, " ")
		return kind != "rule" && kind != "door" && kind != outwardRow
	})
	list := make([]read, len(rows))
	parallel.Parts(len(rows), func(from, to int) {
		for i := from; i < to; i++ {
			one := &list[i]
			one.rule, one.door, one.err = r.rule(rows[i])
		}
	})
	r.p.Rules = make([]Rule, 0, len(rows))
	for i, one := range list {
		switch {
		case one.err != nil:
			return fmt.Errorf("installed table row %q: %w", rows[i].Key, one.err)
		case one.door != nil:
			r.p.Doors = append(r.p.Doors, *one.door)
		case strings.HasPrefix(rows[i].Key, outwardRow+" "):
			r.p.Outward = append(r.p.Outward, one.rule)
		default:
			r.p.Rules = append(r.p.Rules, one.rule)
		}
	}
	return nil
}

// rule reads the row of a rule, or of a door.
func (r rowReader) rule(row Row) (rule Rule, door *Published, err error) {
	b, ok := ruleRow(row.Body)
	if !ok {
		b = rowRule{}
		if err := json.Unmarshal([]byte(row.Body), &b); err != nil {
			return rule, nil, err
		}
	}
	from, err := ParseAddrRuns(b.From)
	if err != nil {
		return rule, nil, err
	}
	services, err := ParseServiceRuns(append(b.Services, nonEmpty(b.Service, b.On)...))
	if err != nil {
		return rule, nil, err
	}
	to, ok := r.groups[b.Group]
	if !ok {
		return rule, nil, fmt.Errorf("there is no group %q", b.Group)
	}
	begin, until := readMoment(b.Begin), readMoment(b.Until)
	origin := Origin{Sentence: b.Sentence, File: b.File, Line: b.Line}
	if !strings.HasPrefix(row.Key, "door ") {
		for k := Deny; k <= Allow; k++ {
			if k.String() == b.Kind {
				return Rule{Kind: k, From: from, To: to, Services: services, Begin: begin, Until: until, Opening: b.Opening, Origin: origin}, nil, nil
			}
		}
		return rule, nil, fmt.Errorf("unknown kind of rule %q", b.Kind)
	}
	d := &Published{Kind: DoorForward, Front: b.Front, To: to, From: from, Standing: b.Standing, Until: until, Origin: origin}
	if b.Kind == DoorSpread.String() {
		d.Kind = DoorSpread
	}
	at, err1 := ParseServiceRuns([]string{b.Service})
	on, err2 := ParseServiceRuns([]string{b.On})
	if err := cmp.Or(err1, err2); err != nil {
		return rule, nil, err
	}
	d.Service, d.On = at.Runs()[0].Lo, on.Runs()[0].Lo
	return rule, d, nil
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
