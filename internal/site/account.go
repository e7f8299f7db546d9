package site

import (
	"context"
	"errors"
	"fmt"

	"ironbark/internal/ledger"
	"ironbark/internal/opening"
	"ironbark/internal/sentence"
)

// Account records the account that was owed of an opening. What else is recorded of the
// opening stays as it is by now.
func (s *Site) Account(ctx context.Context, o opening.Opening) (err error) {
	for range most {
		st, err := s.ledger.State(ctx, ledger.Scope{Openings: s.some(o.ID)})
		if err != nil {
			return err
		}
		for _, now := range st.Openings {
			if now.ID == o.ID {
				now.Account = o.Account
				o = now
			}
		}
		_, err = s.write(ctx, ledger.Decision{
			Revision: st.Revision, Fence: -1, Move: true, Person: o.Person, Action: "account",
			Text: fmt.Sprintf("opening %d: %s", o.ID, sentence.Quote(o.Account.Text)), Openings: []opening.Opening{o},
		})
		if !errors.Is(err, ledger.ErrChanged) {
			return err
		}
	}
	return ledger.ErrChanged
}
