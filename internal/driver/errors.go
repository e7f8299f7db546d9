package driver

import (
	"errors"
	"fmt"
	"net/netip"

	"ironbark/internal/fault"
)

var (
	// ErrLost says that a step's answer never came: it may be done or not.
	ErrLost = errors.New("the site's answer was lost")
	// ErrMoved says that the place is not as it was when its mark was read. Nothing was done.
	ErrMoved = errors.New("the site has changed meanwhile")
	// ErrShut says that an opening was shut before, and passes nothing any more.
	ErrShut = errors.New("it was closed meanwhile")
)

// NoMachineError says that the place has no such machine.
type NoMachineError struct {
	Name string
	Near string // a name that was perhaps meant; may be empty
}

// Error tells the name, and the one that was perhaps meant.
func (n *NoMachineError) Error() string {
	if n.Near != "" {
		return fmt.Sprintf("the site has no machine “%s”; did you mean “%s”?", n.Name, n.Near)
	}
	return fmt.Sprintf("the site has no machine “%s”", n.Name)
}

// Kind is that of words that name nothing.
func (n *NoMachineError) Kind() fault.Kind { return fault.NotFound }

// NoConsoleError says why a console may not be used, and who or what could change that.
type NoConsoleError struct {
	Why string
	Try fault.Advice
}

// ConsoleClosed is the error where nothing lets somebody in at the console of a machine.
func ConsoleClosed(machine string) *NoConsoleError {
	return &NoConsoleError{
		Why: fmt.Sprintf("the console of machine %s is closed", machine), Try: fault.Run("open", "console", "to", machine, "for", "30m", "because", "…"),
	}
}

// Error tells why.
func (n *NoConsoleError) Error() string { return n.Why }

// Kind is that of the answer no.
func (n *NoConsoleError) Kind() fault.Kind { return fault.Unavailable }

// Advice says who or what can change it.
func (n *NoConsoleError) Advice() fault.Advice { return n.Try }

// UnreachableError says that a session did not come about, because no packet passes.
type UnreachableError struct {
	To     netip.AddrPort
	Reason string // as exposure.Reason
}

// Error tells where to and why.
func (u *UnreachableError) Error() string {
	return fmt.Sprintf("%s does not answer: %s", u.To, u.Reason)
}

// Kind is that of the answer no.
func (u *UnreachableError) Kind() fault.Kind { return fault.Unavailable }

// RefusedError says that packets pass, and nothing listens.
type RefusedError struct {
	To      netip.AddrPort
	Machine string
	State   State
}

// Error tells where to, and how the machine is doing.
func (r *RefusedError) Error() string {
	return fmt.Sprintf("%s refuses: nothing listens there (machine %s is %s)", r.To, r.Machine, r.State)
}

// Kind is that of the answer no.
func (r *RefusedError) Kind() fault.Kind { return fault.Unavailable }
