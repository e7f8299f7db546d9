package flow

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"ironbark/internal/parallel"
)

// This file reads rows back into a plan.

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
