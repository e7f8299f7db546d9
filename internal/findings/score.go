package findings

import (
	"cmp"
	"slices"
)

// Whole is the score of an estate in which nothing is found.
const Whole = 100

// What a finding takes off a score by its level, and what those of one kind take off at most: many of one kind are one mistake.
var (
	takes     = map[Level]int{Serious: 10, Caution: 3, Note: 1}
	takesMost = map[Level]int{Serious: 30, Caution: 12, Note: 4}
)

// What broken guarantees take off: each, and all of them at most.
const (
	brokenTakes     = 30
	brokenTakesMost = 60
)

// Score tells in a number from 0 to [Whole] how an estate stands, and what each kind of finding takes off it.
type Score struct {
	Points int
	Lines  []ScoreLine // what takes off most first
}

// ScoreLine is what findings of one kind and level take off.
type ScoreLine struct {
	What  string // in words
	Level Level
	Kind  Kind // "" of broken guarantees
	Count int
	Off   int
}

// ScoreOf adds up findings and broken guarantees. Cost: linear.
func ScoreOf(list []Finding, broken int) Score {
	type key struct {
		level Level
		kind  Kind
	}
	count := map[key]int{}
	for _, f := range list {
		count[key{f.Level, f.Kind}]++
	}
	s := Score{Points: Whole}
	if broken > 0 {
		s.Lines = append(s.Lines, ScoreLine{What: "a guarantee is broken", Level: Serious, Count: broken, Off: min(broken*brokenTakes, brokenTakesMost)})
	}
	for k, n := range count {
		s.Lines = append(s.Lines, ScoreLine{What: k.kind.What(), Level: k.level, Kind: k.kind, Count: n, Off: min(n*takes[k.level], takesMost[k.level])})
	}
	slices.SortFunc(s.Lines, func(a, b ScoreLine) int {
		return cmp.Or(cmp.Compare(b.Off, a.Off), cmp.Compare(b.Level, a.Level), cmp.Compare(a.Kind, b.Kind))
	})
	for _, l := range s.Lines {
		s.Points -= l.Off
	}
	s.Points = max(s.Points, 0)
	return s
}
