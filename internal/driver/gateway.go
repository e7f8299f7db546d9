package driver

import (
	"context"
	"errors"
	"os"

	"ironbark/internal/fault"
)

// GatewayHost is a driver in whose place a bastion's gateway can serve.
type GatewayHost interface {
	// ListenGateway returns the sockets that the place leads a bastion's clients to. They are the
	// caller's to close. The place connects from the bastion's own addresses with Dial.
	ListenGateway(ctx context.Context, bastion string) ([]GatewaySocket, error)
}

// GatewaySocket is a socket that clients of a gateway are led to.
type GatewaySocket struct {
	File *os.File
	// Told says that each connection begins with a line that is the client's address.
	Told bool
}

// ErrNoGateways says that no gateway can serve in a place.
var ErrNoGateways = errors.New("this site has no gateways")

// NoGatewayError says that nothing serves at a bastion's address now.
type NoGatewayError struct{ Bastion string }

// Error tells which.
func (n *NoGatewayError) Error() string {
	return "the gateway of bastion " + n.Bastion + " is not running"
}

// Kind is that of the answer no.
func (n *NoGatewayError) Kind() fault.Kind { return fault.Unavailable }

// Advice says what to do.
func (n *NoGatewayError) Advice() fault.Advice {
	return fault.Say("start it, and leave it running: ").Run("gateway", n.Bastion)
}
