// Package span keeps sets of points on a line, such as addresses or services, as
// sorted runs.
//
//	points  1 2 3 . . 6 . 8 9
//	runs   [1───3]   [6] [8─9]
//
// Invariants of every Set: runs are in ascending order, each has Lo ≤ Hi, and no
// two touch, so equal sets have equal runs. Sets are immutable and safe for
// concurrent use. Union, Intersect and Subtract walk both sets once: O(n+m).
package span

import (
	"cmp"
	"slices"
	"sort"
)

// Point is a place on a line. Next and Prev return a point that compares unequal
// to every neighbour at the ends of the line.
type Point[T any] interface {
	comparable
	Compare(T) int
	Next() T
	Prev() T
}

// Run is all points from Lo to Hi, both included.
type Run[T Point[T]] struct{ Lo, Hi T }

// Set is a set of points. The zero Set is empty.
type Set[T Point[T]] struct{ runs []Run[T] }

// Of returns the set of the given runs, in any order, overlapping or not. Runs
// with Lo after Hi hold nothing. Cost: O(n log n).
func Of[T Point[T]](runs ...Run[T]) Set[T] {
	list := make([]Run[T], 0, len(runs))
	for _, r := range runs {
		if r.Lo.Compare(r.Hi) <= 0 {
			list = append(list, r)
		}
	}
	slices.SortFunc(list, func(a, b Run[T]) int { return cmp.Or(a.Lo.Compare(b.Lo), a.Hi.Compare(b.Hi)) })
	var out []Run[T]
	for _, r := range list {
		out = push(out, r)
	}
	return Set[T]{out}
}

// Sorted returns the set of runs that are as those of a set must be: ascending, none empty, no two touching. ok is false where they are
// not. The set keeps the slice. Cost: linear.
func Sorted[T Point[T]](runs []Run[T]) (s Set[T], ok bool) {
	if len(runs) == 0 {
		return Set[T]{}, true
	}
	if s = (Set[T]{runs}); s.Check() != "" {
		return Set[T]{}, false
	}
	return s, true
}

// One returns the set of a single point.
func One[T Point[T]](p T) Set[T] { return Set[T]{[]Run[T]{{p, p}}} }

func earlier[T Point[T]](a, b T) T {
	if b.Compare(a) < 0 {
		return b
	}
	return a
}

func later[T Point[T]](a, b T) T {
	if b.Compare(a) > 0 {
		return b
	}
	return a
}

// bySize returns two sets, that with more runs first.
func bySize[T Point[T]](a, b Set[T]) (more, fewer Set[T]) {
	if len(a.runs) < len(b.runs) {
		return b, a
	}
	return a, b
}

// push appends a run that begins at or after the last one's beginning.
func push[T Point[T]](out []Run[T], r Run[T]) []Run[T] {
	if n := len(out); n > 0 {
		last := &out[n-1]
		if r.Lo.Compare(last.Hi) <= 0 || last.Hi.Next() == r.Lo {
			last.Hi = later(last.Hi, r.Hi)
			return out
		}
	}
	return append(out, r)
}

// IsEmpty reports whether the set holds no point.
func (s Set[T]) IsEmpty() bool { return len(s.runs) == 0 }

// Runs returns the runs in ascending order. The caller must not change them.
func (s Set[T]) Runs() []Run[T] { return s.runs }

// Memory tells where a set keeps its runs, and how many. Sets whose memories are equal are equal, but not the other way round. Cost: constant.
type Memory[T Point[T]] struct {
	first *Run[T]
	runs  int
}

// Memory is the key of what is worked out once for all sets that share their memory.
func (s Set[T]) Memory() Memory[T] {
	if len(s.runs) == 0 {
		return Memory[T]{}
	}
	return Memory[T]{&s.runs[0], len(s.runs)}
}

// Contains reports whether p is in the set. Cost: O(log n).
func (s Set[T]) Contains(p T) bool {
	i := sort.Search(len(s.runs), func(i int) bool { return s.runs[i].Hi.Compare(p) >= 0 })
	return i < len(s.runs) && s.runs[i].Lo.Compare(p) <= 0
}

// Equal reports whether both sets hold the same points.
func (s Set[T]) Equal(o Set[T]) bool {
	return len(s.runs) == len(o.runs) && (len(s.runs) == 0 || &s.runs[0] == &o.runs[0] || slices.Equal(s.runs, o.runs))
}

// Union returns the points that are in either set.
func (s Set[T]) Union(o Set[T]) Set[T] {
	switch {
	case len(s.runs) == 0:
		return o
	case len(o.runs) == 0:
		return s
	}
	out := make([]Run[T], 0, len(s.runs)+len(o.runs))
	i, j := 0, 0
	for i < len(s.runs) || j < len(o.runs) {
		if j == len(o.runs) || i < len(s.runs) && s.runs[i].Lo.Compare(o.runs[j].Lo) <= 0 {
			out = push(out, s.runs[i])
			i++
		} else {
			out = push(out, o.runs[j])
			j++
		}
	}
	return Set[T]{out}
}

// reaching returns the place of the first run at or after i that reaches p, by
// steps that double: cheap where the run is near, and logarithmic where it is far.
func reaching[T Point[T]](runs []Run[T], i int, p T) int {
	if i == len(runs) || runs[i].Hi.Compare(p) >= 0 {
		return i
	}
	step := 1
	for i+step < len(runs) && runs[i+step].Hi.Compare(p) < 0 {
		i += step
		step *= 2
	}
	lo, hi := i, min(i+step, len(runs)) // what is before lo does not reach p, and runs[hi] does
	for lo < hi {
		mid := (lo + hi) / 2
		if runs[mid].Hi.Compare(p) < 0 {
			lo = mid + 1
		} else {
			hi = mid
		}
	}
	return lo
}

// Split returns the points of s before p and those from p on. p must not lie
// inside a run, but may begin one. The results share the memory of s.
func (s Set[T]) Split(p T) (before, from Set[T]) {
	i := reaching(s.runs, 0, p)
	return Set[T]{s.runs[:i:i]}, Set[T]{s.runs[i:]}
}

// Intersect returns the points that are in both sets. Cost: O(k log n) for the k
// runs of the result and of the set with fewer.
func (s Set[T]) Intersect(o Set[T]) Set[T] {
	s, o = bySize(s, o)
	if s.within(o) {
		return s
	}
	if s.holds(o) {
		return o
	}
	var out []Run[T]
	i := 0
	for _, b := range o.runs {
		for i = reaching(s.runs, i, b.Lo); i < len(s.runs); i++ {
			a := s.runs[i]
			if a.Lo.Compare(b.Hi) > 0 {
				break
			}
			if out == nil {
				out = make([]Run[T], 0, max(len(s.runs[i:]), len(o.runs)))
			}
			r := a
			if b.Lo.Compare(r.Lo) > 0 {
				r.Lo = b.Lo
			}
			if b.Hi.Compare(r.Hi) < 0 {
				r.Hi = b.Hi
			}
			out = append(out, r)
			if b.Hi.Compare(a.Hi) <= 0 {
				break // the next run of o may lie in this one too
			}
		}
	}
	return Set[T]{out}
}

// within reports whether s lies in o, where that can be told at a glance: both
// ends of s in one run of o, or o is the same set.
func (s Set[T]) within(o Set[T]) bool {
	if len(s.runs) == 0 {
		return true
	}
	first, last := s.runs[0].Lo, s.runs[len(s.runs)-1].Hi
	i := reaching(o.runs, 0, first)
	return i < len(o.runs) && o.runs[i].Lo.Compare(first) <= 0 && last.Compare(o.runs[i].Hi) <= 0 ||
		len(s.runs) == len(o.runs) && &s.runs[0] == &o.runs[0]
}

// holds reports whether every run of o lies in a run of s.
func (s Set[T]) holds(o Set[T]) bool {
	i := 0
	for _, b := range o.runs {
		i = reaching(s.runs, i, b.Hi)
		if i == len(s.runs) || s.runs[i].Lo.Compare(b.Lo) > 0 {
			return false
		}
	}
	return true
}

// Subtract returns the points of s that are not in o. Cost: O(k log n) for the k
// runs of s and of the result, and n of o.
func (s Set[T]) Subtract(o Set[T]) Set[T] {
	if len(o.runs) == 0 || len(s.runs) == 0 || !s.Overlaps(o) {
		return s
	}
	var out []Run[T]
	put := func(left int, r Run[T]) {
		if out == nil {
			out = make([]Run[T], 0, left+2)
		}
		out = append(out, r)
	}
	j := 0
	for i, r := range s.runs {
		lo, gone := r.Lo, false
		j = reaching(o.runs, j, lo)
		for k := j; k < len(o.runs) && o.runs[k].Lo.Compare(r.Hi) <= 0; k++ {
			if o.runs[k].Lo.Compare(lo) > 0 {
				put(len(s.runs[i:]), Run[T]{lo, o.runs[k].Lo.Prev()})
			}
			if o.runs[k].Hi.Compare(r.Hi) >= 0 {
				gone = true
				break
			}
			lo = o.runs[k].Hi.Next()
		}
		if !gone {
			put(len(s.runs[i:]), Run[T]{lo, r.Hi})
		}
	}
	return Set[T]{out}
}

// Overlaps reports whether the sets share a point. Cost: O(k log n) for the k runs of the set with fewer.
func (s Set[T]) Overlaps(o Set[T]) bool {
	s, o = bySize(s, o)
	i := 0
	for _, b := range o.runs {
		if i = reaching(s.runs, i, b.Lo); i == len(s.runs) {
			return false
		}
		if s.runs[i].Lo.Compare(b.Hi) <= 0 {
			return true
		}
	}
	return false
}

// ContainsAll reports whether every point of o is in s.
func (s Set[T]) ContainsAll(o Set[T]) bool { return s.holds(o) }

// Check reports the first invariant that does not hold, or "".
func (s Set[T]) Check() string {
	for i, r := range s.runs {
		if r.Lo.Compare(r.Hi) > 0 {
			return "a run is back to front"
		}
		if i > 0 && (s.runs[i-1].Hi.Compare(r.Lo) >= 0 || s.runs[i-1].Hi.Next() == r.Lo) {
			return "two runs touch or are out of order"
		}
	}
	return ""
}
