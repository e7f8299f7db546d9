package work

import (
	"context"
	"fmt"
	"time"

	"ironbark/internal/sentence"
)

// staleAfter is for how long a line number may be one that somebody read before lines moved.
const staleAfter = 10 * time.Minute

// MovedLineError says that another sentence was at a line a while ago, or is there in the files that are enacted, so that it is not sure which
// one a number means.
type MovedLineError struct {
	At       sentence.Pos
	Was, Now string // the sentences
	Gone     bool   // the first is in the files no more
}

// Error names both.
func (m *MovedLineError) Error() string {
	return fmt.Sprintf("lines have moved: %s:%d was “%s” a while ago, and is “%s” now", m.At.File, m.At.Line, m.Was, m.Now)
}

// ExitStatus is that of input which is not sure.
func (m *MovedLineError) ExitStatus() int { return 2 }

// Remedy retracts either by its words.
func (m *MovedLineError) Remedy() string {
	text := "ironbark retract " + sentence.Shell(m.Now)
	if !m.Gone {
		text = "ironbark retract " + sentence.Shell(m.Was) + ", or: " + text
	}
	return text
}

// CheckLine refuses a line number of a sentence that may be meant for another one: listings have the numbers of the files as they are enacted, and
// those of some minutes ago may still be in sight. The error is a *MovedLineError. Cost: linear in the journal.
func (w *Work) CheckLine(ctx context.Context, files Files, s sentence.Statement) error {
	now := w.Clock.Now()
	for _, at := range []time.Time{now, now.Add(-staleAfter)} {
		then, err := w.Site.FilesAt(ctx, at)
		if err != nil {
			return err
		}
		for _, f := range then {
			if f.Name != s.At.File {
				continue
			}
			for line := range sentence.Lines(f.Data) {
				if line.Number == s.At.Line && line.Text != s.Sentence.String() {
					if was, err := sentence.Parse(line.Text); err == nil && was.String() != s.Sentence.String() {
						_, _, gone := files.Retract([]string{was.String()})
						return &MovedLineError{s.At, was.String(), s.Sentence.String(), gone != nil}
					}
				}
			}
		}
	}
	return nil
}
