package ledger

import (
	"fmt"
	"time"

	"ironbark/internal/fault"
	"ironbark/internal/journal"
)

// staleError says that something is not as it was when it was looked at. Nothing was changed.
type staleError struct {
	text   string
	advice fault.Advice
}

func (s *staleError) Error() string { return s.text }

// Kind is that of something that changed since it was looked at.
func (s *staleError) Kind() fault.Kind { return fault.Conflict }

// Advice says what to do.
func (s *staleError) Advice() fault.Advice { return s.advice }

var lookAgain = fault.Say("nothing was changed; look at it again: ").Run("review")

var (
	// ErrChanged says that the site is not what was reviewed any more.
	ErrChanged error = &staleError{"the site changed since the review", lookAgain}
	// ErrCut says that somebody closed something since an enactment began, and that it
	// goes no further.
	ErrCut error = &staleError{"somebody closed something while this was under way", lookAgain}
	// ErrUnfinished says that an enactment was broken off and must be completed first.
	ErrUnfinished error = &staleError{"an enactment is unfinished", fault.Say("complete it first: ").Run("enact")}
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

// Kind is that of something that changed since it was looked at.
func (b *BusyError) Kind() fault.Kind { return fault.Conflict }

// Advice says what to do.
func (b *BusyError) Advice() fault.Advice { return lookAgain }

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

// Kind is that of a failure.
func (c *ClockError) Kind() fault.Kind { return fault.Failure }

// Advice says what to do.
func (c *ClockError) Advice() fault.Advice {
	return fault.Say("set the clock; if it is right now, somebody who is known accepts it: ").Run("acknowledge", "clock")
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

// Kind is that of a failure.
func (r *RecordError) Kind() fault.Kind { return fault.Failure }

// Advice says what to do.
func (r *RecordError) Advice() fault.Advice {
	return fault.Say("nothing is opened or enacted until somebody has looked at it: ").Run("journal").Say(", ").Run("acknowledge", "record")
}
