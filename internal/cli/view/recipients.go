package view

import (
	"fmt"
	"strings"
	"time"

	"ironbark/internal/work"
)

// Recipients prints how far each recipient has been told of the journal.
func (p *Printer) Recipients(list []work.Told, now time.Time) {
	if len(list) == 0 {
		p.Line("Nobody is to be told: recipients: in estate.yaml, or ironbark add recipient.")
		return
	}
	var rows [][]string
	for _, t := range list {
		only := "all"
		if len(t.Recipient.Only) > 0 {
			only = strings.Join(t.Recipient.Only, ", ")
		}
		state := "told of all"
		if t.Behind > 0 {
			state = p.Bad(behind(t, now))
		}
		rows = append(rows, []string{t.Recipient.Name, t.Recipient.To(), only, state})
	}
	p.Table([]string{"RECIPIENT", "TO", "OF", "IS"}, rows)
}

// behind tells how far a recipient is behind, since when and why.
func behind(t work.Told, now time.Time) string {
	text := fmt.Sprintf("%d entries behind", t.Behind)
	if t.Behind == 1 {
		text = "1 entry behind"
	}
	if t.Why != "" {
		text += ": " + t.Why + " (" + Moment(t.Failed, now) + ")"
	}
	return text
}

// Untold prints which recipients could not be told.
func (p *Printer) Untold(list []work.Told, now time.Time) {
	var lines []string
	for _, t := range list {
		if t.Behind > 0 && t.Why != "" {
			lines = append(lines, t.Recipient.Name+" is "+behind(t, now))
		}
	}
	if len(lines) == 0 {
		return
	}
	p.Line("")
	p.Head("Not told: ironbark notify tries again")
	for _, text := range lines {
		p.Wrap("  ", p.Bad(text))
	}
}

// Told as documents.
type (
	// RecipientDoc is how far a recipient has been told.
	RecipientDoc struct {
		Name   string     `json:"name"`
		To     string     `json:"to"`
		Only   []string   `json:"only"`
		Seq    int64      `json:"toldUpTo"`
		Behind int64      `json:"behind"`
		Failed *time.Time `json:"failed"`
		Why    string     `json:"why"`
	}
	// RecipientsDoc is the document of all of them.
	RecipientsDoc struct {
		Recipients []RecipientDoc `json:"recipients"`
	}
)

// RecipientsJSON has a document for each recipient.
func RecipientsJSON(list []work.Told) []RecipientDoc {
	docs := []RecipientDoc{}
	for _, t := range list {
		one := RecipientDoc{Name: t.Recipient.Name, To: t.Recipient.To(), Only: append([]string{}, t.Recipient.Only...), Seq: t.Seq, Behind: t.Behind, Why: t.Why}
		if !t.Failed.IsZero() {
			at := t.Failed.UTC()
			one.Failed = &at
		}
		docs = append(docs, one)
	}
	return docs
}
