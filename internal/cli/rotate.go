package cli

import (
	"context"
	"slices"

	"ironbark/internal/estate"
	"ironbark/internal/work"
)

// rotation readies what gives a machine that runs other keys; nil where an edit does not ask for that.
func (a *app) rotation(ctx context.Context, w *work.Work, e *estate.Estate, machine string, keys []string) (*work.Rotation, error) {
	st, err := w.Installed(ctx)
	if err != nil {
		return nil, err
	}
	was, there := st.Estate.Machine(machine)
	if !there {
		return nil, nil
	}
	r := w.NewRotation(machine)
	for _, name := range was.Keys {
		if key, known := st.Estate.Key(name); known {
			half := work.Half{Name: name, Public: key.Public, Path: keyPath(w, name)}
			r.Old = append(r.Old, half)
			if slices.Contains(keys, name) {
				r.Stay = append(r.Stay, half)
			} else {
				r.Go = append(r.Go, half)
			}
		}
	}
	for _, name := range keys {
		key, known := e.Key(name)
		if !known {
			return nil, nil // what checks the files tells it
		}
		if !slices.Contains(was.Keys, name) {
			r.New = append(r.New, work.Half{Name: name, Public: key.Public, Path: keyPath(w, name)})
		}
	}
	switch {
	case len(r.New)+len(r.Go) == 0:
		return nil, nil
	case len(r.Old) == 0:
		return nil, wrong("machine %s has no key by which another one could be put into it", machine)
	case len(r.New)+len(r.Stay) == 0:
		return nil, wrong("machine %s would be left without a key: name the one that is to stay, or a new one", machine)
	}
	return r, nil
}

// changeKeys has an edit of a machine done that gives it other keys: new ones are put in and tried before,
// and old ones taken out after.
func (a *app) changeKeys(ctx context.Context, w *work.Work, e *estate.Estate, in *nounInput, machine string, opt *editing, edit func() error) error {
	keys := in.keys
	if slices.Equal(keys, []string{none}) {
		keys = nil
	}
	r, err := a.rotation(ctx, w, e, machine, keys)
	if err != nil {
		return err
	}
	if r == nil {
		return edit()
	}
	r.Own = in.ownKey
	w.Rotating = map[string]bool{machine: true}
	before := opt.before
	opt.before = func() (undo func() error, err error) {
		undo = func() error { return nil }
		if before != nil {
			if undo, err = before(); err != nil {
				return undo, err
			}
		}
		for _, new := range r.New {
			if err := r.In(ctx, new); err != nil {
				return undo, err
			}
			a.print.Note("%s  key %s lets people into %s", a.print.Open("tried"), new.Name, machine)
		}
		return undo, nil
	}
	if err := edit(); err != nil {
		return err
	}
	for _, old := range r.Go {
		if err := r.Out(ctx, old); err != nil {
			return err
		}
		a.print.Note("taken out: key %s lets nobody into %s any more", old.Name, machine)
	}
	return nil
}
