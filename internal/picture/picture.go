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
	About   string
	Outside bool
	Fronts  []Node
	Subnets []Subnet
}

// Subnet is a subnet with what stands in it.
type Subnet struct {
	Name  string
	About string
	Nodes []Node
}

// Node is a machine, a front, a bastion or a line.
type Node struct {
	Kind  string // machine, front, bastion or line
	Name  string
	About string
	Down  bool // it does not run
	Lets  []Let
}

// Let is one thing that a node lets through.
type Let struct {
	Service string
	From    string
	How     string // through which door, until when; may be empty
	Level   Level
}

// Text tells a let in words.
func (l Let) Text() string {
	text := l.Service + " ← " + l.From
	if l.How != "" {
		text += ", " + l.How
	}
	return text
}

// Level is that of the most open thing that the node lets through.
func (n Node) Level() (most Level) {
	for _, l := range n.Lets {
		most = max(most, l.Level)
	}
	return most
}
