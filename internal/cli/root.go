package cli

import (
	"runtime"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ironbark/internal/sentence"
)

// Version and Commit are stamped by the linker.
var (
	Version = "0.1.0"
	Commit  = "unknown"
)

// root builds the command tree. A command's own file says what it does; its
// place in the help is its group.
func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "ironbark",
		Short: "Machines, and who can reach them",
		Long: "Ironbark provisions virtual machines and controls who can reach them.\n" +
			"Administrative ports stay closed by default; whoever opens one says to whom, until when and why.",
		SilenceErrors: true, SilenceUsage: true,
		Args: func(c *cobra.Command, args []string) error { return unknownCommand(c, args, a.now) },
	}
	version := root.Flags().Bool("version", false, "tell the version")
	root.RunE = func(c *cobra.Command, args []string) error {
		if *version {
			return a.versionCommand().RunE(c, args)
		}
		return c.Help()
	}
	root.PersistentPreRun = a.unheard
	root.CompletionOptions.HiddenDefaultCmd = false
	root.PersistentFlags().StringVar(&a.estateDir, "estate", "", "the estate's folder (default: the nearest one upward with an estate.yaml)")
	root.PersistentFlags().StringVar(&a.person, "person", "", "who you are (default: the operating system's user name)")
	root.PersistentFlags().BoolVar(&a.json, "json", false, "print one JSON document")
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		text, _, _ := strings.Cut(err.Error(), ": strconv.") // what a parser of Go says helps nobody
		if near := nearOption(c, text); near != "" {
			return usage("%s; did you mean “%s”?", text, near)
		}
		return usage("%s", text)
	})
	root.AddGroup(
		&cobra.Group{ID: "begin", Title: "Begin"}, &cobra.Group{ID: "nouns", Title: "Add, change and remove"},
		&cobra.Group{ID: "say", Title: "Say who may reach what"}, &cobra.Group{ID: "enact", Title: "Review and enact"},
		&cobra.Group{ID: "open", Title: "Open for a while"}, &cobra.Group{ID: "use", Title: "Use machines"}, &cobra.Group{ID: "look", Title: "Ask and look"},
	)
	add := func(group string, list ...*cobra.Command) {
		for _, c := range list {
			c.GroupID = group
			root.AddCommand(c)
		}
	}
	add("begin", a.newCommand(), a.demoCommand(), a.estatesCommand(), acts(a.backupCommand()), acts(a.restoreCommand()))
	add("nouns", a.addCommand(), a.changeCommand(), a.removeCommand(), a.adoptCommand(), a.keyCommand())
	for v := sentence.VerbAllow; v <= sentence.VerbAlways; v++ {
		add("say", a.stateCommand(v))
	}
	add("say", a.retractCommand())
	add("enact", a.reviewCommand(), a.enactCommand())
	add("open", acts(a.openCommand()), a.paged(a.openingsCommand()), acts(a.extendCommand()), acts(a.narrowCommand()), acts(a.closeCommand()), a.approveCommand(), acts(a.declineCommand()), acts(a.accountCommand()))
	add("use", a.connectCommand(), a.copyCommand(), a.tunnelCommand(), a.consoleCommand(), a.gatewayCommand(), acts(a.startCommand()), acts(a.stopCommand()), acts(a.restartCommand()))
	add("look", a.whyCommand(), a.probeCommand(), a.paged(a.reachCommand()), a.paged(a.pathsCommand()), a.paged(a.showCommand()), a.statusCommand(), a.paged(a.mapCommand()), a.paged(a.timelineCommand()), a.reportCommand(), a.paged(a.costCommand()), a.quotaCommand(), a.paged(a.findingsCommand()), a.paged(a.permitsCommand()), a.paged(a.journalCommand()), a.notifyCommand(), acts(a.acknowledgeCommand()))
	root.AddCommand(a.simCommand(), a.siteCommand(), a.schemaCommand(), a.versionCommand())
	root.SetHelpCommand(&cobra.Command{Use: "help [COMMAND]", Short: "Describe a command", RunE: func(c *cobra.Command, args []string) error {
		found, _, err := c.Root().Find(args)
		if err != nil || len(args) > 0 && found == c.Root() {
			return unknownCommand(c.Root(), args, a.now)
		}
		return found.Help()
	}})
	a.complete(root)
	return root
}

// otherWords are commands by the words that people try first.
var otherWords = map[string]string{
	"list": "show", "ls": "show", "get": "show", "machines": "show machine", "delete": "remove", "rm": "remove", "create": "add", "make": "add",
	"ssh": "connect MACHINE", "login": "connect MACHINE", "scp": "copy FROM TO", "who": "reach --to MACHINE", "history": "journal", "log": "journal", "undo": "retract SENTENCE",
	"revoke": "close NUMBER, or: ironbark retract SENTENCE", "lock": "close --all", "price": "cost", "rules": "show", "edit": "change", "run": "start MACHINE",
}

// unknownCommand refuses a word that is no command, and offers the nearest.
func unknownCommand(c *cobra.Command, args []string, now func() time.Time) error {
	if len(args) == 0 {
		return nil
	}
	var known []string
	for _, sub := range c.Commands() {
		if sub.IsAvailableCommand() {
			known = append(known, sub.Name())
		}
	}
	near, ok := sentence.Nearest(args[0], known)
	if probably := sentence.Guess(args, now()); probably != "" {
		return usage("there is no command “%s”; perhaps you mean: ironbark %s", args[0], probably)
	}
	if other, known := otherWords[args[0]]; known {
		return usage("there is no command “%s”; perhaps you mean: ironbark %s", args[0], other)
	}
	if ok {
		return usage("there is no command “%s”; did you mean “%s”?", args[0], near)
	}
	return usage("there is no command “%s”", args[0])
}

// noArgs refuses arguments.
func noArgs(c *cobra.Command, args []string) error {
	if len(args) > 0 {
		return usage("%s takes no words, and “%s” is one", c.CommandPath(), args[0])
	}
	return nil
}

func (a *app) versionCommand() *cobra.Command {
	return &cobra.Command{
		Use: "version", Short: "Print the version", Args: noArgs,
		RunE: func(*cobra.Command, []string) error {
			if a.json {
				return a.print.JSON(versionDoc{Version, Commit, runtime.Version()})
			}
			a.print.Line("ironbark %s (%s, %s)", Version, Commit, runtime.Version())
			return nil
		},
	}
}
