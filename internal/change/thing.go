// Package change compares what an estate wants with what a site has, and puts
// the work into steps.
//
//	Estate ──Wanted──▶ things ─┐
//	                           ├─Between──▶ Changes ──Steps──▶ close, remove, make, alter, open
//	site's report ──▶ things ──┘
//
// The order of the steps is what keeps an enactment safe at every moment: the
// tables are first cut down to what is open both before and after, then things
// are removed, made and altered, and only the last step installs what is newly
// open. A second enactment after a break simply finds less left to do.
//
// The package is pure.
package change

import (
	"cmp"
	"encoding/json"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"ironbark/internal/estate"
	"ironbark/internal/flow"
)

// Kind says what a thing is.
type Kind string

// The kinds of thing that a site makes, in the order in which they are made.
const (
	Key     Kind = "key"
	Network Kind = "network"
	Subnet  Kind = "subnet"
	Line    Kind = "line"
	Machine Kind = "machine"
	Front   Kind = "front"
	Bastion Kind = "bastion"
)

var kindOrder = []Kind{Key, Network, Subnet, Line, Machine, Front, Bastion}

// Thing is one thing on a site: what was asked for, and what the site gave.
type Thing struct {
	Kind Kind
	Name string
	Spec Spec
	// Given are the public addresses that the site chose. It is no part of the comparison.
	Given flow.Public
}

// Spec is what is asked for. Fields that a kind has not stay zero.
type Spec struct {
	Public  string                  `json:"public,omitempty"` // a key's public half
	Network string                  `json:"network,omitempty"`
	Ranges  []netip.Prefix          `json:"ranges,omitempty"` // a network's space; a subnet's or line's range
	Outside bool                    `json:"outside,omitempty"`
	Joins   []string                `json:"joins,omitempty"`
	For     string                  `json:"for,omitempty"`
	Image   string                  `json:"image,omitempty"`
	Size    string                  `json:"size,omitempty"`
	Key     string                  `json:"key,omitempty"`
	Tags    map[string]string       `json:"tags,omitempty"`
	Inside  map[string][]netip.Addr `json:"inside,omitempty"` // addresses by subnet
	Subnets []string                `json:"subnets,omitempty"`
	Secret  bool                    `json:"password,omitempty"`
	Auto4   bool                    `json:"auto4,omitempty"` // a public address of the site's choice
	Auto6   bool                    `json:"auto6,omitempty"`
	Fixed   []netip.Addr            `json:"fixed,omitempty"`
	From    string                  `json:"from,omitempty"` // a bastion's from, as sentences write it
	Limit   int                     `json:"sessions,omitempty"`
}

// ID names a thing uniquely.
func (t Thing) ID() string { return string(t.Kind) + " " + t.Name }

// Wanted lists the things that an estate asks for, in the order in which they
// are made. Inside addresses are those given before where they still fit, and
// otherwise the lowest free ones of the subnet; a full subnet is an error.
func Wanted(e *estate.Estate, has []Thing) ([]Thing, error) {
	var list []Thing
	for _, k := range e.Keys {
		list = append(list, Thing{Kind: Key, Name: k.Name, Spec: Spec{Public: k.Public}})
	}
	for _, n := range e.Networks {
		list = append(list, Thing{Kind: Network, Name: n.Name, Spec: Spec{Ranges: n.Space, Outside: n.Outside, Joins: n.Joins}})
		for _, s := range n.Subnets {
			use := ""
			if s.ForBastions {
				use = "bastion"
			}
			list = append(list, Thing{Kind: Subnet, Name: s.Name, Spec: Spec{Network: n.Name, Ranges: s.Range, For: use}})
		}
	}
	for _, l := range e.Lines {
		list = append(list, Thing{Kind: Line, Name: l.Name, Spec: Spec{Network: l.Network, Ranges: l.Range}})
	}
	alloc := newAllocator(e, has)
	for _, m := range e.Machines {
		t := Thing{Kind: Machine, Name: m.Name, Spec: Spec{
			Image: m.Image, Size: m.Size, Key: m.Key, Subnets: m.Subnets, Secret: m.Password, Auto4: m.Address.Auto, Fixed: m.Address.Fixed,
		}}
		for _, tag := range m.Tags {
			if t.Spec.Tags == nil {
				t.Spec.Tags = map[string]string{}
			}
			t.Spec.Tags[tag.Key] = tag.Value
		}
		if err := alloc.give(&t, m.Subnets...); err != nil {
			return nil, err
		}
		list = append(list, t)
	}
	for _, f := range e.Fronts {
		n, _ := e.Network(f.Network)
		list = append(list, Thing{Kind: Front, Name: f.Name, Spec: Spec{
			Network: f.Network, Fixed: f.Address.Fixed,
			Auto4: f.Address.Auto && estate.HasFamily(n.Space, true), Auto6: f.Address.Auto && estate.HasFamily(n.Space, false),
		}})
	}
	for _, b := range e.Bastions {
		s, _ := e.Subnet(b.Subnet)
		t := Thing{Kind: Bastion, Name: b.Name, Spec: Spec{
			Subnets: []string{b.Subnet}, From: b.From.String(), Limit: b.Sessions, Fixed: b.Address.Fixed,
			Auto4: b.Address.Auto && estate.HasFamily(s.Range, true), Auto6: b.Address.Auto && estate.HasFamily(s.Range, false),
		}}
		if err := alloc.give(&t, b.Subnet); err != nil {
			return nil, err
		}
		list = append(list, t)
	}
	slices.SortStableFunc(list, func(a, b Thing) int {
		return cmp.Compare(slices.Index(kindOrder, a.Kind), slices.Index(kindOrder, b.Kind))
	})
	return list, nil
}

// Assigned tells the flow plan which addresses things have.
func Assigned(things []Thing) flow.Assigned {
	a := flow.Assigned{Machines: map[string]flow.MachineAddrs{}, Fronts: map[string]flow.Public{}, Bastions: map[string]flow.BastionAddrs{}}
	for _, t := range things {
		switch t.Kind {
		case Machine:
			a.Machines[t.Name] = flow.MachineAddrs{Inside: t.Spec.Inside, Public: t.Given.Addr4}
		case Front:
			a.Fronts[t.Name] = t.Given
		case Bastion:
			b := flow.BastionAddrs{Public: t.Given}
			for _, at := range t.Spec.Subnets {
				b.Inside = append(b.Inside, t.Spec.Inside[at]...)
			}
			a.Bastions[t.Name] = b
		}
	}
	return a
}

// Describe tells in a few words what a thing is.
func (t Thing) Describe() string {
	s := t.Spec
	var words []string
	add := func(text string, yes bool) {
		if yes {
			words = append(words, text)
		}
	}
	add(s.Image, s.Image != "")
	add(s.Size, s.Size != "")
	add(prefixes(s.Ranges), len(s.Ranges) > 0)
	add("in "+s.Network, s.Network != "")
	add("outside", s.Outside)
	add("joins "+strings.Join(s.Joins, ", "), len(s.Joins) > 0)
	add("for "+s.For, s.For != "")
	add("at "+strings.Join(s.Subnets, ", "), len(s.Subnets) > 0)
	add("key "+s.Key, s.Key != "")
	add("with a password", s.Secret)
	add("a public address", s.Auto4 || s.Auto6)
	add("public address "+addrs(s.Fixed), len(s.Fixed) > 0)
	add(tags(s.Tags), len(s.Tags) > 0)
	add("from "+s.From, s.From != "")
	if t.Kind == Key {
		words = strings.Fields(s.Public)[:1]
	}
	return strings.Join(words, ", ")
}

func prefixes(list []netip.Prefix) string {
	words := make([]string, len(list))
	for i, p := range list {
		words[i] = p.String()
	}
	return strings.Join(words, " and ")
}

func addrs(list []netip.Addr) string {
	words := make([]string, len(list))
	for i, a := range list {
		words[i] = a.String()
	}
	return strings.Join(words, " and ")
}

func tags(m map[string]string) string {
	var words []string
	for k, v := range m {
		words = append(words, k+"="+v)
	}
	slices.Sort(words)
	return strings.Join(words, ", ")
}

// differs tells in words each field in which two specs of a thing differ.
func differs(a, b Spec) (list []string) {
	before, after := fields(a), fields(b)
	for _, key := range fieldOrder {
		if x, y := before[key], after[key]; x != y {
			list = append(list, fmt.Sprintf("%s %s → %s", fieldWords[key], or(x), or(y)))
		}
	}
	return list
}

func or(text string) string {
	if text == "" {
		return "none"
	}
	return strings.Trim(text, `"`)
}

// fields takes a spec apart into its JSON fields.
func fields(s Spec) map[string]string {
	text, err := json.Marshal(s)
	if err != nil {
		panic("change: a spec does not marshal: " + err.Error())
	}
	var raw map[string]json.RawMessage
	if err := json.Unmarshal(text, &raw); err != nil {
		panic("change: a spec does not unmarshal: " + err.Error())
	}
	out := make(map[string]string, len(raw))
	for k, v := range raw {
		out[k] = string(v)
	}
	return out
}

var fieldOrder = []string{
	"public", "network", "ranges", "outside", "joins", "for", "image", "size", "key", "tags", "subnets", "inside",
	"password", "auto4", "auto6", "fixed", "from", "sessions",
}

var fieldWords = map[string]string{
	"public": "public key", "network": "network", "ranges": "range", "outside": "outside", "joins": "joins", "for": "for", "image": "image",
	"size": "size", "key": "key", "tags": "tags", "subnets": "at", "inside": "inside addresses", "password": "password",
	"auto4": "public IPv4 address", "auto6": "public IPv6 address", "fixed": "public address", "from": "from", "sessions": "sessions",
}
