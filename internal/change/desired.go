package change

import (
	"cmp"
	"fmt"
	"net/netip"
	"strings"

	"ironbark/internal/estate"
	"ironbark/internal/flow"
	"ironbark/internal/sentence"
)

// Desired lists the resources that an estate asks for, in the order in which they
// are made. Inside addresses are those given before where they still fit, and
// otherwise the lowest free ones of the subnet; a full subnet is an error. sizes
// tells how large, in GB, snapshots are, and least how large the system disk of
// a machine must be that starts from an image; nil where nobody cares. Addresses that rest are given last: machines gave them up a short
// while ago, and somebody may still send to them.
func Desired(e *estate.Estate, has []Resource, sizes map[string]int, least func(image string) int, resting ...netip.Addr) ([]Resource, error) {
	disks := func(m estate.Machine) int {
		if m.Boot != "" {
			return 0
		}
		if m.Disk.GB == 0 && least != nil {
			return least(m.Image)
		}
		return m.Disk.GB
	}
	list := make([]Resource, 0, len(e.Keys)+len(e.Networks)+len(e.Machines)+len(e.Volumes)+len(e.Fronts)) // and a few more
	put := func(kind Kind, name string, s Spec) { list = append(list, Resource{Kind: kind, Name: name, Spec: s}) }
	if u := e.Uplink; u != nil {
		put(Uplink, estate.UplinkName, Spec{Link: u.Interface, Own: u.Addresses, Gateway: u.Gateway, Ranges: u.Public})
	}
	for _, k := range e.Keys {
		put(Key, k.Name, Spec{Public: k.Public})
	}
	for _, n := range e.Networks {
		put(Network, n.Name, Spec{Ranges: n.Space, Outside: n.Outside, Outward: outward(n), Joins: n.Joins, DNS: n.DNS})
		for _, s := range n.Subnets {
			put(Subnet, s.Name, subnetSpec(n, s))
		}
	}
	have := byID(has)
	ports := linePorts(e, have)
	for _, l := range e.Lines {
		s := Spec{Network: l.Network, Ranges: l.Range}
		for _, p := range l.Peers {
			if s.Peers == nil {
				s.Peers, s.Port = map[string]Peer{}, ports[l.Name]
			}
			s.Peers[p.Name] = Peer{p.Key, p.Addrs}
		}
		put(Line, l.Name, s)
	}
	for _, a := range e.Addresses {
		s := Spec{V6: a.V6, Auto4: !a.V6 && !a.Fixed.IsValid(), Auto6: a.V6 && !a.Fixed.IsValid()}
		if a.Fixed.IsValid() {
			s.Fixed = append(s.Fixed, a.Fixed)
		}
		put(Address, a.Name, s)
	}
	for _, i := range e.Images {
		s := Spec{File: i.File}
		if old := have[string(Image)+" "+i.Name].orNone(); old.Spec.File == i.File { // what was read of it when it was uploaded
			s = old.Spec
		}
		put(Image, i.Name, s)
	}
	for _, n := range e.Snapshots {
		s := Spec{Machine: n.Machine, Volume: n.Volume, GB: sizes[n.Name]}
		if v, ok := e.Volume(n.Volume); ok {
			s.Image = system(e, v, have)
		}
		if old := have[string(Snapshot)+" "+n.Name]; old != nil && old.Spec.Machine == s.Machine && old.Spec.Volume == s.Volume {
			s.How, s.Image = old.Spec.How, old.Spec.Image
		}
		put(Snapshot, n.Name, s)
	}
	alloc := newAllocator(e, has, resting)
	if err := alloc.claim(); err != nil {
		return nil, err
	}
	for _, m := range e.Machines {
		if v, ok := e.Volume(m.Boot); ok {
			if m.Image = system(e, v, have); m.Image == "" {
				return nil, &sentence.Error{At: m.At, Problem: fmt.Sprintf("machine %s boots from volume %s, which begins as a snapshot that holds no system", m.Name, m.Boot)}
			}
		}
		t := Resource{Kind: Machine, Name: m.Name, Spec: machineSpec(e, m, disks(m))}
		if err := alloc.give(&t, m.Inside, m.Subnets...); err != nil {
			return nil, err
		}
		list = append(list, t)
	}
	for _, v := range e.Volumes {
		put(Volume, v.Name, Spec{GB: v.GB, Speed: v.Speed, Machine: v.Machine, Device: v.Device, From: v.From, Image: v.Image})
	}
	for _, f := range e.Fronts {
		n, _ := e.Network(f.Network)
		put(Front, f.Name, Spec{
			Network: f.Network, Fixed: f.Address.Fixed, Reserved: f.Address.Reserved,
			Auto4: f.Address.Auto && estate.HasFamily(n.Space, sentence.IPv4), Auto6: f.Address.Auto && estate.HasFamily(n.Space, sentence.IPv6),
		})
	}
	for _, b := range e.Bastions {
		s, _ := e.Subnet(b.Subnet)
		t := Resource{Kind: Bastion, Name: b.Name, Spec: Spec{
			Subnets: []string{b.Subnet}, From: b.From.String(), Sessions: b.Sessions, Fixed: b.Address.Fixed, Reserved: b.Address.Reserved,
			Auto4: b.Address.Auto && estate.HasFamily(s.Range, sentence.IPv4), Auto6: b.Address.Auto && estate.HasFamily(s.Range, sentence.IPv6),
		}}
		if err := alloc.give(&t, nil, b.Subnet); err != nil {
			return nil, err
		}
		list = append(list, t)
	}
	return ordered(list, func(*Resource) bool { return true }), nil
}

// system tells which image a volume holds, of which the site may have the snapshot that it begins as; "" where it holds none.
func system(e *estate.Estate, v estate.Volume, have map[string]*Resource) string {
	image, _ := e.SystemOf(v, func(snapshot string) string { return have[string(Snapshot)+" "+snapshot].orNone().Spec.Image })
	return image
}

// firstPort is the first port at which lines are heard (the one that WireGuard's documents use).
const firstPort = 51820

// linePorts tells on which port each line with peers is heard: as it says, as before, or the lowest that is free.
func linePorts(e *estate.Estate, have map[string]*Resource) map[string]int {
	ports, taken := map[string]int{}, map[int]bool{}
	give := func(name string, port int) {
		if port > 0 && !taken[port] && ports[name] == 0 {
			ports[name], taken[port] = port, true
		}
	}
	for _, l := range e.Lines {
		give(l.Name, l.Port)
	}
	for _, l := range e.Lines {
		if l.Port == 0 {
			give(l.Name, have[string(Line)+" "+l.Name].orNone().Spec.Port)
		}
	}
	next := firstPort
	for _, l := range e.Lines {
		for ; ports[l.Name] == 0 && len(l.Peers) > 0; next++ {
			give(l.Name, next)
		}
	}
	return ports
}

func subnetSpec(n estate.Network, s estate.Subnet) Spec {
	spec := Spec{Network: n.Name, Ranges: s.Range, Gateway: s.Gateway, Static: s.Static}
	for _, a := range s.Allocate {
		spec.Allocate = append(spec.Allocate, a.String())
	}
	return spec
}

func machineSpec(e *estate.Estate, m estate.Machine, gb int) Spec {
	s := Spec{
		Image: m.Image, Boot: m.Boot, Size: m.Size, Key: strings.Join(m.Keys, keySeparator), Subnets: m.Subnets, Password: m.Password,
		Auto4: m.Address.Auto, Fixed: m.Address.Fixed, Reserved: m.Address.Reserved,
		GB: gb, Limits: e.Limits.Traffic(m),
	}
	if m.Boot == "" {
		s.Speed = cmp.Or(m.Disk.Speed, estate.Standard)
	}
	for _, tag := range m.Tags {
		if s.Tags == nil {
			s.Tags = map[string]string{}
		}
		s.Tags[tag.Key] = tag.Value
	}
	for _, word := range m.Setup {
		part := Setup{Name: word, Script: e.Scripts[word]}
		if ports, ok := e.Ports(word); ok && e.Site == estate.Linux {
			part.Listens = flow.ServiceRuns(flow.ServicesOf(e, sentence.Services{List: ports}))
		}
		s.Setup = append(s.Setup, part)
	}
	if m.Address.Wanted() && len(m.Subnets) > 1 {
		s.For = primary(e, m)
	}
	return s
}

// primary is the subnet of the interface to which a machine's public address
// leads: the first that has IPv4 in a network that is outside.
func primary(e *estate.Estate, m estate.Machine) string {
	for _, name := range m.Subnets {
		s, _ := e.Subnet(name)
		if n, _ := e.Network(s.Network); n.Outside && estate.HasFamily(s.Range, sentence.IPv4) {
			return name
		}
	}
	return ""
}

// outward tells what a network chooses, where it is not what networks have that say nothing.
func outward(n estate.Network) string {
	if n.Outside && !n.OpenOutward {
		return estate.OutwardClosed
	}
	return ""
}
