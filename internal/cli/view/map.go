package view

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"ironbark/internal/change"
	"ironbark/internal/driver"
	"ironbark/internal/exposure"
	"ironbark/internal/flow"
	"ironbark/internal/picture"
	"ironbark/internal/sentence"
	"ironbark/internal/work"
)

// LetIn is what is let in at a machine or gateway, as a map tells it.
type LetIn struct {
	Lets   []picture.Let
	Routed []RoutedFrom `json:",omitempty"`
}

// RoutedFrom is a service to which a route leads, and from where.
type RoutedFrom struct{ From, Service string }

// LetInByClass tells what is let in at the machines of each class of a view, by [exposure.View.Alike]. Of machines to which the same is open one is put
// into words.
func LetInByClass(open *exposure.View, ph *Phrasing) map[int32]LetIn {
	open.Prepare()
	known := map[int32]LetIn{}
	for m := range open.Plan.Machines {
		c := open.Alike(int32(m))
		if _, told := known[c]; !told {
			known[c] = ph.letInOf(open.Reach(int32(m)))
		}
	}
	return known
}

// letInOf tells what entries of one machine let in.
func (ph *Phrasing) letInOf(reach []exposure.Entry) (out LetIn) {
	for _, r := range ph.gather(reach) {
		if r.entry.Reason == exposure.ByRoute { // that stands with the bastion: whoever is not on it is not let in
			out.Routed = append(out.Routed, RoutedFrom{ph.names.Plain(r.from), ph.service(r.services)})
			continue
		}
		level := picture.Open
		if r.entry.Administrative && r.entry.Door.Kind != flow.DoorBastion {
			level = picture.Administrative
		}
		how := through(r.doors)
		if t := r.entry.Until; !t.IsZero() {
			how = strings.TrimPrefix(how+", "+Left(t, ph.now)+" left", ", ")
		}
		out.Lets = append(out.Lets, picture.Let{Service: ph.service(r.services), From: ph.names.Plain(r.from), How: how, Level: level})
	}
	return out
}

// MapOf makes the map of a state: what stands where, and what is let through, as [LetInByClass] tells.
func MapOf(st *work.State, open *exposure.View, known map[int32]LetIn, ph *Phrasing) picture.Map {
	lets := map[string][]picture.Let{}
	through := map[string][]string{}           // the bastions that lead to a machine
	routed := map[string]map[string][]string{} // machines by where they are reached from and service
	for m, machine := range open.Plan.Machines {
		in := known[open.Alike(int32(m))]
		lets[machine.Name] = in.Lets
		for _, r := range in.Routed {
			if gateway, _, _ := strings.Cut(r.From, " "); !slices.Contains(through[machine.Name], gateway) {
				through[machine.Name] = append(through[machine.Name], gateway)
			}
			if routed[r.From] == nil {
				routed[r.From] = map[string][]string{}
			}
			routed[r.From][r.Service] = append(routed[r.From][r.Service], machine.Name)
		}
	}
	gateways := map[string][]exposure.Entry{}
	for e := range open.GatewayReach() {
		gateways[e.Door.Via] = append(gateways[e.Door.Via], e)
	}
	for name, list := range gateways {
		lets[name] = ph.letInOf(list).Lets
	}
	at := map[string][]picture.Node{}
	fronts := map[string][]picture.Node{}
	for _, t := range st.Report.Resources {
		node := picture.Node{Kind: string(t.Kind), Name: t.Name, Lets: lets[t.Name], Through: through[t.Name]}
		switch t.Kind {
		case change.Machine:
			m := st.Report.Machines[t.Name]
			node.Down = m.State != driver.Running
			node.About = string(m.State)
			if t.Given.Addr4.IsValid() {
				node.About += ", public " + t.Given.Addr4.String()
			}
		case change.Bastion:
			node.About = publicOf(t)
			node.Lets = append(node.Lets, leadsOn(routed, t.Name)...)
		case change.Front:
			node.About = publicOf(t)
			node.Lets = published(st, t.Name, ph)
			fronts[t.Spec.Network] = append(fronts[t.Spec.Network], node)
			continue
		default:
			continue
		}
		for _, sub := range t.Spec.Subnets {
			at[sub] = append(at[sub], node)
		}
	}
	m := picture.Map{Title: st.Estate.Name + " on " + st.Estate.Site + ", " + ph.now.UTC().Format("2006-01-02 15:04:05Z")}
	for _, n := range st.Estate.Networks {
		net := picture.Network{Name: n.Name, Space: prefixes(n.Space), Joins: n.Joins, Outside: n.Outside, Fronts: fronts[n.Name]}
		for _, s := range n.Subnets {
			nodes := at[s.Name]
			slices.SortFunc(nodes, func(a, b picture.Node) int {
				return cmp.Or(cmp.Compare(b.Level(), a.Level()), cmp.Compare(len(b.Lets), len(a.Lets)), sentence.CompareNames(a.Name, b.Name))
			})
			net.Subnets = append(net.Subnets, picture.Subnet{Name: s.Name, About: prefixes(s.Range), Nodes: nodes})
		}
		m.Networks = append(m.Networks, net)
	}
	for _, l := range st.Estate.Lines {
		m.Lines = append(m.Lines, picture.Node{Kind: "line", Name: l.Name + " into " + l.Network, About: prefixes(l.Range)})
	}
	return m
}

// through tells by which doors somebody comes in; nothing where they are the machine's own.
func through(doors []string) string {
	var published, plain []string
	for _, d := range doors {
		if d == "direct" || d == "inside" {
			plain = append(plain, d)
		} else {
			published = append(published, d)
		}
	}
	switch {
	case len(published) == 0:
		return ""
	case len(plain) == 0:
		return "through " + strings.Join(published, ", ")
	}
	return strings.Join(plain, ", ") + " or through " + strings.Join(published, ", ")
}

// leadsOn tells what a bastion's routes lead on to.
func leadsOn(routed map[string]map[string][]string, bastion string) (list []picture.Let) {
	to := map[string][]string{} // machines by service
	for from, services := range routed {
		if name, _, _ := strings.Cut(from, " "); name == bastion {
			for service, machines := range services {
				to[service] = append(to[service], machines...)
			}
		}
	}
	for _, service := range slices.Sorted(maps.Keys(to)) {
		names := slices.Compact(slices.SortedFunc(slices.Values(to[service]), sentence.CompareNames))
		text := strings.Join(names, ", ")
		if len(names) > 6 {
			text = fmt.Sprintf("%d machines", len(names))
		}
		list = append(list, picture.Let{Service: service, To: text})
	}
	return list
}

// published tells which ports of a front lead where. Whether anybody is let in
// through them stands with the machines.
func published(st *work.State, front string, ph *Phrasing) (list []picture.Let) {
	for _, d := range st.Plan.Doors {
		if d.Front != front {
			continue
		}
		var names []string
		for _, m := range d.To.Machines {
			names = append(names, st.Plan.Machines[m].Name)
		}
		list = append(list, picture.Let{Service: ph.service(flow.ServicesAt(d.Service)), To: strings.Join(names, ", ") + " " + ph.service(flow.ServicesAt(d.On))})
	}
	return list
}

func prefixes[T fmt.Stringer](list []T) string {
	words := make([]string, len(list))
	for i, p := range list {
		words[i] = p.String()
	}
	return strings.Join(words, ", ")
}

// Map draws a map in the terminal.
func (p *Printer) Map(m picture.Map) {
	m = m.Gathered()
	p.Head(m.Title)
	for _, n := range m.Networks {
		var body []string
		inner := p.columns() - 4
		for _, f := range n.Fronts {
			body = append(body, p.node(f, inner)...)
		}
		for _, s := range n.Subnets {
			body = append(body, p.box(s.Name, s.About, p.nodes(s.Nodes, inner-4), inner)...)
		}
		for _, line := range p.box(n.Name, n.About(), body, p.columns()) {
			p.Line("%s", line)
		}
	}
	for _, l := range m.Lines {
		p.Wrap("line ", l.Name+"  "+l.About)
	}
}

func (p *Printer) columns() int { return min(max(p.Width, least), 120) }

// nodes draws what stands in a subnet: the open ones one below the other, and
// the closed ones as a list of names.
func (p *Printer) nodes(list []picture.Node, width int) (lines []string) {
	var closed, routed, down []string
	for _, n := range list {
		switch {
		case len(n.Lets) > 0:
			lines = append(lines, p.node(n, width)...)
		case len(n.Through) > 0 && !n.Down:
			routed = append(routed, n.Name)
		case n.Down:
			down = append(down, n.Name)
		case n.Kind == "machine":
			closed = append(closed, n.Name)
		default:
			closed = append(closed, n.Kind+" "+n.Name)
		}
	}
	addNames := func(word string, names []string) {
		if len(names) == 0 {
			return
		}
		for _, line := range wrap(fmt.Sprintf("%s (%d): %s", word, len(names), strings.Join(names, ", ")), width) {
			lines = append(lines, p.Quiet(line))
		}
	}
	addNames("only through a bastion", routed)
	addNames("closed", closed)
	addNames("not running", down)
	if len(list) == 0 {
		lines = append(lines, p.Quiet("nothing stands in it"))
	}
	return lines
}

func (p *Printer) node(n picture.Node, width int) (lines []string) {
	name := n.Name
	if n.Kind != "machine" {
		name = n.Kind + " " + n.Name
	}
	for i, line := range wrap(name+"  "+n.Heading(), width) {
		if i == 0 {
			line = p.style(styleHead, name) + p.Quiet(strings.TrimPrefix(line, name))
		}
		lines = append(lines, line)
	}
	for _, l := range n.Lets {
		text, mark := l.Text(), ""
		if l.Level == picture.Administrative {
			mark = "! "
		}
		for i, line := range wrap(mark+text, width-4) {
			switch l.Level {
			case picture.Administrative:
				line = p.Bad(line)
			case picture.Open:
				line = p.Open(line)
			default:
				line = p.Quiet(line)
			}
			if i > 0 {
				line = "  " + line
			}
			lines = append(lines, "  "+line)
		}
	}
	return lines
}

// box draws lines in a box of a width, with a name in its upper edge.
func (p *Printer) box(name, about string, body []string, width int) (lines []string) {
	head := "┌ " + p.style(styleHead, name) + " "
	if room := width - ansi.StringWidth(head) - 3; about != "" && room > 8 {
		head += p.Quiet(ansi.Truncate(about, room, "…")) + " "
	}
	lines = append(lines, head+strings.Repeat("─", max(width-ansi.StringWidth(head)-1, 0))+"┐")
	for _, line := range body {
		line = ansi.Truncate(line, width-4, "…")
		lines = append(lines, "│ "+line+strings.Repeat(" ", max(width-4-ansi.StringWidth(line), 0))+" │")
	}
	return append(lines, "└"+strings.Repeat("─", width-2)+"┘")
}

// mapLet is a part of the document MapDoc.
type mapLet struct {
	Service string `json:"service"`
	From    string `json:"from"`
	How     string `json:"how,omitempty"`
	Level   string `json:"level"`
}

// mapLead is a part of the document MapDoc.
type mapLead struct {
	Service string `json:"service"`
	To      string `json:"to"`
}

// mapNode is a part of the document MapDoc.
type mapNode struct {
	Kind    string    `json:"kind"`
	Name    string    `json:"name"`
	Running bool      `json:"running"`
	Lets    []mapLet  `json:"lets"`
	Leads   []mapLead `json:"leads,omitempty"`
	Through []string  `json:"through,omitempty"` // bastions that lead people to it
}

// mapSubnet is a part of the document MapDoc.
type mapSubnet struct {
	Name  string    `json:"name"`
	Range string    `json:"range"`
	Nodes []mapNode `json:"nodes"`
}

// mapNetwork is a part of the document MapDoc.
type mapNetwork struct {
	Name    string      `json:"name"`
	Space   string      `json:"space"`
	Outside bool        `json:"outside"`
	Fronts  []mapNode   `json:"fronts"`
	Subnets []mapSubnet `json:"subnets"`
}

// MapDoc is the document of a map.
type MapDoc struct {
	Networks []mapNetwork `json:"networks"`
}

// MapJSON is the document of a map.
func MapJSON(m picture.Map) MapDoc {
	nodes := func(list []picture.Node) []mapNode {
		out := []mapNode{}
		for _, n := range list {
			one := mapNode{Kind: n.Kind, Name: n.Name, Running: !n.Down, Lets: []mapLet{}, Through: n.Through}
			for _, l := range n.Lets {
				if l.To != "" {
					one.Leads = append(one.Leads, mapLead{l.Service, l.To})
					continue
				}
				one.Lets = append(one.Lets, mapLet{l.Service, l.From, l.How, [...]string{"closed", "open", "administrative"}[l.Level]})
			}
			out = append(out, one)
		}
		return out
	}
	doc := []mapNetwork{}
	for _, n := range m.Networks {
		one := mapNetwork{n.Name, n.Space, n.Outside, nodes(n.Fronts), []mapSubnet{}}
		for _, s := range n.Subnets {
			one.Subnets = append(one.Subnets, mapSubnet{s.Name, s.About, nodes(s.Nodes)})
		}
		doc = append(doc, one)
	}
	return MapDoc{doc}
}
