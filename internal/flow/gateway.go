package flow

// WithGatewaysAsMachines returns the plan for a place that knows machines and ports of fronts alone: each
// gateway is a machine of its name, and its public address a front whose one port leads there, for
// those who may reach the gateway. It is open to exactly who could reach it before.
func (p *Plan) WithGatewaysAsMachines() *Plan {
	if len(p.Gateways) == 0 {
		return p
	}
	out := *p
	out.Machines, out.Fronts, out.Doors, out.Gateways = append([]Machine{}, p.Machines...), append([]Front{}, p.Fronts...), append([]Published{}, p.Doors...), nil
	for _, g := range p.Gateways {
		m := int32(len(out.Machines))
		out.Machines = append(out.Machines, Machine{Name: g.Name, Interfaces: []Interface{{Network: g.Network, Addrs: g.Inside}}})
		out.Fronts = append(out.Fronts, Front{Name: g.Name, Network: g.Network, Public: g.Public})
		out.Doors = append(out.Doors, Published{
			Kind: DoorForward, Front: g.Name, Service: GatewayService, To: &Group{Machines: []int32{m}}, On: GatewayService, From: g.From, Standing: true,
			Origin: Origin{Sentence: "bastion " + g.Name},
		})
	}
	out.finish()
	out.hostCallers = p.hostCallers // a gateway calls nobody outside
	out.finishDoors()
	return &out
}
