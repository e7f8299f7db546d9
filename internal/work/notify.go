package work

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"ironbark/internal/estate"
	"ironbark/internal/fault"
	"ironbark/internal/journal"
	"ironbark/internal/ledger"
	"ironbark/internal/notify"
	"ironbark/internal/plainfile"
	"ironbark/internal/syslog"
)

// Patience says how long recipients are waited for.
type Patience struct {
	Each  time.Duration // for one entry
	Again time.Duration // after a failure, until the recipient is tried again
}

// Told is how a recipient stands.
type Told struct {
	Recipient estate.Recipient
	Seq       int64 // of the last entry that it was told of, or did not want to be told of
	Behind    int64 // how many entries there are after it
	Failed    time.Time
	Why       string
	Tries     int // that failed for the next entry
}

// EntryDoc is the document that a command gets of an entry.
type EntryDoc struct {
	Estate string    `json:"estate"`
	Seq    int64     `json:"seq"`
	At     time.Time `json:"at"`
	Person string    `json:"person"`
	Action string    `json:"action"`
	Text   string    `json:"text"`
	Hash   string    `json:"hash"`
	Anchor string    `json:"anchor"`
	Cut    string    `json:"cut,omitempty"` // why the entry could not be delivered whole: the text is its beginning
}

// Behind reports whether any recipient has not been told of all entries. Cost: constant.
func (w *Work) Behind(ctx context.Context) (bool, error) {
	list, last, err := w.Site.Deliveries(ctx)
	return slices.ContainsFunc(list, func(d ledger.Delivery) bool { return d.Seq < last }), err
}

// Tell tells each recipient of the entries that it has not been told of, in order, all recipients at once. One at a time does so; whoever comes
// meanwhile leaves it to that one. What could not be delivered is told again the next time. The error is of the record alone.
func (w *Work) Tell(ctx context.Context, patience Patience) ([]Told, error) {
	e, err := w.Site.Enacted(ctx)
	if err != nil {
		return nil, err
	}
	release, err := w.Site.Telling(ctx)
	if err != nil {
		return nil, err
	}
	if release == nil {
		return w.Recipients(ctx, e)
	}
	list, err := w.Recipients(ctx, e)
	if err == nil && slices.ContainsFunc(list, func(t Told) bool { return t.Behind > 0 }) {
		err = w.tell(ctx, list, e.Name, patience)
	}
	return list, errors.Join(err, release())
}

// Recipients tells how each recipient of an estate, as it was last enacted, stands. Cost: constant but for their number.
func (w *Work) Recipients(ctx context.Context, e *estate.Estate) (told []Told, err error) {
	if len(e.Recipients) == 0 {
		return nil, nil
	}
	list, last, err := w.Site.Deliveries(ctx)
	for _, t := range e.Recipients {
		if i := slices.IndexFunc(list, func(d ledger.Delivery) bool { return d.Recipient == t.Name }); i >= 0 {
			told = append(told, Told{Recipient: t, Seq: list[i].Seq, Behind: last - list[i].Seq, Failed: list[i].Failed, Why: list[i].Why, Tries: list[i].Tries})
		}
	}
	return told, err
}

func (w *Work) tell(ctx context.Context, list []Told, name string, patience Patience) error {
	id, err := w.Site.EstateID(ctx)
	if err != nil {
		return err
	}
	errs := make([]error, len(list))
	var all sync.WaitGroup
	for i := range list {
		t := &list[i]
		if t.Behind == 0 || !t.Failed.IsZero() && patience.Again > 0 && w.Clock.Now().Sub(t.Failed).Abs() < patience.Again {
			continue
		}
		all.Go(func() { errs[i] = w.tellOne(ctx, t, name, id, patience) })
	}
	all.Wait()
	return errors.Join(errs...)
}

// mostAtOnce is how many entries are read at a time.
const mostAtOnce = 100

// tellOne tells one recipient of all that it has not been told of, until something fails.
func (w *Work) tellOne(ctx context.Context, t *Told, name, id string, patience Patience) (err error) {
	var to notify.Sender
	defer func() {
		if to != nil {
			_ = to.Close() // what was sent was acknowledged
		}
	}()
	note := func() error {
		return w.Site.Delivered(context.WithoutCancel(ctx), ledger.Delivery{Recipient: t.Recipient.Name, Seq: t.Seq, Failed: t.Failed, Why: t.Why, Tries: t.Tries})
	}
	for {
		entries, err := w.Site.EntriesAfter(ctx, t.Seq, mostAtOnce)
		if err != nil || len(entries) == 0 {
			return err
		}
		for i, e := range entries {
			sent := t.Recipient.Wants(e.Action)
			if sent {
				if failed := w.sendWholeOrCut(ctx, &to, t, entryDocOf(e, name, id), patience); failed != nil {
					t.Failed, t.Why = w.Clock.Now(), oneLine(failed.Error())
					return note()
				}
			}
			t.Seq, t.Behind = e.Seq, t.Behind-1
			t.Failed, t.Why, t.Tries = time.Time{}, "", 0
			if sent || i == len(entries)-1 {
				if err := note(); err != nil {
					return err
				}
			}
		}
	}
}

// mostTriesWhole of one entry fail before it is sent cut, in case that it is the entry which cannot be delivered.
const mostTriesWhole = 5

// sendWholeOrCut sends an entry. One that is too long, or that failed several times, is sent cut and marked as that, so that those after it are not
// held up; where that fails too, nothing is delivered.
func (w *Work) sendWholeOrCut(ctx context.Context, to *notify.Sender, t *Told, e EntryDoc, patience Patience) error {
	failed := w.send(ctx, to, t.Recipient, noteOf(e, t.Recipient), patience)
	if failed == nil {
		return nil
	}
	t.Tries++
	if t.Tries < mostTriesWhole && !errors.Is(failed, unix.EMSGSIZE) {
		return failed
	}
	for _, most := range []int{mostCut, 0} {
		if w.send(ctx, to, t.Recipient, noteOf(e.cut(most, oneLine(failed.Error())), t.Recipient), patience) == nil {
			return nil
		}
	}
	return failed
}

// mostCut is how much is left of a text that is cut first, in bytes.
const mostCut = 200

// cut returns the entry with the beginning of its words, in printable ASCII.
func (d EntryDoc) cut(most int, why string) EntryDoc {
	plain := func(text string) string {
		return strings.Map(func(r rune) rune {
			if r < ' ' || r > '~' {
				return '?'
			}
			return r
		}, journal.Cut(text, most))
	}
	d.Person, d.Text, d.Cut = plain(d.Person), plain(d.Text), oneLine(why)
	return d
}

// oneLine is text in one line, of no great length.
func oneLine(text string) string {
	const most = 300
	text = strings.Join(strings.Fields(text), " ")
	if len(text) > most {
		text = strings.ToValidUTF8(text[:most], "") + "…"
	}
	return text
}

// send sends one note, to a recipient that is called first where it was not yet.
func (w *Work) send(ctx context.Context, to *notify.Sender, t estate.Recipient, n notify.Note, patience Patience) (err error) {
	ctx, cancel := context.WithTimeout(ctx, patience.Each)
	defer cancel()
	if *to == nil {
		if *to, err = w.sender(ctx, t); err != nil {
			*to = nil
			return err
		}
	}
	return (*to).Send(ctx, n)
}

// ErrCommandNotAccepted says that a command is not run, as the person has not accepted it on this computer.
var ErrCommandNotAccepted = errors.New("you have not accepted the command on this computer")

func (w *Work) sender(ctx context.Context, t estate.Recipient) (notify.Sender, error) {
	if len(t.Command) > 0 {
		if w.Accepts == nil || !w.Accepts(t) {
			return nil, ErrCommandNotAccepted
		}
		return notify.Command(t.Command), nil
	}
	var authorities []byte
	if t.Syslog.CA != "" {
		var err error
		if authorities, err = plainfile.ReadIn(w.Folder.Dir, t.Syslog.CA, plainfile.Small); err != nil {
			return nil, err
		}
	}
	return notify.Dial(ctx, t.Syslog.Transport, t.Syslog.Address, authorities)
}

// Try sends a recipient a note that is no entry, and returns why it may not have been delivered.
func (w *Work) Try(ctx context.Context, name string, patience Patience) error {
	e, err := w.Site.Enacted(ctx)
	if err != nil {
		return err
	}
	t, err := recipientOf(e, name)
	if err != nil {
		return err
	}
	id, err := w.Site.EstateID(ctx)
	if err != nil {
		return err
	}
	n := noteOf(entryDocOf(journal.Entry{At: w.Clock.Now(), Person: w.Person, Action: "try", Text: "this is a trial, and no entry of the journal"}, e.Name, id), t)
	var to notify.Sender
	defer func() {
		if to != nil {
			_ = to.Close()
		}
	}()
	return w.send(ctx, &to, t, n, patience)
}

// Recipient finds a recipient by name, as it was last enacted. The error is a *NoRecipientError where there is none.
func (w *Work) Recipient(ctx context.Context, name string) (estate.Recipient, error) {
	e, err := w.Site.Enacted(ctx)
	if err != nil {
		return estate.Recipient{}, err
	}
	return recipientOf(e, name)
}

func recipientOf(e *estate.Estate, name string) (estate.Recipient, error) {
	i := slices.IndexFunc(e.Recipients, func(t estate.Recipient) bool { return t.Name == name })
	if i < 0 {
		return estate.Recipient{}, &NoRecipientError{Name: name}
	}
	return e.Recipients[i], nil
}

// NoRecipientError says that nobody of a name is told.
type NoRecipientError struct{ Name string }

// Error names it.
func (e *NoRecipientError) Error() string {
	return "no recipient of the name " + e.Name + " was enacted"
}

// Kind is that of a mistake.
func (e *NoRecipientError) Kind() fault.Kind { return fault.NotFound }

// entryDocOf is an entry as recipients get it.
func entryDocOf(e journal.Entry, name, id string) EntryDoc {
	doc := EntryDoc{Estate: name, Seq: e.Seq, At: e.At.UTC(), Person: e.Person, Action: e.Action, Text: e.Text, Hash: e.Hash}
	if e.Seq > 0 {
		doc.Anchor = journal.Anchor{Estate: id, Head: e.Head()}.String()
	}
	return doc
}

// noteOf puts an entry into the forms for a recipient. A message over UDP has no anchor: anybody can send one in another's name, and nobody knows
// whether it arrives.
func noteOf(d EntryDoc, t estate.Recipient) notify.Note {
	host, _ := os.Hostname()
	m := syslog.Message{
		Facility: syslog.Audit, Severity: severity(d), At: d.At, Host: host, App: "ironbark", Process: d.Estate, ID: d.Action, DataID: journal.DataID,
		Data: []syslog.Param{{Name: "person", Value: d.Person}}, Text: fmt.Sprintf("%s %s: %s", d.Person, d.Action, d.Text),
	}
	if t.Syslog.Transport != "udp" {
		m.Data = append(m.Data, syslog.Param{Name: journal.AnchorParam, Value: d.Anchor})
	}
	if d.Cut != "" {
		m.Data = append(m.Data, syslog.Param{Name: "cut", Value: d.Cut})
		m.Text += " … (cut: " + d.Cut + ")"
	}
	doc, _ := json.Marshal(d) // of strings and numbers, which JSON has
	return notify.Note{Message: m, Document: append(doc, '\n')}
}

// severity says how urgent an entry is.
func severity(d EntryDoc) syslog.Severity {
	switch d.Action {
	case "break", "clock":
		return syslog.Alert
	case "open", "extend", "approve", "begin":
		said, _, _ := strings.Cut(d.Text, " because ") // what comes after that are people's own words
		if strings.Contains(said, " in emergency") {
			return syslog.Alert
		}
		return syslog.Notice
	case "enact", "cut", "close", "refuse", "password", "console":
		return syslog.Notice
	}
	return syslog.Info
}
