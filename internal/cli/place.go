package cli

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ironbark/internal/cache"
	"ironbark/internal/cli/view"
	"ironbark/internal/driver"
	"ironbark/internal/driver/linux"
	"ironbark/internal/driver/sim"
	"ironbark/internal/estate"
	"ironbark/internal/ledger/sqlite"
	"ironbark/internal/site"
	"ironbark/internal/work"
)

// drivers opens the driver of each kind of place. What the ledger must know of it goes
// into options.
var drivers = map[string]func(a *app, dir string, options *sqlite.Options) (driver.Driver, error){
	estate.Sim: func(a *app, dir string, options *sqlite.Options) (driver.Driver, error) {
		faults, err := faults()
		if err != nil {
			return nil, err
		}
		a.sim = sim.New(dir, a.clock, faults)
		options.Wrote = a.sim.Wrote
		return a.sim, nil
	},
	estate.Linux: func(a *app, dir string, _ *sqlite.Options) (driver.Driver, error) {
		if simulated(a.clock) {
			return nil, usage("IRONBARK_CLOCK belongs to the stand-in cloud; a Linux host goes by its own clock")
		}
		return linux.New(dir, a.clock).CalledFrom(sshSession()), nil
	},
}

// siteOf opens the site of an estate: its ledger, and the driver that its files choose.
func (a *app) siteOf(folder work.Folder) (*site.Site, error) {
	open, there := drivers[folder.SiteName()]
	if !there { // that is told with its line where the file is read
		open = drivers[estate.Sim]
	}
	dir := filepath.Join(folder.Dir, work.StateDir)
	options := sqlite.Options{Simulated: simulated(a.clock)}
	d, err := open(a, dir, &options)
	if err != nil {
		return nil, err
	}
	a.ledger = sqlite.New(dir, options)
	s := site.New(a.ledger, d, a.clock)
	s.Remember(cache.In(dir))
	return s, nil
}

// simulated reports whether a clock plays.
func simulated(c driver.Clock) bool {
	s, ok := c.(interface{ Simulated() bool })
	return ok && s.Simulated()
}

// faults reads what the stand-in cloud is told to do wrong in this process: words
// such as fail=3 late=200ms. Without them it plays what it was told to keep.
func faults() (sim.Faults, error) {
	f, err := sim.ParseFaults(strings.Fields(os.Getenv("IRONBARK_SIM_FAULTS")))
	if err != nil {
		return f, usage("IRONBARK_SIM_FAULTS: %v", err)
	}
	return f, nil
}

// withSim is with for commands that play with the stand-in cloud.
func (a *app) withSim(do func(ctx context.Context, w *work.Work, args []string) error) func(*cobra.Command, []string) error {
	return a.with(func(ctx context.Context, w *work.Work, args []string) error {
		if a.sim == nil {
			return wrong("this estate is not on the stand-in cloud: there is nothing to play with")
		}
		return do(ctx, w, args)
	})
}

func (a *app) siteCommand() *cobra.Command {
	c := &cobra.Command{
		Use: "site", Short: "Check a place where machines run, and restore it",
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 0 {
				return c.Help()
			}
			return unknownKind(c, args[0])
		},
	}
	c.AddCommand(&cobra.Command{
		Use: "check", Short: "Check what this host has and lacks for site: linux", Args: noArgs,
		Long: "Check what this host has and lacks for site: linux. Each thing is tried in network namespaces that are made for it\n" +
			"and taken away again; nothing of the host's own is touched. Exit status 3: something is missing that light machines\n" +
			"need, too; what virtual machines need besides is told.",
		RunE: func(*cobra.Command, []string) error { return a.checkHost() },
	}, a.prepareCommand(), a.watchFrontsCommand(), acts(a.restoreSiteCommand()), a.tablesCommand())
	return c
}

func (a *app) tablesCommand() *cobra.Command {
	return &cobra.Command{
		Use: "tables", Short: "List the installed tables of the packet filter, in words", Args: noArgs,
		Long: "List what the installed tables of the packet filter do: each chain with its filter rules, and the sentence, opening or resource\n" +
			"from which each comes. Rules that somebody put in by hand are listed as such. To see the tables themselves, run\n" +
			"nsenter --net=/run/netns/NAMESPACE nft list ruleset.",
		Example: "  ironbark site tables\n  ironbark site tables --json",
		RunE: a.with(func(ctx context.Context, w *work.Work, _ []string) error {
			t, err := w.Site.Tables(ctx)
			if err != nil {
				return err
			}
			st, err := w.Installed(ctx)
			if err != nil {
				return err
			}
			ph := view.NewPhrasing(st, w.Clock.Now())
			if a.json {
				return a.print.JSON(view.TablesJSON(t, ph))
			}
			a.print.Tables(t, ph)
			return nil
		}),
	}
}

func (a *app) restoreSiteCommand() *cobra.Command {
	follow, every := false, 5*time.Second
	c := &cobra.Command{
		Use: "restore", Short: "Make the site as it was last enacted", Args: noArgs,
		Long: "Make the site as it was last enacted, for instance after its host was started anew: what was made, the tables,\n" +
			"the openings that still hold, and the machines that ran. What the files say by now is not looked at. It asks nothing; where all is\n" +
			"as it was, nothing is done. With --follow it restores, and then looks again and again until it is interrupted: it prints what\n" +
			"drifts, puts right the kinds that repair: in estate.yaml names (network, resources, machines), and records in the journal how long\n" +
			"each drift lasted. A systemd unit ships: systemd/ironbark-follow@.service.",
		Example: "  ironbark site restore\n  ironbark site restore --follow --every 10s",
		RunE: a.with(func(ctx context.Context, w *work.Work, _ []string) error {
			if !follow {
				return a.restore(ctx, w)
			}
			if a.json {
				return usage("what it prints has no document: leave --json out; journal --did drift has it")
			}
			if every < leastBetween {
				return usage("--every is %s at least", leastBetween)
			}
			ctx, stop := untilSignal(ctx)
			defer stop()
			if err := a.restore(ctx, w); err != nil {
				return err
			}
			again := func(ctx context.Context, r *work.Review) error { return a.enact(ctx, w, r, nil) }
			return w.Follow(ctx, every, again, func(text string) { a.print.NoteWrap("", text) })
		}),
	}
	c.Flags().BoolVar(&follow, "follow", false, "look again and again, and put right what repair: names")
	c.Flags().DurationVar(&every, "every", every, "time between two looks, with --follow")
	return c
}

func (a *app) prepareCommand() *cobra.Command {
	var kernel string
	c := &cobra.Command{
		Use: "prepare", Short: "Make the system of tiny guests on this host", Args: noArgs,
		Long: "Make the system of tiny guests on this host (image: tiny): a kernel out of Debian's package, which apt-get downloads\n" +
			"and nothing installs, and one program of Ironbark's own. It is kept in /var/lib/ironbark/tiny, for all estates. Where\n" +
			"it is there already, nothing is done.",
		Example: "  ironbark site prepare",
		RunE: func(c *cobra.Command, _ []string) error {
			if kernel != "" {
				if _, err := os.Stat(kernel); err != nil {
					return wrong("--kernel: %v", err)
				}
			}
			if err := linux.PrepareTiny(c.Context(), kernel); err != nil {
				return err
			}
			a.print.Line("%s", linux.DescribeTiny(c.Context()))
			return nil
		},
	}
	c.Flags().StringVar(&kernel, "kernel", "", "the file of a kernel package (.deb), in place of Debian's newest")
	return c
}

func (a *app) restore(ctx context.Context, w *work.Work) error {
	r, err := w.Restore(ctx)
	if err != nil {
		return err
	}
	if r == nil {
		a.print.Line("Nothing was enacted yet, so there is nothing to restore.")
		return nil
	}
	if !r.IsNoOp() {
		if err := a.enact(ctx, w, r, nil); err != nil {
			return err
		}
	}
	started, err := w.StartInterrupted(ctx, nil)
	for _, name := range started {
		a.print.Note("  started %s", name)
	}
	if err != nil {
		return err
	}
	if r.IsNoOp() && len(started) == 0 {
		a.print.Line("Nothing to restore: the site is as it was last enacted.")
		return nil
	}
	return a.settle(ctx, w, started, driver.Power{Do: driver.Start})
}

func (a *app) checkHost() error {
	docs := []requirementDoc{}
	missing := false
	for _, r := range slices.Concat(linux.Check(a.clock), linux.CheckGuests(context.Background()), a.checkUplink()) {
		d := requirementDoc{What: r.What, There: r.Err == nil}
		if r.Err != nil {
			missing = missing || !r.Optional
			d.Optional = r.Optional
			d.Why, d.Remedy = r.Err.Error(), view.Advice(r.Remedy)
		}
		docs = append(docs, d)
	}
	if a.json {
		if err := a.print.JSON(requirementsDoc{docs}); err != nil {
			return err
		}
	} else {
		for _, d := range docs {
			if d.There {
				a.print.Line("has    %s", d.What)
				continue
			}
			word := a.print.Bad("lacks") + "  "
			if d.Optional {
				word = "no     "
			}
			a.print.Wrap(word, d.What+": "+d.Why)
			a.print.Wrap("       ", d.Remedy)
		}
	}
	if missing {
		return errNo
	}
	return nil
}

// checkUplink checks the host's side of the uplink of the estate in the folder, if it has one.
func (a *app) checkUplink() []linux.Requirement {
	folder, err := a.folder()
	if err != nil {
		return nil // whoever has no estate yet asks about the host alone
	}
	files, err := folder.Read()
	if err != nil {
		return nil
	}
	e, err := files.Estate()
	if err != nil || e == nil || e.Uplink == nil {
		return nil
	}
	public := slices.Clone(e.Uplink.Public)
	for _, n := range e.Networks { // machines are reached outside at their own IPv6 addresses
		for _, p := range n.Space {
			if n.Outside && p.Addr().Is6() {
				public = append(public, p)
			}
		}
	}
	return linux.CheckUplink(filepath.Join(folder.Dir, work.StateDir), e.Uplink.Interface, public)
}
