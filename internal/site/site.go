// Package site joins what was decided with what is there: the ledger of an estate with
// the driver of its place.
//
//	work ─▶ site ─┬─▶ ledger   what was decided, by whom, when
//	              └─▶ driver   what is there
//
// Every step that could open something is taken in the order
//
//	ledger: intended ─▶ driver: done (idempotent) ─▶ ledger: done
//
// so that nothing is ever open that the ledger does not know of. What only closes is
// done at the place first: it works although it cannot be recorded, and is recorded
// later.
package site

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"slices"
	"strings"
	"time"

	"ironbark/internal/cost"
	"ironbark/internal/driver"
	"ironbark/internal/estate"
	"ironbark/internal/journal"
	"ironbark/internal/ledger"
	"ironbark/internal/opening"
	"ironbark/internal/store"
)

// Site is the place of one estate together with its ledger. It is safe for concurrent use.
type Site struct {
	ledger ledger.Ledger
	driver driver.Driver
	clock  driver.Clock
	memory Memory
}

// Memory remembers which files were read without an error by this very program. Implementations are safe for concurrent use.
type Memory interface {
	Knows(files []estate.File) bool
	Keep(files []estate.File)
}

// Remember has the site read files that were enacted, and that a memory knows, no further than somebody asks for. It must be called
// before the site is used.
func (s *Site) Remember(m Memory) { s.memory = m }

// readEnacted reads files that were enacted.
func (s *Site) readEnacted(files []estate.File) (e enacted) {
	if s.memory != nil && len(files) > 0 && s.memory.Knows(files) {
		e.estate, e.err = estate.ReadEnactedAgain(files)
		return e
	}
	if e.estate, e.err = estate.ReadEnactedFiles(files); s.memory != nil && e.estate != nil && e.err == nil {
		s.memory.Keep(files)
	}
	return e
}

// New joins a ledger and a driver. The clock is the place's own.
func New(l ledger.Ledger, d driver.Driver, clock driver.Clock) *Site {
	return &Site{ledger: l, driver: d, clock: clock}
}

// Close closes both.
func (s *Site) Close() error { return errors.Join(s.driver.Close(), s.ledger.Close()) }

// Catalogue is what the place offers.
func (s *Site) Catalogue() cost.Catalogue { return s.driver.Catalogue() }

// ClientAddrs are the addresses from which the place sees whoever asks.
func (s *Site) ClientAddrs(ctx context.Context) ([]netip.Addr, error) {
	return s.driver.ClientAddrs(ctx)
}

// Now is the site's clock, which never goes back behind the latest moment that was
// recorded. behind is how far the computer's own clock has fallen behind that, where it
// is more than [journal.MostBehind]: then openings let nothing pass.
func (s *Site) Now(ctx context.Context) (now time.Time, behind time.Duration, err error) {
	latest, err := s.ledger.Latest(ctx)
	now, behind = journal.Later(s.clock.Now(), latest)
	return now, behind, err
}

// AcceptClock takes the computer's clock as right, where it went back.
func (s *Site) AcceptClock(ctx context.Context, person string) error {
	latest, err := s.ledger.Latest(ctx)
	if err != nil {
		return err
	}
	now := s.clock.Now()
	err = s.record(ctx, ledger.Decision{
		AcceptClock: true, Person: person, Action: "clock",
		Text: "accepted the clock, which went back to " + now.UTC().Format(time.RFC3339) + " from " + latest.UTC().Format(time.RFC3339),
	})
	if err != nil {
		return err
	}
	return s.driver.AcceptClock(ctx)
}

// record writes a decision that hangs on nothing that others may have changed.
func (s *Site) record(ctx context.Context, d ledger.Decision) error {
	d.AnyRevision, d.Fence = true, -1
	_, err := s.write(ctx, d)
	return err
}

// write writes a decision at the place's time, and tells the place how far the journal
// has come. That it could not be told is found out later, and does no harm.
func (s *Site) write(ctx context.Context, d ledger.Decision) (ledger.Receipt, error) {
	d.At = s.clock.Now()
	d.Person, d.Text = journal.Bound(d.Person, d.Text)
	r, err := s.ledger.Write(ctx, d)
	if err == nil && d.Action != "" {
		s.keep(ctx, r)
	}
	return r, err
}

func (s *Site) keep(ctx context.Context, r ledger.Receipt) {
	_ = s.driver.Keep(ctx, driver.Identity{Estate: r.Estate, Head: r.Head})
}

// answered does a step of the driver's, and once more where its answer was lost: a step
// that is done twice is done once.
func answered(do func() error) error {
	err := do()
	if errors.Is(err, driver.ErrLost) {
		err = do()
	}
	return err
}

// ForClosing says that what follows closes something, so that disk that is held back for
// that may be used.
func (s *Site) ForClosing() { s.ledger.FreeReserve() }

// closing does what only closes. On a full disk it frees the reserve and does it again.
func (s *Site) closing(do func() error) error {
	err := answered(do)
	if _, full := errors.AsType[*store.UnwritableError](err); full && s.ledger.FreeReserve() {
		err = answered(do)
	}
	return err
}

// Openings lists all openings there ever were, by number.
func (s *Site) Openings(ctx context.Context) ([]opening.Opening, error) {
	return s.ledger.Openings(ctx)
}

// Deliveries tells how far each recipient has been told of the journal, and the number of its last entry. Cost: constant.
func (s *Site) Deliveries(ctx context.Context) (list []ledger.Delivery, last int64, err error) {
	if list, err = s.ledger.Deliveries(ctx); err != nil || len(list) == 0 {
		return nil, 0, err
	}
	_, head, err := s.ledger.Head(ctx)
	return list, head.Seq, err
}

// Delivered records how far a recipient has been told.
func (s *Site) Delivered(ctx context.Context, d ledger.Delivery) error {
	return s.ledger.Delivered(ctx, d)
}

// Telling takes the lock of whoever tells recipients; release is nil where somebody else has it.
func (s *Site) Telling(ctx context.Context) (release func() error, err error) {
	return s.ledger.TryLock(ctx, ledger.Telling)
}

// EntriesAfter returns entries of the journal after a number, up to limit of them.
func (s *Site) EntriesAfter(ctx context.Context, after int64, limit int) ([]journal.Entry, error) {
	return s.ledger.Journal(ctx, after, limit)
}

// EstateID is what the ledger calls the estate; "" before anything was decided.
func (s *Site) EstateID(ctx context.Context) (string, error) {
	id, _, err := s.ledger.Head(ctx)
	return id, err
}

// Tail returns the last n entries of the journal.
func (s *Site) Tail(ctx context.Context, n int) ([]journal.Entry, error) {
	return s.ledger.Tail(ctx, n)
}

// Find returns the entries of the journal that a filter lets through.
func (s *Site) Find(ctx context.Context, f ledger.Filter) ([]journal.Entry, error) {
	return s.ledger.Find(ctx, f)
}

// Journal returns the whole journal. Cost: linear.
func (s *Site) Journal(ctx context.Context) (list []journal.Entry, err error) {
	for after := int64(0); ; {
		some, err := s.ledger.Journal(ctx, after, page)
		if err != nil || len(some) == 0 {
			return list, err
		}
		list = append(list, some...)
		after = some[len(some)-1].Seq
	}
}

// page is how many entries of the journal are read at a time.
const page = 1000

// Probe sends a packet and tells what became of it.
func (s *Site) Probe(ctx context.Context, p driver.Packet) ([]driver.ProbeResult, error) {
	return s.driver.Probe(ctx, p)
}

// Power starts, stops or restarts a machine, and tells how it is doing from now on.
func (s *Site) Power(ctx context.Context, person, machine string, act driver.Power) (driver.Machine, error) {
	m, happened, err := s.driver.Power(ctx, machine, act)
	if err != nil && !errors.Is(err, driver.ErrLost) {
		return m, err
	}
	if err != nil {
		happened = "; the answer was lost"
	}
	return m, errors.Join(err, s.record(ctx, ledger.Decision{Person: person, Action: string(act.Do), Text: "machine " + machine + ": " + string(act.Do) + happened}))
}

// SetPasswordHash sets the salted hash of the password of a machine's first user.
func (s *Site) SetPasswordHash(ctx context.Context, person, machine, hash string) error {
	if err := answered(func() error { return s.driver.SetPasswordHash(ctx, machine, hash) }); err != nil {
		return err
	}
	return s.record(ctx, ledger.Decision{Person: person, Action: "password", Text: "machine " + machine + ": a password was set"})
}

// Stamp changes whenever anybody decides something or changes the place. Cost: constant.
func (s *Site) Stamp(ctx context.Context) (string, error) {
	seq, mark, err := s.Stamps(ctx)
	return fmt.Sprint(seq, " ", mark), err
}

// Stamps returns the number of the journal's last entry, and what changes whenever anybody changes
// the place. Cost: constant.
func (s *Site) Stamps(ctx context.Context) (seq int64, mark string, err error) {
	_, head, err := s.ledger.Head(ctx)
	if err != nil {
		return 0, "", err
	}
	mark, err = s.driver.Mark(ctx)
	return head.Seq, mark, err
}

// Note writes an entry into the journal of what changes nothing, and returns its number.
func (s *Site) Note(ctx context.Context, person, action, text string) (int64, error) {
	r, err := s.write(ctx, ledger.Decision{AnyRevision: true, Fence: -1, Person: person, Action: action, Text: text})
	return r.Head.Seq, err
}

// ListenGateway returns the sockets on which a bastion's gateway is to serve.
func (s *Site) ListenGateway(ctx context.Context, bastion string) ([]driver.GatewaySocket, error) {
	h, ok := s.driver.(driver.GatewayHost)
	if !ok {
		return nil, driver.ErrNoGateways
	}
	return h.ListenGateway(ctx, bastion)
}

// Counts tells what the place has counted; [driver.ErrNoCounts] where it counts nothing.
func (s *Site) Counts(ctx context.Context) (*driver.Counts, error) {
	return driver.CountsOf(ctx, s.driver)
}

// Tables reads the place's packet filter; [driver.ErrNoTables] where it has none.
func (s *Site) Tables(ctx context.Context) (*driver.Tables, error) {
	return driver.TablesOf(ctx, s.driver)
}

// Traffic reads how much of the place's network is in use; nil where the place has no limits.
func (s *Site) Traffic(ctx context.Context) (*driver.Traffic, error) {
	return driver.TrafficOf(ctx, s.driver)
}

// Sessions lists the sessions that the place lets pass to machines; known is false where it does
// not know them.
func (s *Site) Sessions(ctx context.Context) (list []driver.Session, known bool, err error) {
	return driver.SessionsOf(ctx, s.driver)
}

// Boot returns a machine's boot log and what its first boot came to.
func (s *Site) Boot(ctx context.Context, machine string) (driver.Boot, error) {
	return s.driver.Boot(ctx, machine)
}

// HostKey returns the public key of a machine's SSH server.
func (s *Site) HostKey(ctx context.Context, machine string) (string, error) {
	return s.driver.HostKey(ctx, machine)
}

// Dial begins a TCP session as a client would.
func (s *Site) Dial(ctx context.Context, from netip.Addr, to netip.AddrPort) (net.Conn, error) {
	return s.driver.Dial(ctx, from, to)
}

// Console opens a machine's console for a person, by their openings of it; in an emergency by none. The session is in the journal, and its end too
// once the line is closed.
func (s *Site) Console(ctx context.Context, person, machine string, emergency bool) (io.ReadWriteCloser, error) {
	by, how := driver.ConsoleBy{Emergency: emergency}, "as root, in an emergency"
	if !emergency {
		list, err := s.consolesOf(ctx, person, machine)
		if err != nil {
			return nil, err
		}
		var ids []string
		for _, o := range list {
			by.Openings, ids = append(by.Openings, o.ID), append(ids, fmt.Sprintf("by opening %d", o.ID))
		}
		how = strings.Join(ids, " and ")
	}
	line, err := s.driver.Console(ctx, machine, by)
	if err != nil {
		return nil, err
	}
	tell := func(ctx context.Context, what string) error {
		return s.record(ctx, ledger.Decision{Person: person, Action: "console", Text: fmt.Sprintf("%s session at the console of machine %s, %s", what, machine, how)})
	}
	if err := tell(ctx, "began a"); err != nil {
		return nil, errors.Join(err, line.Close())
	}
	return &toldLine{ReadWriteCloser: line, end: func() error { return tell(context.WithoutCancel(ctx), "ended the") }}, nil
}

// consolesOf lists a person's openings of a machine's console that are open now.
func (s *Site) consolesOf(ctx context.Context, person, machine string) ([]opening.Opening, error) {
	st, err := s.ledger.State(ctx, ledger.Scope{})
	if err != nil {
		return nil, err
	}
	now := s.clock.Now()
	return slices.DeleteFunc(st.Openings, func(o opening.Opening) bool {
		return o.Person != person || o.StateAt(now) != opening.Open || !o.OpensConsole(machine)
	}), nil
}

// toldLine is a line that tells when it is closed.
type toldLine struct {
	io.ReadWriteCloser
	end func() error
}

func (t *toldLine) Close() error {
	err := t.ReadWriteCloser.Close()
	if t.end == nil {
		return err
	}
	end := t.end
	t.end = nil
	return errors.Join(err, end())
}
