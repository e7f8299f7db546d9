package cli

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ironbark/internal/change"
	"ironbark/internal/cli/view"
	"ironbark/internal/estate"
	"ironbark/internal/work"
)

// How long recipients are waited for: by each command when it is done, and by those that are there for it.
var (
	inPassing = work.Patience{Each: time.Second, Again: 30 * time.Second}
	onPurpose = work.Patience{Each: 30 * time.Second}
)

// tellInPassing tells recipients of what was done, once a command is done or goes on with a session: for a second at most. Whatever becomes of that becomes of nothing else; status tells it.
func (a *app) tellInPassing(w *work.Work) {
	ctx, cancel := context.WithTimeout(context.Background(), inPassing.Each)
	defer cancel()
	if behind, err := w.Behind(ctx); err == nil && behind {
		_, _ = w.Tell(ctx, inPassing)
	}
}

func (a *app) notifyCommand() *cobra.Command {
	var follow bool
	var try, accept string
	c := &cobra.Command{
		Use: "notify", Short: "Tell recipients of the journal's entries, and list how far each was told", Args: noArgs,
		Long: "Tell the recipients of the estate of the entries of the journal that they were not told of yet, in order, and list how far\n" +
			"each was told. Each command does so for a second when it is done, or before a session that it opens; --follow goes on, and\n" +
			"tries again what failed. --try NAME sends a trial. A command is run for those alone who enacted it on this computer or accept\n" +
			"it with --accept NAME.\n\nExit status 1: a recipient could not be told.",
		Example: "  ironbark notify\n  ironbark notify --follow\n  ironbark notify --try watchroom",
		RunE: a.with(func(ctx context.Context, w *work.Work, _ []string) error {
			switch {
			case follow && try+accept != "", try != "" && accept != "":
				return usage("--follow, --try and --accept each stand alone")
			case try != "":
				if err := w.Try(ctx, try, onPurpose); err != nil {
					return fmt.Errorf("%s was not told: %w", try, err)
				}
				a.print.Line("told %s", try)
				return nil
			case accept != "":
				return a.acceptCommand(ctx, w, accept)
			case follow:
				return a.followTelling(ctx, w)
			}
			list, err := w.Tell(ctx, onPurpose)
			if err != nil {
				return err
			}
			if a.json {
				err = a.print.JSON(view.RecipientsDoc{Recipients: view.RecipientsJSON(list)})
			} else {
				a.print.Recipients(list, a.clock.Now())
			}
			if err == nil && slices.ContainsFunc(list, func(t work.Told) bool { return t.Why != "" }) {
				return errUntold
			}
			return err
		}),
	}
	c.Flags().BoolVar(&follow, "follow", false, "go on with what is done from now on, until interrupted")
	c.Flags().StringVar(&try, "try", "", "send a trial to this recipient, and nothing else")
	c.Flags().StringVar(&accept, "accept", "", "have the command of this recipient run when you work with this estate on this computer")
	return c
}

// errUntold is the end of a command that has told of recipients that could not be told.
var errUntold = errors.New("not every recipient could be told")

// How long it is waited after a failure, at the first and at the most.
const (
	leastWait = time.Second
	mostWait  = time.Minute
)

// followTelling tells recipients of entries as they are made, and waits longer each time that something failed.
func (a *app) followTelling(ctx context.Context, w *work.Work) error {
	ctx, stop := untilSignal(ctx)
	defer stop()
	said := map[string]string{}
	wait, next := leastWait, time.Time{}
	for {
		behind, err := w.Behind(ctx)
		if err == nil && behind && !time.Now().Before(next) {
			var list []work.Told
			list, err = w.Tell(ctx, onPurpose)
			failed := false
			for _, t := range list {
				if t.Why != said[t.Recipient.Name] {
					said[t.Recipient.Name] = t.Why
					if t.Why == "" {
						a.print.Note("%s is told again", t.Recipient.Name)
					} else {
						a.print.Note("%s was not told: %s", t.Recipient.Name, t.Why)
					}
				}
				failed = failed || t.Why != ""
			}
			if failed {
				next = time.Now().Add(wait)
				wait = min(2*wait, mostWait)
			} else {
				wait = leastWait
			}
		}
		switch {
		case ctx.Err() != nil:
			return nil
		case err != nil:
			return err
		case !goOn(ctx):
			return nil
		}
	}
}

// acceptedFile is the file of commands that a person has accepted on this computer.
func acceptedFile() (string, error) {
	known, err := knownFile()
	return filepath.Join(filepath.Dir(known), "commands"), err
}

// commandLine is what stands in that file for a command of an estate.
func commandLine(id string, t estate.Recipient) string {
	sum := sha256.Sum256([]byte(strings.Join(t.Command, "\x00")))
	return id + " " + hex.EncodeToString(sum[:])
}

// accepts reports whether the person has accepted a recipient's command: a folder that came from somebody else runs nothing.
func (a *app) accepts(w *work.Work) func(t estate.Recipient) bool {
	return func(t estate.Recipient) bool {
		path, err := acceptedFile()
		if err != nil {
			return false
		}
		id, err := w.Site.EstateID(context.Background())
		if err != nil || id == "" {
			return false
		}
		data, _ := os.ReadFile(path)
		return slices.Contains(strings.Split(string(data), "\n"), commandLine(id, t))
	}
}

// acceptAll accepts the commands of recipients.
func (a *app) acceptAll(ctx context.Context, w *work.Work, list []estate.Recipient) error {
	id, err := w.Site.EstateID(ctx)
	if err != nil {
		return err
	}
	path, err := acceptedFile()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	f, err := os.OpenFile(path, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	for _, t := range list {
		if err == nil && len(t.Command) > 0 && !a.accepts(w)(t) {
			_, err = f.WriteString(commandLine(id, t) + "\n")
		}
	}
	return errors.Join(err, f.Close())
}

// acceptCommand accepts the command of one recipient.
func (a *app) acceptCommand(ctx context.Context, w *work.Work, name string) error {
	t, err := w.Recipient(ctx, name)
	switch {
	case err != nil:
		return err
	case len(t.Command) == 0:
		return usage("recipient %s has no command: there is nothing to accept", name)
	}
	if err := a.acceptAll(ctx, w, []estate.Recipient{t}); err != nil {
		return err
	}
	a.print.Line("accepted on this computer: %s", strings.Join(t.Command, " "))
	return nil
}

// acceptEnacted accepts the commands that an enactment brought: its review told them.
func (a *app) acceptEnacted(ctx context.Context, w *work.Work, r *work.Review) error {
	var list []estate.Recipient
	for _, m := range r.Meanings {
		if m.Kind == "recipient" && m.Verb != change.Remove {
			for _, t := range r.Estate.Recipients {
				if t.Name == m.Name && len(t.Command) > 0 {
					list = append(list, t)
				}
			}
		}
	}
	if len(list) == 0 {
		return nil
	}
	return a.acceptAll(ctx, w, list)
}
