package cli

import (
	"errors"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"ironbark/internal/estate"
	"ironbark/internal/sentence"
	"ironbark/internal/work"
)

func (a *app) newCommand() *cobra.Command {
	var place string
	c := &cobra.Command{
		Use: "new NAME", Short: "Create an estate in a new folder",
		Long: "Begin an estate: a folder NAME with a commented estate.yaml and estate.rules, valid as they are.\nNothing that exists is written over.\n" +
			"Its network has ranges that no other estate known on this computer has (ironbark estates lists those).\n" +
			"It is on the stand-in cloud, or with --site linux on this very host.",
		Example: "  ironbark new saltmarsh\n  ironbark new tides --site linux",
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) != 1 {
				return usage("new takes one name: ironbark new saltmarsh")
			}
			if bad := sentence.ValidName(args[0]); bad != nil {
				return usage("“%s” is no name: %s", args[0], bad)
			}
			if sites := []string{estate.Sim, estate.Linux}; !slices.Contains(sites, place) {
				return usage("there is no site “%s”; the sites are %s", place, strings.Join(sites, ", "))
			}
			person, err := a.whoever()
			if err != nil {
				return err
			}
			dir := filepath.Join(a.estateDir, args[0])
			if err := newFolder(dir, place, args[0], person, takenRanges(dir)); err != nil {
				return err
			}
			a.remember(dir)
			a.print.Line("%s/estate.yaml   the nouns: one network, and you (%s) in the group ops", dir, person)
			a.print.Line("%s/estate.rules  the sentences: none yet, so nothing is reachable", dir)
			a.print.Note("next: cd %s; ironbark add machine web, which asks for what it needs", sentence.Shell(dir))
			return nil
		},
	}
	c.Flags().StringVar(&place, "site", estate.Sim, "where it runs: sim or linux")
	return c
}

// newFolder writes the files of a new estate.
func newFolder(dir, place, name, person string, taken []netip.Prefix) error {
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
	nouns, rules := estate.Template(place, name, person, taken)
	return errors.Join(
		work.WriteFile(filepath.Join(dir, estate.RulesName), rules, 0o644),
		work.WriteFile(filepath.Join(dir, estate.FileName), nouns, 0o644))
}

// takenRanges are the ranges of the networks and lines of the other estates that are known on this computer, as their files say.
func takenRanges(but string) (list []netip.Prefix) {
	path, err := knownFile()
	if err != nil {
		return nil
	}
	but, _ = filepath.Abs(but)
	for _, dir := range readKnown(path) {
		folder, err := work.FolderAt(dir)
		if err != nil || dir == but {
			continue
		}
		files, err := folder.Read()
		if err != nil {
			continue
		}
		e, err := files.Estate()
		if err != nil { // its files do not say what it has
			continue
		}
		for _, n := range e.Networks {
			list = append(list, n.Space...)
		}
		for _, l := range e.Lines {
			list = append(list, l.Range...)
		}
	}
	return list
}
