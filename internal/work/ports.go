package work

import (
	"net/netip"
	"slices"

	"ironbark/internal/flow"
)

// Port is a TCP port at a public address, and where it leads.
type Port struct {
	At      netip.AddrPort
	Name    string // the machine, front or bastion
	Service flow.Service
}

// Ports lists the TCP ports at which an estate can be called from outside, whether or not anything lets
// anybody in: what machines listen on at their own addresses, ports of fronts, and gateways.
func (st *State) Ports() (list []Port) {
	add := func(a netip.Addr, s flow.Service, name string) {
		p := Port{netip.AddrPortFrom(a, s.Port()), name, s}
		if a.IsValid() && s < flow.UDPPort(0) && !slices.Contains(list, p) {
			list = append(list, p)
		}
	}
	for i, m := range st.Plan.Machines {
		for _, d := range st.Plan.DoorsTo(int32(i)) {
			switch {
			case d.Translated():
				add(d.Address, d.Service, d.Via)
			case d.Kind == flow.DoorDirect:
				for _, run := range st.Report.Machines[m.Name].Listens.Runs() {
					for s := run.Lo; s <= run.Hi && s < flow.UDPPort(0); s++ {
						add(d.Address, s, m.Name)
					}
				}
			}
		}
	}
	for _, d := range st.Plan.GatewayDoors() {
		add(d.Address, flow.GatewayService, d.Via)
	}
	return list
}
