package flow

import (
	"encoding/binary"
	"net/netip"
	"slices"
	"time"

	"ironbark/internal/flow/span"
	"ironbark/internal/sentence"
)

// DoorKind says how a destination leads to a machine. The zero DoorKind is no door.
type DoorKind uint8

// The kinds of door, in the order in which answers look at them.
const (
	DoorDirect DoorKind = iota + 1
	DoorForward
	DoorSpread
	DoorInside
	DoorLine
	DoorBastion
	DoorOutward // by which a machine calls outside; only in a plan of calls
	DoorConsole // to a machine's console, past the network
)

// String names the kind as answers do.
func (k DoorKind) String() string {
	return [...]string{"", "direct", "forward", "spread", "inside", "line", "bastion", "outward", "console"}[min(k, 9)%9]
}

// Door is one way to one machine: who may arrive through it at all, at which
// address, and at which service it arrives.
type Door struct {
	Kind    DoorKind
	Machine int32      // into Plan.Machines; -1 for a gateway
	Via     string     // the front, line or bastion; "" otherwise
	Family  Family     // of Address
	Address netip.Addr // where clients call; invalid while the site has not given one
	Service Service    // where clients call, for forward, spread and bastion doors
	Arrives Services   // the services at which flows arrive
	From    Addrs      // every source that can use the door
	Own     *Published // for forward and spread doors: the sentence with the door's own from
}

// End is when the door itself ends; zero: it does not.
func (d Door) End() time.Time {
	if d.Own == nil {
		return time.Time{}
	}
	return d.Own.Until
}

// Translated reports whether the door changes the service: then clients call
// Service at Address and the flow arrives at the single service in Arrives.
func (d Door) Translated() bool { return d.Kind == DoorForward || d.Kind == DoorSpread }

// Called returns the services that clients call at Address.
func (d Door) Called() Services {
	if d.Translated() || d.Kind == DoorBastion {
		return span.One(d.Service)
	}
	return d.Arrives
}

// DoorsTo lists every door to a machine, direct ones first. Cost: the machine's
// interfaces × lines, and the doors published to it.
func (p *Plan) DoorsTo(m int32) []Door {
	if p.outward {
		return p.waysOut(m)
	}
	machine := p.Machines[m]
	if machine.IsSiteHost() {
		return p.hostDoors(m)
	}
	doors := make([]Door, 0, 4*len(machine.Interfaces)+2*len(p.publishedByMachine[m]))
	direct4 := machine.Public.Wants4
	for _, i := range machine.Interfaces {
		w := p.places[i.Network]
		if direct4 && w.Outside && HasV4(i.Addrs) {
			direct4 = false // the public address leads to the first interface that can have it
			doors = append(doors, Door{
				Kind: DoorDirect, Machine: m, Family: sentence.IPv4, Address: machine.Public.Addr4, Arrives: AnyService, From: w.direct[sentence.IPv4],
			})
		}
		for _, a := range i.Addrs {
			if w.Outside && globallyRoutable(a) {
				doors = append(doors, Door{Kind: DoorDirect, Machine: m, Address: a, Arrives: AnyService, From: w.direct[0]})
			}
		}
	}
	doors = p.published(doors, m)
	for _, i := range machine.Interfaces {
		w := p.places[i.Network]
		for _, a := range i.Addrs {
			doors = append(doors, Door{Kind: DoorInside, Machine: m, Family: sentence.FamilyOf(a), Address: a, Arrives: AnyService, From: w.inside[sentence.FamilyOf(a)]})
		}
	}
	return p.lineDoors(doors, m)
}

// HasV4 reports whether one of the addresses is IPv4.
func HasV4(list []netip.Addr) bool { return slices.ContainsFunc(list, netip.Addr.Is4) }

func has(list []netip.Addr, f Family) bool {
	return slices.ContainsFunc(list, func(a netip.Addr) bool { return sentence.FamilyOf(a) == f })
}

// published appends the forward and spread doors to a machine: one for each
// family that front and machine share.
func (p *Plan) published(doors []Door, m int32) []Door {
	for _, k := range p.publishedByMachine[m] {
		pub := &p.Doors[k]
		f := p.fronts[pub.Front]
		if !p.places[f.Network].Outside {
			continue
		}
		for _, family := range sentence.Families {
			if !f.Public.wants(family) || !p.Machines[m].standsIn(f.Network, family) {
				continue
			}
			doors = append(doors, Door{
				Kind: pub.Kind, Machine: m, Via: f.Name, Family: family, Address: f.Public.Addr(family), Service: pub.Service,
				Arrives: span.One(pub.On), From: p.outside[family], Own: pub,
			})
		}
	}
	return doors
}

// standsIn reports whether a machine has an address of a family in a network.
func (m Machine) standsIn(network string, f Family) bool {
	return slices.ContainsFunc(m.Interfaces, func(i Interface) bool { return i.Network == network && has(i.Addrs, f) })
}

func (pub Public) wants(f Family) bool {
	if f == sentence.IPv4 {
		return pub.Wants4
	}
	return pub.Wants6
}

// Addr returns the address of a family; it is invalid while the site has given none.
func (pub Public) Addr(f Family) netip.Addr {
	if f == sentence.IPv4 {
		return pub.Addr4
	}
	return pub.Addr6
}

// lineDoors appends the doors from lines into the machine's networks.
func (p *Plan) lineDoors(doors []Door, m int32) []Door {
	for _, i := range p.Machines[m].Interfaces {
		for _, l := range p.lines[i.Network] {
			for _, a := range i.Addrs {
				if from := l.from[sentence.FamilyOf(a)]; !from.IsEmpty() {
					doors = append(doors, Door{
						Kind: DoorLine, Machine: m, Via: l.name, Family: sentence.FamilyOf(a), Address: a, Arrives: AnyService, From: from,
					})
				}
			}
		}
	}
	return doors
}

// GatewayDoors lists the doors to the gateways themselves.
func (p *Plan) GatewayDoors() []Door {
	var doors []Door
	for _, g := range p.Gateways {
		if !p.places[g.Network].Outside {
			continue
		}
		for _, family := range sentence.Families {
			if !g.Public.wants(family) {
				continue
			}
			doors = append(doors, Door{
				Kind: DoorBastion, Machine: -1, Via: g.Name, Family: family, Address: g.Public.Addr(family),
				Service: GatewayService, Arrives: span.One(GatewayService), From: p.outside[family].Intersect(g.From),
			})
		}
	}
	return doors
}

// OwnPass returns the sources that a door's own from lets pass at a moment to
// its arriving service, and the sentence's end.
func (d Door) OwnPass(guard Services, at time.Time) (Addrs, bool) {
	if d.Own == nil || d.Own.From.IsEmpty() || !Active(d.Own.Until, at) {
		return Addrs{}, false
	}
	if guard.Contains(d.Own.On) && !d.Own.Standing {
		return Addrs{}, false
	}
	return d.Own.From, true
}

// AppendDoorShape appends to key all that the doors to machine m depend on but
// its own addresses: two machines with equal shapes have doors that are equal one
// by one in everything but Machine and Address.
func (p *Plan) AppendDoorShape(key []byte, m int32) []byte {
	machine := p.Machines[m]
	if machine.IsSiteHost() {
		key = append(key, machine.Name...)
	}
	if machine.Public.Wants4 {
		key = append(key, '4')
	}
	for _, i := range machine.Interfaces {
		key = append(append(key, i.Network...), ':')
		for _, a := range i.Addrs {
			switch {
			case a.Is4():
				key = append(key, 'i')
			case globallyRoutable(a):
				key = append(key, 'g')
			default:
				key = append(key, 'l')
			}
		}
	}
	for _, d := range p.publishedByMachine[m] {
		key = binary.AppendUvarint(append(key, '/'), uint64(d))
	}
	return key
}
