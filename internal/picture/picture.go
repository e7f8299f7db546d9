// Package picture draws an estate: networks as nested boxes, the machines in
// them, their doors and what those let through. Closed is the quiet default, and
// open is what the eye meets.
//
//	Map ──lay out──▶ Scene (boxes and words at places) ──▶ SVG, PNG
//	 └───────────────────────────────────────────────────▶ DOT
//
// The package is pure. Words are set in a monospaced face, so that every width is
// known without measuring. Cost: linear in the map.
package picture

import (
	"fmt"
	"slices"
	"strings"
)

// Level is how open something is. The zero Level is closed.
type Level uint8

// The levels, from the one that the eye may pass over.
const (
	Closed Level = iota
	Open
	Administrative // an administrative service is open
)

// Map is what is drawn.
type Map struct {
	Title    string
	Note     string // below the title
	Networks []Network
	Lines    []Node // private lines, which stand outside every network
}

// Network is a network with its fronts and subnets.
type Network struct {
	Name    string
	Space   string
	Joins   []string
	Outside bool
	Fronts  []Node
	Subnets []Subnet
}

// About tells the network's space and what it leads to.
func (n Network) About() string {
	text := n.Space
	if n.Outside {
		text += ", outside"
	}
	if len(n.Joins) > 0 {
		text += ", joins " + strings.Join(n.Joins, ", ")
	}
	return text
}

// Subnet is a subnet with what stands in it.
type Subnet struct {
	Name  string
	About string
	Nodes []Node
}

// Node is a machine, a front, a bastion or a line.
type Node struct {
	Kind    string // machine, front, bastion or line
	Name    string
	About   string
	Down    bool // it does not run
	Lets    []Let
	Also    []string // other nodes of the same kind that let in the same
	Through []string // the bastions that lead people to it
}

// few is how many nodes of a subnet are told one by one.
const few = 12

// Gathered returns the map with those nodes told together that let the very same
// things through, in subnets where there are many.
func (m Map) Gathered() Map {
	m.Networks = slices.Clone(m.Networks)
	for i, n := range m.Networks {
		m.Networks[i].Subnets = slices.Clone(n.Subnets)
		for j, s := range n.Subnets {
			if len(s.Nodes) > few {
				m.Networks[i].Subnets[j].Nodes = gathered(s.Nodes)
			}
		}
	}
	return m
}

func gathered(nodes []Node) (out []Node) {
	place := map[string]int{}
	var key []byte
	for _, n := range nodes {
		key = n.appendLets(key[:0])
		i, known := place[string(key)]
		if n.quiet() || !known {
			place[string(key)] = len(out)
			out = append(out, n)
			continue
		}
		out[i].Also = append(slices.Clone(out[i].Also), n.Name)
		out[i].About = ""
	}
	return out
}

// appendLets appends what kind of node it is, and all that it lets through: nodes that are drawn as one have it in common.
func (n Node) appendLets(key []byte) []byte {
	key = fmt.Append(key, n.Kind, n.Down, n.Through)
	for _, l := range n.Lets {
		for _, word := range []string{l.Service, l.From, l.How, l.To} {
			key = append(append(key, 0), word...)
		}
		key = append(key, byte(l.Level))
	}
	return key
}

// Let is one thing that a node lets through, or with To what one of its doors
// leads to, whether or not anybody is let in there.
type Let struct {
	Service string
	From    string
	How     string // through which door, until when; may be empty
	Level   Level
	To      string // instead of From and How
}

// Text tells a let in words.
func (l Let) Text() string {
	if l.To != "" {
		return l.Service + " leads to " + l.To
	}
	text := l.Service + " ← " + l.From
	if l.How != "" {
		text += ", " + l.How
	}
	return text
}

// others tells of which other nodes the same is to be told; "" where of none.
func (n Node) others() string {
	if len(n.Also) == 0 {
		return ""
	}
	return fmt.Sprintf("and the same of %d others: %s", len(n.Also), strings.Join(n.Also, ", "))
}

// Heading tells what a node is, in words, below its name.
func (n Node) Heading() string {
	if n.About != "" {
		return n.About
	}
	return n.others()
}

// quiet reports whether the node's name is all that there is to tell.
func (n Node) quiet() bool { return len(n.Lets) == 0 }

// Level is that of the most open thing that the node lets through.
func (n Node) Level() (most Level) {
	for _, l := range n.Lets {
		most = max(most, l.Level)
	}
	return most
}
