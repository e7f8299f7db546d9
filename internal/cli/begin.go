package cli

import (
	"errors"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"ironbark/internal/estate"
	"ironbark/internal/sentence"
	"ironbark/internal/work"
)

func (a *app) newCommand() *cobra.Command {
	return &cobra.Command{
		Use: "new NAME", Short: "Begin an estate in a new folder",
		Long: "Begin an estate: a folder NAME with a commented estate.yaml and estate.rules, valid as they are.\nNothing that exists is written over.",
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) != 1 {
				return usage("new takes one name: ironbark new saltmarsh")
			}
			if bad := sentence.ValidName(args[0]); bad != "" {
				return usage("“%s” is no name: %s", args[0], bad)
			}
			person, err := a.whoever()
			if err != nil {
				return err
			}
			dir := filepath.Join(a.estateDir, args[0])
			if err := newFolder(dir, args[0], person); err != nil {
				return err
			}
			a.print.Line("%s/estate.yaml   the nouns: one network, and you (%s) in the group ops", dir, person)
			a.print.Line("%s/estate.rules  the sentences: none yet, so nothing is reachable", dir)
			a.print.Note("next: cd %s; ironbark add key ops", dir)
			return nil
		},
	}
}

// newFolder writes the files of a new estate.
func newFolder(dir, name, person string) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	entries, err := os.ReadDir(dir)
	if err != nil {
		return err
	}
	for _, e := range entries {
		if e.Name() == estate.FileName || e.Name() == work.StateDir || strings.HasSuffix(e.Name(), ".rules") {
			return usage("%s is there already; nothing was written", filepath.Join(dir, e.Name()))
		}
	}
	nouns, rules := estate.Template(name, person)
	return errors.Join(
		work.WriteFile(filepath.Join(dir, estate.RulesName), rules, 0o644),
		work.WriteFile(filepath.Join(dir, estate.FileName), nouns, 0o644))
}
