package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/spf13/cobra"

	"ironbark/internal/estate"
	"ironbark/internal/plainfile"
	"ironbark/internal/sentence"
	"ironbark/internal/work"
)

func (a *app) addCommand() *cobra.Command {
	add := &cobra.Command{
		Use: "add KIND NAME", Short: "Add a machine, a key, a network …",
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 0 {
				return usage("add needs a kind and a name; the kinds are %s", strings.Join(kinds(c), ", "))
			}
			return unknownKind(c, args[0])
		},
	}
	add.AddCommand(a.addKeyCommand(), a.addPeerCommand())
	for _, n := range nouns {
		if n.kind == "bastion" {
			add.AddCommand(a.addBastionCommand(n))
			continue
		}
		if n.kind == "image" {
			add.AddCommand(a.addImageCommand(n))
			continue
		}
		add.AddCommand(a.addNounCommand(n))
	}
	add.AddCommand(a.settings("add")...)
	return add
}

func (a *app) addNounCommand(n noun) *cobra.Command {
	in, opt := &nounInput{now: a.now}, &editing{}
	c := &cobra.Command{
		Use: n.kind + " NAME", Short: "Add " + n.short, Example: "  ironbark add " + n.kind + " " + n.example,
		RunE: a.with(func(ctx context.Context, w *work.Work, args []string) error {
			if len(args) != 1 {
				return usage("add %s takes one name", n.kind)
			}
			if n.kind == "subnet" && in.network == "" {
				return usage("a subnet is part of a network: --network NAME")
			}
			if (n.kind == "front" || n.kind == "bastion") && in.address == nil {
				in.address = []string{"auto"}
			}
			old, err := w.Folder.Read()
			if err != nil {
				return err
			}
			begun := old
			if n.kind == "machine" {
				e, err := old.Estate()
				if err != nil {
					return err
				}
				if begun, err = a.lacking(w, old, e, args[0], in, opt); err != nil {
					return err
				}
			}
			files, names, err := a.added(w, begun, n, in, args[0], opt)
			if err != nil {
				return err
			}
			if err := a.edit(ctx, w, old, files, "added "+n.kind+" "+sentence.Few(names), opt); err != nil || opt.draft || a.json {
				return err
			}
			a.nextAfterAdding(ctx, w, n.kind, names, in)
			return nil
		}),
	}
	n.flags(c, in, true)
	in.given = c.Flags().Changed
	a.completeNounFlags(c)
	return opt.flags(c)
}

// added puts a noun into the files, or several that are numbered.
func (a *app) added(w *work.Work, old work.Files, n noun, in *nounInput, name string, opt *editing) (files work.Files, names []string, err error) {
	if files, err = takeScripts(old, in); err != nil {
		return nil, nil, err
	}
	if in.file != "" {
		in.file = fromFolder(w, in.file)
	}
	fields, err := n.fields(in)
	if err != nil {
		return nil, nil, err
	}
	names = []string{name}
	if in.count != 1 && n.kind == "machine" {
		if names, err = numbered(old, name, in.count); err != nil {
			return nil, nil, err
		}
	}
	for _, name := range names {
		if files, err = files.AddNoun(n.path(in), name, fields.value()); err != nil {
			return nil, nil, err
		}
	}
	return files, names, a.passwords(w, in.password, names, opt)
}

// fromFolder turns a path from where the person is into one from the estate's
// folder, or an absolute one for what is not in it.
func fromFolder(w *work.Work, file string) string {
	dir, err1 := filepath.Abs(w.Folder.Dir)
	path, err2 := filepath.Abs(file)
	rel, err3 := filepath.Rel(dir, path)
	switch {
	case err1 != nil || err2 != nil:
		return file
	case err3 != nil || !filepath.IsLocal(rel):
		return path
	}
	return rel
}

// mostAtOnce is how many machines one command adds.
const mostAtOnce = 1000

// numbered names machines NAME-1, NAME-2 … after those that are there.
func numbered(old work.Files, name string, count int) (names []string, err error) {
	if count < 1 || count > mostAtOnce {
		return nil, usage("--count is a number from 1 to %d, not %d", mostAtOnce, count)
	}
	e, err := old.Estate()
	if err != nil {
		return nil, err
	}
	last := 0
	for _, m := range e.NamesOf("machine") {
		if rest, ok := strings.CutPrefix(m, name+"-"); ok {
			if n, err := strconv.Atoi(rest); err == nil {
				last = max(last, n)
			}
		}
	}
	for i := range count {
		names = append(names, fmt.Sprintf("%s-%d", name, last+i+1))
	}
	return names, nil
}

var scriptName = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]*$`)
})

// takeScripts takes the files that a setup names by a path into the folder of
// first-boot scripts. One of that name that says something else stays as it is.
func takeScripts(files work.Files, in *nounInput) (work.Files, error) {
	for i, word := range in.setup {
		if !strings.ContainsRune(word, os.PathSeparator) {
			continue
		}
		base := filepath.Base(word)
		if !scriptName().MatchString(base) || !estate.Script(base) {
			return nil, usage("--setup %s: a script's name has an ending, such as gauge.sh, and only letters, digits, points, hyphens and underscores", word)
		}
		data, err := plainfile.Read(word, plainfile.Small)
		if err != nil {
			return nil, wrong("--setup: %v", err)
		}
		name := estate.SetupDir + "/" + base
		if there := files.Get(name); there != nil && string(there) != string(data) {
			return nil, wrong("--setup %s: %s is there already and says something else", word, name)
		}
		files = files.With(name, data)
		in.setup[i] = base
	}
	return files, nil
}

func (a *app) changeCommand() *cobra.Command {
	change := &cobra.Command{
		Use: "change KIND NAME", Short: "Change a machine, a volume, an address …",
		Long: "Alter a noun: the options are those of add, and the ones that are not given stay as they are. The word none takes one out.",
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 0 {
				return usage("change needs a kind and a name; the kinds are %s", strings.Join(kinds(c), ", "))
			}
			return unknownKind(c, args[0])
		},
	}
	for _, n := range nouns {
		if n.change != "" {
			change.AddCommand(a.changeNounCommand(n))
		}
	}
	change.AddCommand(a.changeKeyCommand())
	change.AddCommand(a.settings("change")...)
	return change
}

func (a *app) changeNounCommand(n noun) *cobra.Command {
	in, opt := &nounInput{now: a.now}, &editing{}
	c := &cobra.Command{
		Use: n.kind + " NAME" + map[bool]string{true: "…"}[n.kind == "machine"], Short: "Change " + n.short, Example: "  ironbark change " + n.kind + " " + n.change, ValidArgsFunction: a.completeNouns(n.kind),
		RunE: a.with(func(ctx context.Context, w *work.Work, args []string) error {
			old, e, err := readBoth(w)
			if err != nil {
				return err
			}
			names := args
			switch {
			case n.kind == "machine":
				if names, err = machineSet(e, nil, args); err != nil {
					return err
				}
			case len(args) != 1:
				return usage("change %s takes one name", n.kind)
			case !slices.Contains(e.NamesOf(n.kind), args[0]):
				return unknownName(n.kind, args[0], e.NamesOf(n.kind))
			}
			files, err := a.changed(w, old, e, n, in, names)
			if err != nil {
				return err
			}
			if err := a.passwords(w, in.password, names, opt); err != nil {
				return err
			}
			told := "changed " + n.kind + " " + strings.Join(names, ", ")
			if n.kind == "machine" && len(in.keys) > 0 && !opt.draft {
				if len(names) > 1 {
					return usage("a key is put into one machine at a time: change machine %s --key …", names[0])
				}
				return a.changeKeys(ctx, w, e, in, names[0], opt, func() error { return a.edit(ctx, w, old, files, told, opt) })
			}
			return a.edit(ctx, w, old, files, told, opt)
		}),
	}
	n.flags(c, in, false)
	in.given = c.Flags().Changed
	a.completeNounFlags(c)
	return opt.flags(c)
}

func (a *app) changed(w *work.Work, old work.Files, e *estate.Estate, n noun, in *nounInput, names []string) (work.Files, error) {
	name := names[0]
	if n.kind == "address" {
		return moveAddress(old, e, name, in.to)
	}
	files, err := takeScripts(old, in)
	if err != nil {
		return nil, err
	}
	if n.kind == "subnet" {
		s, _ := e.Subnet(name)
		if in.network != "" && in.network != s.Network {
			return nil, usage("a subnet cannot move to another network")
		}
		in.network = s.Network
	}
	fields, err := n.fields(in)
	if err != nil {
		return nil, err
	}
	if len(fields) == 0 || len(fields) == 1 && fields[0].Key == "" && in.ranges == nil && in.ports == nil {
		return nil, usage("nothing is to be changed: ironbark change %s --help tells the options", n.kind)
	}
	if fields[0].Key == "" {
		return files.Alter(n.path(in), []estate.Field{{Key: name, Value: fields[0].Value}})
	}
	set, drop := fields.split()
	if len(names) > 1 {
		return files.AlterEach(n.path(in)[0], names, set, drop...)
	}
	return files.Alter(append(n.path(in), name), set, drop...)
}

// moveAddress takes a reserved address from whoever has it, and leads it to
// another machine or front.
func moveAddress(files work.Files, e *estate.Estate, name, to string) (work.Files, error) {
	if to == "" {
		return nil, usage("say where it leads from now on: --to MACHINE, or --to none")
	}
	set := func(section, holder string, value estate.Value) (err error) {
		path := []string{section, holder}
		if value.Is(none) {
			files, err = files.Alter(path, nil, "address")
		} else {
			files, err = files.Alter(path, []estate.Field{{Key: "address", Value: value}})
		}
		return err
	}
	for _, m := range e.Machines {
		if slices.Contains(m.Address.Reserved, name) {
			if m.Name == to {
				return nil, wrong("address %s leads to %s already", name, to)
			}
			if err := set("machines", m.Name, estate.Word(none)); err != nil {
				return nil, err
			}
		}
	}
	for _, f := range e.Fronts {
		if slices.Contains(f.Address.Reserved, name) {
			if err := set("fronts", f.Name, estate.Word("auto")); err != nil {
				return nil, err
			}
		}
	}
	if to == none {
		return files, nil
	}
	n, ok := e.Lookup(to)
	switch {
	case ok && n.Kind == estate.KindMachine:
		return files, set("machines", to, estate.Word(name))
	case ok && n.Kind == estate.KindFront:
		return files, set("fronts", to, estate.Word(name))
	}
	return nil, unknownName("machine or front", to, append(e.NamesOf("machine"), e.NamesOf("front")...))
}

func kinds(c *cobra.Command) (list []string) {
	for _, sub := range c.Commands() {
		list = append(list, sub.Name())
	}
	slices.Sort(list)
	return list
}

func unknownKind(c *cobra.Command, word string) error {
	if near, ok := sentence.Nearest(word, kinds(c)); ok {
		return usage("there is no kind “%s”; did you mean “%s”?", word, near)
	}
	return usage("there is no kind “%s”; the kinds are %s", word, strings.Join(kinds(c), ", "))
}

func unknownName(kind, name string, known []string) error {
	if near, ok := sentence.Nearest(name, known); ok {
		return wrong("there is no %s “%s”; did you mean “%s”?", kind, name, near)
	}
	return wrong("there is no %s “%s”", kind, name)
}
