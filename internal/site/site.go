// Package site is what Ironbark asks of a place where machines run. A site makes
// and removes things, installs the tables that decide about flows, keeps the
// openings, and reports what it has. The stand-in cloud is in package sim.
package site

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
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
	// ForClosing says that what follows closes something, so that the site may use what
	// it holds back for that.
	ForClosing()
	// Cut closes at once, also while somebody else enacts or an enactment is
	// unfinished: rows, which let nothing pass that is not let pass now, take the
	// place of the installed tables, and files that of the enacted ones. An enactment
	// that is under way installs nothing after it; it must be begun anew. The error is
	// ErrChanged where the site is not at the revision any more.
	Cut(ctx context.Context, person string, revision int64, rows []flow.Row, files []estate.File, text string) error
	// Now is the site's clock, which never goes back behind the latest moment that was
	// recorded. behind is how far the computer's own clock has fallen behind that, where
	// it is more than [MostBehind]: then openings let nothing pass.
	Now(ctx context.Context) (now time.Time, behind time.Duration, err error)
	// AcceptClock takes the computer's clock as right, where it went back.
	AcceptClock(ctx context.Context, person string) error
	// CheckRecord lists the breaks of the record that nobody has acknowledged, the oldest
	// first: of the whole record, or of what was added since it was last looked at.
	// What it finds is recorded, where it can be.
	CheckRecord(ctx context.Context, whole bool) ([]journal.Break, error)
	// Acknowledge takes note of the breaks that were found: they are told no more, and do
	// not keep anything from being opened.
	Acknowledge(ctx context.Context, person string) ([]journal.Break, error)
	// Openings lists all openings there ever were, by number.
	Openings(ctx context.Context) ([]opening.Opening, error)
	// Tail returns the last n entries of the record.
	Tail(ctx context.Context, n int) ([]journal.Entry, error)
	// Journal returns the record, and the hash of its last entry.
	Journal(ctx context.Context) (entries []journal.Entry, head string, err error)
	// Past hands over what was installed after each change that the journal knows,
	// oldest first, until yield returns false or an error.
	Past(ctx context.Context, yield func(Moment) (more bool, err error)) error
	// Probe sends a packet and tells what became of it. It reads the installed
	// tables and nothing of the analysis.
	Probe(ctx context.Context, p Packet) ([]Fate, error)
	// Power starts, stops or restarts a machine. What is so already is no error. It
	// returns how the machine is doing from now on, and the errors are *NoMachine
	// and *Stuck.
	Power(ctx context.Context, person, machine string, act Power) (Machine, error)
	// Secure sets the salted hash of the password of a machine's first user.
	Secure(ctx context.Context, person, machine, hash string) error
	// Boot returns what a machine wrote to its serial line since it was last started,
	// and what its first boot came to.
	Boot(ctx context.Context, machine string) (Boot, error)
	// Console opens a machine's serial line; the session is in the journal, with its
	// end when the line is closed. The errors are *NoMachine and *NoConsole.
	Console(ctx context.Context, person, machine string) (io.ReadWriteCloser, error)
	// Dial begins a TCP session as a client would, from one of the callers'
	// addresses. The errors are *Unreachable, and *Refused where nothing listens.
	Dial(ctx context.Context, from netip.Addr, to netip.AddrPort) (net.Conn, error)
	// HostKey returns the public key of a machine's SSH server, as OpenSSH writes it.
	HostKey(ctx context.Context, machine string) (string, error)
	Close() error
}

// Power is what is done to a machine's power.
type Power struct {
	Do    PowerVerb
	Grace time.Duration // for Stop and Restart: how long a clean stop may take before a hard one
	Setup bool          // for Restart: the first boot is run again
}

// PowerVerb says what is done.
type PowerVerb string

// What can be done.
const (
	Start   PowerVerb = "start"
	Stop    PowerVerb = "stop"
	Restart PowerVerb = "restart"
)

// Boot is what a machine's last start came to.
type Boot struct {
	Log   string
	Setup []SetupResult
}

// SetupResult is what one part of a first boot came to.
type SetupResult struct {
	Name   string    `json:"name"`
	At     time.Time `json:"at"`
	Exit   int       `json:"exit"`
	Output string    `json:"output"`
}

// NoMachine says that the site has no such machine.
type NoMachine struct {
	Name string
	Near string // a name that was perhaps meant; may be empty
}

// Error tells the name, and the one that was perhaps meant.
func (n *NoMachine) Error() string {
	if n.Near != "" {
		return fmt.Sprintf("the site has no machine “%s”; did you mean “%s”?", n.Name, n.Near)
	}
	return fmt.Sprintf("the site has no machine “%s”", n.Name)
}

// ExitStatus is that of words that name nothing.
func (n *NoMachine) ExitStatus() int { return 2 }

// NoConsole says why a serial line may not be used, and who or what could change that.
type NoConsole struct{ Why, Mend string }

// Error tells why.
func (n *NoConsole) Error() string { return n.Why }

// ExitStatus is that of the answer no.
func (n *NoConsole) ExitStatus() int { return 3 }

// Hint tells who or what can change it.
func (n *NoConsole) Hint() string { return n.Mend }

// Unreachable says that a session did not come about, because no packet passes.
type Unreachable struct {
	To     netip.AddrPort
	Reason string // as exposure.Reason
}

// Error tells where to and why.
func (u *Unreachable) Error() string { return fmt.Sprintf("%s does not answer: %s", u.To, u.Reason) }

// ExitStatus is that of the answer no.
func (u *Unreachable) ExitStatus() int { return 3 }

// Refused says that packets pass, and nothing listens.
type Refused struct {
	To      netip.AddrPort
	Machine string
	State   State
}

// Error tells where to, and how the machine is doing.
func (r *Refused) Error() string {
	return fmt.Sprintf("%s refuses: nothing listens there (machine %s is %s)", r.To, r.Machine, r.State)
}

// ExitStatus is that of the answer no.
func (r *Refused) ExitStatus() int { return 3 }

// Enactment is the right to change a site, held by one process at a time. What a
// method did stays done when a later one fails.
type Enactment interface {
	// Install puts the tables in place of the ones before, at one moment.
	Install(ctx context.Context, rows []flow.Row, text string) error
	// Do makes, alters or removes one thing.
	Do(ctx context.Context, c change.Change) error
	// Upload makes an image of what r reads.
	Upload(ctx context.Context, c change.Change, r io.Reader) error
	// End ends openings; Narrow takes machines out of one.
	End(ctx context.Context, why string, ids ...int64) error
	Narrow(ctx context.Context, o opening.Opening, rows []flow.Row) error
	// Finish installs the last tables and keeps the files that they came from.
	Finish(ctx context.Context, rows []flow.Row, files []estate.File, text string) error
	// Close gives the right back. Without Finish the site stays marked as unfinished.
	Close() error
}

// MostBehind is how far a clock may be behind the latest moment that was recorded.
const MostBehind = time.Minute

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

// Hint tells what to do.
func (c *ClockError) Hint() string {
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

// Hint tells what to do.
func (r *RecordError) Hint() string {
	return "nothing is opened or enacted until somebody has looked at it: ironbark journal, ironbark acknowledge record"
}

// Report is what a site has.
type Report struct {
	Revision   int64
	Things     []change.Thing
	Machines   map[string]Machine // by name
	Plan       *flow.Plan         // as installed, openings included
	Base       []flow.Row         // the tables without those of openings
	Openings   []opening.Opening  // those that may not be over yet, by number
	Files      []estate.File      // as last enacted; none where nothing ever was
	Unfinished *Unfinished
	Gone       []change.Thing    // enacted, and not there any more
	Outside    []Outside         // what was done to the site since the last enactment, and not by Ironbark
	Keys       map[string]string // the public key inside each machine
	Behind     time.Duration     // how far the clock went back, as [Site.Now] tells
	Altered    map[int64]string  // openings that are not as they were recorded, and how
}

// Outside is something that was done to a site and not by Ironbark, as the site's own record tells it.
type Outside struct {
	At      time.Time
	Who     string
	What    string
	In, Out []flow.Row // how the tables changed
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
	Ready   time.Time // when it will be as it is going to be, if that is not now
	Listens flow.Services
	Failed  string // the part of its first boot that failed; "" where none did
	Hard    bool   // it did not stop cleanly, the last time
	Locked  bool   // it takes a password and none was ever set
}

// State is the state of a machine, in plain words.
type State string

// The states.
const (
	Building State = "building"
	Starting State = "starting"
	Running  State = "running"
	Stopping State = "stopping"
	Stopped  State = "stopped"
	Stuck    State = "stuck in boot"
)

// Settled reports whether the state changes by itself no more.
func (s State) Settled() bool { return s == Running || s == Stopped || s == Stuck }

// ErrLost says that a step's answer never came: it may be done or not.
var ErrLost = errors.New("the site's answer was lost")

// stale says that something is not as it was when it was looked at. Nothing was changed.
type stale struct{ text, hint string }

func (s *stale) Error() string { return s.text }

// ExitStatus is that of something that changed since it was looked at.
func (s *stale) ExitStatus() int { return 5 }

// Hint tells what to do.
func (s *stale) Hint() string { return s.hint }

var (
	// ErrChanged says that the site is not what was reviewed any more.
	ErrChanged error = &stale{"the site changed since the review", lookAgain}
	// ErrCut says that somebody closed something since an enactment began, and that it
	// goes no further.
	ErrCut error = &stale{"somebody closed something while this was under way", lookAgain}
	// ErrUnfinished says that an enactment was broken off and must be completed first.
	ErrUnfinished error = &stale{"an enactment is unfinished", "complete it first: ironbark enact"}
)

const lookAgain = "nothing was changed; look at it again: ironbark review"

// Busy says that somebody else enacts.
type Busy struct{ Who *Unfinished }

// Error tells who and since when.
func (b *Busy) Error() string {
	if b.Who == nil {
		return "another enactment is under way"
	}
	return fmt.Sprintf("an enactment by %s is under way since %s", b.Who.Person, b.Who.Since.UTC().Format(time.RFC3339))
}

// ExitStatus is that of something that changed since it was looked at.
func (b *Busy) ExitStatus() int { return 5 }

// Hint tells what to do.
func (b *Busy) Hint() string { return lookAgain }

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
