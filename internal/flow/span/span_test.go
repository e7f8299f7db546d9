package span

import (
	"math/bits"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// small is a line of 64 points, on which a set is also a mask of 64 bits: long enough for sets of many runs, in which they are found by steps that double.
type small int8

func (a small) Compare(b small) int { return int(a) - int(b) }
func (a small) Next() small         { return a + 1 }
func (a small) Prev() small         { return a - 1 }

func mask(s Set[small]) (m uint64) {
	for p := range small(64) {
		if s.Contains(p) {
			m |= 1 << p
		}
	}
	return m
}

// TestSetsAgreeWithMasks compares the runs with bit masks, the slow and obvious sets.
func TestSetsAgreeWithMasks(t *testing.T) {
	draw := func(t *rapid.T, label string) Set[small] {
		var runs []Run[small]
		for range rapid.IntRange(0, 5).Draw(t, label) {
			runs = append(runs, Run[small]{small(rapid.IntRange(0, 63).Draw(t, "lo")), small(rapid.IntRange(0, 63).Draw(t, "hi"))})
		}
		few := Of(runs...)
		var want uint64
		for _, r := range runs {
			for p := r.Lo; p <= r.Hi; p++ {
				want |= 1 << p
			}
		}
		require.Equal(t, want, mask(few))
		for many := rapid.Uint64().Draw(t, "many"); many != 0 && rapid.Bool().Draw(t, "and many"); many &= many - 1 {
			few = few.Union(One(small(bits.TrailingZeros64(many))))
		}
		return few
	}
	rapid.Check(t, func(t *rapid.T) {
		a, b := draw(t, "a"), draw(t, "b")
		for _, s := range []Set[small]{a, b, a.Union(b), a.Intersect(b), a.Subtract(b)} {
			require.Empty(t, s.Check())
		}
		require.Equal(t, mask(a)|mask(b), mask(a.Union(b)))
		require.Equal(t, mask(a)&mask(b), mask(a.Intersect(b)))
		require.Equal(t, mask(a)&^mask(b), mask(a.Subtract(b)))
		var pile Builder[small]
		pile.Reset(a)
		require.Equal(t, mask(b)&^mask(a), mask(pile.Rest(b)))
		pile.Add(b)
		require.True(t, Set[small](pile).Equal(a.Union(b)), "%v and %v pile up to %v", a, b, pile.runs)
		require.Equal(t, mask(a)&mask(b) != 0, a.Overlaps(b))
		require.Equal(t, mask(b)&^mask(a) == 0, a.ContainsAll(b))
		require.Equal(t, mask(a) == mask(b), a.Equal(b))
		require.Equal(t, mask(a) == 0, a.IsEmpty())
		sorted, ok := Sorted(slices.Clone(a.Runs()))
		require.True(t, ok)
		require.Equal(t, a, sorted)
		at := small(rapid.IntRange(0, 63).Draw(t, "at"))
		if !a.Contains(at) || !a.Contains(at-1) { // it lies inside no run
			before, from := a.Split(at)
			require.Equal(t, mask(a)&(1<<at-1), mask(before))
			require.Equal(t, mask(a)&^(1<<at-1), mask(from))
			for _, part := range []Set[small]{before, from} {
				require.Equal(t, part.Equal(a), part.Memory() == a.Memory(), "a part is not taken for the whole, although it shares its runs")
			}
		}
	})
}

// TestOnlyRunsOfASetAreSorted holds runs to the invariants of sets.
func TestOnlyRunsOfASetAreSorted(t *testing.T) {
	for _, runs := range [][]Run[small]{{{2, 1}}, {{1, 2}, {2, 3}}, {{1, 2}, {3, 4}}, {{5, 6}, {1, 2}}, {{1, 5}, {2, 3}}} {
		s, ok := Sorted(runs)
		require.False(t, ok, runs)
		require.True(t, s.IsEmpty())
		require.NotEmpty(t, Set[small]{runs}.Check())
	}
	s, ok := Sorted([]Run[small]{{1, 1}, {3, 4}})
	require.True(t, ok)
	require.Equal(t, uint64(0b11010), mask(s))
}

// TestRunsThatMeetAreOne puts runs together that share an end, touch, or are single points.
func TestRunsThatMeetAreOne(t *testing.T) {
	for _, c := range []struct{ runs, want []Run[small] }{
		{[]Run[small]{{2, 2}}, []Run[small]{{2, 2}}},
		{[]Run[small]{{3, 5}, {1, 3}}, []Run[small]{{1, 5}}},
		{[]Run[small]{{1, 3}, {4, 4}}, []Run[small]{{1, 4}}},
		{[]Run[small]{{1, 3}, {5, 5}}, []Run[small]{{1, 3}, {5, 5}}},
		{[]Run[small]{{1, 9}, {2, 3}}, []Run[small]{{1, 9}}},
	} {
		require.Equal(t, c.want, Of(c.runs...).Runs())
	}
}

// TestEachRunOfManyIsFound looks for each of some runs, and for what lies between them.
func TestEachRunOfManyIsFound(t *testing.T) {
	for n := range 21 {
		var s Set[small]
		for i := range small(n) {
			s = s.Union(Of(Run[small]{i * 3, i*3 + 1}))
		}
		for p := range small(64) {
			one, in := One(p), p%3 < 2 && int(p) < n*3
			require.Equal(t, in, s.ContainsAll(one), "%d of %d", p, n)
			require.Equal(t, in, s.Overlaps(one))
			require.Equal(t, in, !s.Intersect(one).IsEmpty())
			before, from := s.Split(p - p%3) // which lies in no run, or begins one
			require.Equal(t, s.Runs(), append(slices.Clone(before.Runs()), from.Runs()...))
			require.True(t, before.IsEmpty() || before.Runs()[len(before.Runs())-1].Hi < p)
		}
	}
}
