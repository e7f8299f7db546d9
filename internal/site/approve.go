package site

import (
	"context"
	"fmt"

	"ironbark/internal/ledger"
	"ironbark/internal/opening"
)

// Ask records a request that waits for approvals, or what became of it; nothing of it
// passes. One without a number gets the next. The errors are those of the ledger.
func (s *Site) Ask(ctx context.Context, on Basis, person, action, more string, o opening.Opening) (opening.Opening, error) {
	if o.ID == 0 {
		next, err := s.nextNumber(ctx)
		if err != nil {
			return o, err
		}
		o.ID = next
	}
	_, err := s.write(ctx, ledger.Decision{
		Revision: on.Revision, Fence: -1, Opens: action != "decline", Move: true, Person: person, Action: action,
		Text: fmt.Sprintf("opening %d: %s%s", o.ID, o.Words, more), Openings: []opening.Opening{o},
	})
	return o, err
}
