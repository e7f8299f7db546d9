package view

import (
	"time"

	"ironbark/internal/work"
)

// Spells prints when administrative services were open.
func (p *Printer) Spells(list []work.Spell, since, now time.Time) {
	if len(list) == 0 {
		p.Line("No administrative service was open since %s.", Moment(since, now))
		return
	}
	var rows [][]string
	for _, s := range list {
		ph := NewPhrasing(s.State, now)
		end := "still open"
		if !s.End.IsZero() {
			end = Moment(s.End, now)
		}
		rows = append(rows, []string{
			Moment(s.Begin, now), end, ph.names.Plain(s.Entry.From), ph.machine(s.Entry.Door.Machine, s.Entry.Door),
			p.Open(ph.service(s.Entry.Services)), s.Entry.Door.Kind.String(), s.By, ph.because(s.Entry.Origin, s.Entry.Opening),
		})
	}
	p.Table([]string{"BEGAN", "ENDED", "FROM", "TO", "SERVICE", "DOOR", "BY", "BECAUSE OF"}, rows)
}

// SpellsJSON is the document of when administrative services were open.
func SpellsJSON(list []work.Spell, since, now time.Time) any {
	type spell struct {
		Begin  time.Time  `json:"begin"`
		End    *time.Time `json:"end"`
		Person string     `json:"person"`
		reachJSON
	}
	out := make([]spell, 0, len(list))
	for _, s := range list {
		out = append(out, spell{s.Begin.UTC(), moment(s.End), s.By, entryJSON(s.Entry, NewPhrasing(s.State, now))})
	}
	return struct {
		Since time.Time `json:"since"`
		Until time.Time `json:"until"`
		Open  []spell   `json:"open"`
	}{since.UTC(), now.UTC(), out}
}
