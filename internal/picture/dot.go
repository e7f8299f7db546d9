package picture

import (
	"fmt"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"
)

// DOT writes the map in the DOT language: networks and subnets are clusters, and
// each thing that is let through is an edge from where it comes from.
func DOT(w io.Writer, m Map) error {
	b := &strings.Builder{}
	b.WriteString("digraph estate {\n  rankdir=LR;\n  graph [fontname=\"monospace\"];\n  edge [fontname=\"monospace\"];\n  node [shape=box, fontname=\"monospace\", color=\"#dedede\", fontcolor=\"#787878\"];\n")
	fmt.Fprintf(b, "  label=%s;\n", strconv.Quote(m.Title))
	sources := map[string]bool{}
	edges := &strings.Builder{}
	node := func(indent string, n Node) {
		id := n.Kind + " " + n.Name
		look := ""
		if n.Down {
			look = ", style=dashed"
		}
		switch n.Level() {
		case Open:
			look += `, color="#d67e14", fontcolor="#141414"`
		case Administrative:
			look += `, color="#be1e14", fontcolor="#141414", penwidth=2`
		}
		fmt.Fprintf(b, "%s%s [label=%s%s];\n", indent, strconv.Quote(id), strconv.Quote(caption(n)), look)
		for _, l := range n.Lets {
			if l.To != "" {
				continue
			}
			colour := "#d67e14"
			if l.Level == Administrative {
				colour = "#be1e14"
			}
			sources[l.From] = true
			text := l.Service
			if l.How != "" {
				text += "\n" + l.How
			}
			fmt.Fprintf(edges, "  %s -> %s [label=%s, color=%q];\n", strconv.Quote("from "+l.From), strconv.Quote(id), strconv.Quote(text), colour)
		}
	}
	for i, n := range m.Networks {
		fmt.Fprintf(b, "  subgraph cluster_%d {\n    label=%s;\n", i, strconv.Quote(n.Name+"  "+n.About()))
		for _, f := range n.Fronts {
			node("    ", f)
		}
		for j, s := range n.Subnets {
			fmt.Fprintf(b, "    subgraph cluster_%d_%d {\n      label=%s;\n", i, j, strconv.Quote(s.Name+"  "+s.About))
			for _, one := range s.Nodes {
				node("      ", one)
			}
			b.WriteString("    }\n")
		}
		b.WriteString("  }\n")
	}
	for _, l := range m.Lines {
		node("  ", l)
	}
	for _, from := range slices.Sorted(maps.Keys(sources)) {
		fmt.Fprintf(b, "  %s [label=%s, shape=plaintext, fontcolor=\"#141414\"];\n", strconv.Quote("from "+from), strconv.Quote(from))
	}
	b.WriteString(edges.String() + "}\n")
	_, err := io.WriteString(w, b.String())
	return err
}
