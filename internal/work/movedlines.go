package work

import (
	"context"
	"fmt"
	"time"

	"ironbark/internal/estate"
	"ironbark/internal/fault"
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

// Kind is that of input which is not sure.
func (m *MovedLineError) Kind() fault.Kind { return fault.Invalid }

// Advice retracts either by its words.
func (m *MovedLineError) Advice() fault.Advice {
	advice := fault.Run("retract", m.Now)
	if !m.Gone {
		advice = fault.Join(", or: ", fault.Run("retract", m.Was), advice)
	}
	return advice
}

// CheckLine refuses a line number of a sentence that may be meant for another one: listings have the numbers of the files as they are enacted, and
// those of the last minutes may still be in sight. The error is a *MovedLineError. Cost: linear in the journal.
func (w *Work) CheckLine(ctx context.Context, files Files, s sentence.Statement) error {
	now := s.Sentence.String()
	was := ""
	err := w.Site.FilesSince(ctx, w.Clock.Now().Add(-staleAfter), func(then []estate.File) {
		if other := sentenceAt(then, s.At); other != "" && other != now {
			was = other
		}
	})
	if err != nil || was == "" {
		return err
	}
	_, _, gone := files.Retract([]string{was})
	return &MovedLineError{s.At, was, now, gone != nil}
}

// sentenceAt is the sentence at a line of some files; empty where there is none.
func sentenceAt(files []estate.File, at sentence.Pos) string {
	for line := range sentence.Lines(Files(files).Get(at.File)) {
		if line.Number == at.Line {
			if s, err := sentence.Parse(line.Text); err == nil {
				return s.String()
			}
		}
	}
	return ""
}
