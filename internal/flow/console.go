package flow

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"ironbark/internal/flow/span"
	"ironbark/internal/sentence"
)

// This file is the consoles of machines, which are not of the network: a service that [AnyService] does not have, and a source that no packet has, so
// that sets of services and sources serve for consoles too.

// ConsoleOnly is the set of the console alone.
var ConsoleOnly = span.One(Console)

// ConsoleSource is the source of each rule for a console, and of no other. It is an address of this host (RFC 1122, 3.2.1.3).
var ConsoleSource = AddrsAt(netip.IPv4Unspecified())

// ConsoleFamily is the family of [ConsoleSource].
const ConsoleFamily = sentence.IPv4

// OpensConsole reports whether the rule is an opening of consoles.
func (r *Rule) OpensConsole() bool { return r.Kind == Opening && r.Services.Contains(Console) }

// ConsoleOpen reports whether rows of openings let somebody in at the console of a machine at a moment. They are read without any plan. Cost:
// linear in the rows.
func ConsoleOpen(rows []Row, machine string, at time.Time) (bool, error) {
	r := rowReader{p: &Plan{byName: map[string]int32{machine: 0}}, groups: map[string]*Group{}}
	for _, row := range rows {
		kind, _, _ := strings.Cut(row.Key, " ")
		if err := r.group(kind, row); err != nil {
			return false, fmt.Errorf("installed table row %q: %w", row.Key, err)
		}
	}
	if err := r.rules(rows); err != nil {
		return false, err
	}
	return slices.ContainsFunc(r.p.Rules, func(o Rule) bool { return o.OpensConsole() && o.Active(at) && o.To.Has(0) }), nil
}
