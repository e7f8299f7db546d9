package work

import (
	"context"
	"errors"

	"ironbark/internal/estate"
	"ironbark/internal/site"
	"ironbark/internal/store"
)

// PlaceAlone returns the state of the place alone, where err says that the record of what
// was decided cannot be read; nil otherwise.
func (w *Work) PlaceAlone(ctx context.Context, err error) *State {
	damaged, ok := errors.AsType[*store.DamagedError](err)
	if !ok || damaged.Newer { // what a newer program wrote is left alone
		return nil
	}
	r, err := w.Site.Place(ctx)
	if err != nil {
		return nil
	}
	return &State{Report: r, Estate: &estate.Estate{}, Plan: r.Plan, Alone: true}
}

// Held returns the state with openings alone, so that the answer does not hang on how much
// there is: what is needed to close something.
func (w *Work) Held(ctx context.Context) (*State, error) { return w.held(ctx, w.Site.Held) }

// HeldOf is Held for some openings by number. Cost: does not hang on how many there are besides.
func (w *Work) HeldOf(ctx context.Context, ids ...int64) (*State, error) {
	return w.held(ctx, func(ctx context.Context) (*site.Report, error) { return w.Site.HeldOf(ctx, ids...) })
}

func (w *Work) held(ctx context.Context, read func(context.Context) (*site.Report, error)) (*State, error) {
	r, err := w.trusted(ctx, read)
	if st := w.PlaceAlone(ctx, err); st != nil {
		return st, nil
	}
	if err != nil {
		return nil, err
	}
	return &State{Report: r}, nil
}
