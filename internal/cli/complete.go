package cli

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"ironbark/internal/estate"
	"ironbark/internal/sentence"
	"ironbark/internal/work"
)

// completeSentence offers the next words of a sentence: what the grammar says may
// come next, and the estate's names where a name may.
func (a *app) completeSentence(c *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
	w, done, err := a.work()
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	defer done()
	e := offered(w)
	// A list may have been begun in this very word: complete what stands after its last comma.
	before, rest := "", begun
	line := append([]string{c.Name()}, args...)
	if i := strings.LastIndexByte(begun, ','); i >= 0 {
		before, rest = begun[:i+1], begun[i+1:]
		line = append(line, before)
	}
	var list []string
	for _, want := range sentence.Next(line) {
		for _, word := range candidates(e, want) {
			if strings.HasPrefix(word, rest) {
				list = append(list, before+word)
			}
		}
	}
	return list, cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveKeepOrder
}

// offered is the estate whose names are offered: the files', or if they are in
// error that which is installed.
func offered(w *work.Work) *estate.Estate {
	if files, err := w.Folder.Read(); err == nil {
		if e, err := files.Estate(); err == nil {
			return e
		}
	}
	if st, err := w.Installed(context.Background()); err == nil {
		return st.Estate
	}
	return &estate.Estate{}
}

// candidates lists the words that can stand where something is wanted.
func candidates(e *estate.Estate, want sentence.Want) (list []string) {
	machines := func() {
		for _, m := range e.Machines {
			list = append(list, m.Name)
		}
		for _, m := range e.Machines {
			for _, t := range m.Tags {
				if tag := t.Key + "=" + t.Value; !slices.Contains(list, tag) {
					list = append(list, tag)
				}
			}
		}
		for _, n := range e.Networks {
			list = append(list, n.Name)
			for _, s := range n.Subnets {
				list = append(list, s.Name)
			}
		}
		list = append(list, "all")
		if e.Uplink != nil {
			list = append(list, estate.SiteHost)
		}
	}
	switch want.Kind {
	case sentence.WantWord:
		list = []string{want.Word}
	case sentence.WantService, sentence.WantPort:
		for _, s := range e.Services {
			list = append(list, s.Name)
		}
		list = append(list, sentence.ShippedNames()...)
		if want.Kind == sentence.WantService {
			list = append(list, "ping", sentence.AdminName)
		}
	case sentence.WantSource:
		list = append(list, "everywhere", "internet", "me")
		for _, s := range e.Sources {
			list = append(list, s.Name)
		}
		for _, l := range e.Lines {
			list = append(list, l.Name)
		}
		machines()
	case sentence.WantTarget, sentence.WantDestination:
		machines()
		if want.Kind == sentence.WantDestination {
			list = append(list, "internet")
			for _, s := range e.Sources {
				list = append(list, s.Name)
			}
		}
		for _, f := range e.Fronts {
			list = append(list, f.Name)
		}
	case sentence.WantFront:
		for _, f := range e.Fronts {
			list = append(list, f.Name)
		}
	case sentence.WantBastion:
		for _, b := range e.Bastions {
			list = append(list, b.Name)
		}
	case sentence.WantPerson:
		for _, p := range e.People {
			list = append(list, p.Name)
			for _, g := range p.Groups {
				if !slices.Contains(list, g) {
					list = append(list, g)
				}
			}
		}
	case sentence.WantDuration:
		list = []string{"30m", "1h", "2h", "4h", "1d"}
	}
	return list
}

// completeNouns offers the names of one kind of noun.
func (a *app) completeNouns(kind string) func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	return func(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
		w, done, err := a.work()
		if err != nil || len(args) > 0 {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		defer done()
		return offered(w).NamesOf(kind), cobra.ShellCompDirectiveNoFileComp
	}
}

// completeNounFlags offers what the options of add and change can name.
func (a *app) completeNounFlags(c *cobra.Command) {
	offer := func(flag string, list func(w *work.Work) []string) {
		if c.Flags().Lookup(flag) == nil {
			return
		}
		err := c.RegisterFlagCompletionFunc(flag, func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			w, done, err := a.work()
			if err != nil {
				return nil, cobra.ShellCompDirectiveNoFileComp
			}
			defer done()
			return list(w), cobra.ShellCompDirectiveNoFileComp
		})
		if err != nil {
			panic("cli: completion of --" + flag + ": " + err.Error())
		}
	}
	names := func(kind string) func(*work.Work) []string {
		return func(w *work.Work) []string { return offered(w).NamesOf(kind) }
	}
	offer("subnet", names("subnet"))
	offer("key", names("key"))
	offer("network", names("network"))
	offer("joins", names("network"))
	words := func(list ...string) func(*work.Work) []string {
		return func(*work.Work) []string { return list }
	}
	offer("address", func(w *work.Work) []string { return append([]string{"auto", none}, offered(w).NamesOf("address")...) })
	offer("machine", names("machine"))
	offer("volume", names("volume"))
	offer("boot", names("volume"))
	if c.Flags().Lookup("gb") != nil { // a bastion's from is something else
		offer("from", names("snapshot"))
	}
	offer("to", names("machine"))
	offer("password", words("ask", "generate", "stdin", none))
	offer("kind", words("standard", "fast"))
	offer("disk-kind", words("standard", "fast"))
	offer("which", words("ipv4", "ipv6"))
	offer("setup", func(w *work.Work) (list []string) {
		for _, r := range w.Site.Catalogue().Recipes {
			list = append(list, r.Name+"\t"+r.About)
		}
		return append(list, slices.Sorted(maps.Keys(offered(w).Scripts))...)
	})
	offer("image", func(w *work.Work) (list []string) {
		for _, i := range w.Site.Catalogue().Images {
			list = append(list, i.Name+"\t"+i.About)
		}
		return append(append(list, offered(w).NamesOf("image")...), offered(w).NamesOf("snapshot")...)
	})
	offer("size", func(w *work.Work) (list []string) {
		for _, s := range w.Site.Catalogue().Sizes {
			list = append(list, fmt.Sprintf("%s\t%d vCPU, %d MiB", s.Name, s.CPUs, s.MemoryMiB))
		}
		return list
	})
}

// completeOpenings offers the numbers and machines of what is open for a while.
func (a *app) completeOpenings(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	w, done, err := a.work()
	if err != nil || len(args) > 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	defer done()
	st, err := w.Installed(context.Background())
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	var list []string
	for _, o := range work.Active(st.Report.Openings, a.clock.Now()) {
		list = append(list, fmt.Sprintf("%d\t%s", o.ID, o.Words))
		for _, m := range o.Machines() {
			if !slices.Contains(list, m) {
				list = append(list, m)
			}
		}
	}
	return list, cobra.ShellCompDirectiveNoFileComp
}
