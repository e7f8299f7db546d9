package estate

import (
	"fmt"
	"slices"
	"strconv"

	"go.yaml.in/yaml/v4"

	"ironbark/internal/sentence"
)

// Edits says who else has to approve an edit that opens anything, weakens a guarantee or gives rights. The zero Edits is nobody.
type Edits struct {
	Approvals int      // of so many different people, none of whom asked for it or enacts it
	From      []string // people and groups who may give them
	At        sentence.Pos
}

// Same reports whether both ask for the same.
func (e Edits) Same(o Edits) bool {
	return e.Approvals == o.Approvals && slices.Equal(e.From, o.From)
}

// MayApproveEdits reports whether a person is one of those who may approve edits.
func (e *Estate) MayApproveEdits(person string) bool {
	return slices.ContainsFunc(e.Edits.From, func(name string) bool { return e.Belongs(person, name) })
}

func (r *reader) edits(n *yaml.Node) {
	e := &r.estate.Edits
	e.At = r.at(n)
	r.fields(n, "edits", map[string]field{
		"approvals": func(v *yaml.Node) {
			text, _ := r.text(v, "approvals")
			count, err := strconv.Atoi(text)
			if err != nil || count < 1 || count > sentence.MaxApprovals {
				r.failAt(v, fmt.Sprintf("%q: a number of approvals is from 1 to %d", text, sentence.MaxApprovals), "")
			}
			e.Approvals = count
		},
		"from": func(v *yaml.Node) { e.From = r.names(v, "from") },
	}, "approvals", "from")
}

// checkEdits looks whether there are people enough who may approve.
func (r *reader) checkEdits() {
	e := r.estate.Edits
	if e.Approvals == 0 {
		return
	}
	able := 0
	for _, p := range r.estate.People {
		if r.estate.MayApproveEdits(p.Name) {
			able++
		}
	}
	for _, name := range e.From {
		if !r.estate.names.people[name] {
			r.fail(e.At, fmt.Sprintf("there is no person or group “%s”", name), "")
			return
		}
	}
	if able < e.Approvals {
		r.fail(e.At, fmt.Sprintf("edits need the approval of %d, and no more than %d may give it", e.Approvals, able), "name more people, or ask for fewer approvals: nobody could open anything any more")
	}
}
