package view

import (
	"fmt"
	"time"

	"ironbark/internal/findings"
	"ironbark/internal/work"
)

// Score prints a score, and line by line what is taken off it.
func (p *Printer) Score(s findings.Score) {
	p.Line("")
	p.Head(fmt.Sprintf("Score %d of %d", s.Points, findings.Whole))
	var rows [][]string
	for _, l := range s.Lines {
		level := l.Level.String()
		if l.Level == findings.Serious {
			level = p.Bad(level)
		}
		rows = append(rows, []string{fmt.Sprintf("-%d", l.Off), level, l.What, Count(l.Count, "finding")})
	}
	p.TableIn("  ", nil, rows, 0)
}

// ScoreDoc is a part of documents: a score.
type ScoreDoc struct {
	Points int             `json:"points"`
	Of     int             `json:"of"`
	Lines  []scoreLineJSON `json:"lines"`
}

type scoreLineJSON struct {
	Off   int    `json:"off"`
	Level string `json:"level"`
	Kind  string `json:"kind"`
	What  string `json:"what"`
	Count int    `json:"count"`
}

// ScoreJSON is a part of a document.
func ScoreJSON(s findings.Score) ScoreDoc {
	doc := ScoreDoc{s.Points, findings.Whole, []scoreLineJSON{}}
	for _, l := range s.Lines {
		doc.Lines = append(doc.Lines, scoreLineJSON{l.Off, l.Level.String(), string(l.Kind), l.What, l.Count})
	}
	return doc
}

// mostTurns is how many findings that came or went are told of one moment.
const mostTurns = 3

// Scores prints how a score came about.
func (p *Printer) Scores(list []work.Scored, now time.Time) {
	if len(list) == 0 {
		p.Line("Nothing was enacted yet.")
		return
	}
	var rows [][]string
	before := -1
	for i, s := range list {
		by := s.Person
		if by == "" {
			by = "time"
		}
		change := ""
		if before >= 0 && s.Score.Points != before {
			change = fmt.Sprintf("%+d", s.Score.Points-before)
		}
		before = s.Score.Points
		what := Count(len(s.New), "finding")
		if i > 0 {
			what = turned(s)
		}
		rows = append(rows, []string{Moment(s.At, now), by, fmt.Sprint(s.Score.Points), change, what})
	}
	p.Table([]string{"FROM", "BY", "SCORE", "", "WHAT CAME AND WENT"}, rows, 2, 3)
	p.Line("")
	p.Wrap("", p.Quiet("By the files and the tables alone, as they were: what hangs on use, on keys and on what machines listen on is not in it."))
}

// turned tells what came and went.
func turned(s work.Scored) string {
	text := ""
	tell := func(word string, list []findings.Finding) {
		for i, f := range list {
			if text != "" {
				text += "; "
			}
			if i == mostTurns {
				text += fmt.Sprintf("and %d more", len(list)-i)
				break
			}
			text += word + " " + f.What()
		}
	}
	tell("new:", s.New)
	tell("gone:", s.Gone)
	return text
}

// ScoresDoc is the document that ScoresJSON makes.
type ScoresDoc struct {
	Scores []scoredJSON `json:"scores"`
}

type scoredJSON struct {
	At     time.Time    `json:"at"`
	Person string       `json:"person"`
	Score  ScoreDoc     `json:"score"`
	New    []FindingDoc `json:"new"`
	Gone   []FindingDoc `json:"gone"`
}

// ScoresJSON is the document of how a score came about.
func ScoresJSON(list []work.Scored) ScoresDoc {
	doc := ScoresDoc{[]scoredJSON{}}
	for _, s := range list {
		doc.Scores = append(doc.Scores, scoredJSON{s.At.UTC(), s.Person, ScoreJSON(s.Score), FindingsJSON(s.New), FindingsJSON(s.Gone)})
	}
	return doc
}

// Permits prints permits and how they are used.
func (p *Printer) Permits(list []work.Permitted, unused bool, now time.Time) {
	if len(list) == 0 && unused {
		p.Line("No permit has gone unused for so long.")
		return
	}
	if len(list) == 0 {
		p.Line("Nobody is permitted to open anything.")
		return
	}
	var rows [][]string
	for _, one := range list {
		last, by := "never", ""
		if !one.Last.IsZero() {
			last, by = Moment(one.Last, now), one.Who
		}
		rows = append(rows, []string{one.Statement.Sentence.String(), last, by, fmt.Sprint(one.Uses), Moment(one.Since, now), one.Statement.At.String()})
	}
	p.Table([]string{"PERMIT", "LAST USED", "BY", "USES", "SINCE", "AT"}, rows, 3)
}

// PermitsDoc is the document that PermitsJSON makes.
type PermitsDoc struct {
	Permits []permitJSON `json:"permits"`
}

type permitJSON struct {
	Sentence string     `json:"sentence"`
	File     string     `json:"file"`
	Line     int        `json:"line"`
	LastUsed *time.Time `json:"lastUsed"`
	Person   string     `json:"person"`
	Uses     int        `json:"uses"`
	Since    *time.Time `json:"since"`
}

// PermitsJSON is the document of permits and how they are used.
func PermitsJSON(list []work.Permitted) PermitsDoc {
	doc := PermitsDoc{[]permitJSON{}}
	for _, one := range list {
		at := one.Statement.At
		doc.Permits = append(doc.Permits, permitJSON{one.Statement.Sentence.String(), at.File, at.Line, moment(one.Last), one.Who, one.Uses, moment(one.Since)})
	}
	return doc
}
