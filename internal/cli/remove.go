package cli

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"ironbark/internal/change"
	"ironbark/internal/cli/view"
	"ironbark/internal/estate"
	"ironbark/internal/sentence"
	"ironbark/internal/work"
)

func (a *app) removeCommand() *cobra.Command {
	var everything, volumes bool
	var name string
	opt := &editing{}
	remove := &cobra.Command{
		Use: "remove KIND NAME | remove TAG=VALUE | remove --everything", Short: "Remove a machine, a key, a network …",
		Long: "Take a noun out; every machine with a tag; or everything that is on the site. The review shows what goes along,\n" +
			"what stays and keeps costing, and what closes. Volumes stay with their data unless --with-volumes says otherwise.\n" +
			"--everything asks for the estate's name; --name answers it.",
		Example: "  ironbark remove machine gauge-web-2\n  ironbark remove role=web\n  ironbark remove --everything",
		RunE: func(c *cobra.Command, args []string) error {
			switch {
			case everything && len(args) == 0:
				return a.with(func(ctx context.Context, w *work.Work, _ []string) error {
					return a.removeEverything(ctx, w, name, opt)
				})(c, args)
			case everything:
				return usage("remove takes either --everything or what is to be removed")
			case len(args) == 0:
				return usage("remove needs a kind and a name; the kinds are %s", strings.Join(kinds(c), ", "))
			case len(args) == 1 && strings.Contains(args[0], "="):
				return a.with(func(ctx context.Context, w *work.Work, args []string) error {
					return a.removeTag(ctx, w, args[0], volumes, opt)
				})(c, args)
			}
			return unknownKind(c, args[0])
		},
	}
	opt.flags(remove)
	a.drainFlag(remove)
	remove.Flags().BoolVar(&everything, "everything", false, "all that is on the site, and all sentences")
	remove.Flags().StringVar(&name, "name", "", "the estate's name, as the answer to --everything")
	remove.Flags().BoolVar(&volumes, "with-volumes", false, "volumes attached to the machines go too, with their data")
	sections := map[string]string{"key": "keys", "subnet": "", "peer": ""}
	for _, n := range nouns {
		if n.kind != "subnet" {
			sections[n.kind] = n.path(nil)[0]
		}
	}
	for _, kind := range slices.Sorted(maps.Keys(sections)) {
		remove.AddCommand(a.removeNounCommand(kind, sections[kind]))
	}
	remove.AddCommand(a.settings("remove")...)
	return remove
}

func (a *app) removeNounCommand(kind, section string) *cobra.Command {
	opt := &editing{}
	var volumes bool
	c := &cobra.Command{
		Use: kind + " NAME…", Short: "Remove " + article(kind), ValidArgsFunction: a.completeNouns(kind),
		RunE: a.with(func(ctx context.Context, w *work.Work, args []string) error {
			if len(args) == 0 {
				return usage("remove %s takes a name", kind)
			}
			old, e, err := readBoth(w)
			if err != nil {
				return err
			}
			if err := a.strays(ctx, w, e, kind, args); err != nil {
				return err
			}
			told := fmt.Sprintf("removed %s %s", kind, strings.Join(args, ", "))
			if w.Discard != nil {
				return a.edit(ctx, w, old, old, told, opt)
			}
			rm := work.Removal{WithVolumes: volumes}
			switch kind {
			case "machine":
				rm.Machines = args
			case "front":
				rm.Fronts = args
			case "bastion":
				rm.Bastions = args
			case "peer":
				rm.Peers = args
			default:
				files, err := removeEntries(old, e, kind, section, args)
				if err != nil {
					return err
				}
				return a.edit(ctx, w, old, files, told, opt)
			}
			return a.removeMachines(ctx, w, old, rm, told, opt)
		}),
	}
	if kind == "machine" {
		a.drainFlag(c)
		c.Flags().BoolVar(&volumes, "with-volumes", false, "volumes attached to it go too, with their data")
	}
	return opt.flags(c)
}

// strays finds which of the names are on the site alone, and has them discarded.
// A name that is nowhere is an error.
func (a *app) strays(ctx context.Context, w *work.Work, e *estate.Estate, kind string, names []string) error {
	known := e.NamesOf(kind)
	for _, name := range names {
		if slices.Contains(known, name) {
			if w.Discard != nil {
				return wrong("%s %s stands in the files and others do not: remove them by themselves", kind, name)
			}
			continue
		}
		st, err := w.Installed(ctx)
		if err != nil {
			return err
		}
		t, there := change.Find(st.Report.Resources, change.Kind(kind), name)
		switch {
		case !there:
			return unknownName(kind, name, known)
		case !t.Unmanaged:
			return wrong("%s %s is still on the site, and no longer in the files: ironbark enact removes it", kind, name)
		}
		if w.Discard == nil {
			w.Discard = map[string]bool{}
		}
		w.Discard[t.ID()] = true
	}
	if w.Discard != nil && len(w.Discard) < len(names) {
		return wrong("some of these stand in the files and others do not: remove them by themselves")
	}
	return nil
}

func removeEntries(files work.Files, e *estate.Estate, kind, section string, names []string) (work.Files, error) {
	for _, name := range names {
		if users := work.InUse(e, kind, name); len(users) > 0 {
			return nil, wrong("%s %s is in use: %s; give it something else or take it out first", kind, name, strings.Join(users, ", "))
		}
		path := []string{section}
		if kind == "subnet" {
			s, _ := e.Subnet(name)
			path = []string{"networks", s.Network, "subnets"}
		}
		var err error
		if files, err = files.RemoveNoun(path, name); err != nil {
			return nil, err
		}
	}
	return files, nil
}

// removeMachines takes machines and doors out, and tells what goes along and what stays.
func (a *app) removeMachines(ctx context.Context, w *work.Work, old work.Files, rm work.Removal, told string, opt *editing) error {
	out, err := w.Remove(old, rm, w.Site.Catalogue())
	if err != nil {
		return err
	}
	for _, line := range out.Along {
		a.print.NoteWrap("goes along  ", line)
	}
	for _, line := range out.Stays {
		a.print.NoteWrap("stays       ", line)
	}
	if len(out.Along)+len(out.Stays) > 0 {
		a.print.Note("")
	}
	return a.edit(ctx, w, old, out.Files, told, opt)
}

func (a *app) removeTag(ctx context.Context, w *work.Work, word string, volumes bool, opt *editing) error {
	key, value, _ := strings.Cut(word, "=")
	if bad := sentence.ValidTag(key, value); bad != nil {
		return usage("“%s” is no tag: %s", word, bad)
	}
	old, e, err := readBoth(w)
	if err != nil {
		return err
	}
	rm := work.Removal{WithVolumes: volumes}
	for _, m := range e.Machines {
		if slices.Contains(m.Tags, estate.Tag{Key: key, Value: value}) {
			rm.Machines = append(rm.Machines, m.Name)
		}
	}
	if len(rm.Machines) == 0 {
		return wrong("no machine has the tag %s", word)
	}
	return a.removeMachines(ctx, w, old, rm, fmt.Sprintf("removed %s: %s", word, strings.Join(rm.Machines, ", ")), opt)
}

// removeEverything takes all of an estate away; the question is its name.
func (a *app) removeEverything(ctx context.Context, w *work.Work, name string, opt *editing) error {
	old, e, err := readBoth(w)
	if err != nil {
		return err
	}
	if opt.yes {
		return usage("--yes is no answer to --everything; its name is: --name %s", e.Name)
	}
	if name != "" && name != e.Name {
		return wrong("this estate is %s, and not %s; nothing was removed", e.Name, name)
	}
	files, err := old.RemoveAll()
	if err != nil {
		return err
	}
	opt.question = fmt.Sprintf("This takes everything of %s away, with all data. Type its name to do it:", e.Name)
	opt.answer, opt.yes, opt.withPending = e.Name, name != "", true // what an earlier draft removed goes, too
	r, err := w.Review(ctx, files)
	if err == nil && len(r.Blocked) > 0 {
		for _, why := range r.Blocked {
			a.print.NoteWrap("in the way  ", view.Advice(why))
		}
		a.print.Note("not done: not everything can go; nothing was changed")
		return errNo
	}
	if err := a.edit(ctx, w, old, files, "removed everything", opt); err != nil || opt.draft {
		return err
	}
	return a.nothingLeft(ctx, w)
}

// nothingLeft returns an error where something of the estate is still on the site.
func (a *app) nothingLeft(ctx context.Context, w *work.Work) error {
	st, err := w.Installed(ctx)
	if err != nil {
		return err
	}
	var left []string
	for _, t := range st.Report.Resources {
		if !t.Unmanaged {
			left = append(left, t.ID())
		}
	}
	if len(left) > 0 {
		return wrong("still on the site: %s", strings.Join(left, ", "))
	}
	return nil
}

// article is a word with “a” or “an” before it.
func article(word string) string {
	if strings.ContainsRune("aeiou", rune(word[0])) {
		return "an " + word
	}
	return "a " + word
}
