package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ironbark/internal/cli/view"
	"ironbark/internal/exposure"
	"ironbark/internal/findings"
	"ironbark/internal/journal"
	"ironbark/internal/work"
)

func (a *app) journalCommand() *cobra.Command {
	var last int
	c := &cobra.Command{
		Use: "journal", Short: "List what was done to the site, and check that the record is whole", Args: noArgs,
		Long: "List what was done to the site, by whom and when. The entries are chained by hash: one that is missing or was\naltered is told, with exit status 1.",
		RunE: a.with(func(ctx context.Context, w *work.Work, _ []string) error {
			entries, head, err := w.Site.Journal(ctx)
			if err != nil {
				return err
			}
			broken := journal.Verify(entries, head)
			shown := entries
			if last > 0 && len(shown) > last {
				shown = shown[len(shown)-last:]
			}
			if a.json {
				type entry struct {
					Seq    int64     `json:"seq"`
					At     time.Time `json:"at"`
					Person string    `json:"person"`
					Action string    `json:"action"`
					Text   string    `json:"text"`
					Hash   string    `json:"hash"`
				}
				list := make([]entry, 0, len(shown))
				for _, e := range shown {
					list = append(list, entry{e.Seq, e.At.UTC(), e.Person, e.Action, e.Text, e.Hash})
				}
				err = a.print.JSON(map[string]any{"whole": broken == nil, "entries": list})
			} else {
				var rows [][]string
				for _, e := range shown {
					rows = append(rows, []string{fmt.Sprint(e.Seq), e.At.UTC().Format("2006-01-02 15:04:05Z"), e.Person, e.Action, e.Text})
				}
				a.print.Table([]string{"NO", "AT", "BY", "DID", "WHAT"}, rows, 0)
				if broken == nil {
					a.print.Note("%d entries, and the chain is whole", len(entries))
				}
			}
			if broken != nil {
				return fmt.Errorf("the journal is not whole: %w", broken)
			}
			return err
		}),
	}
	c.Flags().IntVar(&last, "last", 0, "only so many of the latest entries")
	return c
}

func (a *app) statusCommand() *cobra.Command {
	return &cobra.Command{
		Use: "status", Short: "Show the estate on one screen", Args: noArgs,
		RunE: a.with(func(ctx context.Context, w *work.Work, _ []string) error {
			st, err := w.Asked(ctx, false)
			if err != nil {
				return err
			}
			now := a.clock.Now()
			reach := exposure.NewView(st.Plan, now).ReachAll()
			found := findings.Look(st.Estate, st.Plan, now)
			broken := exposure.Guarantees(st.Estate, st.Plan, now)
			if a.json {
				return a.print.JSON(view.StatusJSON(st, reach, found, broken, now))
			}
			a.print.Status(st, reach, found, broken, now)
			return nil
		}),
	}
}

// story is one step of the demo: what it shows, and the command.
type story struct {
	tell string
	args []string
	exit int
}

func step(exit int, tell string, args ...string) story { return story{tell, args, exit} }

var theStory = []story{
	step(0, "A new estate: one network, nobody in it, nothing reachable.", "new", "saltmarsh"),
	step(0, "A key pair. Its private half never leaves this folder.", "add", "key", "ops", "--yes"),
	step(0, "A machine with a public address. Nobody can reach it: look at part 2 of the review.",
		"add", "machine", "gauge-web-1", "--image", "linux-web", "--size", "c1m2", "--at", "landing", "--key", "ops", "--address", "auto", "--yes"),
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
	step(0, "The same asked with a packet, which goes through the installed tables and knows nothing of the analysis.",
		"probe", "ssh", "from", "me", "to", "gauge-web-1"),
	step(0, "What is open for a while:", "openings"),
	step(0, "A web server is meant to be reached. The review shows the difference in exposure before anything is done.",
		"allow", "https", "from", "everywhere", "to", "gauge-web-1", "--yes"),
	step(0, "Who can reach what, all of it:", "reach"),
	step(0, "The estate on one screen:", "status"),
	step(0, "The keys are rotated. Close it, ahead of its end.", "close", "gauge-web-1"),
	step(3, "And ssh is closed again.", "why", "ssh", "from", "198.51.100.7", "to", "gauge-web-1"),
	step(0, "Everything that was done is in the journal, chained by hash.", "journal"),
}

func (a *app) demoCommand() *cobra.Command {
	var dir string
	c := &cobra.Command{
		Use: "demo", Short: "Show the whole story on the stand-in cloud, narrated", Args: noArgs,
		RunE: func(*cobra.Command, []string) error {
			base, done, err := demoFolder(dir)
			if err != nil {
				return err
			}
			defer done()
			for i, s := range theStory {
				a.print.Line("")
				a.print.Head(fmt.Sprintf("%d. %s", i+1, s.tell))
				a.print.Line("%s", a.print.Quiet("$ ironbark "+strings.Join(quoted(s.args), " ")))
				if got := a.tellStory(base, i, s); got != s.exit {
					return fmt.Errorf("the story went another way than it should: exit status %d, not %d", got, s.exit)
				}
			}
			a.print.Line("")
			if dir != "" {
				a.print.Line("The estate is in %s/saltmarsh.", dir)
			}
			return nil
		},
	}
	c.Flags().StringVar(&dir, "dir", "", "keep the estate's files in this folder")
	return c
}
