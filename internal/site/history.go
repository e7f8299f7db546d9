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
	"ironbark/internal/sentence"
)

// Moment is what was installed from a moment on, and who brought it about.
type Moment struct {
	At       time.Time
	Person   string
	Base     *flow.Plan // without openings; the very same as before where it was not changed
	Plan     *flow.Plan
	Files    []estate.File // as last enacted; the very same as before where they were not changed
	Openings []opening.Opening
	Outside  *driver.OutOfBandChange // what somebody else did; nil: it was recorded here
}

// History hands over what was installed at a moment, and then after each change that the journal or the place's
// own record knows (of the tables, or by others of anything), oldest first, until yield returns false or an error. Openings that were over are in none of it. Cost: linear
// in the journal, and in the plan for each time that it was changed after that moment.
func (s *Site) History(ctx context.Context, from time.Time, yield func(Moment) (more bool, err error)) error {
	o, err := s.driver.Observe(ctx, driver.Scope{})
	if err != nil {
		return err
	}
	outside := o.Outside
	p := past{plan: map[string]string{}, touched: map[string]*string{}, openings: map[int64]opening.Opening{}}
	before := func() (bool, error) { return true, nil } // hands over what was installed at that moment, once
	step := func(at time.Time, person string, by *driver.OutOfBandChange, apply func() bool) (more bool, err error) {
		hand := func() (bool, error) {
			m, err := p.moment(at, person)
			if err != nil {
				return false, err
			}
			m.Outside = by
			return yield(m)
		}
		if at.After(from) {
			more, err := before()
			before = func() (bool, error) { return true, nil }
			if err != nil || !more {
				return more, err
			}
		}
		switch {
		case !apply():
			return true, nil
		case at.After(from):
			return hand()
		}
		before = hand
		return true, nil
	}
	others := func(before int64) (more bool, err error) { // what others did before an entry
		for len(outside) > 0 && outside[0].After.Seq < before {
			o := outside[0]
			outside = outside[1:]
			more, err := step(o.At, o.Who, &o, func() bool {
				p.outside(o)
				return true
			})
			if err != nil || !more {
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
			more, err := step(e.At, e.Person, nil, func() bool { return p.apply(e) })
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
	if more, err := others(math.MaxInt64); err != nil || !more {
		return err
	}
	_, err = before()
	return err
}

// FilesAt returns the files that were enacted at a moment; none where nothing was. Cost: linear in the journal up to then.
func (s *Site) FilesAt(ctx context.Context, at time.Time) (files []estate.File, err error) {
	err = s.eachFiles(ctx, func(e ledger.Entry) bool {
		if e.At.After(at) {
			return false
		}
		files = e.Files
		return true
	})
	return files, err
}

// FilesSince hands over the files that were enacted at a moment, and all that were enacted after it, oldest first. Cost: linear in the journal.
func (s *Site) FilesSince(ctx context.Context, from time.Time, yield func([]estate.File)) error {
	var before []estate.File
	err := s.eachFiles(ctx, func(e ledger.Entry) bool {
		if !e.At.After(from) {
			before = e.Files
			return true
		}
		if before != nil {
			yield(before)
			before = nil
		}
		yield(e.Files)
		return true
	})
	if err == nil && before != nil {
		yield(before)
	}
	return err
}

// EnactedSince tells since when each of some lines has stood in the files that are enacted without a break, as far as the record goes; the zero moment where one does not stand there. Cost:
// linear in the files of each enactment in the journal.
func (s *Site) EnactedSince(ctx context.Context, lines []string) (map[string]time.Time, error) {
	since := make(map[string]time.Time, len(lines))
	err := s.eachFiles(ctx, func(e ledger.Entry) bool {
		there := make(map[string]bool, len(lines))
		for _, f := range e.Files {
			for l := range sentence.Lines(f.Data) {
				there[l.Text] = true
			}
		}
		for _, line := range lines {
			switch {
			case !there[line]:
				delete(since, line)
			case since[line].IsZero():
				since[line] = e.At
			}
		}
		return true
	})
	return since, err
}

// eachFiles hands over the entries that enacted files, oldest first, until yield returns false.
func (s *Site) eachFiles(ctx context.Context, yield func(ledger.Entry) bool) error {
	for after := int64(0); ; {
		entries, err := s.ledger.Entries(ctx, after, page)
		if err != nil || len(entries) == 0 {
			return err
		}
		for _, e := range entries {
			if after = e.Seq; e.Files != nil && !yield(e) {
				return nil
			}
		}
	}
}

// past is what the journal comes to up to an entry.
type past struct {
	plan     map[string]string  // as it was installed
	touched  map[string]*string // by others since then: nil bodies were taken out
	openings map[int64]opening.Opening
	order    []int64 // of the openings
	files    []estate.File
	base     *flow.Plan // of plan and touched; nil: it is to be put together
}

// apply applies an entry and reports whether it changed what is installed.
func (p *past) apply(e ledger.Entry) bool {
	if e.Plan != nil { // the whole of it was put in place of what was there
		clear(p.touched)
		p.base = nil
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
		if o, known := p.openings[id]; known {
			o.Ended, o.EndedBy = e.At, e.Person
			p.openings[id] = o
		}
	}
	if e.Files != nil {
		p.files = e.Files
	}
	return e.Plan != nil || e.Files != nil || len(e.Openings)+len(e.Ended) > 0
}

func (p *past) outside(o driver.OutOfBandChange) {
	if len(o.In)+len(o.Out) > 0 {
		p.base = nil
	}
	for _, row := range o.In {
		p.touched[row.Key] = &row.Body
	}
	for _, row := range o.Out {
		p.touched[row.Key] = nil
	}
}

// moment puts the plan together as it stood, with the openings that held. Those that were over are left out from then on.
func (p *past) moment(at time.Time, person string) (Moment, error) {
	if p.base == nil {
		plan, err := flow.FromRows(p.rows())
		if err != nil {
			return Moment{}, err
		}
		p.base = plan
	}
	p.order = slices.DeleteFunc(p.order, func(id int64) bool {
		o := p.openings[id]
		if !o.Active(at) {
			delete(p.openings, id)
		}
		return !o.Active(at)
	})
	m := Moment{At: at, Person: person, Base: p.base, Files: p.files, Openings: make([]opening.Opening, 0, len(p.order))}
	var rules []flow.Rule
	for _, id := range p.order {
		o := p.openings[id]
		m.Openings = append(m.Openings, o)
		rules = append(rules, o.Rules(p.base)...)
	}
	m.Plan = p.base.With(rules...)
	return m, nil
}

// rows are those of the tables as they stood.
func (p *past) rows() []flow.Row {
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
	return rows
}
