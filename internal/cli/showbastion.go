package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"ironbark/internal/change"
	"ironbark/internal/cli/view"
	"ironbark/internal/gateway"
	"ironbark/internal/sentence"
	"ironbark/internal/work"
)

// bastionDoc is the document of a bastion.
type bastionDoc struct {
	view.ResourceDoc
	Serves   *bool      `json:"serves"`            // its gateway runs; null where it cannot be asked
	Unasked  string     `json:"unasked,omitempty"` // why not
	Sessions int        `json:"sessions"`
	Routes   []routeDoc `json:"routes"`
	Keyless  []string   `json:"keyless"` // whom a route lets through, and who have no key to log in with
}

// routeDoc is a part of the document bastionDoc.
type routeDoc struct {
	Sentence string `json:"sentence"`
	File     string `json:"file"`
	Line     int    `json:"line"`
}

// showResource shows one resource that is no machine.
func (a *app) showResource(ctx context.Context, w *work.Work, st *work.State, t change.Resource) error {
	switch t.Kind {
	case change.Front:
		return a.showFront(ctx, w, st, t)
	case change.Line:
		return a.showLine(ctx, w, st, t)
	}
	if t.Kind != change.Bastion {
		if a.json {
			return a.print.JSON(view.ResourceJSON(t, st))
		}
		a.print.Resource(t, st)
		return nil
	}
	doc := bastionDocOf(w, st, t)
	if a.json {
		return a.print.JSON(doc)
	}
	a.print.Resource(t, st)
	switch {
	case doc.Serves == nil:
		a.print.Wrap("  gateway  ", "not known: "+doc.Unasked)
	case *doc.Serves:
		a.print.Line("  gateway  serves, %s: ironbark gateway --who", view.Count(doc.Sessions, "session"))
	default:
		a.print.Line("  gateway  not running: ironbark gateway %s", t.Name)
	}
	for _, r := range doc.Routes {
		a.print.Wrap("  routes   ", fmt.Sprintf("%s  (%s:%d)", r.Sentence, r.File, r.Line))
	}
	if len(doc.Keyless) > 0 {
		a.print.Wrap("  but      ", fmt.Sprintf("the estate has no key of %s: ironbark change person NAME --public-key KEY", strings.Join(doc.Keyless, ", ")))
	}
	return nil
}

// bastionDocOf tells how a bastion's gateway does, whom it lets through, and who has no key for it.
func bastionDocOf(w *work.Work, st *work.State, t change.Resource) bastionDoc {
	doc := bastionDoc{ResourceDoc: view.ResourceJSON(t, st), Routes: []routeDoc{}, Keyless: []string{}}
	list, err := gateway.Ask(w.GatewayDir(t.Name))
	if serves := err == nil; serves || errors.Is(err, gateway.ErrNotRunning) {
		doc.Serves, doc.Sessions = &serves, len(list)
	} else {
		doc.Unasked = err.Error()
	}
	for _, one := range st.Estate.SentencesOf(sentence.VerbRoute) {
		route := one.Sentence.(sentence.Route)
		if route.Via.Text != t.Name {
			continue
		}
		doc.Routes = append(doc.Routes, routeDoc{route.String(), one.At.File, one.At.Line})
		for _, p := range st.Estate.People {
			through := slices.ContainsFunc(route.For, func(n sentence.Name) bool { return st.Estate.Belongs(p.Name, n.Text) })
			if through && len(p.Keys) == 0 && len(st.Estate.Authorities) == 0 && !slices.Contains(doc.Keyless, p.Name) {
				doc.Keyless = append(doc.Keyless, p.Name)
			}
		}
	}
	return doc
}
