package linux

import (
	"encoding/binary"
	"slices"

	"ironbark/internal/flow"
	"ironbark/internal/flow/span"
)

// Piece is a run of sources to all of which the same is denied and let pass, whenever.
type Piece struct {
	Audience uint32
	Source   flow.Run
	Profile  uint32
}

// Entry is a run of services that a profile denies or lets pass.
type Entry struct {
	Profile  uint32
	Services span.Run[flow.Service] // of one protocol
	Rule     int                    // by which: its place in the plan; of a deny none
}

// firstAudience is the first number of an audience. Profiles have lower ones, so that a
// packet whose source has no profile is none's.
const firstAudience uint32 = 1 << 29

// profiles cuts the sources of rules that hold always into pieces.
type profiles struct {
	p       *flow.Plan
	t       *Table
	byRules map[string]uint32 // by the rules that concern a source
	byWhat  map[string]uint32 // by what it denies and lets pass
}

// edge is where a rule begins or ends to concern sources, going up.
type edge struct {
	at     flow.Point
	rule   int
	begins bool
}

// audience works out the pieces of one audience. rules are places in the plan, ascending.
func (c *profiles) audience(audience uint32, rules []int) {
	var edges []edge
	for _, i := range rules {
		for _, run := range c.p.Rules[i].From.Runs() {
			edges = append(edges, edge{run.Lo, i, true}, edge{run.Hi.Next(), i, false})
			if run.Hi.Next().Compare(run.Hi) < 0 { // the last address of all
				edges = edges[:len(edges)-1]
			}
		}
	}
	slices.SortFunc(edges, func(a, b edge) int { return a.at.Compare(b.at) })
	last := flow.PointOf(lastOf(anyV6))
	var active []int // ascending
	for i := 0; i < len(edges); {
		at := edges[i].at
		for ; i < len(edges) && edges[i].at == at; i++ {
			place, found := slices.BinarySearch(active, edges[i].rule)
			switch {
			case edges[i].begins && !found:
				active = slices.Insert(active, place, edges[i].rule)
			case !edges[i].begins && found:
				active = slices.Delete(active, place, place+1)
			}
		}
		if len(active) == 0 {
			continue
		}
		end := last
		if i < len(edges) {
			end = edges[i].at.Prev()
		}
		piece := Piece{audience, flow.Run{Lo: at, Hi: end}, c.profile(active)}
		if n := len(c.t.Who); n > 0 && c.t.Who[n-1].Audience == audience && c.t.Who[n-1].Profile == piece.Profile && c.t.Who[n-1].Source.Hi.Next() == at {
			c.t.Who[n-1].Source.Hi = end
			continue
		}
		c.t.Who = append(c.t.Who, piece)
	}
}

// profile is that of sources which some rules concern. What several rules let pass counts
// as let pass by the first that says why.
func (c *profiles) profile(rules []int) uint32 {
	var key []byte
	for _, i := range rules {
		key = binary.AppendUvarint(key, uint64(i))
	}
	if n, known := c.byRules[string(key)]; known {
		return n
	}
	var deny, pass []Entry
	var denied, passed flow.Services
	for kind := flow.Deny; kind <= flow.Allow; kind++ {
		for _, i := range rules {
			r := &c.p.Rules[i]
			switch {
			case r.Kind != kind:
			case kind == flow.Deny:
				denied = denied.Union(r.Services)
			default:
				services := r.Services
				if kind == flow.Allow {
					services = services.Subtract(c.p.AdminServices)
				}
				for _, run := range byProtocol(services.Subtract(passed)) {
					pass = append(pass, Entry{Services: run, Rule: i})
				}
				passed = passed.Union(services)
			}
		}
	}
	for _, run := range byProtocol(denied) {
		deny = append(deny, Entry{Services: run})
	}
	var what []byte
	for _, list := range [][]Entry{deny, pass} {
		for _, e := range list {
			what = binary.AppendUvarint(what, uint64(e.Services.Lo))
			what = binary.AppendUvarint(what, uint64(e.Services.Hi))
			what = binary.AppendUvarint(what, uint64(e.Rule))
		}
		what = append(what, 0xff)
	}
	n, known := c.byWhat[string(what)]
	if !known {
		n = uint32(len(c.byWhat) + 1)
		c.byWhat[string(what)] = n
		for i := range deny {
			deny[i].Profile = n
		}
		for i := range pass {
			pass[i].Profile = n
		}
		c.t.Deny, c.t.Pass = append(c.t.Deny, deny...), append(c.t.Pass, pass...)
	}
	c.byRules[string(key)] = n
	return n
}

// byProtocol are the runs of services, cut where the protocol changes.
func byProtocol(s flow.Services) (list []span.Run[flow.Service]) {
	for _, run := range s.Runs() {
		for _, cut := range []flow.Service{flow.UDPPort(0), flow.Ping, flow.Other} {
			if run.Lo < cut && cut <= run.Hi {
				list = append(list, span.Run[flow.Service]{Lo: run.Lo, Hi: cut.Prev()})
				run.Lo = cut
			}
		}
		list = append(list, run)
	}
	return list
}
