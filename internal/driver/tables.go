package driver

import (
	"context"
	"net/netip"
	"time"

	"ironbark/internal/fault"
	"ironbark/internal/flow"
)

// FilterVerdict is what a filter rule does.
type FilterVerdict string

// The verdicts.
const (
	FilterPass   FilterVerdict = "pass"
	FilterRefuse FilterVerdict = "refuse"
	FilterLead   FilterVerdict = "lead" // to machines, from a public address
	FilterDo     FilterVerdict = "do"   // what Words say
)

// FilterRule is a rule of a packet filter, as it is installed.
type FilterRule struct {
	Chain    string // in which it is
	Verdict  FilterVerdict
	Words    string        // of FilterDo: a rule that comes from no sentence
	Machines []string      // to which it leads, or which call Addrs
	Services flow.Services // at the machines; of calls: at Addrs
	Addrs    flow.Addrs    // sources; of calls: destinations
	Calls    bool          // the machines call
	Public   netip.Addr    // of FilterLead: what clients call
	Called   flow.Services // of FilterLead: the services there
	Begin    time.Time     // zero: it has always been in effect
	End      time.Time     // zero: it does not end
	Origin   flow.Origin
	Opening  int64 // the opening's number; 0: a sentence, or what Origin says
}

// Tables are what a place's packet filter does.
type Tables struct {
	Where string // the network namespace
	Names []string
	Rules []FilterRule // in the order in which packets meet their chains
	Held  int          // ended conversations of which the filter refuses further datagrams
}

// Tabler is a driver whose place has a packet filter that can be listed.
type Tabler interface {
	// Tables reads the packet filter. Where somebody else wrote to it, the rules have what it does now. Cost: that of an observation.
	Tables(ctx context.Context) (*Tables, error)
}

// ErrNoTables says that a place has no packet filter to list.
var ErrNoTables error = noTablesError{}

type noTablesError struct{}

func (noTablesError) Error() string { return "this site has no packet filter of its own" }

// Kind is that of what a place cannot do.
func (noTablesError) Kind() fault.Kind { return fault.Unsupported }

// Advice says what lists the rules.
func (noTablesError) Advice() fault.Advice { return fault.Run("reach") }

// TablesOf reads a driver's packet filter; [ErrNoTables] where it has none.
func TablesOf(ctx context.Context, d Driver) (*Tables, error) {
	if t, ok := d.(Tabler); ok {
		return t.Tables(ctx)
	}
	return nil, ErrNoTables
}
