// Package timeline puts what was let through, and for how long, on a line: a row for each machine, with openings, standing exceptions, denies that
// begin or end, and what others changed.
//
//	Bars ──New──▶ Line (rows of machines that have the same bars) ──▶ text, SVG, PNG
//
// The package is pure.
package timeline

import (
	"cmp"
	"encoding/binary"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"ironbark/internal/sentence"
)

// Kind is what a bar tells of. The zero Kind is invalid.
type Kind uint8

// The kinds, in the order in which bars that begin together are told.
const (
	Outside  Kind = iota + 1 // what somebody else did to the site
	Opening                  // what was opened for a while
	Asked                    // what was asked for, and waited for approval
	Standing                 // an administrative service that a sentence leaves open
	Deny                     // a deny that begins or ends
	Allow                    // a sentence that lets other services in, and ends
)

// String names the kind, as documents do.
func (k Kind) String() string {
	return [...]string{"invalid", "outside", "opening", "asked", "standing", "deny", "allow"}[min(k, 7)%7]
}

// Bar is one time on the line.
type Bar struct {
	Kind       Kind
	Begin, End time.Time // from Begin on, and not at End any more. Zero: it was so before all that is known, and there is no end.
	Used       Span      // in which it last let something pass, as narrowly as that is known; zero where it is not, or it never did
	Number     int64     // of an opening; 0: it is none
	Who        string    // who brought it about; "" where that is not known
	What       string    // in words
	Why        string    // the reason that was given; may be empty
	Machines   []string  // by name; none: the site as a whole
}

// Span is a time between two moments.
type Span struct{ After, Before time.Time }

// IsZero reports whether the span is none.
func (s Span) IsZero() bool { return s.Before.IsZero() }

// Row is what concerns some machines: each of its bars is about all of them.
type Row struct {
	Machines []string // in natural order; none: the site as a whole
	Bars     []*Bar   // by their beginnings
}

// Name names the machines of the row: the first of them, where they are many.
func (r Row) Name() string {
	switch n := len(r.Machines); {
	case n == 0:
		return "the site"
	case n <= 4:
		return strings.Join(r.Machines, ", ")
	}
	return strings.Join(r.Machines[:3], ", ") + fmt.Sprintf(" and %d more", len(r.Machines)-3)
}

// Text tells in words who brought the bar about, what it is, and why.
func (b *Bar) Text() string {
	text := b.What
	if b.Who != "" {
		text = b.Who + ": " + text
	}
	if b.Number > 0 {
		text = "opening " + strconv.FormatInt(b.Number, 10) + ", " + text
	}
	if b.Kind == Asked {
		text += ", not approved"
	}
	if b.Why != "" {
		text += ", “" + b.Why + "”"
	}
	return text
}

// Line is a time line.
type Line struct {
	Since, Now, Until time.Time
	Rows              []Row // that of the site first, then by name
}

// New makes the line of those bars that reach into the time between two moments. Those that do not are left out. Cost: linear in the machines of all bars.
func New(since, now, until time.Time, bars []Bar) Line {
	line := Line{Since: since, Now: now, Until: until}
	of := map[string][]int{}
	bars = slices.DeleteFunc(slices.Clone(bars), func(b Bar) bool {
		return b.Begin.After(until) || !b.End.IsZero() && (b.End.Before(since) || b.End.Equal(since) && b.Begin.Before(since))
	})
	slices.SortStableFunc(bars, func(a, b Bar) int {
		return cmp.Or(a.Begin.Compare(b.Begin), cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.Number, b.Number), cmp.Compare(a.What, b.What))
	})
	for i, b := range bars {
		for _, m := range b.Machines {
			of[m] = append(of[m], i)
		}
		if len(b.Machines) == 0 {
			of[""] = append(of[""], i)
		}
	}
	place := map[string]int{} // of the rows, by their bars
	for _, m := range slices.SortedFunc(maps.Keys(of), sentence.CompareNames) {
		var key []byte
		var row Row
		for _, i := range slices.Compact(of[m]) {
			key = binary.AppendUvarint(key, uint64(i))
			row.Bars = append(row.Bars, &bars[i])
		}
		if m == "" {
			line.Rows = append(line.Rows, row)
			continue
		}
		at, known := place[string(key)]
		if !known {
			at = len(line.Rows)
			place[string(key)] = at
			line.Rows = append(line.Rows, row)
		}
		line.Rows[at].Machines = append(line.Rows[at].Machines, m)
	}
	return line
}

// First returns the line with so many of its bars, row by row, and how many are left out.
func (l Line) First(bars int) (few Line, left int) {
	few = l
	few.Rows = nil
	for _, r := range l.Rows {
		n := min(len(r.Bars), bars)
		bars -= n
		left += len(r.Bars) - n
		if r.Bars = r.Bars[:n]; n > 0 {
			few.Rows = append(few.Rows, r)
		}
	}
	return few, left
}

// Position tells where a moment stands between the ends of the line, from 0 to 1. What lies beyond them stands at them.
func (l Line) Position(t time.Time) float64 {
	return min(max(float64(t.Sub(l.Since))/float64(l.Until.Sub(l.Since)), 0), 1)
}

// Extent tells where a bar begins and ends on the line.
func (l Line) Extent(b *Bar) (begin, end float64) {
	if begin, end = l.Position(b.Begin), 1; !b.End.IsZero() {
		end = l.Position(b.End)
	}
	return begin, end
}

// steps are those between the marks of a line.
var steps = []time.Duration{
	time.Minute, 5 * time.Minute, 15 * time.Minute, 30 * time.Minute, time.Hour, 2 * time.Hour, 3 * time.Hour, 6 * time.Hour, 12 * time.Hour,
	day, 2 * day, 7 * day, 14 * day, 28 * day, 91 * day, year,
}

const (
	day  = 24 * time.Hour
	year = 364 * day // in whole weeks
)

// Mark is a round moment of a line, and how it is written: midnight as the day that begins, and where marks are years apart as the month.
type Mark struct {
	At   time.Time
	Text string
}

// Marks are the round moments of a line, in UTC, at most so many.
func (l Line) Marks(most int) (list []Mark) {
	all := l.Until.Sub(l.Since)
	step := steps[len(steps)-1]
	for _, s := range slices.Backward(steps) {
		if all/s+1 > time.Duration(most) {
			break
		}
		step = s
	}
	for all/step+1 > time.Duration(most) {
		step *= 2
	}
	first := l.Since.UTC().Truncate(step)
	if step > day { // weeks begin on the day of the line's own beginning
		first = l.Since.UTC().Truncate(day)
	}
	for t := first; t.Before(l.Until); t = t.Add(step) {
		switch {
		case t.Before(l.Since):
		case step >= year:
			list = append(list, Mark{t, t.Format("Jan 2006")})
		case t.Equal(t.Truncate(day)):
			list = append(list, Mark{t, t.Format("2 Jan")})
		default:
			list = append(list, Mark{t, t.Format("15:04")})
		}
	}
	return list
}
