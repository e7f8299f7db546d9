// Package site is what Ironbark asks of a place where machines run. A site makes
// and removes things, installs the tables that decide about flows, keeps the
// openings, and reports what it has. The stand-in cloud is in package sim.
package site

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"time"

	"ironbark/internal/change"
	"ironbark/internal/cost"
	"ironbark/internal/estate"
	"ironbark/internal/flow"
	"ironbark/internal/journal"
	"ironbark/internal/opening"
)

// Clock tells the time and passes it.
type Clock interface {
	Now() time.Time
	// Sleep returns after d, or with ctx's error before.
	Sleep(ctx context.Context, d time.Duration) error
}

// Site is one place. Reads are consistent; a write is done whole or not at all,
// and has an entry in the journal. Implementations are safe for concurrent use,
// also by several processes.
type Site interface {
	Catalogue() cost.Catalogue
	// Callers are the addresses from which the site sees the person who asks.
	Callers() []netip.Addr
	// Report tells everything that the site has.
	Report(ctx context.Context) (*Report, error)
	// Begin starts an enactment, if the site is still at a revision and nobody
	// else enacts. The errors are ErrChanged and a *Busy.
	Begin(ctx context.Context, person string, revision int64) (Enactment, error)
	// Open installs an opening: rows gives the tables that let its flows pass until
	// its end, once it has its number. An opening with a number replaces the one that
	// has it. The errors are ErrChanged where the site is not at the revision any
	// more, and ErrUnfinished.
	Open(ctx context.Context, revision int64, o opening.Opening, rows func(opening.Opening) []flow.Row) (opening.Opening, error)
	// End ends openings before their time. It always works, whatever else goes on.
	End(ctx context.Context, person, why string, ids ...int64) error
	// Journal returns the record, and the hash of its last entry.
	Journal(ctx context.Context) (entries []journal.Entry, head string, err error)
	// Past hands over what was installed after each change that the journal knows,
	// oldest first, until yield returns false or an error.
	Past(ctx context.Context, yield func(Moment) (more bool, err error)) error
	// Probe sends a packet and tells what became of it. It reads the installed
	// tables and nothing of the analysis.
	Probe(ctx context.Context, p Packet) ([]Fate, error)
	Close() error
}

// Enactment is the right to change a site, held by one process at a time. What a
// method did stays done when a later one fails.
type Enactment interface {
	// Install puts the tables in place of the ones before, at one moment.
	Install(ctx context.Context, rows []flow.Row, text string) error
	// Do makes, alters or removes one thing.
	Do(ctx context.Context, c change.Change) error
	// End ends openings; Narrow takes machines out of one.
	End(ctx context.Context, why string, ids ...int64) error
	Narrow(ctx context.Context, o opening.Opening, rows []flow.Row) error
	// Finish installs the last tables and keeps the files that they came from.
	Finish(ctx context.Context, rows []flow.Row, files []estate.File, text string) error
	// Close gives the right back. Without Finish the site stays marked as unfinished.
	Close() error
}

// Report is what a site has.
type Report struct {
	Revision   int64
	Things     []change.Thing
	Machines   map[string]Machine // by name
	Plan       *flow.Plan         // as installed, openings included
	Base       []flow.Row         // the tables without those of openings
	Openings   []opening.Opening  // all, by number
	Files      []estate.File      // as last enacted; none where nothing ever was
	Unfinished *Unfinished
}

// Moment is what was installed from a moment on, and who brought it about.
type Moment struct {
	At       time.Time
	Person   string
	Plan     *flow.Plan
	Files    []estate.File // as last enacted
	Openings []opening.Opening
}

// Unfinished is an enactment that was begun and has not come to its end.
type Unfinished struct {
	Person string    `json:"person"`
	Since  time.Time `json:"since"`
}

// Machine is how a machine is doing.
type Machine struct {
	State   State
	Since   time.Time
	Ready   time.Time // when it will be running, if it is not
	Listens flow.Services
}

// State is the state of a machine, in plain words.
type State string

// The states.
const (
	Building State = "building"
	Starting State = "starting"
	Running  State = "running"
)

// ErrChanged says that the site is not what was reviewed any more.
var ErrChanged = errors.New("the site changed since the review")

// ErrUnfinished says that an enactment was broken off and must be completed first.
var ErrUnfinished = errors.New("an enactment is unfinished")

// Busy says that somebody else enacts.
type Busy struct{ Who *Unfinished }

// Error tells who and since when.
func (b *Busy) Error() string {
	if b.Who == nil {
		return "another enactment is under way"
	}
	return fmt.Sprintf("an enactment by %s is under way since %s", b.Who.Person, b.Who.Since.UTC().Format(time.RFC3339))
}

// Packet is the first packet of a flow.
type Packet struct {
	Arrives string // the network or line it comes from, or "internet"; "": where its source belongs
	Source  netip.Addr
	Target  netip.Addr
	Service flow.Service
}

// Fate is what became of a packet; one that a spread may hand to several
// machines has several fates.
type Fate struct {
	Open    bool
	Machine string // where it led; "" for nowhere or a gateway
	Reason  string // as exposure.Reason
	By      string // the sentence, if one decided
}
