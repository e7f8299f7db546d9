// Package change compares what an estate wants with what a site has, and puts
// the work into steps.
//
//	Estate ──Desired──▶ resources ─┐
//	                               ├─Diff──▶ Changes ──▶ close, remove, make, alter, open
//	site's report ────▶ resources ─┘
//
// The order of the steps is what keeps an enactment safe at every moment: the
// tables are first cut down to what is open both before and after, then resources
// are removed, made and altered, and only the last step installs what is newly
// open. A second enactment after a break simply finds less left to do.
//
// The package is pure.
package change

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"ironbark/internal/estate"
	"ironbark/internal/flow"
)

// Kind says what a resource is.
type Kind string

// The kinds of thing that a site makes, in the order in which they are made.
const (
	Uplink   Kind = "uplink"
	Key      Kind = "key"
	Network  Kind = "network"
	Subnet   Kind = "subnet"
	Line     Kind = "line"
	Address  Kind = "address"
	Image    Kind = "image"
	Snapshot Kind = "snapshot"
	Machine  Kind = "machine"
	Volume   Kind = "volume"
	Front    Kind = "front"
	Bastion  Kind = "bastion"
)

// Kinds lists the kinds in the order in which they are made.
var Kinds = []Kind{Uplink, Key, Network, Subnet, Line, Address, Image, Snapshot, Machine, Volume, Front, Bastion}

// Resource is one resource on a site: what was asked for, and what the site gave.
type Resource struct {
	Kind Kind
	Name string
	Spec Spec
	// Given are the public addresses that the site chose. It is no part of the comparison.
	Given flow.Public
	// Unmanaged is set where nothing of Ironbark's made the resource: it is on the site and
	// in no file. An enactment leaves it alone.
	Unmanaged bool
	// LastEnacted is what was last enacted, where the resource is not like that any more.
	LastEnacted *Spec
	// Rotates is set where the key that is asked for is inside the machine, or is put there before
	// the machine is altered.
	Rotates bool
}

// keySeparator stands between the names of a machine's keys, where it has several.
const keySeparator = ","

// Keys lists the names of a machine's keys.
func (s Spec) Keys() []string {
	if s.Key == "" {
		return nil
	}
	return strings.Split(s.Key, keySeparator)
}

// Spec is what is asked for. Fields that a kind has not stay zero.
type Spec struct {
	Public   string                  `json:"public,omitempty"` // a key's public half
	Network  string                  `json:"network,omitempty"`
	Ranges   []netip.Prefix          `json:"ranges,omitempty"`    // a network's space; a subnet's or line's range; what an uplink may give
	Own      []netip.Prefix          `json:"addresses,omitempty"` // of an uplink
	Outside  bool                    `json:"outside,omitempty"`
	Outward  string                  `json:"outward,omitempty"` // of a network that is outside: "closed", or "" for open
	Joins    []string                `json:"joins,omitempty"`
	For      string                  `json:"for,omitempty"`   // the subnet in which a machine's public address leads to it
	Image    string                  `json:"image,omitempty"` // of a volume, and of a snapshot of one: the system that it holds
	Boot     string                  `json:"boot,omitempty"`  // the volume that a machine boots from
	Size     string                  `json:"size,omitempty"`
	Key      string                  `json:"key,omitempty"` // of a machine: see Keys
	Tags     map[string]string       `json:"tags,omitempty"`
	Inside   map[string][]netip.Addr `json:"inside,omitempty"` // addresses by subnet
	Subnets  []string                `json:"subnets,omitempty"`
	Password bool                    `json:"password,omitempty"`
	Auto4    bool                    `json:"auto4,omitempty"` // a public address of the site's choice
	Auto6    bool                    `json:"auto6,omitempty"`
	Fixed    []netip.Addr            `json:"fixed,omitempty"`
	From     string                  `json:"from,omitempty"` // a bastion's from, as sentences write it; the snapshot that a volume begins as
	Sessions int                     `json:"sessions,omitempty"`

	Reserved []string     `json:"reserved,omitempty"` // reserved addresses by name
	V6       bool         `json:"ipv6,omitempty"`     // a reserved address's family
	DNS      []netip.Addr `json:"dns,omitempty"`
	Gateway  []netip.Addr `json:"gateway,omitempty"`
	Static   bool         `json:"static,omitempty"`
	Allocate []string     `json:"allocate,omitempty"`
	GB       int          `json:"gb,omitempty"` // a disk's size
	Speed    estate.Speed `json:"kind,omitempty"`
	Machine  string       `json:"machine,omitempty"` // what a volume is attached to; what a snapshot is of
	Volume   string       `json:"volume,omitempty"`  // what a snapshot is of
	Device   string       `json:"device,omitempty"`
	Setup    []Setup      `json:"setup,omitempty"`
	Link     string       `json:"interface,omitempty"` // of the host's, to which an uplink leads
	File     string       `json:"file,omitempty"`      // an image's
	Format   string       `json:"format,omitempty"`
	Bytes    int64        `json:"bytes,omitempty"` // an image's file
	Digest   string       `json:"sha256,omitempty"`
	How      string       `json:"how,omitempty"` // a snapshot of what was in use was made consistent

	Peers map[string]Peer `json:"peers,omitempty"` // of a line
	Port  int             `json:"port,omitempty"`  // UDP, on which a line with peers is heard

	Limits estate.Traffic `json:"limits,omitzero"` // of a machine
}

// Peer is a computer at the other end of a line.
type Peer struct {
	Key   string       `json:"key"`
	Addrs []netip.Addr `json:"addresses"`
}

// Setup is one part of a machine's first boot: a shipped recipe, or a script.
type Setup struct {
	Name   string `json:"name"`
	Script string `json:"script,omitempty"` // the text; "" for a recipe
	// Listens are the runs of services on which a light machine is told to listen, where
	// Name is that of a service.
	Listens []string `json:"listens,omitempty"`
}

// Equal reports whether two parts run the same.
func (s Setup) Equal(o Setup) bool {
	return s.Name == o.Name && s.Script == o.Script && slices.Equal(s.Listens, o.Listens)
}

// ID names a resource uniquely.
func (t Resource) ID() string { return string(t.Kind) + " " + t.Name }

// Equal reports whether two specs ask for the same. A list or map that is empty is one that is not there.
func (s Spec) Equal(o Spec) bool {
	return s.Public == o.Public && s.Network == o.Network && s.Outside == o.Outside && s.Outward == o.Outward && s.For == o.For &&
		s.Image == o.Image && s.Boot == o.Boot && s.Size == o.Size && s.Key == o.Key && s.Password == o.Password &&
		s.Auto4 == o.Auto4 && s.Auto6 == o.Auto6 && s.From == o.From && s.Sessions == o.Sessions && s.V6 == o.V6 && s.Static == o.Static &&
		s.GB == o.GB && s.Speed == o.Speed && s.Machine == o.Machine && s.Volume == o.Volume && s.Device == o.Device && s.Link == o.Link &&
		s.File == o.File && s.Format == o.Format && s.Bytes == o.Bytes && s.Digest == o.Digest && s.How == o.How && s.Port == o.Port && s.Limits == o.Limits &&
		slices.Equal(s.Ranges, o.Ranges) && slices.Equal(s.Own, o.Own) && slices.Equal(s.Joins, o.Joins) && slices.Equal(s.Subnets, o.Subnets) &&
		slices.Equal(s.Fixed, o.Fixed) && slices.Equal(s.Reserved, o.Reserved) && slices.Equal(s.DNS, o.DNS) && slices.Equal(s.Gateway, o.Gateway) &&
		slices.Equal(s.Allocate, o.Allocate) && maps.Equal(s.Tags, o.Tags) && maps.EqualFunc(s.Inside, o.Inside, slices.Equal) &&
		slices.EqualFunc(s.Setup, o.Setup, Setup.Equal) &&
		maps.EqualFunc(s.Peers, o.Peers, func(a, b Peer) bool { return a.Key == b.Key && slices.Equal(a.Addrs, b.Addrs) })
}

// Is reports whether a spec is what was asked for: of an image, a digest may have been
// added to it, and of a snapshot how it was taken.
func (s Spec) Is(asked Spec) bool {
	if asked.Digest == "" {
		asked.Digest = s.Digest
	}
	if asked.How == "" {
		asked.How = s.How
	}
	return s.Equal(asked)
}

// stored is what a store keeps of a resource beside its kind and name.
type stored struct {
	Spec  Spec        `json:"spec"`
	Given flow.Public `json:"given"`
}

// Encode writes down what was asked for and what the place gave, as JSON. Kind and name
// are kept beside it.
func (t Resource) Encode() string {
	text, err := json.Marshal(stored{t.Spec, t.Given})
	if err != nil {
		panic("change: a resource does not marshal: " + err.Error())
	}
	return string(text)
}

// DecodeResource reads what [Resource.Encode] wrote.
func DecodeResource(kind, name, text string) (Resource, error) {
	t := Resource{Kind: Kind(kind), Name: name}
	s, err := decodeStored(text)
	if err != nil {
		return t, fmt.Errorf("%s: %w", t.ID(), err)
	}
	t.Spec, t.Given = s.Spec, s.Given
	return t, nil
}

// Boots reports whether the resource is a volume that a machine boots from.
func (t Resource) Boots() bool { return t.Kind == Volume && t.Spec.Device == estate.SystemDevice }

// rank is the place of a resource in the order in which resources are made. What a machine boots from comes before the machine.
func (t Resource) rank() int {
	if t.Boots() {
		return 2*slices.Index(Kinds, Machine) - 1
	}
	return 2 * slices.Index(Kinds, t.Kind)
}

// Find finds a resource by kind and name, and reports whether it is there.
func Find(resources []Resource, kind Kind, name string) (Resource, bool) {
	i := slices.IndexFunc(resources, func(t Resource) bool { return t.Kind == kind && t.Name == name })
	if i < 0 {
		return Resource{}, false
	}
	return resources[i], true
}

// Assigned tells the flow plan which addresses resources have.
func Assigned(resources []Resource) flow.Assigned {
	a := flow.Assigned{Machines: map[string]flow.MachineAddrs{}, Fronts: map[string]flow.Public{}, Bastions: map[string]flow.BastionAddrs{}}
	for _, t := range resources {
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
		case Address:
			for _, addr := range []netip.Addr{t.Given.Addr4, t.Given.Addr6} {
				if addr.IsValid() {
					a.Reserved = append(a.Reserved, addr)
				}
			}
		}
	}
	return a
}

// InsideWords lists a resource's inside addresses, in the order of its subnets.
func (t Resource) InsideWords() []string {
	words := []string{}
	for _, at := range t.Spec.Subnets {
		for _, a := range t.Spec.Inside[at] {
			words = append(words, a.String())
		}
	}
	return words
}

// Describe tells in a few words what a resource is.
func (t Resource) Describe() string {
	s := t.Spec
	var words []string
	add := func(text string, yes bool) {
		if yes {
			words = append(words, text)
		}
	}
	add(s.File, s.File != "")
	add(s.Format, s.Format != "")
	add(s.Image, s.Image != "" && (t.Kind == Machine || t.Kind == Volume))
	add("booted from volume "+s.Boot, s.Boot != "")
	add(s.Size, s.Size != "")
	add(prefixes(s.Ranges), len(s.Ranges) > 0)
	add(fmt.Sprintf("%d GB %s disk", s.GB, cmp.Or(s.Speed, estate.Standard)), s.GB > 0 && t.Kind != Image && t.Kind != Snapshot)
	add("a file of "+bytes(s.Bytes), s.Bytes > 0)
	add(fmt.Sprintf("%d GB", s.GB), s.GB > 0 && t.Kind == Snapshot)
	add(fmt.Sprintf("a disk of %d GB", s.GB), s.GB > 0 && t.Kind == Image)
	add("of machine "+s.Machine, t.Kind == Snapshot && s.Machine != "")
	add("of volume "+s.Volume, t.Kind == Snapshot && s.Volume != "")
	add("with the system "+s.Image, t.Kind == Snapshot && s.Image != "")
	add(s.How, s.How != "")
	add("from snapshot "+s.From, t.Kind == Volume && s.From != "")
	add("at "+s.Machine+" as "+s.Device, t.Kind == Volume && s.Machine != "" && !t.Boots())
	add("the system disk of "+s.Machine, t.Boots())
	add("IPv4", t.Kind == Address && !s.V6)
	add("IPv6", t.Kind == Address && s.V6)
	add("on "+s.Link+" as "+prefixes(s.Own), s.Link != "")
	add("routed by the host", t.Kind == Uplink && s.Link == "")
	add("in "+s.Network, s.Network != "")
	add("peers "+peers(s.Peers), len(s.Peers) > 0)
	add(fmt.Sprintf("heard on udp/%d", s.Port), s.Port > 0)
	add("outside", s.Outside)
	add("outward closed", s.Outward != "")
	add("joins "+strings.Join(s.Joins, ", "), len(s.Joins) > 0)
	add("gateway "+addrs(s.Gateway), len(s.Gateway) > 0)
	add("fixed addresses", s.Static)
	add("allocates "+strings.Join(s.Allocate, ", "), len(s.Allocate) > 0)
	add("DNS "+addrs(s.DNS), len(s.DNS) > 0)
	add("at "+strings.Join(s.Subnets, ", "), len(s.Subnets) > 0)
	add("key "+strings.Join(s.Keys(), ", "), s.Key != "")
	add("with a password", s.Password)
	add("set up by "+setupNames(s.Setup), len(s.Setup) > 0)
	add("limited to "+s.Limits.String(), s.Limits != (estate.Traffic{}))
	add("a public address"+t.leadsTo(), t.Kind != Address && (s.Auto4 || s.Auto6))
	add("public address "+addrs(s.Fixed)+t.leadsTo(), len(s.Fixed) > 0)
	add("reserved address "+strings.Join(s.Reserved, ", ")+t.leadsTo(), len(s.Reserved) > 0)
	add(tags(s.Tags), len(s.Tags) > 0)
	add("from "+s.From, t.Kind == Bastion && s.From != "")
	if t.Kind == Key {
		words = strings.Fields(s.Public)[:1]
	}
	return strings.Join(words, ", ")
}

// bytes tells a size as it is, in the largest unit of ten that is not larger.
func bytes(n int64) string {
	for _, unit := range []struct {
		name string
		size int64
	}{{"GB", 1e9}, {"MB", 1e6}, {"kB", 1e3}} {
		if n >= unit.size {
			return fmt.Sprintf("%.1f %s", float64(n)/float64(unit.size), unit.name)
		}
	}
	return fmt.Sprintf("%d bytes", n)
}

// leadsTo says to which interface of several a machine's public address leads.
func (t Resource) leadsTo() string {
	if t.Kind == Machine && len(t.Spec.Subnets) > 1 && t.Spec.For != "" {
		return " leading to " + t.Spec.For
	}
	return ""
}

func setupNames(list []Setup) string {
	words := make([]string, len(list))
	for i, s := range list {
		words[i] = s.Name
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

func peers(m map[string]Peer) string {
	return strings.Join(slices.Sorted(maps.Keys(m)), ", ")
}

func tags(m map[string]string) string {
	var words []string
	for k, v := range m {
		words = append(words, k+"="+v)
	}
	slices.Sort(words)
	return strings.Join(words, ", ")
}

// differs tells in words each field in which two specs of a resource differ.
func differs(a, b Spec) (list []string) {
	if a.Equal(b) {
		return nil
	}
	before, after := fields(a), fields(b)
	for _, key := range fieldOrder {
		x, y := before[key], after[key]
		if key == "peers" && x != y { // names say enough, and keys do not
			list = append(list, fmt.Sprintf("peers %s → %s", cmp.Or(peers(a.Peers), "none"), cmp.Or(peers(b.Peers), "none")))
			continue
		}
		if key == "outward" && x != y {
			list = append(list, fmt.Sprintf("outward %s → %s", cmp.Or(a.Outward, estate.OutwardOpen), cmp.Or(b.Outward, estate.OutwardOpen)))
			continue
		}
		if key == "setup" && x != y { // scripts are not told word by word
			list = append(list, setupDiffers(a.Setup, b.Setup))
			continue
		}
		if x != y {
			if x == "true" || y == "true" {
				x, y = yesNo(x), yesNo(y)
			}
			list = append(list, fmt.Sprintf("%s %s → %s", fieldWords[key], or(x), or(y)))
		}
	}
	return list
}

func yesNo(text string) string {
	if text == "true" {
		return "yes"
	}
	return "no"
}

func setupDiffers(a, b []Setup) string {
	x, y := setupNames(a), setupNames(b)
	if x == y {
		x, y = x+" as it was", "changed"
	}
	return fmt.Sprintf("setup %s → %s (runs at restart --setup)", or(x), or(y))
}

func or(text string) string {
	if text == "" {
		return "none"
	}
	return strings.NewReplacer(`"`, "", "[", "", "]", "", "{", "", "}", "", ",", ", ").Replace(text)
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
	"public", "network", "ranges", "outside", "outward", "joins", "for", "image", "boot", "size", "key", "tags", "subnets", "inside",
	"password", "auto4", "auto6", "fixed", "reserved", "from", "sessions", "ipv6", "dns", "gateway", "static", "allocate", "gb", "kind", "machine",
	"volume", "device", "interface", "addresses", "setup", "file", "format", "sha256", "peers", "port", "limits",
}

var fieldWords = map[string]string{
	"public": "public key", "network": "network", "ranges": "range", "outside": "outside", "joins": "joins", "for": "for", "image": "image", "boot": "boots from",
	"size": "size", "key": "key", "tags": "tags", "subnets": "at", "inside": "inside addresses", "password": "password",
	"auto4": "public IPv4 address", "auto6": "public IPv6 address", "fixed": "public address", "from": "from", "sessions": "sessions",
	"reserved": "reserved address", "ipv6": "IPv6", "dns": "DNS", "gateway": "gateway", "static": "fixed addresses", "allocate": "allocates",
	"gb": "GB", "kind": "disk", "machine": "attached to", "volume": "volume", "interface": "interface", "addresses": "addresses", "device": "device", "peers": "peers", "port": "port", "file": "file", "format": "format", "sha256": "SHA-256", "limits": "limits",
}

// StandsIn reports whether a resource cannot be without another: a machine without its
// subnets, its image or its key, a front without its network, a volume without its machine.
func (t Resource) StandsIn(o Resource) bool {
	switch o.Kind {
	case Subnet:
		return slices.Contains(t.Spec.Subnets, o.Name)
	case Network:
		return t.Spec.Network == o.Name
	case Key:
		return t.Kind == Machine && slices.Contains(t.Spec.Keys(), o.Name)
	}
	return slices.Contains(t.needs(), o.ID())
}
