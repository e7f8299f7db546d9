package driver

import (
	"context"

	"ironbark/internal/estate"
)

// Traffic is how much of a place's network is in use.
type Traffic struct {
	Connections, Most int                       // that the place tracks for all, and can
	Machines          map[string]MachineTraffic // by name
}

// Of returns that of a machine. A nil Traffic has none.
func (t *Traffic) Of(machine string) (m MachineTraffic, ok bool) {
	if t != nil {
		m, ok = t.Machines[machine]
	}
	return m, ok
}

// MachineTraffic is what a machine takes, and may take.
type MachineTraffic struct {
	Connections int // now
	Limits      estate.Traffic
}

// TrafficKeeper is a driver whose place limits what each machine may take of the network.
type TrafficKeeper interface {
	Traffic(ctx context.Context) (*Traffic, error)
}

// TrafficOf reads how much of a driver's place is in use; nil where the place has no limits.
func TrafficOf(ctx context.Context, d Driver) (*Traffic, error) {
	if k, ok := d.(TrafficKeeper); ok {
		return k.Traffic(ctx)
	}
	return nil, nil
}
