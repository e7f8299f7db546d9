// Package estate is everything one team runs in one place, as a typed value: the
// nouns of estate.yaml (networks, machines, fronts, people …) and the sentences
// of the rules files beside it.
//
//	estate.yaml ─┐
//	             ├─Read─▶ Estate ──▶ flow plan, review, cost …
//	*.rules ─────┘           │
//	     ▲                   └─ every part keeps its place for errors
//	     └──── Edit: changes its own lines only
//
// An Estate that Read returned is valid: names are unique and known, ranges lie
// where they belong and do not overlap, sentences speak of things that exist.
// Whatever needs a site (images, sizes, addresses) is judged elsewhere.
//
// The package is pure. Reading costs time linear in the files, but for the
// checks of overlap, which sort (n log n).
package estate

import (
	"bytes"
	"iter"
	"net/netip"
	"slices"
	"time"

	"ironbark/internal/sentence"
)

// FileName is the file of the nouns; RulesName is the rules file that is written to by default.
const (
	FileName  = "estate.yaml"
	RulesName = "estate.rules"
	// UplinkName is what the uplink, of which there is one, is called as a resource.
	UplinkName = "host"
	// SiteHost names the host of a site that has an uplink, as a target: its machines may call it, where a sentence says so. Nothing else
	// has this name.
	SiteHost = "site-host"
)

// Estate is a whole estate. Its parts stand in the order of the file.
type Estate struct {
	Name        string
	Site        string
	Sources     []Source
	Services    []Service
	Admin       []sentence.Service // administrative besides those that always are
	People      []Person
	Keys        []Key
	Authorities []Authority
	Recipients  []Recipient // who is told of entries of the journal
	Networks    []Network
	Lines       []Line
	Uplink      *Uplink // nil: nothing outside the site gets in
	Machines    []Machine
	Fronts      []Front
	Bastions    []Bastion
	Addresses   []Reserved
	Volumes     []Volume
	Snapshots   []Snapshot
	Images      []Image
	Limits      Limits
	Repair      []Repair // what site restore --follow puts right
	Edits       Edits    // who else has to approve edits
	STUN        string   // the server, HOST:PORT, that tells from where whoever asks comes; "": none
	Scripts     map[string]string

	text    []byte    // of the file of the nouns
	at      time.Time // see [Estate.AsOf]
	said    *said
	names   index
	members members
}

// Source is a name for addresses outside: what "from office" means.
type Source struct {
	Name   string
	Ranges []sentence.Atom // addresses, prefixes and ranges only
	At     sentence.Pos
}

// Service is an estate's own name for ports.
type Service struct {
	Name  string
	Ports []sentence.Service // ports only, never names
	At    sentence.Pos
}

// Person may be permitted to open services and may use routes.
type Person struct {
	Name   string
	Groups []string
	Keys   []string             // public keys, one line each as OpenSSH writes them
	Until  time.Time            // they may do nothing from then on; zero: no end
	Ends   map[string]time.Time // of some of the keys, from when on nobody may log in with them
	At     sentence.Pos
}

// Authority is a key whose certificates gateways take for people (OpenSSH's PROTOCOL.certkeys): one
// that names a person of the estate as a principal lets that person in until it ends.
type Authority struct {
	Name   string
	Public string // one line as OpenSSH writes it
	At     sentence.Pos
}

// Key is a key pair's public half, by which an administrator gets into a machine.
type Key struct {
	Name   string
	Public string    // one line as OpenSSH writes it
	Until  time.Time // nobody logs in with it from then on; zero: no end
	At     sentence.Pos
}

// Network is an address space whose machines reach one another.
type Network struct {
	Name        string
	Space       []netip.Prefix
	Outside     bool     // it has a gateway: machines can call outside, and doors from outside can exist
	OpenOutward bool     // its machines may call outside whatever no sentence denies; otherwise only what sentences allow
	Joins       []string // networks whose machines reach its own, both ways; not transitive
	DNS         []netip.Addr
	Subnets     []Subnet
	At          sentence.Pos
}

// Subnet is a part of a network's space in which machines stand.
type Subnet struct {
	Name     string
	Network  string
	Range    []netip.Prefix // at most one of each family
	Gateway  []netip.Addr   // at most one of each family; where none is given, the first host
	Static   bool           // machines are told their addresses at first boot, and not by DHCP
	Allocate []Stretch      // where addresses are given from; none: the whole range
	At       sentence.Pos
}

// Uplink joins a site to the network that its host is in.
type Uplink struct {
	Interface string         // the host's, on which the site has an address of its own; "": what is public is routed to it by the host
	Addresses []netip.Prefix // the site's own there, with the lengths of their networks; only with an interface
	Gateway   []netip.Addr   // by which the site calls outward; at most one of each family; only with an interface
	Public    []netip.Prefix // the public addresses that the site may give
	At        sentence.Pos
}

// Line is a private line from another place to one network.
type Line struct {
	Name     string
	Network  string
	Range    []netip.Prefix
	Port     int    // UDP, on which its tunnel is heard; 0: the site chooses
	Endpoint string // HOST or HOST:PORT by which peers call; "": the uplink's own address
	Peers    []Peer
	At       sentence.Pos
}

// Peer is a computer at the other end of a line. Its name is that of a source, too: its addresses.
type Peer struct {
	Name  string
	Key   string // its public key (WireGuard), in base64
	Addrs []netip.Addr
	At    sentence.Pos
}

// Machine is a virtual machine.
type Machine struct {
	Name     string
	Image    string // where it boots from a volume, the image that the volume holds; "" if the files do not tell
	Boot     string // the volume that it boots from; "" where it has a system disk of its own
	Size     string
	Subnets  []string     // one interface in each, in this order
	Keys     []string     // any of them lets administrators in; none: no key does
	Tags     []Tag        // sorted by key
	Address  Address      // its own public IPv4 address
	Inside   []netip.Addr // inside addresses that it asks for; others are given
	Disk     Disk
	Setup    []string // recipes and scripts that its first start runs, in this order
	Password bool     // its first user may log in with a password
	Limits   Traffic  // what it says of itself; see [Limits.Traffic]
	At       sentence.Pos
}

// Tag is a label on a machine.
type Tag struct{ Key, Value string }

// Address is a wish for public addresses. The zero Address wishes for none.
type Address struct {
	Auto     bool         // whichever the site has free
	Fixed    []netip.Addr // these
	Reserved []string     // those reserved under these names
}

// Wanted reports whether any public address is wished for.
func (a Address) Wanted() bool { return a.Auto || len(a.Fixed)+len(a.Reserved) > 0 }

// Front is a public address whose ports lead to machines.
type Front struct {
	Name    string
	Network string
	Address Address
	Test    FrontTest
	At      sentence.Pos
}

// FrontTest says how the members of a front's spreads are tested. A zero field leaves it to site watch.
type FrontTest struct {
	Every    time.Duration // between two tests, from LeastTestEvery to MostTestEvery, both included
	Failures int           // in a row, after which a member is taken out; from 1 to MostTestFailures
}

// The bounds of a [FrontTest].
const (
	LeastTestEvery   = time.Second
	MostTestEvery    = time.Hour
	MostTestFailures = 100
)

// Bastion is a gateway through which people reach machines.
type Bastion struct {
	Name     string
	Subnet   string
	Address  Address
	From     sentence.Set // who may reach the gateway itself
	Sessions int          // at once; at least 1
	At       sentence.Pos
}

// Kind is what a name in a sentence stands for.
type Kind string

// The kinds of noun in the namespace that sentences use for sources and targets.
const (
	KindSource  Kind = "source"
	KindLine    Kind = "line"
	KindNetwork Kind = "network"
	KindSubnet  Kind = "subnet"
	KindMachine Kind = "machine"
	KindFront   Kind = "front"
	KindBastion Kind = "bastion"
	KindHost    Kind = "host" // of the site: see [SiteHost]
)

// Noun is where a name stands: its kind and its place in that kind's list.
type Noun struct {
	Kind Kind
	I    int // into the list of the kind; for a subnet, into its network's Subnets
	Net  int // for a subnet: into Networks
	At   sentence.Pos
}

// index finds nouns by name.
type index struct {
	nouns    map[string]Noun
	services map[string]int
	people   map[string]bool // people and groups
	keys     map[string]int
	stores   map[string]map[string]int // addresses, volumes, snapshots and images, by kind
}

// SameNouns reports whether two estates were read from the same file of nouns, byte by byte.
func (e *Estate) SameNouns(o *Estate) bool { return bytes.Equal(e.text, o.text) }

// Lookup finds the noun of a name among sources, lines, networks, subnets,
// machines, fronts and bastions.
func (e *Estate) Lookup(name string) (Noun, bool) {
	n, ok := e.names.nouns[name]
	return n, ok
}

// Subnet finds a subnet by name.
func (e *Estate) Subnet(name string) (Subnet, bool) {
	n, ok := e.names.nouns[name]
	if !ok || n.Kind != KindSubnet {
		return Subnet{}, false
	}
	return e.Networks[n.Net].Subnets[n.I], true
}

// Network finds a network by name.
func (e *Estate) Network(name string) (Network, bool) {
	n, ok := e.names.nouns[name]
	if !ok || n.Kind != KindNetwork {
		return Network{}, false
	}
	return e.Networks[n.I], true
}

// Machine finds a machine by name.
func (e *Estate) Machine(name string) (Machine, bool) {
	n, ok := e.names.nouns[name]
	if !ok || n.Kind != KindMachine {
		return Machine{}, false
	}
	return e.Machines[n.I], true
}

// Key finds a key by name.
func (e *Estate) Key(name string) (Key, bool) {
	i, ok := e.names.keys[name]
	if !ok {
		return Key{}, false
	}
	return e.Keys[i], true
}

// Ports returns the ports behind a service's name, the estate's own or a shipped one.
func (e *Estate) Ports(name string) ([]sentence.Service, bool) {
	if i, ok := e.names.services[name]; ok {
		return e.Services[i].Ports, true
	}
	if name == sentence.AdminName {
		return e.Administrative(), true
	}
	return sentence.WellKnown(name)
}

// Administrative lists the ports of every service that is administrative in the estate,
// as it is now.
func (e *Estate) Administrative() (list []sentence.Service) {
	for _, name := range sentence.AdministrativeNames() {
		ports, _ := e.Ports(name)
		list = append(list, ports...)
	}
	for _, s := range e.Admin {
		name, named := s.Name()
		switch {
		case !named:
			list = append(list, s)
		case name != sentence.AdminName: // files refuse it, and nothing stands for itself
			ports, _ := e.Ports(name)
			list = append(list, ports...)
		}
	}
	return list
}

// PermitsOf yields the permits that concern a person, by name or by group, in the order of the
// sentences.
func (e *Estate) PermitsOf(person string) iter.Seq[sentence.Permit] {
	return func(yield func(sentence.Permit) bool) {
		names := []string{person}
		for _, p := range e.People {
			if p.Name == person {
				names = append(names, p.Groups...)
			}
		}
		for _, st := range e.holding(e.said.permitsNaming(names)) {
			m := st.Sentence.(sentence.Permit)
			if slices.ContainsFunc(m.People, func(n sentence.Name) bool { return e.Belongs(person, n.Text) }) && !yield(m) {
				return
			}
		}
	}
}

// Belongs reports whether person is the named one or a member of the named group, and their end has not come.
func (e *Estate) Belongs(person, nameOrGroup string) bool {
	for _, p := range e.People {
		if p.Name != person || ended(p.Until, e.at) {
			continue
		}
		if p.Name == nameOrGroup {
			return true
		}
		for _, g := range p.Groups {
			if g == nameOrGroup {
				return true
			}
		}
	}
	return false
}

// PersonKnown reports whether there is such a person, whose end has not come.
func (e *Estate) PersonKnown(person string) bool { return e.Belongs(person, person) }

// NamesOf lists the names of one kind of noun, as commands call the kinds.
func (e *Estate) NamesOf(kind string) (names []string) {
	switch kind {
	case "key":
		for _, k := range e.Keys {
			names = append(names, k.Name)
		}
	case "authority":
		for _, a := range e.Authorities {
			names = append(names, a.Name)
		}
	case "recipient":
		for _, t := range e.Recipients {
			names = append(names, t.Name)
		}
	case "person":
		for _, p := range e.People {
			names = append(names, p.Name)
		}
	case "peer":
		for _, l := range e.Lines {
			for _, p := range l.Peers {
				names = append(names, p.Name)
			}
		}
	case "service":
		for _, s := range e.Services {
			names = append(names, s.Name)
		}
	case kindAddress, kindVolume, kindSnapshot, kindImage:
		names = sortedKeys(e.names.stores[kind])
	default:
		for name, n := range e.names.nouns {
			if string(n.Kind) == kind {
				names = append(names, name)
			}
		}
		slices.Sort(names)
	}
	return names
}
