package work

import (
	"fmt"
	"net/netip"
	"slices"

	"ironbark/internal/change"
	"ironbark/internal/estate"
	"ironbark/internal/fault"
	"ironbark/internal/sentence"
)

// InUse lists what uses a noun that could not stay without it: machines of a key, what
// stands in a subnet or a network, what begins as a snapshot or an image, what boots from a volume.
func InUse(e *estate.Estate, kind, name string) (list []string) {
	use := func(what, who string, uses bool) {
		if uses {
			list = append(list, what+" "+who)
		}
	}
	inNetwork := func(subnet string) bool {
		s, ok := e.Subnet(subnet)
		return ok && s.Network == name
	}
	for _, m := range e.Machines {
		switch kind {
		case "key":
			use("machine", m.Name, slices.Contains(m.Keys, name))
		case "subnet":
			use("machine", m.Name, slices.Contains(m.Subnets, name))
		case "network":
			use("machine", m.Name, slices.ContainsFunc(m.Subnets, inNetwork))
		case "snapshot", "image":
			use("machine", m.Name, m.Image == name && m.Boot == "")
		case "volume":
			use("machine", m.Name, m.Boot == name)
		case "address":
			use("machine", m.Name, slices.Contains(m.Address.Reserved, name))
		}
	}
	for _, b := range e.Bastions {
		use("bastion", b.Name, kind == "subnet" && b.Subnet == name || kind == "network" && inNetwork(b.Subnet) || kind == "address" && slices.Contains(b.Address.Reserved, name))
	}
	for _, f := range e.Fronts {
		use("front", f.Name, kind == "network" && f.Network == name || kind == "address" && slices.Contains(f.Address.Reserved, name))
	}
	for _, l := range e.Lines {
		use("line", l.Name, kind == "network" && l.Network == name)
	}
	for _, v := range e.Volumes {
		use("volume", v.Name, kind == "snapshot" && v.From == name || (kind == "snapshot" || kind == "image") && v.Image == name)
	}
	return list
}

// gatewaysFree refuses a gateway that is some machine's address: the machine would lose its
// network, and everybody else their way out.
func gatewaysFree(e *estate.Estate, planned []change.Resource) error {
	holders := map[netip.Addr]string{}
	for _, t := range planned {
		for _, list := range t.Spec.Inside {
			for _, a := range list {
				holders[a] = string(t.Kind) + " " + t.Name
			}
		}
	}
	var errs sentence.Errors
	for _, n := range e.Networks {
		for _, s := range n.Subnets {
			for _, g := range s.Gateway {
				if who, held := holders[g]; held {
					errs = append(errs, &sentence.Error{
						At: s.At, Problem: fmt.Sprintf("the gateway %s of subnet %s is the address of %s", g, s.Name, who), Remedy: fault.Say("take another, or give " + who + " another address first"),
					})
				}
			}
		}
	}
	if len(errs) > 0 {
		return errs
	}
	return nil
}

// displaced tells of volumes that lose their device to another.
func displaced(has []change.Resource, changes []change.Change) (list []fault.Advice) {
	for _, c := range changes {
		was, there := change.Find(has, change.Volume, c.Resource.Name)
		now := c.Resource.Spec
		if c.Resource.Kind != change.Volume || c.Verb != change.Alter || !there || was.Spec.Device == now.Device || was.Spec.Machine != now.Machine {
			continue
		}
		for _, o := range changes {
			if o.Resource.Kind == change.Volume && o.Verb != change.Remove && o.Resource.Spec.Machine == now.Machine && o.Resource.Spec.Device == was.Spec.Device {
				list = append(list, fault.Say(fmt.Sprintf("volume %s takes the place of %s on %s: what names %s there finds the other volume from then on, and %s is %s",
					o.Resource.Name, c.Resource.Name, now.Machine, was.Spec.Device, c.Resource.Name, now.Device)))
			}
		}
	}
	return list
}

// strayIn lists what is in no file and stands in something that is to be removed.
func strayIn(has []change.Resource, changes []change.Change, discard map[string]bool) (list []fault.Advice) {
	for _, t := range has {
		if !t.Unmanaged || discard[t.ID()] {
			continue
		}
		for _, c := range changes {
			if c.Verb == change.Remove && t.StandsIn(c.Resource) {
				list = append(list, fault.Say(fmt.Sprintf("%s %s is in no file and stands in %s %s, which cannot go before: ", t.Kind, t.Name, c.Resource.Kind, c.Resource.Name)).
					Run("remove", string(t.Kind), t.Name).Say(", or ").Run("adopt", string(t.Kind), t.Name))
			}
		}
	}
	return list
}
