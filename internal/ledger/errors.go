package ledger

import (
	"fmt"
	"time"

	"ironbark/internal/journal"
)

// staleError says that something is not as it was when it was looked at. Nothing was changed.
type staleError struct{ text, remedy string }

func (s *staleError) Error() string { return s.text }

// ExitStatus is that of something that changed since it was looked at.
func (s *staleError) ExitStatus() int { return 5 }

// Remedy says what to do.
func (s *staleError) Remedy() string { return s.remedy }

const lookAgain = "nothing was changed; look at it again: ironbark review"

var (
	// ErrChanged says that the site is not what was reviewed any more.
	ErrChanged error = &staleError{"the site changed since the review", lookAgain}
	// ErrCut says that somebody closed something since an enactment began, and that it
	// goes no further.
	ErrCut error = &staleError{"somebody closed something while this was under way", lookAgain}
	// ErrUnfinished says that an enactment was broken off and must be completed first.
	ErrUnfinished error = &staleError{"an enactment is unfinished", "complete it first: ironbark enact"}
)

// BusyError says that somebody else enacts.
type BusyError struct{ Who *Unfinished }

// Error tells who and since when.
func (b *BusyError) Error() string {
	if b.Who == nil {
		return "another enactment is under way"
	}
	return fmt.Sprintf("an enactment by %s is under way since %s", b.Who.Person, b.Who.Since.UTC().Format(time.RFC3339))
}

// ExitStatus is that of something that changed since it was looked at.
func (b *BusyError) ExitStatus() int { return 5 }

// Remedy says what to do.
func (b *BusyError) Remedy() string { return lookAgain }

// ClockError says that the computer's clock has gone back, and that nothing is opened
// or enacted until somebody has looked at it.
type ClockError struct {
	Now    time.Time // by the computer
	Latest time.Time // that was recorded
}

// Error tells both moments.
func (c *ClockError) Error() string {
	return fmt.Sprintf("the clock says %s, and the site's record knows %s already: nothing is opened or enacted by a clock that went back",
		c.Now.UTC().Format(time.RFC3339), c.Latest.UTC().Format(time.RFC3339))
}

// ExitStatus is that of a failure.
func (c *ClockError) ExitStatus() int { return 1 }

// Remedy says what to do.
func (c *ClockError) Remedy() string {
	return "set the clock; if it is right now, somebody who is known accepts it: ironbark acknowledge clock"
}

// RecordError says that the record of what was done is broken.
type RecordError struct{ Breaks []journal.Break }

// Error tells the first break and how many there are.
func (r *RecordError) Error() string {
	text := "the record of what was done is broken: " + r.Breaks[0].String()
	if more := len(r.Breaks) - 1; more > 0 {
		text += fmt.Sprintf(", and %d more", more)
	}
	return text
}

// ExitStatus is that of a failure.
func (r *RecordError) ExitStatus() int { return 1 }

// Remedy says what to do.
func (r *RecordError) Remedy() string {
	return "nothing is opened or enacted until somebody has looked at it: ironbark journal, ironbark acknowledge record"
}
