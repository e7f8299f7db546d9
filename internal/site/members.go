package site

import (
	"ironbark/internal/driver"

	"ironbark/internal/fault"
)

// ErrNoTests says that a place lets nobody say which members of spreads are out.
var ErrNoTests error = noTestsError{}

type noTestsError struct{}

func (noTestsError) Error() string {
	return "this site leads connections to members that listen by itself, and has nothing to be watched"
}

// Kind is that of what a place cannot do.
func (noTestsError) Kind() fault.Kind { return fault.Unsupported }

// Advice says which can.
func (noTestsError) Advice() fault.Advice { return fault.Say("it is for a Linux host: site: linux") }

// Members is the place's hand for members of spreads; [ErrNoTests] where it has none.
func (s *Site) Members() (driver.MemberTester, error) {
	t, ok := s.driver.(driver.MemberTester)
	if !ok {
		return nil, ErrNoTests
	}
	return t, nil
}
