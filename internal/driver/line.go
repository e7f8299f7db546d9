package driver

import (
	"context"
	"errors"
	"net/netip"
	"time"
)

// Line is how a private line is doing that is a tunnel.
type Line struct {
	Key    string // its public key, in base64
	Port   int    // UDP, on which it is heard
	Serves bool   // it carries packets
	Peers  map[string]LinePeer
}

// LinePeer is how a peer of a line is doing.
type LinePeer struct {
	Heard          time.Time      // its last handshake; zero: none since the line was started
	From           netip.AddrPort // where it was heard from last
	Received, Sent int64          // bytes since the line was started
}

// LineKeeper is a driver whose place makes tunnels of lines with peers.
type LineKeeper interface {
	// Line tells how a line is doing. The error is [ErrNoLine] where it is no tunnel.
	Line(ctx context.Context, name string) (Line, error)
}

// ErrNoLine says that a line is no tunnel: it has no peers.
var ErrNoLine = errors.New("this line has no peers, and is no tunnel")
