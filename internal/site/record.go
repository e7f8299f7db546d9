package site

import (
	"context"
	"fmt"

	"ironbark/internal/driver"
	"ironbark/internal/journal"
	"ironbark/internal/ledger"
)

// CheckRecord lists the breaks of the record that nobody has acknowledged, the oldest
// first: of the whole record, or of what was added since it was last looked at. The
// record is held against what the place was told of it, too.
func (s *Site) CheckRecord(ctx context.Context, whole bool) ([]journal.Break, error) {
	found, err := s.missing(ctx)
	if err != nil {
		return nil, err
	}
	if len(found) > 0 {
		if err := s.ledger.NoteBreaks(ctx, found); err != nil { // it is told in any case
			list, err := s.ledger.CheckRecord(ctx, whole)
			return append(list, found...), err
		}
	}
	return s.ledger.CheckRecord(ctx, whole)
}

// missing tells what the place knows of the record, and the record has not: the whole of
// it, an end that was cut off, or another one in its place.
func (s *Site) missing(ctx context.Context) ([]journal.Break, error) {
	o, err := s.driver.Observe(ctx, driver.Scope{After: -1})
	if err != nil || o.Identity == (driver.Identity{}) {
		return nil, err
	}
	estate, head, err := s.ledger.Head(ctx)
	if err != nil {
		return nil, err
	}
	kept := o.Identity.Head
	switch {
	case estate == "" || head.Seq == 0 && estate != o.Identity.Estate:
		return []journal.Break{{Seq: 1, Why: fmt.Sprintf("and those up to %d are missing: the whole record is empty, and the site knows it", kept.Seq), Mark: kept.Hash}}, nil
	case estate != o.Identity.Estate:
		return []journal.Break{{Seq: 1, Why: "is of another estate's record than the site belongs to", Mark: o.Identity.Estate}}, nil
	case head.Seq < kept.Seq:
		return []journal.Break{{Seq: head.Seq + 1, Why: fmt.Sprintf("is missing: the record ends before it, and the site knows entry %d", kept.Seq), Mark: kept.Hash}}, nil
	}
	list, err := s.ledger.Journal(ctx, kept.Seq-1, 1)
	if err == nil && len(list) == 1 && list[0].Seq == kept.Seq && list[0].Hash != kept.Hash {
		return []journal.Break{{Seq: kept.Seq, Why: "is not the one that the site was told of", Mark: list[0].Hash}}, nil
	}
	return nil, err
}

// Acknowledge takes note of the breaks that were found: they are told no more, and do
// not keep anything from being opened. The place is told of the record as it is.
func (s *Site) Acknowledge(ctx context.Context, person string) ([]journal.Break, error) {
	list, err := s.CheckRecord(ctx, true)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	text := "took note that the record is broken"
	for _, b := range list {
		text += "; " + b.String()
	}
	return list, s.record(ctx, ledger.Decision{Person: person, Action: "break", Text: text, Acknowledge: list})
}
