package linux

import (
	"context"
	"database/sql"
	"errors"
	"fmt"

	"ironbark/internal/flow"
	"ironbark/internal/store"
)

// Ways are the numbers of the ways through published doors. Each port of a front has one of its own, which connections remember, so it
// stays from plan to plan, and no other port ever gets it. The zero Ways has none: doors without a number are closed. Ways are not
// changed after they are made.
type Ways struct {
	numbers map[publishedAt]uint32
	last    uint32 // that was ever given
}

// publishedAt is a port of a front. Two doors there share a way.
type publishedAt struct {
	Front   string
	Service flow.Service
}

// The numbers of ways: from firstWay on, without the bit that says that the probe began a connection.
const (
	firstWay uint32 = 1 << 31
	lastWay         = firstWay | fromProbe - 1
)

// fromProbe is set in the mark of a connection that the probe began, besides its way: answers
// go where they came from.
const fromProbe uint32 = 1 << 30

// NewWays takes numbers that were given before. The error says which number is given twice, or is none of a way.
func NewWays(numbers map[publishedAt]uint32, last uint32) (Ways, error) {
	holder := map[uint32]publishedAt{}
	for at, n := range numbers {
		if other, taken := holder[n]; taken {
			return Ways{}, fmt.Errorf("%s of %s and %s of %s have one way, %d", at.Service, at.Front, other.Service, other.Front, n)
		}
		if n <= firstWay || n > lastWay || n > last {
			return Ways{}, fmt.Errorf("%s of %s has the way %d, which is none", at.Service, at.Front, n)
		}
		holder[n] = at
	}
	return Ways{numbers, last}, nil
}

// errWays says that no numbers are left: a thousand million were given.
var errWays = errors.New("no numbers for published ports are left: remove the site and enact it again")

// For returns the numbers for a plan's ports: those that they have, and new ones. A port that the plan does not have loses its number.
func (w Ways) For(plan *flow.Plan) (Ways, error) {
	out := Ways{map[publishedAt]uint32{}, max(w.last, firstWay)}
	for _, d := range plan.WithGatewaysAsMachines().Doors {
		at := publishedAt{d.Front, d.Service}
		if out.numbers[at] != 0 {
			continue
		}
		n, had := w.numbers[at]
		if !had {
			if out.last >= lastWay {
				return Ways{}, errWays
			}
			out.last++
			n = out.last
		}
		out.numbers[at] = n
	}
	return out, nil
}

// of returns the number of a published door, and whether it has one.
func (w Ways) of(d *flow.Published) (uint32, bool) {
	n, ok := w.numbers[publishedAt{d.Front, d.Service}]
	return n, ok
}

const waysSchema = `
CREATE TABLE ways (front TEXT, service INTEGER, number INTEGER NOT NULL UNIQUE, PRIMARY KEY (front, service)) STRICT, WITHOUT ROWID;
`

// readWays reads the numbers that the site has given.
func readWays(ctx context.Context, tx *sql.Tx, m *meta) (Ways, error) {
	numbers := map[publishedAt]uint32{}
	err := store.Each(ctx, tx, `SELECT front, service, number FROM ways`, func(scan func(...any) error) error {
		var at publishedAt
		var n uint32
		err := scan(&at.Front, &at.Service, &n)
		numbers[at] = n
		return err
	})
	if err != nil {
		return Ways{}, err
	}
	return NewWays(numbers, m.Ingress)
}

// allotWays gives the ports of a plan their numbers, and keeps them.
func allotWays(ctx context.Context, tx *sql.Tx, m *meta, plan *flow.Plan) (Ways, error) {
	had, err := readWays(ctx, tx, m)
	if err != nil {
		return Ways{}, err
	}
	w, err := had.For(plan)
	if err != nil {
		return Ways{}, err
	}
	if _, err := tx.ExecContext(ctx, `DELETE FROM ways`); err != nil {
		return Ways{}, err
	}
	for at, n := range w.numbers {
		if _, err := tx.ExecContext(ctx, `INSERT INTO ways VALUES (?, ?, ?)`, at.Front, at.Service, n); err != nil {
			return Ways{}, err
		}
	}
	m.Ingress = w.last
	return w, nil
}
