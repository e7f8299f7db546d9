package site

import (
	"context"

	"ironbark/internal/driver"
	"ironbark/internal/fault"
)

// ErrNoTunnels says that a place makes no tunnels of lines.
var ErrNoTunnels error = noTunnelsError{}

type noTunnelsError struct{}

func (noTunnelsError) Error() string { return "this site makes no tunnels of lines" }

// Kind is that of what a place cannot do.
func (noTunnelsError) Kind() fault.Kind { return fault.Unsupported }

// Advice says which can.
func (noTunnelsError) Advice() fault.Advice { return fault.Say("a Linux host does: site: linux") }

// Line tells how a line is doing. The error is [ErrNoTunnels], or driver.ErrNoLine.
func (s *Site) Line(ctx context.Context, name string) (driver.Line, error) {
	k, ok := s.driver.(driver.LineKeeper)
	if !ok {
		return driver.Line{}, ErrNoTunnels
	}
	return k.Line(ctx, name)
}
