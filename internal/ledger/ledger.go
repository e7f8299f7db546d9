// Package ledger says what must not be forgotten about an estate: what was decided, by
// whom and when. It holds the files as last enacted, the resources and the plan that
// they came to, the openings, and the journal. It knows nothing of any place; that is
// for package driver. SQLite stands behind it in package sqlite; no call hands code
// into a transaction, so that a database elsewhere can.
package ledger

import (
	"context"
	"time"

	"ironbark/internal/change"
	"ironbark/internal/estate"
	"ironbark/internal/flow"
	"ironbark/internal/journal"
	"ironbark/internal/opening"
)

// Ledger is the ledger of one estate. Reads are consistent; a decision is recorded
// whole or not at all. Implementations are safe for concurrent use, also by several
// processes.
type Ledger interface {
	// State returns what stands now, as far as it is asked for.
	State(ctx context.Context, scope Scope) (*State, error)
	// Latest returns the latest moment that was recorded. Cost: constant.
	Latest(ctx context.Context) (time.Time, error)
	// Head returns which estate the ledger is of and the last entry of its journal, as they
	// are kept apart from it. Cost: constant.
	Head(ctx context.Context) (estate string, head journal.Head, err error)
	// Fence tells how often somebody cut the plan down. Cost: constant.
	Fence(ctx context.Context) (int64, error)
	// Plan returns the rows of the plan that was last installed, by key. It has no openings.
	Plan(ctx context.Context) ([]flow.Row, error)
	// NextOpening returns the number of the next opening: one above all that were ever
	// given. It stays right as long as the revision does.
	NextOpening(ctx context.Context) (int64, error)
	// Openings lists all openings there ever were, by number.
	Openings(ctx context.Context) ([]opening.Opening, error)
	// Alike lists the openings of a person that are not known to be over, and let the same
	// flows pass as a part does, whatever their ends. Those that are not as the journal has
	// them are left out. Cost: does not hang on how many there are besides.
	Alike(ctx context.Context, person string, p opening.Part) ([]opening.Opening, error)
	// Journal returns entries of the journal after a number, up to limit of them. Cost:
	// linear in what is returned.
	Journal(ctx context.Context, after int64, limit int) ([]journal.Entry, error)
	// Entries is Journal with what each entry changed. Cost: linear in what is returned.
	Entries(ctx context.Context, after int64, limit int) ([]Entry, error)
	// Tail returns the last n entries of the journal. Cost: linear in n.
	Tail(ctx context.Context, n int) ([]journal.Entry, error)
	// Find returns the last entries of the journal that a filter lets through, the oldest
	// first. Cost: linear in the journal, or where much is let through in what is returned.
	Find(ctx context.Context, f Filter) ([]journal.Entry, error)
	// Write records a decision. The errors are those of [Decision].
	Write(ctx context.Context, d Decision) (Receipt, error)
	// TryLock takes a lock that the kernel gives back when the process ends, however it
	// ends. It returns a nil release where somebody else has it.
	TryLock(ctx context.Context, l Lock) (release func() error, err error)
	// Lock is TryLock that waits until the lock is to be had, or ctx ends.
	Lock(ctx context.Context, l Lock) (release func() error, err error)
	// CheckRecord lists the breaks of the record that nobody has acknowledged, the oldest
	// first: of the whole record, or of what was added since it was last looked at.
	// What it finds is recorded, where it can be.
	CheckRecord(ctx context.Context, whole bool) ([]journal.Break, error)
	// NoteBreaks records breaks that were found elsewhere.
	NoteBreaks(ctx context.Context, list []journal.Break) error
	// Deliveries tells how far each recipient has been told of the journal, by name: those of the files that were last enacted. Cost: constant but for their number.
	Deliveries(ctx context.Context) ([]Delivery, error)
	// Delivered records how far a recipient has been told. A recipient that there is not any more is left out, and so is what lies before what was recorded.
	Delivered(ctx context.Context, d Delivery) error
	// FreeReserve gives back the piece of disk that is held back for closing, where there is
	// one, and reports whether there was.
	FreeReserve() bool
	Close() error
}

// Lock is one of the ledger's locks.
type Lock string

// The locks. Nothing that closes waits for any of them.
const (
	Enacting Lock = "enacting" // held by whoever enacts
	Opening  Lock = "opening"  // held from the intent to open something until it is done
	Telling  Lock = "telling"  // held by whoever tells recipients of entries
)

// Scope says what of a state is asked for besides what is known of the whole.
type Scope struct {
	Resources bool // with what is planned
	Files     bool
	Openings  Openings
}

// Openings says which of the openings that are not known to be over are asked for. The zero
// Openings is all of them.
type Openings struct {
	Some bool      // only these, and those that something is still to be recorded of: intended ones, and those that
	IDs  []int64   // began or came to their end by themselves
	By   time.Time // until this moment
}

// Everything is the scope that leaves nothing out.
var Everything = Scope{Resources: true, Files: true}

// State is what stands at one moment.
type State struct {
	Estate     string // made at random when the ledger was begun; "" before
	Revision   int64
	Fence      int64 // how often somebody cut the plan down beside an enactment
	Head       journal.Head
	Latest     time.Time // the latest moment that was recorded
	Unfinished *Unfinished
	Seen       int64             // what others did to the place up to this number was seen by an enactment
	Resources  []change.Resource // as last enacted
	Planned    []change.Change   // of the enactment that is unfinished
	Files      []estate.File     // as last enacted; none where nothing ever was
	Openings   []opening.Opening // those that are not known to be over, by number
	Intended   map[int64]Intent  // openings that are not known to pass
	Beginning  map[int64]bool    // openings that were to begin later, which it is not recorded that they have
	Altered    map[int64]string  // openings that are not as the journal has them, and how
	Breaks     []journal.Break   // known ones that nobody has acknowledged
}

// Filter says which entries of a journal are meant; what is zero lets all through.
type Filter struct {
	After   int64 // only later ones, by number
	Person  string
	Action  string
	Machine string    // that the entry speaks of, or whose opening it is
	Text    string    // that stands in the entry
	Since   time.Time // included
	Until   time.Time // not included
	Last    int       // only so many of the latest; 0: all
}

// Delivery is how far a recipient has been told of the journal.
type Delivery struct {
	Recipient string
	Seq       int64     // of the last entry that it was told of, or that it did not want to be told of
	Failed    time.Time // when telling it of the next one failed; zero: it did not
	Why       string    // it failed
	Tries     int       // of telling it of the next one that failed
}

// Unfinished is an enactment that was begun and has not come to its end.
type Unfinished struct {
	Person string    `json:"person"`
	Since  time.Time `json:"since"`
}

// Intent is an opening that was decided on and is not known to pass yet.
type Intent struct {
	Before *opening.Opening // which it replaces; nil: none
}

// Entry is an entry of the journal with what it changed.
type Entry struct {
	journal.Entry
	Plan     *PlanDelta        // how the plan changed; nil: not at all
	Files    []estate.File     // as enacted from then on; nil: as before
	Openings []opening.Opening // as they were from then on
	Ended    []int64           // openings that were closed, in entries that say no more of them
}

// PlanDelta is how the rows of a plan changed.
type PlanDelta struct {
	Out []string          // keys
	In  map[string]string // bodies by key; they replace rows of the same key
}

// Decision is one thing to be recorded, and what it was decided on. The zero Decision
// records nothing and can only be written to a ledger in which nothing was decided.
type Decision struct {
	// Revision is the one that it was decided on: ErrChanged where another stands by now.
	// With AnyRevision it is not looked at.
	Revision    int64
	AnyRevision bool
	// Fence is the one that it was decided on: ErrCut where another stands, if it is not
	// negative.
	Fence int64
	// Opens says that it may lead to something being open: it is refused with a *ClockError
	// while the clock is behind, and with a *RecordError while the record is broken.
	Opens bool
	// Finished says that no enactment may be unfinished: ErrUnfinished.
	Finished bool

	At                   time.Time // by the place's clock
	Person, Action, Text string    // of the journal's entry; no Action: none is written

	Begin   *Unfinished // an enactment begins or is taken up
	Planned []change.Change
	Finish  bool // it is finished
	Cut     bool // the fence is raised
	Move    bool // the revision moves on
	Plan    *flow.Plan
	Files   []estate.File // nil: as they are
	// Recipients are those of the files, where there are any: one that is new is told from this very entry on.
	Recipients []string
	Seen       *int64
	Put        []change.Resource // resources as they were enacted
	Drop       []change.Resource // resources that were removed
	Openings   []opening.Opening // as they are from now on; each has a number
	Intended   bool              // the openings are not known to pass yet
	Passed     []int64           // openings that were intended, and pass
	Begun      []int64           // openings that began by themselves
	Over       []int64           // openings that ended by themselves

	AcceptClock bool            // At may lie before the latest moment
	Acknowledge []journal.Break // breaks that somebody has taken note of
}

// Receipt is what a decision came to.
type Receipt struct {
	Revision int64
	Fence    int64
	Estate   string
	Head     journal.Head
	At       time.Time // as it was recorded
}
