package site

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"slices"
	"time"

	"ironbark/internal/driver"
	"ironbark/internal/estate"
	"ironbark/internal/flow"
	"ironbark/internal/ledger"
	"ironbark/internal/opening"
)

// Moment is what was installed from a moment on, and who brought it about.
type Moment struct {
	At       time.Time
	Person   string
	Plan     *flow.Plan
	Files    []estate.File // as last enacted
	Openings []opening.Opening
}

// History hands over what was installed after each change that the journal or the place's
// own record knows, oldest first, until yield returns false or an error. Cost: linear
// in the journal, times the plan.
func (s *Site) History(ctx context.Context, yield func(Moment) (more bool, err error)) error {
	o, err := s.driver.Observe(ctx, driver.Scope{})
	if err != nil {
		return err
	}
	outside := slices.DeleteFunc(o.Outside, func(o driver.OutOfBandChange) bool { return len(o.In)+len(o.Out) == 0 })
	p := past{plan: map[string]string{}, touched: map[string]*string{}, openings: map[int64]opening.Opening{}}
	hand := func(at time.Time, person string) (more bool, err error) {
		m, err := p.moment(at, person)
		if err != nil {
			return false, err
		}
		return yield(m)
	}
	others := func(before int64) (more bool, err error) { // what others did before an entry
		for len(outside) > 0 && outside[0].After.Seq < before {
			o := outside[0]
			outside = outside[1:]
			p.outside(o)
			if more, err := hand(o.At, o.Who); err != nil || !more {
				return false, err
			}
		}
		return true, nil
	}
	for after := int64(0); ; {
		entries, err := s.ledger.Entries(ctx, after, page)
		if err != nil {
			return err
		}
		for _, e := range entries {
			after = e.Seq
			if more, err := others(e.Seq); err != nil || !more {
				return err
			}
			if !p.apply(e) {
				continue
			}
			more, err := hand(e.At, e.Person)
			if err != nil {
				return fmt.Errorf("entry %d of the journal: %w", e.Seq, err)
			}
			if !more {
				return nil
			}
		}
		if len(entries) == 0 {
			break
		}
	}
	_, err = others(math.MaxInt64)
	return err
}

// past is what the journal comes to up to an entry.
type past struct {
	plan     map[string]string  // as it was installed
	touched  map[string]*string // by others since then: nil bodies were taken out
	openings map[int64]opening.Opening
	order    []int64 // of the openings
	files    []estate.File
}

// apply applies an entry and reports whether it changed what is installed.
func (p *past) apply(e ledger.Entry) bool {
	if e.Plan != nil { // the whole of it was put in place of what was there
		clear(p.touched)
		for _, key := range e.Plan.Out {
			delete(p.plan, key)
		}
		for key, body := range e.Plan.In {
			p.plan[key] = body
		}
	}
	for _, o := range e.Openings {
		if _, known := p.openings[o.ID]; !known {
			p.order = append(p.order, o.ID)
		}
		p.openings[o.ID] = o
	}
	for _, id := range e.Ended {
		o := p.openings[id]
		o.Ended, o.EndedBy = e.At, e.Person
		p.openings[id] = o
	}
	if e.Files != nil {
		p.files = e.Files
	}
	return e.Plan != nil || e.Files != nil || len(e.Openings)+len(e.Ended) > 0
}

func (p *past) outside(o driver.OutOfBandChange) {
	for _, row := range o.In {
		p.touched[row.Key] = &row.Body
	}
	for _, row := range o.Out {
		p.touched[row.Key] = nil
	}
}

// moment puts the plan together as it stood, with the openings that held.
func (p *past) moment(at time.Time, person string) (Moment, error) {
	rows := make([]flow.Row, 0, len(p.plan))
	for key, body := range p.plan {
		if _, other := p.touched[key]; !other {
			rows = append(rows, flow.Row{Key: key, Body: body})
		}
	}
	for key, body := range p.touched {
		if body != nil {
			rows = append(rows, flow.Row{Key: key, Body: *body})
		}
	}
	slices.SortFunc(rows, func(a, b flow.Row) int { return cmp.Compare(a.Key, b.Key) })
	plan, err := flow.FromRows(rows)
	if err != nil {
		return Moment{}, err
	}
	m := Moment{At: at, Person: person, Files: p.files, Openings: make([]opening.Opening, 0, len(p.order))}
	var rules []flow.Rule
	for _, id := range p.order {
		o := p.openings[id]
		m.Openings = append(m.Openings, o)
		if o.Active(at) {
			rules = append(rules, o.Rules(plan)...)
		}
	}
	m.Plan = plan.With(rules...)
	return m, nil
}
