package sim

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"slices"
	"time"

	"ironbark/internal/estate"
	"ironbark/internal/flow"
	"ironbark/internal/opening"
	"ironbark/internal/site"
)

// Past replays the journal and hands over what was installed after each entry
// that changed it, oldest first.
func (s *Site) Past(ctx context.Context, yield func(site.Moment) (more bool, err error)) error {
	entries, _, err := s.Journal(ctx)
	if err != nil {
		return err
	}
	outside, err := s.outside(ctx)
	if err != nil {
		return err
	}
	p := past{tables: map[int64]map[string]string{}, openings: map[int64]opening.Opening{}}
	meddled := func(before int64) error {
		for len(outside) > 0 && outside[0].after < before {
			o := outside[0]
			outside = outside[1:]
			d := delta{Owner: base, In: map[string]string{}}
			for _, row := range o.In {
				d.In[row.Key] = row.Body
			}
			for _, row := range o.Out {
				d.Out = append(d.Out, row.Key)
			}
			p.apply(record{Tables: []delta{d}}, o.At, o.Who)
			m, err := p.moment(o.At, o.Who)
			if err != nil {
				return err
			}
			if more, err := yield(m); err != nil || !more {
				return cmp.Or(err, errEnough)
			}
		}
		return nil
	}
	for _, e := range entries {
		if err := meddled(e.Seq); err != nil {
			return enough(err)
		}
		var r record
		if err := json.Unmarshal([]byte(e.Data), &r); err != nil {
			return fmt.Errorf("entry %d of the journal cannot be read: %w", e.Seq, err)
		}
		if !p.apply(r, e.At, e.Person) {
			continue
		}
		m, err := p.moment(e.At, e.Person)
		if err != nil {
			return fmt.Errorf("entry %d of the journal: %w", e.Seq, err)
		}
		if more, err := yield(m); err != nil || !more {
			return err
		}
	}
	return enough(meddled(math.MaxInt64))
}

// errEnough says that whoever asked has heard enough.
var errEnough = errors.New("enough")

func enough(err error) error {
	if errors.Is(err, errEnough) {
		return nil
	}
	return err
}

// outside reads all that others did to the tables.
func (s *Site) outside(ctx context.Context) (list []placed, err error) {
	db, err := s.open(ctx, false)
	if err != nil {
		return nil, absentIsEmpty(err)
	}
	err = db.Do(ctx, func(tx *sql.Tx) error {
		list, err = readOutside(ctx, tx, 0)
		return err
	})
	return slices.DeleteFunc(list, func(o placed) bool { return len(o.In)+len(o.Out) == 0 }), err
}

// past is what the journal comes to up to an entry.
type past struct {
	tables   map[int64]map[string]string
	openings map[int64]opening.Opening
	order    []int64 // of the openings
	bad      error   // an opening that could not be read
	files    []estate.File
}

// apply applies an entry and reports whether it changed what is installed.
func (p *past) apply(r record, at time.Time, person string) bool {
	for _, d := range r.Tables {
		rows := p.tables[d.Owner]
		if rows == nil {
			rows = map[string]string{}
			p.tables[d.Owner] = rows
		}
		for _, key := range d.Out {
			delete(rows, key)
		}
		for key, body := range d.In {
			rows[key] = body
		}
	}
	if r.Opening != nil {
		if _, known := p.openings[r.ID]; !known {
			p.order = append(p.order, r.ID)
		}
		o, err := r.Opening.read(r.ID)
		p.openings[r.ID], p.bad = o, cmp.Or(p.bad, err)
	}
	for _, id := range r.Ended {
		o := p.openings[id]
		o.Ended, o.EndedBy = at, person
		p.openings[id] = o
	}
	if r.Files != nil {
		p.files = nil
		for name, text := range r.Files {
			p.files = append(p.files, estate.File{Name: name, Data: []byte(text)})
		}
		slices.SortFunc(p.files, func(a, b estate.File) int { return cmp.Compare(a.Name, b.Name) })
	}
	return len(r.Tables) > 0 || r.Files != nil
}

// moment puts the tables together as they stood.
func (p *past) moment(at time.Time, person string) (site.Moment, error) {
	if p.bad != nil {
		return site.Moment{}, p.bad
	}
	all := map[string]string{}
	for owner, rows := range p.tables {
		if o, ok := p.openings[owner]; ok && !at.Before(o.End) { // over by itself
			delete(p.tables, owner)
			continue
		}
		for key, body := range rows {
			all[key] = body
		}
	}
	rows := make([]flow.Row, 0, len(all))
	for key, body := range all {
		rows = append(rows, flow.Row{Key: key, Body: body})
	}
	slices.SortFunc(rows, func(a, b flow.Row) int { return cmp.Compare(a.Key, b.Key) })
	plan, err := flow.FromRows(rows)
	if err != nil {
		return site.Moment{}, err
	}
	m := site.Moment{At: at, Person: person, Plan: plan, Files: p.files}
	m.Openings = make([]opening.Opening, 0, len(p.order))
	for _, id := range p.order {
		m.Openings = append(m.Openings, p.openings[id])
	}
	return m, nil
}
