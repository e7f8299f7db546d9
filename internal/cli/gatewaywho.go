package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"time"

	"github.com/dustin/go-humanize"

	"ironbark/internal/cli/view"
	"ironbark/internal/fault"
	"ironbark/internal/flow"
	"ironbark/internal/gateway"
	"ironbark/internal/work"
)

// gatewaySessions lists the sessions of bastions, or ends one of them.
func (a *app) gatewaySessions(ctx context.Context, w *work.Work, args []string, end int64) error {
	st, err := w.Installed(ctx)
	if err != nil {
		return err
	}
	known := st.Estate.NamesOf("bastion")
	if len(args) == 1 && !slices.Contains(known, args[0]) {
		return unknownName("bastion", args[0], known)
	}
	doc := gatewayDoc{Sessions: []gatewaySessionDoc{}, Stopped: []string{}}
	for _, name := range known {
		if len(args) == 1 && args[0] != name {
			continue
		}
		list, err := gateway.Ask(w.GatewayDir(name))
		if errors.Is(err, gateway.ErrNotRunning) {
			doc.Stopped = append(doc.Stopped, name)
			continue
		}
		if err != nil {
			return fmt.Errorf("the gateway of %s: %w", name, err)
		}
		for _, s := range list {
			if s.Number == end {
				return a.endSession(ctx, w, name, s)
			}
			doc.Sessions = append(doc.Sessions, sessionDocOf(st, name, s))
		}
	}
	if end != 0 {
		return wrong("no session %d goes on: ironbark gateway --who lists them", end)
	}
	if a.json {
		return a.print.JSON(doc)
	}
	a.printSessions(doc)
	return nil
}

func (a *app) printSessions(doc gatewayDoc) {
	if len(doc.Sessions) > 0 {
		rows := [][]string{}
		for _, s := range doc.Sessions {
			rows = append(rows, []string{strconv.FormatInt(s.Number, 10), s.Person, s.From, s.Via, s.Machine, s.Service, view.Moment(s.Since, a.clock.Now()), humanize.Bytes(uint64(s.Sent)), humanize.Bytes(uint64(s.Received))})
		}
		a.print.Table([]string{"NUMBER", "PERSON", "FROM", "VIA", "MACHINE", "SERVICE", "SINCE", "SENT", "RECEIVED"}, rows)
	} else if len(doc.Stopped) == 0 {
		a.print.Line("Nobody is in a session.")
	}
	for _, name := range doc.Stopped {
		a.print.Line("The gateway of %s is not running.", name)
	}
}

// endSession ends a session and tells so once it is over.
func (a *app) endSession(ctx context.Context, w *work.Work, name string, s gateway.Session) error {
	if !w.MayEnd(ctx, s) {
		return &notYourSessionError{s}
	}
	went, left, err := gateway.AskEnd(w.GatewayDir(name), s.Number, "ended by "+w.Person)
	switch {
	case err != nil:
		return err
	case !went:
		return wrong("session %d has just ended by itself", s.Number)
	case slices.ContainsFunc(left, func(o gateway.Session) bool { return o.Number == s.Number }):
		return fmt.Errorf("session %d was told to end, and goes on", s.Number)
	}
	a.print.Line("ended  session %d: %s from %s to %s", s.Number, s.Person, s.Client, s.Machine)
	return nil
}

// notYourSessionError says that somebody may not end a session.
type notYourSessionError struct{ s gateway.Session }

// Error tells whose it is.
func (n *notYourSessionError) Error() string {
	return fmt.Sprintf("session %d is %s's; they or a lead can end it", n.s.Number, n.s.Person)
}

// Kind is that of a person who may not.
func (n *notYourSessionError) Kind() fault.Kind { return fault.Denied }

// gatewayDoc lists the sessions of gateways.
type gatewayDoc struct {
	Sessions []gatewaySessionDoc `json:"sessions"`
	Stopped  []string            `json:"stopped"` // bastions whose gateway is not running
}

// gatewaySessionDoc is a part of the document gatewayDoc.
type gatewaySessionDoc struct {
	Number   int64     `json:"number"`
	Person   string    `json:"person"`
	From     string    `json:"from"`
	Via      string    `json:"via"`
	Machine  string    `json:"machine"`
	Service  string    `json:"service"`
	Since    time.Time `json:"since"`
	Sent     int64     `json:"sent"`     // bytes from the client
	Received int64     `json:"received"` // bytes to the client
	Login    string    `json:"login"`
}

func sessionDocOf(st *work.State, via string, s gateway.Session) gatewaySessionDoc {
	return gatewaySessionDoc{s.Number, s.Person, s.Client.String(), via, s.Machine, flow.NameService(flow.TCPPort(s.Port), flow.Namings(st.Estate.NamesOf("service"), st.Estate)), s.Since.UTC(), s.Up, s.Down, s.Login}
}
