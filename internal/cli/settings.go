package cli

import (
	"context"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"ironbark/internal/estate"
	"ironbark/internal/sentence"
	"ironbark/internal/work"
)

// settings are parts of estate.yaml that have no names of their own: what is administrative,
// the limits, who tells what “me” is, and the uplink.
func (a *app) settings(verb string) (list []*cobra.Command) {
	switch verb {
	case "add":
		list = append(list, a.adminCommand(true), a.uplinkCommand(verb))
	case "change":
		list = append(list, a.limitCommand(), a.stunCommand(), a.uplinkCommand(verb))
	case "remove":
		list = append(list, a.adminCommand(false), a.uplinkCommand(verb))
	}
	return list
}

// adminCommand adds services to those that are administrative, or takes them out.
func (a *app) adminCommand(adding bool) *cobra.Command {
	opt := &editing{}
	c := &cobra.Command{
		Use: "admin SERVICE…", Short: "Make services administrative: closed until somebody opens them for a while", Example: "  ironbark add admin postgresql",
		RunE: a.with(func(ctx context.Context, w *work.Work, args []string) error {
			if len(args) == 0 {
				return usage("say which services")
			}
			old, e, err := readBoth(w)
			if err != nil {
				return err
			}
			var list []string
			for _, s := range e.Admin {
				list = append(list, s.String())
			}
			told := "made administrative: "
			for _, word := range args {
				s, err := sentence.ParseService(word)
				if err != nil {
					return wrong("%v", err)
				}
				at := slices.Index(list, s.String())
				switch {
				case adding && (at >= 0 || slices.Contains(sentence.AdministrativeNames(), word)):
					return wrong("%s is administrative already", word)
				case adding:
					list = append(list, s.String())
				case slices.Contains(sentence.AdministrativeNames(), word):
					return wrong("%s is always administrative", word)
				case at < 0:
					return unknownName("administrative service", word, list)
				default:
					list, told = slices.Delete(list, at, at+1), "no longer administrative: "
				}
			}
			var files work.Files
			if len(list) == 0 {
				files, err = old.RemoveNoun(nil, "admin")
			} else {
				files, err = old.Alter(nil, []estate.Field{{Key: "admin", Value: estate.List(list...)}})
			}
			if err != nil {
				return err
			}
			return a.edit(ctx, w, old, files, told+strings.Join(args, ", "), opt)
		}),
	}
	if !adding {
		c.Short, c.Example = "Take services out of those that are administrative", "  ironbark remove admin postgresql"
	}
	return opt.flags(c)
}

// limitCommand sets a limit of the estate's.
func (a *app) limitCommand() *cobra.Command {
	opt := &editing{}
	c := &cobra.Command{
		Use: "limit opening|image LENGTH|none", Short: "Say how long an opening may last at most, or how old an image may be until that is found",
		Example: "  ironbark change limit opening 8h\n  ironbark change limit image 180d",
		RunE: a.with(func(ctx context.Context, w *work.Work, args []string) error {
			if len(args) != 2 {
				return usage("change limit takes what is limited and how: change limit opening 8h")
			}
			if !slices.Contains([]string{"opening", "image"}, args[0]) {
				return usage("there is no limit “%s”; the limits are opening and image", args[0])
			}
			old, _, err := readBoth(w)
			if err != nil {
				return err
			}
			var files work.Files
			if args[1] == none {
				if files, err = old.RemoveNoun([]string{"limits"}, args[0]); err == nil {
					if _, empty := files.Estate(); empty != nil { // it was the only one
						files, err = old.RemoveNoun(nil, "limits")
					}
				}
			} else {
				if _, err := sentence.ParseDuration(args[1]); err != nil {
					return wrong("%v", err)
				}
				files, err = old.Alter([]string{"limits"}, []estate.Field{{Key: args[0], Value: estate.Word(args[1])}})
			}
			if err != nil {
				return err
			}
			return a.edit(ctx, w, old, files, "limited "+args[0]+" to "+args[1], opt)
		}),
	}
	return opt.flags(c)
}

// stunCommand says which server tells what “me” stands for.
func (a *app) stunCommand() *cobra.Command {
	opt := &editing{}
	c := &cobra.Command{
		Use: "stun HOST[:PORT]|none", Short: "Say which STUN server tells from where whoever says me comes", Example: "  ironbark change stun stun.saltmarsh.example",
		RunE: a.with(func(ctx context.Context, w *work.Work, args []string) error {
			if len(args) != 1 {
				return usage("change stun takes a server, or none")
			}
			old, _, err := readBoth(w)
			if err != nil {
				return err
			}
			var files work.Files
			how := "told by " + args[0]
			if args[0] == none {
				how = "where the site sees you"
				files, err = old.RemoveNoun(nil, "stun")
			} else {
				if _, err := estate.ParseSTUN(args[0]); err != nil {
					return wrong("%v", err)
				}
				files, err = old.Alter(nil, []estate.Field{{Key: "stun", Value: estate.Word(args[0])}})
			}
			if err != nil {
				return err
			}
			return a.edit(ctx, w, old, files, "“me” is "+how, opt)
		}),
	}
	return opt.flags(c)
}

// uplinkCommand joins a site to its host's network, alters that, or takes it out.
func (a *app) uplinkCommand(verb string) *cobra.Command {
	opt := &editing{}
	var link string
	var own, gateway, public []string
	c := &cobra.Command{
		Use: "uplink", Short: "Join the site to its host's network (site: linux)", Args: noArgs,
		Example: "  ironbark " + verb + " uplink --interface eth0 --own 192.0.2.20/24 --gateway 192.0.2.1 --public 203.0.113.16/28",
		RunE: a.with(func(ctx context.Context, w *work.Work, _ []string) error {
			old, e, err := readBoth(w)
			if err != nil {
				return err
			}
			switch {
			case verb == "add" && e.Uplink != nil:
				return wrong("there is an uplink already: change uplink alters it")
			case verb != "add" && e.Uplink == nil:
				return wrong("there is no uplink")
			}
			if verb == "add" && len(public) == 0 {
				return usage("an uplink has public addresses to give: --public 203.0.113.16/28")
			}
			var fields entry
			fields.word("interface", link)
			fields.list("addresses", own, false)
			fields.list("gateway", gateway, false)
			fields.list("public", public, false)
			var files work.Files
			switch verb {
			case "remove":
				files, err = old.RemoveNoun(nil, "uplink")
			case "add":
				files, err = old.AddNoun(nil, "uplink", fields.value())
			default:
				set, drop := fields.split()
				files, err = old.Alter([]string{"uplink"}, set, drop...)
			}
			if err != nil {
				return err
			}
			return a.edit(ctx, w, old, files, verb+" uplink", opt)
		}),
	}
	if verb == "remove" {
		c.Example = "  ironbark remove uplink"
		return opt.flags(c)
	}
	c.Flags().StringVar(&link, "interface", "", "the host's, on which the site has an address of its own; without it the host routes what is public")
	c.Flags().StringSliceVar(&own, "own", nil, "the site's own addresses there, with their lengths")
	c.Flags().StringSliceVar(&gateway, "gateway", nil, "by which the site calls outward")
	c.Flags().StringSliceVar(&public, "public", nil, "the public addresses that it may give")
	return opt.flags(c)
}
