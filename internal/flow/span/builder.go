package span

import "slices"

// Builder is a set that grows in place: it is to a Set what strings.Builder is to a string. The zero Builder is empty. It is not safe for concurrent use.
type Builder[T Point[T]] struct{ runs []Run[T] }

// Reset makes the builder hold a set and nothing else; its memory is used again.
func (p *Builder[T]) Reset(s Set[T]) { p.runs = append(p.runs[:0], s.runs...) }

// Rest returns the points of s that are not in the builder.
func (p *Builder[T]) Rest(s Set[T]) Set[T] { return s.Subtract(Set[T]{p.runs}) }

// Add puts the points of s into the builder. Cost: for each run of s a search, and
// a move of what stands after it.
func (p *Builder[T]) Add(s Set[T]) {
	i := 0
	for _, r := range s.runs {
		i = reaching(p.runs, i, r.Lo)
		if i > 0 && p.runs[i-1].Hi.Next() == r.Lo {
			i--
		}
		j := i
		for ; j < len(p.runs) && (p.runs[j].Lo.Compare(r.Hi) <= 0 || r.Hi.Next() == p.runs[j].Lo); j++ {
			r = Run[T]{earlier(r.Lo, p.runs[j].Lo), later(r.Hi, p.runs[j].Hi)}
		}
		p.runs = slices.Replace(p.runs, i, j, r)
	}
}
