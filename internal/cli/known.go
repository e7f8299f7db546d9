package cli

import (
	"context"
	"slices"

	"ironbark/internal/ledger"
	"ironbark/internal/work"
)

// knownNames refuses the name of a machine or a person, by which something was chosen and nothing found, that neither the estate nor the record has:
// a slip of the keyboard does not look like a quiet week. Names of the past are known. Empty names are not looked at.
func knownNames(ctx context.Context, w *work.Work, machine, person string) error {
	e, err := w.Site.Enacted(ctx)
	if err != nil {
		return err
	}
	for _, one := range []struct {
		kind, name string
		past       ledger.Filter
	}{{"machine", machine, ledger.Filter{Machine: machine, Last: 1}}, {"person", person, ledger.Filter{Person: person, Last: 1}}} {
		if one.name == "" || slices.Contains(e.NamesOf(one.kind), one.name) {
			continue
		}
		list, err := w.Site.Find(ctx, one.past)
		if err != nil {
			return err
		}
		if len(list) == 0 {
			return unknownName(one.kind, one.name, e.NamesOf(one.kind))
		}
	}
	return nil
}
