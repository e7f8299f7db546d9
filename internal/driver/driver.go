// Package driver says what a place where machines run must be able to do, and no
// more. A driver makes and removes resources, installs the plan that decides about
// flows, lets openings pass, and reports what is there, whoever made it. It knows no
// people, permits, files or journal. What was decided is in package ledger, and
// package site joins the two. The stand-in cloud is in package sim.
package driver

import (
	"context"
	"io"
	"net"
	"net/netip"
	"slices"
	"time"

	"ironbark/internal/change"
	"ironbark/internal/cost"
	"ironbark/internal/flow"
	"ironbark/internal/journal"
)

// Clock tells the time and passes it.
type Clock interface {
	Now() time.Time
	// Sleep returns after d, or with ctx's error before.
	Sleep(ctx context.Context, d time.Duration) error
}

// Driver is one place. A write is done whole or not at all, and a write that is done
// twice is done once, so whoever gets [ErrLost] does it again. Implementations are
// safe for concurrent use, also by several processes.
type Driver interface {
	// Catalogue is what the place offers.
	Catalogue() cost.Catalogue
	// ClientAddrs are the addresses from which the place sees whoever asks.
	ClientAddrs(ctx context.Context) ([]netip.Addr, error)

	// Observe reports what is there, also what Ironbark did not make.
	Observe(ctx context.Context, scope Scope) (*Observation, error)
	// Mark changes whenever anybody changes the resources or the tables. An end that
	// comes does not change it. Cost: constant.
	Mark(ctx context.Context) (string, error)

	// Apply makes, alters or removes one resource, and returns it as it is from now on.
	// content is an image's; it is read to its end.
	Apply(ctx context.Context, c change.Change, content io.Reader) (change.Resource, error)
	// Install puts a plan in place of the one before, at one moment. It concerns all but
	// the openings, which go on passing as they did. The error is [ErrMoved] where the
	// mark is not the one given any more; nothing was done then.
	Install(ctx context.Context, plan *flow.Plan, mark string) error
	// Pass lets an opening pass, in place of the one that has its number. Its beginning
	// and its ends are installed with it and need no process. The error is [ErrShut]
	// where it was shut before. Cost: does not hang on how much the place has.
	Pass(ctx context.Context, p Passage) error
	// Shut ends what openings let pass, for good: a number that was shut passes no more,
	// whether or not it ever did. at is kept with it. Cost: as that of Pass.
	Shut(ctx context.Context, at time.Time, ids ...int64) error
	// Keep keeps which estate the place belongs to and how far its journal has come.
	Keep(ctx context.Context, id Identity) error
	// AcceptClock takes the clock as right, where it went back.
	AcceptClock(ctx context.Context) error

	// Probe sends a packet and tells what became of it, by the installed tables alone;
	// several results where it may go several ways.
	Probe(ctx context.Context, p Packet) ([]ProbeResult, error)
	// Power starts, stops or restarts a machine and tells how it is doing from now on, and
	// what happened in words. What is so already is no error. The errors are *NoMachineError.
	Power(ctx context.Context, machine string, act Power) (m Machine, happened string, err error)
	// SetPasswordHash sets the salted hash of the password of a machine's first user. A machine that is altered to take none forgets it.
	SetPasswordHash(ctx context.Context, machine, hash string) error
	// Boot returns what a machine wrote to its serial line since it was last started,
	// and what its first boot came to.
	Boot(ctx context.Context, machine string) (Boot, error)
	// Console opens a machine's console, its serial line. It ends within a second of what let somebody in. The errors are
	// *NoMachineError and *NoConsoleError.
	Console(ctx context.Context, machine string, by ConsoleBy) (io.ReadWriteCloser, error)
	// Dial begins a TCP session as a client would, from an address. It ends within a
	// second of what let it in, whoever ended that. The errors are *UnreachableError, and
	// *RefusedError where nothing listens.
	Dial(ctx context.Context, from netip.Addr, to netip.AddrPort) (net.Conn, error)
	// HostKey returns the public key of a machine's SSH server, as OpenSSH writes it.
	HostKey(ctx context.Context, machine string) (string, error)
	Close() error
}

// Scope says what is asked for besides the mark and the identity.
type Scope struct {
	Machines  []string // these alone, where resources are not asked for
	Openings  []int64  // which of these were shut
	Some      bool     // of what openings let pass, that of these alone
	Resources bool     // resources, machines and keys
	Plan      bool     // the tables
	After     int64    // what others did after this number; negative: nothing of it
}

// Everything is the scope that leaves nothing out.
var Everything = Scope{Resources: true, Plan: true}

// Observation is what a place has at one moment.
type Observation struct {
	Mark      string
	Identity  Identity
	Resources []change.Resource   // with what the place gave them
	Machines  map[string]Machine  // by name
	Keys      map[string]string   // the public key inside each machine
	Plan      *flow.Plan          // as installed, with its openings
	Compiled  string              // the plan without openings as [flow.Plan.Binary] writes it, where the place keeps it so; "": it does not
	Shut      map[int64]time.Time // of the openings that were asked for
	Highest   int64               // the highest number of an opening that ever passed or was shut
	Outside   []OutOfBandChange   // by number, as the place's own record tells them
	Records   bool                // the place has such a record
	Behind    time.Duration       // how far the clock went back; then openings let nothing pass, if not
	Resting   []netip.Addr        // inside addresses that were given up a short while ago
	Host      []netip.Addr        // the current addresses of the host on which the place runs; nil for a place without one
	Network   []Alteration        // what else decides about packets and is not as the place makes it; of tables alone, where resources are not asked for
	Steady    bool                // their ends are kept by a clock that does not go back, too
}

// Alteration is something in a place's network that is not as the place makes it.
type Alteration struct {
	What    string `json:"what"`    // in words
	Foreign bool   `json:"foreign"` // somebody else's, which decides beside what is installed
}

// Identity is which estate a place belongs to, and the last entry of its journal that
// the place was told of. The zero Identity belongs to none.
type Identity struct {
	Estate string       `json:"estate"`
	Head   journal.Head `json:"head"`
}

// Passage is what an opening lets pass.
type Passage struct {
	ID       int64
	Begin    time.Time // it passes nothing before
	Sentence string    // as whoever looks at the place is to read it
	Parts    []Part
}

// Rules returns the rules of a passage in a plan, one a part. Machines that the plan has not
// are left out.
func (p Passage) Rules(plan *flow.Plan) (rules []flow.Rule) {
	for _, part := range p.Parts {
		g := &flow.Group{}
		for _, name := range part.Machines {
			if m, ok := plan.MachineByName(name); ok {
				g.Machines = append(g.Machines, m)
			}
		}
		slices.Sort(g.Machines)
		rules = append(rules, flow.Rule{
			Kind: flow.Opening, From: part.From, To: g, Services: part.Services, Begin: p.Begin, Until: part.End, Opening: p.ID, Origin: flow.Origin{Sentence: p.Sentence},
		})
	}
	return rules
}

// ConsoleBy is what lets somebody in at a console. The zero ConsoleBy lets nobody in.
type ConsoleBy struct {
	Openings  []int64 // one of which must pass for the machine's console
	Emergency bool    // root comes in without an opening
}

// OpensConsole reports whether it passes at a moment for the console of a machine.
func (p Passage) OpensConsole(machine string, at time.Time) bool {
	return !at.Before(p.Begin) && slices.ContainsFunc(p.Parts, func(part Part) bool {
		return part.Services.Contains(flow.Console) && slices.Contains(part.Machines, machine) && at.Before(part.End)
	})
}

// End is the end of the part that ends last.
func (p Passage) End() (end time.Time) {
	for _, part := range p.Parts {
		if part.End.After(end) {
			end = part.End
		}
	}
	return end
}

// Part is a part of a passage, in names: it does not hang on what else is there.
type Part struct {
	Machines []string
	Services flow.Services
	From     flow.Addrs
	End      time.Time // it passes nothing from then on
}

// OutOfBandChange is something that was done to the place, and not by Ironbark.
type OutOfBandChange struct {
	Seq     int64 // counted from 1
	At      time.Time
	Who     string
	What    string
	After   journal.Head // that was kept at that moment: clocks may stand still
	In, Out []flow.Row   // how the tables changed
}

// Packet is the first packet of a flow.
type Packet struct {
	Arrives string // the network or line it comes from, or "internet"; "": where its source belongs
	Source  netip.Addr
	Target  netip.Addr
	Service flow.Service
}

// ProbeResult is what became of a packet.
type ProbeResult struct {
	Open    bool
	Machine string // where it led; "" for nowhere or a gateway
	Reason  string // as exposure.Reason
	By      string // the sentence, if one decided
	Arrives string // the service that arrives at the machine, such as tcp/22; "" where the place does not tell
}
