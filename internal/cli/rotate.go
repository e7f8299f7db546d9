package cli

import (
	"context"

	"ironbark/internal/estate"
	"ironbark/internal/work"
)

// rotation readies what puts another key into a machine that runs, where an edit asks for that; nil
// where it does not.
func (a *app) rotation(ctx context.Context, w *work.Work, e *estate.Estate, machine, key string) (*work.Rotation, error) {
	st, err := w.Installed(ctx)
	if err != nil {
		return nil, err
	}
	now, known := e.Key(key)
	if !known {
		return nil, nil // what checks the files tells it
	}
	was, there := st.Estate.Machine(machine)
	if !there || was.Key == key {
		return nil, nil
	}
	old, has := st.Estate.Key(was.Key)
	if !has {
		return nil, wrong("machine %s has no key by which another one could be put into it", machine)
	}
	return w.NewRotation(machine, work.Half{Name: was.Key, Public: old.Public, Path: keyPath(w, was.Key)}, work.Half{Name: key, Public: now.Public, Path: keyPath(w, key)}), nil
}

// changeKey has an edit of a machine done that gives it another key: the new one is put in and tried
// before, and the old one taken out after.
func (a *app) changeKey(ctx context.Context, w *work.Work, e *estate.Estate, key, machine string, opt *editing, edit func() error) error {
	r, err := a.rotation(ctx, w, e, machine, key)
	if err != nil {
		return err
	}
	if r == nil {
		return edit()
	}
	w.Rotating = map[string]bool{machine: true}
	before := opt.before
	opt.before = func() (undo func() error, err error) {
		undo = func() error { return nil }
		if before != nil {
			if undo, err = before(); err != nil {
				return undo, err
			}
		}
		if err := r.In(ctx); err != nil {
			return undo, err
		}
		a.print.Note("%s  the new key lets people into %s", a.print.Open("tried"), machine)
		return undo, nil
	}
	if err := edit(); err != nil {
		return err
	}
	if err := r.Out(ctx); err != nil {
		return err
	}
	a.print.Note("taken out: the old key lets nobody into %s any more", machine)
	return nil
}
