package site

import (
	"context"
	"errors"

	"ironbark/internal/driver"
)

// ErrNoTests says that a place does not test the members of spreads.
var ErrNoTests = errors.New("this site tests the members of its spreads by itself")

// Members is the place's hand for members of spreads; [ErrNoTests] where it has none.
func (s *Site) Members() (driver.MemberTester, error) {
	t, ok := s.driver.(driver.MemberTester)
	if !ok {
		return nil, ErrNoTests
	}
	return t, nil
}

// NoteMember writes into the journal that a member of a spread was taken out, or back in.
func (s *Site) NoteMember(ctx context.Context, person, text string) error {
	_, err := s.Note(ctx, person, "spread", text)
	return err
}
