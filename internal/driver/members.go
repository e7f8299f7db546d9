package driver

import (
	"context"
	"net/netip"
	"time"

	"ironbark/internal/flow"
)

// Member is a machine that takes part in a spread, and how it is tested.
type Member struct {
	Front   string
	Service flow.Service // at the front
	Machine string
	At      netip.AddrPort // inside, where it is tested
	Path    string         // that is asked for by HTTP; "": a connection is enough
	Tested  bool           // its sentence says how it is tested
}

// EjectedMember is a member that gets no new connections: it does not pass its test, or is to be stopped.
type EjectedMember struct {
	Front    string
	Service  flow.Service
	Machine  string
	Since    time.Time
	Why      string
	Draining bool // it is to be stopped or removed, and what it has goes on until then
}

// Same reports whether two are the same member, for the same reason or not.
func (o EjectedMember) Same(p EjectedMember) bool {
	return o.Front == p.Front && o.Service == p.Service && o.Machine == p.Machine
}

// MemberTester is a driver whose place spreads connections over those members that pass their test.
type MemberTester interface {
	// Watched says that somebody must test the members again and again, and tell which are out. Other places test
	// them at each connection.
	Watched() bool
	// TestMember tests a member. The error is why it does not pass.
	TestMember(ctx context.Context, m Member) error
	// SetEjected says which members get no connections from now on; all others do. Where none of a spread
	// is left, all get some. It holds until it is said otherwise, whatever becomes of who said it.
	SetEjected(ctx context.Context, out []EjectedMember) error
	// Ejected are those that get none.
	Ejected(ctx context.Context) ([]EjectedMember, error)
}
