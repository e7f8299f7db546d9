package site

import (
	"context"
	"fmt"
	"strings"

	"ironbark/internal/ledger"
	"ironbark/internal/opening"
)

// mostReasons is how many reasons of a refusal the journal has in words.
const mostReasons = 5

// Refused records that a request was refused, and why.
func (s *Site) Refused(ctx context.Context, person, request string, why *opening.RefusalError) error {
	var reasons []string
	for i, r := range why.Reasons {
		if i == mostReasons {
			reasons = append(reasons, fmt.Sprintf("and %d more", len(why.Reasons)-i))
			break
		}
		reasons = append(reasons, r.What)
	}
	return s.record(ctx, ledger.Decision{Person: person, Action: "refuse", Text: request + ": " + strings.Join(reasons, "; ")})
}
