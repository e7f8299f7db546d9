package cli

import (
	"context"
	"fmt"
	"net"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"ironbark/internal/estate"
	"ironbark/internal/journal"
	"ironbark/internal/sentence"
)

// This file says what is offered for the words of commands and the values of options, where the command itself does not.

// offering offers words to whoever presses the tab key.
type offering func(a *app, args []string, begun string) ([]string, cobra.ShellCompDirective)

// fixed offers certain words.
func fixed(words ...string) offering {
	return func(*app, []string, string) ([]string, cobra.ShellCompDirective) {
		return words, cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveKeepOrder
	}
}

// free offers nothing: what stands there nobody can know.
var free = fixed()

func files(*app, []string, string) ([]string, cobra.ShellCompDirective) {
	return nil, cobra.ShellCompDirectiveDefault
}

func folders(*app, []string, string) ([]string, cobra.ShellCompDirective) {
	return nil, cobra.ShellCompDirectiveFilterDirs
}

// ofEstate offers what an estate has. In a list only the part after its last comma counts.
func ofEstate(list func(e *estate.Estate) []string) offering {
	return func(a *app, _ []string, begun string) ([]string, cobra.ShellCompDirective) {
		w, done, err := a.work()
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		defer done()
		before := begun[:strings.LastIndexByte(begun, ',')+1]
		words := list(offered(w))
		for i, word := range words {
			words[i] = before + word
		}
		return words, cobra.ShellCompDirectiveNoFileComp
	}
}

func wanted(kind sentence.WantKind) offering {
	return ofEstate(func(e *estate.Estate) []string { return candidates(e, sentence.Want{Kind: kind}) })
}

func named(kind string) offering {
	return ofEstate(func(e *estate.Estate) []string { return e.NamesOf(kind) })
}

// once offers only for the first word of a command.
func once(o offering) offering {
	return func(a *app, args []string, begun string) ([]string, cobra.ShellCompDirective) {
		if len(args) > 0 {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		return o(a, args, begun)
	}
}

// joined offers what several offer.
func joined(list ...offering) offering {
	return func(a *app, args []string, begun string) (words []string, d cobra.ShellCompDirective) {
		d = cobra.ShellCompDirectiveNoFileComp
		for _, o := range list {
			some, how := o(a, args, begun)
			words = append(words, some...)
			if how == cobra.ShellCompDirectiveDefault {
				d = how
			}
		}
		return words, d
	}
}

var (
	lengths  = fixed("30m", "1h", "2h", "4h", "1d")
	pauses   = fixed("0s", "10s", "30s", "1m", "5m")
	moments  = fixed("1h", "2h", "1d", "7d")
	machines = ofEstate(func(e *estate.Estate) []string {
		return append(candidates(e, sentence.Want{Kind: sentence.WantTarget}), "except")
	})
	tags = ofEstate(func(e *estate.Estate) (list []string) {
		for _, m := range e.Machines {
			for _, t := range m.Tags {
				if tag := t.Key + "=" + t.Value; !slices.Contains(list, tag) {
					list = append(list, tag)
				}
			}
		}
		return list
	})
	tagKeys = ofEstate(func(e *estate.Estate) (list []string) {
		for _, m := range e.Machines {
			for _, t := range m.Tags {
				if !slices.Contains(list, t.Key) {
					list = append(list, t.Key)
				}
			}
		}
		return list
	})
	groups = ofEstate(func(e *estate.Estate) (list []string) {
		for _, p := range e.People {
			for _, g := range p.Groups {
				if !slices.Contains(list, g) {
					list = append(list, g)
				}
			}
		}
		return list
	})
	// atMachines are machines with a colon, behind which something of theirs follows.
	atMachines = func(a *app, args []string, begun string) ([]string, cobra.ShellCompDirective) {
		list, _ := named("machine")(a, args, begun)
		for i, m := range list {
			list[i] = m + ":"
		}
		return list, cobra.ShellCompDirectiveNoSpace
	}
	interfaces = func(*app, []string, string) (list []string, d cobra.ShellCompDirective) {
		all, _ := net.Interfaces()
		for _, i := range all {
			list = append(list, i.Name)
		}
		return list, cobra.ShellCompDirectiveNoFileComp
	}
)

// numbers offers the openings that are open or wait.
func numbers(a *app, args []string, begun string) ([]string, cobra.ShellCompDirective) {
	return a.completeOpenings(nil, args, begun)
}

// sentences offers the lines of the rules with what stands there.
func sentences(a *app, args []string, _ string) (list []string, d cobra.ShellCompDirective) {
	d = cobra.ShellCompDirectiveNoFileComp
	w, done, err := a.work()
	if err != nil || len(args) > 0 {
		return nil, d
	}
	defer done()
	for _, st := range offered(w).Sentences() {
		at := fmt.Sprint(st.At.Line)
		if st.At.File != estate.RulesName {
			at = st.At.File + ":" + at
		}
		list = append(list, at+"\t"+st.Sentence.String())
	}
	return list, d
}

// drifted offers what is not as it was enacted: kinds, and then names.
func drifted(a *app, args []string, _ string) (list []string, d cobra.ShellCompDirective) {
	d = cobra.ShellCompDirectiveNoFileComp
	w, done, err := a.work()
	if err != nil || len(args) > 1 {
		return nil, d
	}
	defer done()
	st, err := w.Installed(context.Background())
	if err != nil {
		return nil, d
	}
	for _, one := range w.Drift(st).Resources {
		kind := string(one.Resource.Kind)
		switch {
		case len(args) == 0 && !slices.Contains(list, kind):
			list = append(list, kind)
		case len(args) == 1 && args[0] == kind:
			list = append(list, one.Resource.Name)
		}
	}
	return list, d
}

// optionOffers are offered for the values of options; first by command and option, then by option alone.
var optionOffers = map[string]offering{
	"at": moments, "since": moments, "until": moments, "for": lengths, "because": free, "account": free,
	"by": wanted(sentence.WantPerson), "machine": named("machine"), "service": wanted(sentence.WantService), "about": free,
	"did": fixed(journal.Kinds...), "only": fixed(journal.Kinds...), "syslog": fixed("udp:", "tcp:", "tls:", "/dev/log"), "command": files, "ca": files, "anchor": files, "accept": named("recipient"), "try": named("recipient"),
	"last": fixed("10", "50", "100"), "group": groups, "tag": tags, "algorithm": fixed("ed25519", "rsa-3072", "rsa-4096"), "disk-kind": fixed("standard", "fast"), "log-format": fixed("text", "json"), "as": fixed("openssh", "pkcs8", "ppk"),
	"fail-at": fixed("note", "caution", "serious"), "site": fixed(estate.Sim, estate.Linux), "suite": fixed("bookworm", "trixie"), "with": free,
	"own-key": files, "key": files, "public-key-file": files, "public-key": free, "file": files, "kernel": files, "log": files, "proof": folders, "desktop-file": files, "dir": folders,
	"device": fixed("vdb", "vdc", "vdd", "vde"), "gb": fixed("10", "20", "50", "100"), "disk": fixed("10", "20", "50", "100"), "sessions": fixed("10", "20", "50"), "count": fixed("2", "3", "5"), "test-every": fixed("1s", "2s", "5s", "10s", "1m"), "test-failures": fixed("1", "2", "3", "5"),
	"transfer": fixed("100", "500", "1000"), "outward": fixed(estate.OutwardOpen, estate.OutwardClosed), "drain": pauses, "grace": pauses, "every": pauses, "idle": lengths, "longest": lengths, "end": free,
	"range": free, "space": free, "inside": free, "dns": free, "gateway": free, "allocate": free, "port": fixed("tcp/", "udp/"), "interface": interfaces, "own": free, "listen": free, "metrics": free,
	"line": named("line"), "endpoint": free, "address": free,
	"from": wanted(sentence.WantSource), "size": free, "image": free, "to": free,

	"back-to": moments, "request": free, "subnet": named("subnet"), "snapshot": named("snapshot"), "per": tagKeys, "map --to": files, "why --to": files, "timeline --to": files, "report --to": files, "findings --to": files, "restore --to": folders, "key write --to": files, "reach --to": wanted(sentence.WantDestination),
	"paths --from": named("machine"), "cost --per": tagKeys, "sim listen --from": free, "add uplink --public": free, "change uplink --public": free,
	"connect --key": files,
}

// wordOffers are offered for the words of commands.
var wordOffers = map[string]offering{
	"account": numbers, "acknowledge": once(fixed("record", "clock")), "adopt": drifted, "approve": once(numbers), "decline": once(numbers), "extend": once(numbers), "narrow": once(numbers),
	"add admin": wanted(sentence.WantService), "remove admin": wanted(sentence.WantService), "backup": once(files), "restore": once(files), "estates": folders,
	"change limit": once(fixed("opening", "image")), "change stun": free, "copy": joined(files, atMachines), "tunnel": atMachines, "new": free, "paths": fixed("from"), "retract": sentences,
	"sim faults": fixed("none", "halt=", "late=", "fail=", "lose=", "stuck=", "room=", "quota="), "sim listen": files,
	"sim meddle": once(fixed("open", "call", "close", "make", "alter", "remove")), "start": machines, "stop": machines, "restart": machines, "change machine": machines, "show machine": machines,
}

// examples are those of commands whose own files give none.
var examples = map[string]string{
	"adopt": "adopt\n  ironbark adopt machine gauge-3\n  ironbark adopt --all", "approve": "approve 4", "close": "close 1\n  ironbark close gauge-web-1\n  ironbark close --all",
	"demo": "demo\n  ironbark demo --dir ~/demo", "enact": "enact\n  ironbark enact --back-to 2h", "review": "review\n  ironbark review --must-match", "findings": "findings\n  ironbark findings --all\n  ironbark findings --fail-at serious",
	"openings": "openings\n  ironbark openings --all --since 7d\n  ironbark openings --could", "quota": "quota", "schema": "schema\n  ironbark schema review", "status": "status", "version": "version",
	"remove peer": "remove peer mara-laptop", "show offer": "show offer", "sim stun": "sim stun", "site check": "site check", "site restore": "site restore", "site watch": "site watch --every 10s",
}

// complete gives each command of a tree an example and something to offer, where it has none.
func (a *app) complete(c *cobra.Command) {
	for _, sub := range c.Commands() {
		a.complete(sub)
	}
	path := strings.TrimPrefix(c.CommandPath(), "ironbark ")
	if c.Example == "" && !c.HasSubCommands() {
		c.Example = "  ironbark " + a.exampleOf(path)
	}
	offer := func(o offering) func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
		return func(_ *cobra.Command, args []string, begun string) ([]string, cobra.ShellCompDirective) {
			return o(a, args, begun)
		}
	}
	if o, known := wordOffers[path]; known {
		c.ValidArgsFunction = offer(o)
	} else if c.ValidArgsFunction == nil && !c.HasSubCommands() {
		c.ValidArgsFunction = offer(free)
	}
	c.LocalFlags().VisitAll(func(f *pflag.Flag) {
		if _, there := c.GetFlagCompletionFunc(f.Name); there || f.Value.Type() == "bool" {
			return
		}
		o, known := optionOffers[path+" --"+f.Name]
		if !known {
			o, known = optionOffers[f.Name]
		}
		if known {
			_ = c.RegisterFlagCompletionFunc(f.Name, offer(o)) // it fails where there is one, or no such option
		}
	})
}

// exampleOf is the example of a command that gives none itself.
func (a *app) exampleOf(path string) string {
	if text, known := examples[path]; known {
		return text
	}
	verb, kind, _ := strings.Cut(path, " ")
	for _, n := range nouns {
		if n.kind == kind {
			name, _, _ := strings.Cut(n.example, " ")
			return verb + " " + kind + " " + name
		}
	}
	return path
}

// nearOption names the option of a command that is nearest to one that it does not have.
func nearOption(c *cobra.Command, text string) string {
	_, word, found := strings.Cut(text, "unknown flag: --")
	if !found {
		return ""
	}
	var known []string
	c.Flags().VisitAll(func(f *pflag.Flag) { known = append(known, f.Name) })
	word = strings.TrimSpace(word)
	for _, other := range otherOptions[word] {
		if slices.Contains(known, other) {
			return "--" + other
		}
	}
	if near, ok := sentence.Nearest(word, known); ok {
		return "--" + near
	}
	return ""
}

// otherOptions are options by the words that people try first. Each is offered where the command has it.
var otherOptions = map[string][]string{
	"at": {"subnet"}, "to": {"back-to"}, "by": {"per"}, "kind": {"algorithm", "disk-kind"}, "type": {"algorithm", "disk-kind"}, "from": {"snapshot"}, "public": {"public-key-file", "public-key"},
	"log": {"log-format"}, "ip": {"address"}, "output": {"to"}, "out": {"to"}, "file": {"to"}, "force": {"yes"}, "dry-run": {"draft"}, "user": {"person"}, "as": {"person"},
}
