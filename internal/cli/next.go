package cli

import (
	"context"
	"fmt"
	"slices"

	"ironbark/internal/flow"
	"ironbark/internal/sentence"
	"ironbark/internal/work"
)

// This file tells what comes next, where a newcomer would have to guess it.

// nextAfterAdding tells what to do with what was just put in.
func (a *app) nextAfterAdding(ctx context.Context, w *work.Work, kind string, names []string, in *nounInput) {
	name := names[0]
	switch kind {
	case "machine":
		image, known := w.Site.Catalogue().Image(in.image)
		for _, s := range image.Listens {
			if s == "https" || s == "http" && !slices.Contains(image.Listens, "https") {
				a.print.NoteWrap("next, to let others reach it: ", fmt.Sprintf("ironbark allow %s from everywhere to %s", s, name))
			}
		}
		if !known || slices.Contains(image.Listens, "ssh") {
			a.howToConnect(ctx, w, name)
		}
	case "network":
		a.print.NoteWrap("next: ", fmt.Sprintf("ironbark add subnet NAME --network %s --range PREFIX", name))
	case "subnet":
		a.print.NoteWrap("next: ", fmt.Sprintf("ironbark add machine NAME --subnet %s", name))
	case "front":
		a.print.NoteWrap("next: ", fmt.Sprintf("ironbark spread %s https over TARGET on https from everywhere tested by http /, or ironbark forward %s PORT to MACHINE on SERVICE", name, name))
	case "line":
		a.print.NoteWrap("next: ", fmt.Sprintf("ironbark add peer NAME --line %s", name))
	case "image":
		a.print.NoteWrap("next: ", fmt.Sprintf("ironbark add machine NAME --image %s", name))
	case "person":
		a.print.NoteWrap("next: ", fmt.Sprintf("ironbark permit %s to open ssh to MACHINE from SOURCE up to 2h", name))
	}
}

// nextAfterSaying tells how what was just said is used.
func (a *app) nextAfterSaying(ctx context.Context, w *work.Work, s sentence.Sentence) {
	switch s := s.(type) {
	case sentence.Permit:
		st, err := w.Installed(ctx)
		if err != nil || !slices.ContainsFunc(s.People, func(n sentence.Name) bool { return st.Estate.Belongs(w.Person, n.Text) }) {
			return
		}
		if group := flow.NewResolver(st.Estate, st.Plan).Group(s.To); len(group.Machines) > 0 && flow.ServicesOf(st.Estate, s.Services).Contains(flow.TCPPort(22)) {
			a.howToConnect(ctx, w, st.Plan.Machines[group.Machines[0]].Name)
		}
	case sentence.Allow:
		if s.Services.Any || len(s.Services.List) == 0 || s.Standing {
			return
		}
		ask, from := "why", s.From.String()
		if from == "everywhere" || from == "internet" {
			ask, from = "probe", "me"
		}
		a.print.NoteWrap("next, to see it: ", fmt.Sprintf("ironbark %s %s from %s to %s", ask, s.Services.List[0], from, s.To))
	case sentence.Spread:
		a.print.NoteWrap("next, to see it: ", fmt.Sprintf("ironbark show front %s", s.Front))
	case sentence.Forward:
		a.print.NoteWrap("next, to see it: ", fmt.Sprintf("ironbark show front %s", s.Front))
	}
}
