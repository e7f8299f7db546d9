package driver

import (
	"context"
	"net/netip"
	"time"

	"ironbark/internal/flow"
)

// Session is a TCP connection that a place lets pass to a machine.
type Session struct {
	Machine string
	From    netip.Addr
	To      netip.Addr   // the address that was called: the machine's own, or a front's
	Service flow.Service // as it arrives at the machine
	Since   time.Time    // zero where it is not known
}

// SessionLister is a driver that knows the sessions that its place lets pass.
type SessionLister interface {
	// Sessions lists them, the oldest first. One that just ended may be among them.
	Sessions(ctx context.Context) ([]Session, error)
}

// SessionsOf lists the sessions of a driver's place; known is false where it does not know them.
func SessionsOf(ctx context.Context, d Driver) (list []Session, known bool, err error) {
	l, known := d.(SessionLister)
	if known {
		list, err = l.Sessions(ctx)
	}
	return list, known, err
}
