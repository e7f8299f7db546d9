package work

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"ironbark/internal/fault"
	"ironbark/internal/opening"
	"ironbark/internal/sentence"
)

// Owed lists by person the openings of which an account is owed; with look false, nothing
// is looked at. Cost: linear in all openings there ever were.
func (w *Work) Owed(ctx context.Context, look bool) (map[string][]opening.Opening, error) {
	if !look {
		return nil, nil
	}
	all, err := w.Site.Openings(ctx)
	if err != nil {
		return nil, err
	}
	owed := map[string][]opening.Opening{}
	for _, o := range all {
		if o.Owes() {
			owed[o.Person] = append(owed[o.Person], o)
		}
	}
	return owed, nil
}

// NothingOwedError says that no account is owed of an opening.
type NothingOwedError struct {
	ID     int64
	Person string // whose it is; "": there is no such opening
}

// Error tells whose it is.
func (n *NothingOwedError) Error() string {
	if n.Person == "" {
		return fmt.Sprintf("there is no opening %d of which an account is owed", n.ID)
	}
	return fmt.Sprintf("the account of opening %d is %s's to give", n.ID, n.Person)
}

// Kind is that of bad input, or of a person who may not.
func (n *NothingOwedError) Kind() fault.Kind {
	if n.Person == "" {
		return fault.NotFound
	}
	return fault.Denied
}

// Account gives the account of an emergency. The error is a *NothingOwedError where the
// person owes none of it.
func (w *Work) Account(ctx context.Context, id int64, text string) (opening.Opening, error) {
	all, err := w.Owed(ctx, true)
	if err != nil {
		return opening.Opening{}, err
	}
	for person, list := range all {
		i := slices.IndexFunc(list, func(o opening.Opening) bool { return o.ID == id })
		if i < 0 {
			continue
		}
		if person != w.Person {
			return opening.Opening{}, &NothingOwedError{ID: id, Person: person}
		}
		o := list[i]
		o.Account.Text, o.Account.Given = text, w.Clock.Now().UTC()
		return o, w.Site.Account(ctx, o)
	}
	return opening.Opening{}, &NothingOwedError{ID: id}
}

// WithOwed adds those of which an account is owed to openings that hold. Without a permit for
// emergencies nobody is looked for.
func (w *Work) WithOwed(ctx context.Context, st *State, list []opening.Opening) ([]opening.Opening, error) {
	owed, err := w.Owed(ctx, slices.ContainsFunc(st.Estate.SentencesOf(sentence.VerbPermit), func(s sentence.Statement) bool {
		return s.Sentence.(sentence.Permit).Emergency
	}))
	for _, more := range owed {
		for _, o := range more {
			if !slices.ContainsFunc(list, func(h opening.Opening) bool { return h.ID == o.ID }) {
				list = append(list, o)
			}
		}
	}
	slices.SortFunc(list, func(a, b opening.Opening) int { return cmp.Compare(a.ID, b.ID) })
	return list, err
}
