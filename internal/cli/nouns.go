package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"ironbark/internal/estate"
	"ironbark/internal/sentence"
	"ironbark/internal/site/sim"
	"ironbark/internal/sshkey"
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
		if e.Name() == estate.FileName || e.Name() == sim.Dir || strings.HasSuffix(e.Name(), ".rules") {
			return usage("%s is there already; nothing was written", filepath.Join(dir, e.Name()))
		}
	}
	nouns, rules := estate.Template(name, person)
	return errors.Join(
		work.WriteFile(filepath.Join(dir, estate.RulesName), rules, 0o644),
		work.WriteFile(filepath.Join(dir, estate.FileName), nouns, 0o644))
}

// adder is one kind of noun that add can put in: its options, and the entry
// that they make.
type adder struct {
	kind    string
	short   string
	example string
	flags   func(c *cobra.Command, in *nounInput)
	path    func(in *nounInput) []string
	value   func(in *nounInput) (estate.Value, error)
}

// nounInput holds the options of all kinds.
type nounInput struct {
	image, size, key, network, subnet, use string
	at, space, ranges, joins, groups, keys []string
	ports, tags, address, sources          []string
	outside                                bool
	sessions                               int
}

func top(section string) func(*nounInput) []string {
	return func(*nounInput) []string { return []string{section} }
}

// entry builds a mapping of the fields that were given.
type entry []estate.Field

func (e *entry) word(key, value string) {
	if value != "" {
		*e = append(*e, estate.Field{Key: key, Value: estate.Word(value)})
	}
}

func (e *entry) list(key string, values []string, always bool) {
	switch {
	case len(values) == 1 && !always:
		e.word(key, values[0])
	case len(values) > 0:
		*e = append(*e, estate.Field{Key: key, Value: estate.List(values...)})
	}
}

func (e *entry) bare(key, value string, yes bool) {
	if yes {
		*e = append(*e, estate.Field{Key: key, Value: estate.Bare(value)})
	}
}

var adders = []adder{
	{
		kind: "machine", short: "Put a machine in", example: "gauge-web-1 --image linux-base --size c1m2 --at landing --key ops --address auto", path: top("machines"),
		flags: func(c *cobra.Command, in *nounInput) {
			c.Flags().StringVar(&in.image, "image", "", "the system it starts from")
			c.Flags().StringVar(&in.size, "size", "", "how much of a host it gets")
			c.Flags().StringSliceVar(&in.at, "at", nil, "the subnets it stands in")
			c.Flags().StringVar(&in.key, "key", "", "the key that lets administrators in")
			c.Flags().StringSliceVar(&in.address, "address", nil, "its public address: auto, or a given one")
			c.Flags().StringSliceVar(&in.tags, "tag", nil, "labels, KEY=VALUE")
		},
		value: func(in *nounInput) (estate.Value, error) {
			var e entry
			e.word("image", in.image)
			e.word("size", in.size)
			e.list("at", in.at, false)
			e.word("key", in.key)
			e.list("address", in.address, false)
			var tags []estate.Field
			for _, t := range in.tags {
				key, value, _ := strings.Cut(t, "=")
				if bad := sentence.ValidTag(key, value); bad != "" {
					return estate.Value{}, usage("--tag %s: %s", t, bad)
				}
				tags = append(tags, estate.Field{Key: key, Value: estate.Word(value)})
			}
			if len(tags) > 0 {
				e = append(e, estate.Field{Key: "tags", Value: estate.Mapping(tags...)})
			}
			return estate.Mapping(e...), nil
		},
	},
	{
		kind: "network", short: "Put a network in", example: "estuary --space 10.60.0.0/16 --outside", path: top("networks"),
		flags: func(c *cobra.Command, in *nounInput) {
			c.Flags().StringSliceVar(&in.space, "space", nil, "its address space: prefixes of one or both families")
			c.Flags().BoolVar(&in.outside, "outside", false, "machines may call out, and doors from outside can exist")
			c.Flags().StringSliceVar(&in.joins, "joins", nil, "networks that it reaches and that reach it")
		},
		value: func(in *nounInput) (estate.Value, error) {
			var e entry
			e.list("space", in.space, true)
			e.bare("outside", "true", in.outside)
			e.list("joins", in.joins, true)
			return estate.Mapping(e...), nil
		},
	},
	{
		kind: "subnet", short: "Put a subnet into a network", example: "landing --network estuary --range 10.60.1.0/24",
		path: func(in *nounInput) []string { return []string{"networks", in.network, "subnets"} },
		flags: func(c *cobra.Command, in *nounInput) {
			c.Flags().StringVar(&in.network, "network", "", "the network it is part of")
			c.Flags().StringSliceVar(&in.ranges, "range", nil, "its prefixes, one of a family at most")
			c.Flags().StringVar(&in.use, "for", "", "bastion: it holds bastions and nothing else")
		},
		value: func(in *nounInput) (estate.Value, error) {
			if in.network == "" {
				return estate.Value{}, usage("a subnet is part of a network: --network NAME")
			}
			var e entry
			e.list("range", in.ranges, true)
			e.word("for", in.use)
			return estate.Mapping(e...), nil
		},
	},
	{
		kind: "line", short: "Put in a private line to another place", example: "headland --network estuary --range 172.20.0.0/16", path: top("lines"),
		flags: func(c *cobra.Command, in *nounInput) {
			c.Flags().StringVar(&in.network, "network", "", "the network that it leads to")
			c.Flags().StringSliceVar(&in.ranges, "range", nil, "the prefixes at its other end")
		},
		value: func(in *nounInput) (estate.Value, error) {
			var e entry
			e.word("network", in.network)
			e.list("range", in.ranges, true)
			return estate.Mapping(e...), nil
		},
	},
	{
		kind: "front", short: "Put in a front: a public address whose ports lead to machines", example: "pier --network estuary", path: top("fronts"),
		flags: func(c *cobra.Command, in *nounInput) {
			c.Flags().StringVar(&in.network, "network", "", "the network that it leads into")
			c.Flags().StringSliceVar(&in.address, "address", []string{"auto"}, "its public addresses: auto, or given ones")
		},
		value: func(in *nounInput) (estate.Value, error) {
			var e entry
			e.word("network", in.network)
			e.list("address", in.address, false)
			return estate.Mapping(e...), nil
		},
	},
	{
		kind: "bastion", short: "Put in a bastion, through which people reach machines", example: "beacon --subnet lookout --from everywhere", path: top("bastions"),
		flags: func(c *cobra.Command, in *nounInput) {
			c.Flags().StringVar(&in.subnet, "subnet", "", "the subnet for bastions that it stands in")
			c.Flags().StringSliceVar(&in.address, "address", []string{"auto"}, "its public addresses: auto, or given ones")
			c.Flags().StringSliceVar(&in.sources, "from", nil, "the sources that may reach it")
			c.Flags().IntVar(&in.sessions, "sessions", 0, "how many sessions it carries at once")
		},
		value: func(in *nounInput) (estate.Value, error) {
			var e entry
			e.word("subnet", in.subnet)
			e.list("address", in.address, false)
			e.list("from", in.sources, true)
			e.bare("sessions", fmt.Sprint(in.sessions), in.sessions != 0)
			return estate.Mapping(e...), nil
		},
	},
	{
		kind: "person", short: "Put a person in", example: "ilse --group ops --group leads", path: top("people"),
		flags: func(c *cobra.Command, in *nounInput) {
			c.Flags().StringSliceVar(&in.groups, "group", nil, "the groups that they are in")
			c.Flags().StringSliceVar(&in.keys, "public-key", nil, "their public keys, as OpenSSH writes them")
		},
		value: func(in *nounInput) (estate.Value, error) {
			var e entry
			e.list("groups", in.groups, true)
			e.list("keys", in.keys, true)
			return estate.Mapping(e...), nil
		},
	},
	{
		kind: "source", short: "Put in a name for addresses outside", example: "office --range 203.0.113.64/27", path: top("sources"),
		flags: func(c *cobra.Command, in *nounInput) {
			c.Flags().StringSliceVar(&in.ranges, "range", nil, "its addresses, prefixes and ranges")
		},
		value: func(in *nounInput) (estate.Value, error) { return estate.List(in.ranges...), nil },
	},
	{
		kind: "service", short: "Put in a name for ports", example: "tidefeed --port tcp/7400-7401", path: top("services"),
		flags: func(c *cobra.Command, in *nounInput) {
			c.Flags().StringSliceVar(&in.ports, "port", nil, "its ports: tcp/443, udp/5000-5010")
		},
		value: func(in *nounInput) (estate.Value, error) { return estate.List(in.ports...), nil },
	},
}

func (a *app) addCommand() *cobra.Command {
	add := &cobra.Command{
		Use: "add KIND NAME", Short: "Put a machine, a key, a network … in",
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 0 {
				return usage("add needs a kind and a name; the kinds are %s", strings.Join(kinds(c), ", "))
			}
			return unknownKind(c, args[0])
		},
	}
	add.AddCommand(a.addKeyCommand())
	for _, kind := range adders {
		in, opt := &nounInput{}, &editing{}
		c := &cobra.Command{
			Use: kind.kind + " NAME", Short: kind.short, Example: "  ironbark add " + kind.kind + " " + kind.example,
			RunE: a.with(func(ctx context.Context, w *work.Work, args []string) error {
				if len(args) != 1 {
					return usage("add %s takes one name", kind.kind)
				}
				v, err := kind.value(in)
				if err != nil {
					return err
				}
				old, err := w.Folder.Read()
				if err != nil {
					return err
				}
				files, err := old.AddNoun(kind.path(in), args[0], v)
				if err != nil {
					return err
				}
				return a.edit(ctx, w, old, files, fmt.Sprintf("added %s %s", kind.kind, args[0]), opt)
			}),
		}
		kind.flags(c, in)
		a.completeNounFlags(c)
		add.AddCommand(opt.flags(c))
	}
	return add
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

func (a *app) addKeyCommand() *cobra.Command {
	var public string
	opt := &editing{}
	c := &cobra.Command{
		Use: "key NAME", Short: "Make a key pair, or take in a public key",
		Long: "Make an Ed25519 key pair. The private half stays in .ironbark/keys/NAME, which only you can read; it is\n" +
			"never sent to a site and never written over. With --public FILE a public key that exists is taken in.",
		Example: "  ironbark add key ops",
		RunE: a.with(func(ctx context.Context, w *work.Work, args []string) error {
			if len(args) != 1 {
				return usage("add key takes one name")
			}
			name := args[0]
			old, err := w.Folder.Read()
			if err != nil {
				return err
			}
			line := ""
			if public != "" {
				data, err := os.ReadFile(public)
				if err != nil {
					return usage("--public: %v", err)
				}
				if line, err = sshkey.ParsePublic(data); err != nil {
					return usage("--public %s: %v", public, err)
				}
			} else {
				path := filepath.Join(w.Folder.Dir, sim.Dir, "keys", name)
				if _, err := os.Lstat(path); !errors.Is(err, fs.ErrNotExist) {
					return usage("%s is there already and is not written over", path)
				}
				pair, err := sshkey.New(name)
				if err != nil {
					return err
				}
				line = pair.Public
				opt.before = func() error { return pair.Save(path) }
			}
			files, err := old.AddNoun([]string{"keys"}, name, estate.Word(line))
			if err != nil {
				return err
			}
			return a.edit(ctx, w, old, files, "added key "+name, opt)
		}),
	}
	c.Flags().StringVar(&public, "public", "", "a file with the public key to take in")
	return opt.flags(c)
}

func (a *app) removeCommand() *cobra.Command {
	remove := &cobra.Command{
		Use: "remove KIND NAME", Short: "Take a machine, a key, a network … out",
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 0 {
				return usage("remove needs a kind and a name; the kinds are %s", strings.Join(kinds(c), ", "))
			}
			return unknownKind(c, args[0])
		},
	}
	sections := map[string]string{"key": "keys"}
	for _, kind := range adders {
		if kind.kind != "subnet" {
			sections[kind.kind] = kind.path(nil)[0]
		}
	}
	sections["subnet"] = ""
	for _, kind := range slices.Sorted(maps.Keys(sections)) {
		opt := &editing{}
		c := &cobra.Command{
			Use: kind + " NAME", Short: "Take a " + kind + " out", ValidArgsFunction: a.completeNouns(kind),
			RunE: a.with(func(ctx context.Context, w *work.Work, args []string) error {
				if len(args) != 1 {
					return usage("remove %s takes one name", kind)
				}
				old, err := w.Folder.Read()
				if err != nil {
					return err
				}
				path := []string{sections[kind]}
				if kind == "subnet" {
					e, err := old.Estate()
					if err != nil {
						return err
					}
					s, ok := e.Subnet(args[0])
					if !ok {
						return usage("there is no subnet “%s”", args[0])
					}
					path = []string{"networks", s.Network, "subnets"}
				}
				files, err := old.RemoveNoun(path, args[0])
				if err != nil {
					return err
				}
				return a.edit(ctx, w, old, files, "removed "+kind+" "+args[0], opt)
			}),
		}
		remove.AddCommand(opt.flags(c))
	}
	return remove
}
