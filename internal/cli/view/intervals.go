package view

import (
	"time"

	"ironbark/internal/work"
)

// Intervals prints when administrative services were open.
func (p *Printer) Intervals(list []work.ExposureInterval, since, now time.Time) {
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

// intervalDoc is a part of the document IntervalsDoc.
type intervalDoc struct {
	Begin  time.Time  `json:"begin"`
	End    *time.Time `json:"end"`
	Person string     `json:"person"`
	reachJSON
}

// IntervalsDoc is the document that IntervalsJSON makes.
type IntervalsDoc struct {
	Since time.Time     `json:"since"`
	Until time.Time     `json:"until"`
	Open  []intervalDoc `json:"open"`
}

// IntervalsJSON is the document of when administrative services were open.
func IntervalsJSON(list []work.ExposureInterval, since, now time.Time) IntervalsDoc {
	out := make([]intervalDoc, 0, len(list))
	for _, s := range list {
		out = append(out, intervalDoc{s.Begin.UTC(), moment(s.End), s.By, entryJSON(s.Entry, NewPhrasing(s.State, now))})
	}
	return IntervalsDoc{since.UTC(), now.UTC(), out}
}
