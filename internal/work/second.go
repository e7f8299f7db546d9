package work

import (
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"ironbark/internal/change"
	"ironbark/internal/estate"
	"ironbark/internal/fault"
	"ironbark/internal/ledger"
	"ironbark/internal/plainfile"
	"ironbark/internal/sentence"
)

// Where an estate asks for it, an edit that opens anything, weakens a guarantee or gives rights waits for a second person. What is asked for and approved is one
// change of the files, from those that are enacted to others, told by their hashes: whatever else is enacted in between, or is to be enacted in its place, is another one. The
// journal is what counts; the files that were asked for lie beside it, and are believed by their hash alone.

// MostEditWait is how long an edit waits for its approvals, and how long those hold.
const MostEditWait = 24 * time.Hour

// EditRequest is an edit that somebody asked for.
type EditRequest struct {
	Seq      int64 // of the journal's entry, by which it is called
	Person   string
	At       time.Time
	What     string // in words
	Change   string // which change of the files it is
	Approved []string
	Declined bool
}

// Name is what people call it.
func (q EditRequest) Name() string { return "e" + strconv.FormatInt(q.Seq, 10) }

// Until is when it lapses.
func (q EditRequest) Until() time.Time { return q.At.Add(MostEditWait) }

// ParseEditName reads the name of an edit that was asked for.
func ParseEditName(text string) (seq int64, ok bool) {
	digits, named := strings.CutPrefix(text, "e")
	seq, err := strconv.ParseInt(digits, 10, 64)
	return seq, named && err == nil && seq > 0
}

// EditWaitsError says that an edit waits for the approval of others.
type EditWaitsError struct {
	Request EditRequest
	Needs   int // how many approvals more
	From    []string
}

// Error tells for whom.
func (e *EditWaitsError) Error() string {
	return fmt.Sprintf("this opens something, weakens a guarantee or gives rights, and waits as %s for %s of %s; nothing was changed", e.Request.Name(), countOf(e.Needs, "approval"), strings.Join(e.From, " or "))
}

func countOf(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

// Advice says what to do next.
func (e *EditWaitsError) Advice() fault.Advice {
	return fault.Say("one of them: ").Run("approve", e.Request.Name()).Say("; then: ").Run("enact", "--request", e.Request.Name())
}

// Kind is that of what changed nothing.
func (e *EditWaitsError) Kind() fault.Kind { return fault.Waiting }

// hashOf tells files apart.
func hashOf(files Files) string {
	h := sha256.New()
	for _, f := range sorted(files) {
		for _, part := range [][]byte{[]byte(f.Name), f.Data} {
			h.Write(binary.BigEndian.AppendUint64(nil, uint64(len(part))))
			h.Write(part)
		}
	}
	return hex.EncodeToString(h.Sum(nil))
}

// changeOf tells a change of the files apart from all others.
func changeOf(before, after Files) string { return hashOf(before) + ":" + hashOf(after) }

// second refuses a review that needs the approval of others and has too few, and asks for them. Whoever enacts and whoever asked are none of them.
func (w *Work) second(ctx context.Context, r *Review) error {
	rule := r.before.Estate.Edits
	if rule.Approvals == 0 {
		return nil
	}
	if m := w.replacedPassword(r); m != "" {
		return &OtherPasswordError{m}
	}
	if r.givesNothing(w.Clock.Now()) {
		return nil
	}
	which := changeOf(r.before.Files, r.Files)
	list, err := w.editRequests(ctx, which)
	if err != nil {
		return err
	}
	open := slices.DeleteFunc(list, func(q EditRequest) bool { return q.Declined })
	if len(open) == 0 {
		q, err := w.askEdit(ctx, r, which)
		if err != nil {
			return err
		}
		return &EditWaitsError{q, rule.Approvals, rule.From}
	}
	q := open[len(open)-1]
	approved := q.valid(r.before.Estate, w.Person)
	if len(approved) >= rule.Approvals {
		return nil
	}
	return &EditWaitsError{q, rule.Approvals - len(approved), rule.From}
}

// replacedPassword names a machine that is to get a password in place of one that it has; "" where none is.
func (w *Work) replacedPassword(r *Review) string {
	waiting, _ := w.waiting() // what cannot be read is not handed over
	for _, name := range append(waiting, w.Chosen...) {
		m, there := r.Estate.Machine(name)
		if had := r.specBefore(change.Machine, name).Password; there && m.Password && had && !r.before.Report.Machines[name].Locked {
			return name
		}
	}
	return ""
}

// OtherPasswordError says that a password is not put in place of another where a second person approves who gets in: nobody can look at it.
type OtherPasswordError struct{ Machine string }

// Error tells the machine.
func (e *OtherPasswordError) Error() string {
	return "another password for " + e.Machine + " would let in whoever knows it without the approval that edits need here; nothing was changed"
}

// Advice says how it is done.
func (e *OtherPasswordError) Advice() fault.Advice {
	return fault.Run("change", "machine", e.Machine, "--password", "none").Say("; then ").Run("change", "machine", e.Machine, "--password", "ask").Say(", which waits for approval")
}

// Kind is that of what changed nothing.
func (e *OtherPasswordError) Kind() fault.Kind { return fault.Conflict }

// valid lists those who approved a request and may: none who asked, or is to enact it.
func (q EditRequest) valid(e *estate.Estate, enacts string) (list []string) {
	for _, person := range q.Approved {
		if e.MayApproveEdits(person) && person != q.Person && person != enacts && !slices.Contains(list, person) {
			list = append(list, person)
		}
	}
	return list
}

// givesNothing reports whether nothing is open or may be opened after the review that was not, nobody may more or gets in with another key, and no guarantee speaks of less. Whoever else
// has to approve edits is a guarantee, too.
func (r *Review) givesNothing(now time.Time) bool {
	for _, c := range r.Changes {
		t := c.Resource
		was := r.specBefore(t.Kind, t.Name)
		switch {
		case c.Verb == change.Remove:
		case t.Kind == change.Machine && c.Verb == change.Alter && (!slices.Equal(t.Spec.Keys(), was.Keys()) || t.Spec.Password && !was.Password):
			return false
		case t.Kind == change.Machine && c.Verb == change.Alter && !slices.EqualFunc(t.Spec.Setup, was.Setup, change.Setup.Equal): // what it runs as root can let anybody in
			return false
		case t.Kind == change.Line:
			for name, p := range t.Spec.Peers {
				if was.Peers[name].Key != p.Key {
					return false
				}
			}
		}
	}
	takesIn := func(st sentence.Statement) bool { return st.Sentence.Verb() != sentence.VerbDeny }
	if !r.Drift.IsEmpty() && slices.ContainsFunc(r.Added, takesIn) { // it may say what somebody did to the site, which is then no difference
		return false
	}
	return r.before.Estate.Edits.Same(r.Estate.Edits) && r.letsNothingMore(now)
}

// specBefore is what a resource is like before the review; the zero Spec where it is not there.
func (r *Review) specBefore(kind change.Kind, name string) change.Spec {
	for _, t := range r.before.Report.Resources {
		if t.Kind == kind && t.Name == name {
			return t.Spec
		}
	}
	return change.Spec{}
}

// editWord stands before the change in entries of the journal.
const editWord = "edit "

// askEdit asks for the approval of a review.
func (w *Work) askEdit(ctx context.Context, r *Review, which string) (q EditRequest, err error) {
	data, err := json.Marshal(r.Files)
	if err != nil {
		return q, err
	}
	if err := os.MkdirAll(w.editsDir(), 0o700); err != nil {
		return q, err
	}
	if err := WriteFile(w.editFile(which), data, 0o600); err != nil {
		return q, err
	}
	q = EditRequest{Person: w.Person, At: w.Clock.Now(), What: r.saidInShort(), Change: which}
	q.Seq, err = w.Site.Note(ctx, w.Person, "ask", editWord+which+": "+q.What)
	return q, err
}

func (w *Work) editsDir() string { return filepath.Join(w.Folder.Dir, StateDir, "edits") }

func (w *Work) editFile(which string) string {
	_, after, _ := strings.Cut(which, ":")
	return filepath.Join(w.editsDir(), after)
}

// saidInShort tells an edit in a line.
func (r *Review) saidInShort() string {
	var words []string
	for _, st := range r.Added {
		words = append(words, "say "+st.Sentence.String())
	}
	for _, st := range r.Retracted {
		words = append(words, "retract "+st.Sentence.String())
	}
	for _, c := range r.Changes {
		words = append(words, string(c.Verb)+" "+string(c.Resource.Kind)+" "+c.Resource.Name)
	}
	for _, m := range r.Meanings {
		words = append(words, string(m.Verb)+" "+m.Kind+" "+m.Name)
	}
	const most = 4
	if n := len(words); n > most {
		words = append(words[:most], fmt.Sprintf("and %d more", n-most))
	}
	return strings.Join(words, "; ")
}

// editRequests lists what was asked for and has not lapsed, of one change or with "" of all, the oldest first.
func (w *Work) editRequests(ctx context.Context, which string) (list []EditRequest, err error) {
	now := w.Clock.Now()
	entries, err := w.Site.Find(ctx, ledger.Filter{Text: editWord + which, Since: now.Add(-MostEditWait)})
	for _, e := range entries {
		rest, isEdit := strings.CutPrefix(e.Text, editWord)
		if !isEdit {
			continue
		}
		of, what, _ := strings.Cut(rest, ": ")
		switch e.Action {
		case "ask":
			list = append(list, EditRequest{Seq: e.Seq, Person: e.Person, At: e.At, What: what, Change: of})
		case "approve", "decline":
			if i := slices.IndexFunc(list, func(q EditRequest) bool {
				return q.Change == of && what == q.Name() || strings.HasPrefix(what, q.Name()+" ")
			}); i >= 0 && list[i].Change == of {
				list[i].Declined = list[i].Declined || e.Action == "decline"
				if e.Action == "approve" {
					list[i].Approved = append(list[i].Approved, e.Person)
				}
			}
		}
	}
	return list, err
}

// EditsThatWait lists the edits that wait, or are approved and not enacted yet: those that are a change of what is enacted now.
func (w *Work) EditsThatWait(ctx context.Context, st *State) ([]EditRequest, error) {
	if st.Estate.Edits.Approvals == 0 { // no edit waits, and the journal need not be looked through
		return nil, nil
	}
	list, err := w.editRequests(ctx, "")
	base := hashOf(st.Files)
	return slices.DeleteFunc(list, func(q EditRequest) bool { return q.Declined || !strings.HasPrefix(q.Change, base+":") }), err
}

// NoEditError says why an edit that was asked for cannot be approved, declined or enacted.
type NoEditError struct {
	Why    string
	Person bool // nothing is wrong but the person
}

// Error tells why.
func (e *NoEditError) Error() string { return e.Why }

// Kind is that of bad input, or of a person who may not.
func (e *NoEditError) Kind() fault.Kind {
	if e.Person {
		return fault.Denied
	}
	return fault.Invalid
}

// Advice says where such edits are listed.
func (e *NoEditError) Advice() fault.Advice {
	return fault.Run("openings").Say(" lists the edits that wait")
}

// AskedEdit returns an edit that was asked for, as an edit of the files that are enacted. The error is a *NoEditError.
func (w *Work) AskedEdit(ctx context.Context, seq int64) (q EditRequest, e Edit, st *State, err error) {
	if st, err = w.Installed(ctx); err != nil {
		return q, e, nil, err
	}
	list, err := w.EditsThatWait(ctx, st)
	if err != nil {
		return q, e, st, err
	}
	i := slices.IndexFunc(list, func(q EditRequest) bool { return q.Seq == seq })
	if i < 0 {
		return q, e, st, &NoEditError{Why: fmt.Sprintf("no edit e%d waits: it was enacted or declined, has lapsed, or something else was enacted since it was asked for", seq)}
	}
	q = list[i]
	data, err := plainfile.Read(w.editFile(q.Change), maxRules)
	var files Files
	if err == nil {
		err = json.Unmarshal(data, &files)
	}
	if err != nil || changeOf(st.Files, files) != q.Change {
		return q, e, st, &NoEditError{Why: fmt.Sprintf("the files of edit %s are gone or altered: ask for it anew", q.Name())}
	}
	return q, Edit{Old: st.Files, New: files}, st, nil
}

// MayApproveEdit tells why the person may not approve an edit; nil where they may.
func (w *Work) MayApproveEdit(q EditRequest, st *State) error {
	switch {
	case q.Person == w.Person:
		return &NoEditError{"nobody approves what they asked for themselves", true}
	case !st.Estate.MayApproveEdits(w.Person):
		return &NoEditError{fmt.Sprintf("edits are for %s to approve, and %s is none of them", strings.Join(st.Estate.Edits.From, " or "), w.Person), true}
	case slices.Contains(q.Approved, w.Person):
		return &NoEditError{Why: "you have approved " + q.Name() + " already"}
	}
	return nil
}

// ApproveEdit gives the person's approval, and returns how many more it takes.
func (w *Work) ApproveEdit(ctx context.Context, seq int64) (more int, err error) {
	q, _, st, err := w.AskedEdit(ctx, seq)
	if err == nil {
		err = w.MayApproveEdit(q, st)
	}
	if err == nil {
		_, err = w.Site.Note(ctx, w.Person, "approve", editWord+q.Change+": "+q.Name())
	}
	q.Approved = append(q.Approved, w.Person)
	if err != nil {
		return 0, err
	}
	return max(st.Estate.Edits.Approvals-len(q.valid(st.Estate, q.Person)), 0), nil
}

// DeclineEdit declines an edit for whoever may approve it, or takes it back for whoever asked.
func (w *Work) DeclineEdit(ctx context.Context, seq int64, because string) (q EditRequest, err error) {
	q, _, st, err := w.AskedEdit(ctx, seq)
	if err == nil && q.Person != w.Person {
		if err = w.MayApproveEdit(q, st); err != nil && slices.Contains(q.Approved, w.Person) {
			err = nil // whoever approved it may think better of it
		}
	}
	if err == nil {
		_, err = w.Site.Note(ctx, w.Person, "decline", editWord+q.Change+": "+q.Name()+" because "+because)
	}
	return q, err
}
