package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"ironbark/internal/estate"
	"ironbark/internal/findings"
	"ironbark/internal/sentence"
	"ironbark/internal/work"
)

// bastionSetup are the options by which all that a bastion needs is set up with it.
type bastionSetup struct {
	network  string
	people   []string
	services string
	giveBack bool
}

// addBastionCommand puts a bastion in, and in a network that has none all that it needs.
func (a *app) addBastionCommand(n noun) *cobra.Command {
	in, opt, setup := &nounInput{}, &editing{}, &bastionSetup{}
	c := &cobra.Command{
		Use: "bastion NAME", Short: "Add a bastion, through which people reach machines",
		Long: "Add a bastion, through which people reach machines. Any subnet can have one. With --for, the route is written too, by\n" +
			"which people get through. Ironbark then lists the public addresses that machines no longer need; --give-back gives\n" +
			"them back. In a terminal it asks for what is missing.",
		Example: "  ironbark add bastion beacon --from office --for ops\n  ironbark add bastion beacon --subnet lookout --from everywhere",
		RunE: a.with(func(ctx context.Context, w *work.Work, args []string) error {
			if len(args) != 1 {
				return usage("add bastion takes one name")
			}
			if in.address == nil {
				in.address = []string{"auto"}
			}
			old, err := w.Folder.Read()
			if err != nil {
				return err
			}
			files, err := a.withBastion(ctx, w, old, n, in, setup, args[0])
			if err != nil {
				return err
			}
			if err := a.edit(ctx, w, old, files, "added bastion "+args[0], opt); err != nil {
				return err
			}
			if len(setup.people) == 0 {
				a.print.NoteWrap("", fmt.Sprintf("nobody gets through it yet: ironbark route ssh to %s via %s for PEOPLE", setup.network, args[0]))
			}
			if !opt.draft {
				a.print.Note("next: start its gateway, and leave it running: ironbark gateway %s", args[0])
			}
			return nil
		}),
	}
	n.flags(c, in, true)
	c.Flags().StringVar(&setup.network, "network", "", "the network that it leads into (default: the only one with a gateway)")
	c.Flags().StringSliceVar(&setup.people, "for", nil, "the people and groups who get through; a route is written")
	c.Flags().StringVar(&setup.services, "service", "ssh", "the services that the route speaks of")
	c.Flags().BoolVar(&setup.giveBack, "give-back", false, "give public addresses back that machines need no more")
	in.given = c.Flags().Changed
	a.completeNounFlags(c)
	return opt.flags(c)
}

// withBastion returns the files with a bastion and what it needs.
func (a *app) withBastion(ctx context.Context, w *work.Work, files work.Files, n noun, in *nounInput, setup *bastionSetup, name string) (work.Files, error) {
	e, err := files.Estate()
	if err != nil {
		return nil, err
	}
	if setup.network, err = a.bastionNetwork(e, in.subnet, setup.network); err != nil {
		return nil, err
	}
	if in.subnet == "" {
		if in.subnet, err = a.bastionSubnet(e, setup.network); err != nil {
			return nil, err
		}
	}
	if len(in.sources) == 0 {
		if in.sources, err = a.bastionSources(e); err != nil {
			return nil, err
		}
	}
	fields, err := n.fields(in)
	if err != nil {
		return nil, err
	}
	if files, err = files.AddNoun(n.path(in), name, fields.value()); err != nil {
		return nil, err
	}
	if len(setup.people) == 0 && a.terminal {
		text, err := a.prompt("Who gets through? People and groups, or nothing for a route later: "+strings.Join(groupsAndPeople(e), ", "), "")
		if err != nil {
			return nil, err
		}
		setup.people = wordsOf(text)
	}
	if len(setup.people) > 0 {
		s, err := sentence.ParseArgs([]string{"route " + setup.services + " to " + setup.network + " via " + name + " for " + strings.Join(setup.people, ", ")}, a.now())
		if err != nil {
			return nil, err
		}
		if files, _, err = w.State(ctx, files, s); err != nil {
			return nil, err
		}
	}
	return a.giveBack(files, e, setup.network, setup)
}

// wordsOf takes a line of words apart, at commas and white space.
func wordsOf(text string) []string {
	return strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ' ' || r == '\t' })
}

// bastionNetwork is the network that a bastion leads into: that of its subnet, the one that is named, or the
// only one with a gateway.
func (a *app) bastionNetwork(e *estate.Estate, subnet, network string) (string, error) {
	if s, ok := e.Subnet(subnet); ok {
		return s.Network, nil
	}
	var list []string
	for _, n := range e.Networks {
		if n.Outside {
			list = append(list, n.Name)
		}
	}
	switch {
	case network != "" && !slices.Contains(e.NamesOf("network"), network):
		return "", unknownName("network", network, e.NamesOf("network"))
	case network != "":
		return network, nil
	case len(list) == 1:
		return list[0], nil
	case len(list) == 0:
		return "", wrong("there is no network with a gateway, which a bastion needs: ironbark add network NAME --space PREFIX --outside")
	}
	return "", usage("say which network it leads into: --network %s", strings.Join(list, " or "))
}

// bastionSubnet is the subnet of a network in which a bastion is put: the only one, or one that is chosen in a terminal.
func (a *app) bastionSubnet(e *estate.Estate, network string) (string, error) {
	i := slices.IndexFunc(e.Networks, func(n estate.Network) bool { return n.Name == network })
	list := subnetChoices(e.Networks[i])
	switch {
	case len(list) == 0:
		return "", wrong("network %s has no subnet: ironbark add subnet NAME --network %s --range PREFIX", network, network)
	case len(list) == 1:
		return list[0].name, nil
	case a.terminal:
		return a.choose("In which subnet", list, "")
	}
	names := make([]string, len(list))
	for i, c := range list {
		names[i] = c.name
	}
	return "", usage("say in which subnet the bastion is: --subnet %s", strings.Join(names, " or "))
}

// subnetChoices lists the subnets of a network with their ranges.
func subnetChoices(n estate.Network) (list []choice) {
	for _, s := range n.Subnets {
		words := make([]string, len(s.Range))
		for i, p := range s.Range {
			words[i] = p.String()
		}
		list = append(list, choice{s.Name, strings.Join(words, " and ") + " in " + n.Name})
	}
	return list
}

// bastionSources asks from where a bastion may be reached.
func (a *app) bastionSources(e *estate.Estate) ([]string, error) {
	choices := []string{}
	for _, s := range e.Sources {
		choices = append(choices, s.Name)
	}
	for _, l := range e.Lines {
		choices = append(choices, l.Name)
	}
	choices = append(choices, "everywhere")
	if !a.terminal {
		return nil, usage("say from where the bastion may be reached: --from %s", strings.Join(choices, " or "))
	}
	text, err := a.prompt("From where may it be reached? "+strings.Join(choices, ", ")+", or addresses", choices[0])
	return wordsOf(text), err
}

func groupsAndPeople(e *estate.Estate) (list []string) {
	for _, p := range e.People {
		for _, g := range p.Groups {
			if !slices.Contains(list, g) {
				list = append(list, g)
			}
		}
	}
	for _, p := range e.People {
		list = append(list, p.Name)
	}
	return list
}

// giveBack takes the public addresses of machines out that need none beside a bastion: to which no sentence
// lets anybody in from outside but for administration. Without being asked to it tells them.
func (a *app) giveBack(files work.Files, e *estate.Estate, network string, setup *bastionSetup) (work.Files, error) {
	list := findings.NeedNoAddress(e, network)
	if len(list) == 0 {
		return files, nil
	}
	if !setup.giveBack && a.terminal {
		text, err := a.prompt("Nothing but administration needs the public address of "+strings.Join(list, ", ")+"; give it back? yes or no", "no")
		if err != nil {
			return nil, err
		}
		setup.giveBack = strings.HasPrefix(strings.ToLower(text), "y")
	}
	if !setup.giveBack {
		a.print.NoteWrap("", fmt.Sprintf("nothing but administration needs the public address of %s: --give-back gives it back", strings.Join(list, ", ")))
		return files, nil
	}
	var err error
	for _, m := range list {
		if files, err = files.Alter([]string{"machines", m}, nil, "address"); err != nil {
			return nil, err
		}
	}
	return files, nil
}

// prompt asks for a line; nothing is the usual answer, and q gives up.
func (a *app) prompt(question, usual string) (string, error) {
	if usual != "" {
		question += " [" + usual + "]"
	}
	a.print.Question(question + ":")
	text, err := a.line()
	switch text = strings.TrimSpace(text); {
	case err != nil || text == "q":
		a.print.Note("not done: nothing was changed")
		return "", errUnconfirmed
	case text == "":
		return usual, nil
	}
	return text, nil
}
