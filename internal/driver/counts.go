package driver

import (
	"context"
	"time"

	"ironbark/internal/fault"
	"ironbark/internal/flow"
)

// Count is what a sentence, or openings, have let pass from the first of their connections'
// packets on: those that are sent to a machine, and not their answers.
type Count struct {
	Sentence string  // of a plan; "" where openings did
	Openings []int64 // of those that hold for one machine at once it is not told which
	Packets  uint64
	Bytes    uint64
	// It let something pass last after the first of these moments and not after the second:
	// two readings of what the place counts. Both are zero where it never did.
	After, Before time.Time
	// From are the addresses from which connections began that a sentence let pass. Many says that they are so many
	// that the place keeps none of them. Openings, and what machines call outside, have neither.
	From flow.Addrs
	Many bool
}

// Counts is what a place has counted.
type Counts struct {
	Since time.Time // since when; zero: nothing was installed yet
	Noted time.Time // since when no address is missing in [Count.From]; zero: the place notes none
	List  []Count   // those that let anything pass
}

// Counter is a driver whose place counts what is let pass.
type Counter interface {
	Counts(ctx context.Context) (*Counts, error)
}

// ErrNoCounts says that a place counts nothing.
var ErrNoCounts error = noCountsError{}

type noCountsError struct{}

func (noCountsError) Error() string { return "this site does not count what it lets pass" }

// Kind is that of what a place cannot do.
func (noCountsError) Kind() fault.Kind { return fault.Unsupported }

// Advice says which does.
func (noCountsError) Advice() fault.Advice { return fault.Say("a Linux host does: site: linux") }

// CountsOf reads what a driver's place has counted; [ErrNoCounts] where it counts nothing.
func CountsOf(ctx context.Context, d Driver) (*Counts, error) {
	c, ok := d.(Counter)
	if !ok {
		return nil, ErrNoCounts
	}
	return c.Counts(ctx)
}
