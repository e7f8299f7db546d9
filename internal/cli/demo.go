package cli

import (
	"context"
	_ "embed"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ironbark/internal/cli/view"
	"ironbark/internal/estate"
	"ironbark/internal/sentence"
	"ironbark/internal/work"
)

// story is one step of the demo: what it shows, and the command.
type story struct {
	tell string
	args []string
	exit int
	wait time.Duration // before it
}

func step(exit int, tell string, args ...string) story {
	return story{tell: tell, args: args, exit: exit}
}

var theStory = []story{
	step(0, "A new estate: one network, nobody in it, nothing reachable.", "new", "saltmarsh"),
	step(0, "A key pair. Its private half never leaves this folder.", "add", "key", "ops", "--yes"),
	step(0, "A machine with a public address. Nobody can reach it: look at part 2 of the review.",
		"add", "machine", "gauge-web-1", "--image", "linux-web", "--size", "c1m2", "--subnet", "landing", "--key", "ops", "--address", "auto", "--yes"),
	step(3, "May somebody reach ssh on it? No, and here is why and what would change that.",
		"why", "ssh", "from", "198.51.100.7", "to", "gauge-web-1"),
	step(6, "An opening needs a permit, so this is refused.",
		"open", "ssh", "to", "gauge-web-1", "from", "198.51.100.7", "for", "1h", "because", "rotate keys"),
	step(0, "So the group ops is permitted to open ssh, for four hours at most.",
		"permit", "ops", "to", "open", "ssh", "to", "gauge-*", "from", "everywhere", "up", "to", "4h", "--yes"),
	step(0, "Now it opens, for an hour, for one address, with a reason.",
		"open", "ssh", "to", "gauge-web-1", "from", "198.51.100.7", "for", "1h", "because", "rotate keys"),
	step(0, "Asked again, the answer is yes, until when and by what.",
		"why", "ssh", "from", "198.51.100.7", "to", "gauge-web-1"),
	step(3, "The same asked with packets, which go through the installed tables and know nothing of the analysis. From the address that it was opened to one gets through; from the other one none does, so the answer is not a plain yes.",
		"probe", "ssh", "from", "me", "to", "gauge-web-1"),
	step(0, "What is open for a while:", "openings"),
	step(0, "A web server is meant to be reached. The review shows the difference in exposure before anything is done.",
		"allow", "https", "from", "everywhere", "to", "gauge-web-1", "--yes"),
	step(0, "Who can reach what, all of it:", "reach"),
	step(0, "The estate on one screen:", "status"),
	step(0, "Another machine is set up at its first start, by a recipe that ships with the site. What it listens on follows from that.",
		"add", "machine", "tide-page", "--image", "linux-base", "--size", "c1m1", "--subnet", "landing", "--key", "ops", "--setup", "web-server", "--yes"),
	step(0, "A disk that outlives its machine.", "add", "volume", "charts", "--gb", "100", "--machine", "tide-page", "--yes"),
	step(0, "The machine, what its first start said, and who gets in.", "show", "machine", "tide-page"),
	step(0, "What it costs:", "cost"),
	step(0, "Somebody opens ssh to the whole world, and does not use ironbark for it.", "sim", "meddle", "open", "ssh", "to", "gauge-web-1", "from", "everywhere"),
	step(0, "The status tells what came of that, and since when.", "status"),
	step(0, "Enacting puts it right.", "enact", "--yes"),
	step(0, "The keys are rotated. Close it, ahead of its end.", "close", "gauge-web-1"),
	step(3, "And ssh is closed again.", "why", "ssh", "from", "198.51.100.7", "to", "gauge-web-1"),
	step(0, "Log in: ssh is opened, used, and closed again, in one command.", "connect", "gauge-web-1", "--for", "30m", "--because", "look at the disk", "hostname"),
	step(0, "Everything that was done is in the journal, chained by hash.", "journal"),
	step(0, "Now the whole observatory, as shipped: a front, a bastion, a line, guarantees. What would enacting it do?", "review", "--estate", "observatory"),
	step(0, "Enact it.", "enact", "--yes", "--estate", "observatory"),
	step(0, "Who can reach what there:", "reach", "--estate", "observatory"),
	step(0, "The same as a map: closed is quiet, and open is what the eye meets.", "map", "--estate", "observatory"),
	step(3, "A forward leads to ssh, and ssh is still closed behind it: what counts is where a flow arrives.",
		"why", "tcp/8022", "from", "198.51.100.7", "to", "pier", "--estate", "observatory"),
	step(3, "A mistake: the archive for the whole internet. A guarantee stands in the way, with a flow as evidence, and nothing is done.",
		"allow", "any", "from", "internet", "to", "tide-archive", "--yes", "--estate", "observatory"),
}

func (a *app) demoCommand() *cobra.Command {
	var dir, place string
	c := &cobra.Command{
		Use: "demo", Short: "Show the whole story, narrated, on the stand-in cloud or on this host", Args: noArgs,
		Long: "Show the whole story, narrated: on the stand-in cloud, or with --site linux on this very host, in network namespaces\n" +
			"that are taken away at the end. That needs root.",
		RunE: func(*cobra.Command, []string) error {
			if a.json {
				return usage("the demo is told in words: leave --json out")
			}
			if place != estate.Sim && place != estate.Linux {
				return usage("--site is %s or %s, not “%s”", estate.Sim, estate.Linux, place)
			}
			base, done, err := demoFolder(dir)
			if err != nil {
				return err
			}
			defer done()
			if place == estate.Linux {
				return a.demoLinux(base)
			}
			if err := layObservatory(filepath.Join(base, "observatory")); err != nil {
				return err
			}
			for i, s := range theStory {
				if err := a.tellStep(base, i, s); err != nil {
					return err
				}
			}
			a.print.Line("")
			if dir != "" {
				a.print.Line("The estates are in %s: saltmarsh and observatory.", dir)
			}
			return nil
		},
	}
	c.Flags().StringVar(&dir, "dir", "", "keep the estate's files in this folder")
	c.Flags().StringVar(&place, "site", estate.Sim, "where it plays: sim or linux")
	return c
}

// demoFolder returns the folder for the demo's estate, and what takes it away again.
func demoFolder(dir string) (string, func(), error) {
	if dir != "" {
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return "", nil, err
		}
		return dir, func() {}, nil
	}
	tmp, err := os.MkdirTemp("", "ironbark-demo-")
	if err != nil {
		return "", nil, err
	}
	return tmp, func() { _ = os.RemoveAll(tmp) }, nil
}

// tellStep tells one step, and holds it to the way that the story goes.
func (a *app) tellStep(base string, i int, s story) error {
	a.print.Line("")
	a.print.Head(fmt.Sprintf("%d. %s", i+1, s.tell))
	a.print.Line("%s", a.print.Quiet("$ ironbark "+sentence.Shell(s.args...)))
	time.Sleep(s.wait)
	if got := a.tellStory(base, i, s); got != s.exit {
		return fmt.Errorf("the story went another way than it should: exit status %d, not %d", got, s.exit)
	}
	return nil
}

// placeOf is where the options of a step's command may stand that it does not show: before the words of a
// command that is run on a machine, and otherwise at the end.
func placeOf(args []string) int {
	if args[0] == "connect" {
		return 1
	}
	return len(args)
}

// tellStory runs one command of the story as the program would, with all that
// it prints on one stream, and returns its exit status.
func (a *app) tellStory(base string, i int, s story) int {
	one := &app{
		drain: work.DrainTime, demo: true,
		in: strings.NewReader(""), clock: a.clock,
		print: &view.Printer{Out: a.print.Out, Err: a.print.Out, Width: a.print.Width, ErrWidth: a.print.Width, Colour: a.print.Colour},
	}
	args := slices.Clone(s.args)
	if at := slices.Index(args, "--estate"); at >= 0 {
		args[at+1] = filepath.Join(base, args[at+1])
		args = append(args, "--person", "mara")
	} else {
		where := base
		if i > 0 {
			where = filepath.Join(base, "saltmarsh")
		}
		args = slices.Insert(args, placeOf(args), "--estate", where, "--person", "mara")
	}
	root := one.root()
	root.SetOut(a.print.Out)
	root.SetErr(a.print.Out)
	root.SetArgs(hideReasons(remoteCommand(args)))
	return one.status(root.ExecuteContext(context.Background()))
}

//go:embed saltmarsh/estate.yaml
var observatoryNouns []byte

//go:embed saltmarsh/estate.rules
var observatoryRules []byte

// layObservatory writes the shipped estate into a folder.
func layObservatory(dir string) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	for name, data := range map[string][]byte{estate.FileName: observatoryNouns, estate.RulesName: observatoryRules} {
		path := filepath.Join(dir, name)
		if _, err := os.Stat(path); err == nil {
			return usage("%s is there already; nothing was written", path)
		}
		if err := work.WriteFile(path, data, 0o644); err != nil {
			return err
		}
	}
	return nil
}
