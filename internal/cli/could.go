package cli

import (
	"context"

	"ironbark/internal/cli/view"
	"ironbark/internal/work"
)

// couldDoc is what somebody may open.
type couldDoc struct {
	Person    string          `json:"person"`
	May       []view.CouldDoc `json:"may"`
	Already   []int64         `json:"already"`   // openings of theirs that hold, or wait
	Uncovered []string        `json:"uncovered"` // machines of which they may open nothing
}

// could tells what the person may open now.
func (a *app) could(ctx context.Context, w *work.Work) error {
	st, err := w.Installed(ctx)
	if err != nil {
		return err
	}
	c := w.Could(st)
	if a.json {
		doc := couldDoc{c.Person, []view.CouldDoc{}, []int64{}, append([]string{}, c.Uncovered...)}
		for _, one := range c.May {
			doc.May = append(doc.May, view.CouldJSON(one))
		}
		for _, o := range c.Already {
			doc.Already = append(doc.Already, o.ID)
		}
		return a.print.JSON(doc)
	}
	if !st.Estate.PersonKnown(w.Person) {
		return &work.UnknownPersonError{Person: w.Person}
	}
	a.print.Could(c, a.phrasing(st))
	return nil
}
