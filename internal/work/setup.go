package work

import (
	"context"
	"fmt"
	"slices"

	"ironbark/internal/change"
)

// SetupChanged tells in what the files have another setup for machines than the one that was
// enacted. Files that cannot be read tell nothing.
func (w *Work) SetupChanged(ctx context.Context, names []string) (list []string, err error) {
	st, err := w.Installed(ctx)
	if err != nil {
		return nil, err
	}
	files, err := w.Folder.Read()
	if err != nil {
		return nil, nil
	}
	e, err := files.Estate()
	if err != nil {
		return nil, nil
	}
	for _, name := range names {
		t, made := change.Find(st.Report.Resources, change.Machine, name)
		m, wanted := e.Machine(name)
		if !made || !wanted {
			continue
		}
		for _, word := range m.Setup {
			i := slices.IndexFunc(t.Spec.Setup, func(s change.Setup) bool { return s.Name == word })
			switch {
			case i < 0:
				list = append(list, fmt.Sprintf("%s: %s is new in the files, and is not enacted", name, word))
			case t.Spec.Setup[i].Script != e.Scripts[word]:
				list = append(list, fmt.Sprintf("%s: the script %s is another one in the files, which is not enacted", name, word))
			}
		}
		for _, s := range t.Spec.Setup {
			if !slices.Contains(m.Setup, s.Name) {
				list = append(list, fmt.Sprintf("%s: %s is no longer in the files", name, s.Name))
			}
		}
	}
	return list, nil
}
