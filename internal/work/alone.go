package work

import (
	"context"
	"errors"

	"ironbark/internal/estate"
	"ironbark/internal/store"
)

// ToClose returns the state by which something is closed: what is installed, or where
// the record of what was decided cannot be read, the place alone. Then unread tells why.
func (w *Work) ToClose(ctx context.Context) (st *State, unread, err error) {
	st, err = w.Installed(ctx)
	damaged, ok := errors.AsType[*store.Damaged](err)
	if !ok || damaged.Newer { // what a newer program wrote is left alone
		return st, nil, err
	}
	r, alone := w.Site.Place(ctx)
	if alone != nil {
		return nil, nil, err
	}
	return &State{Report: r, Estate: &estate.Estate{}, Plan: r.Plan, Alone: true}, err, nil
}
