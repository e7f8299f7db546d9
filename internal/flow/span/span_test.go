package span

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// small is a line of 16 points, on which a set is also a mask of 16 bits.
type small int8

func (a small) Compare(b small) int { return int(a) - int(b) }
func (a small) Next() small         { return a + 1 }
func (a small) Prev() small         { return a - 1 }

func mask(s Set[small]) (m uint16) {
	for p := range small(16) {
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
			runs = append(runs, Run[small]{small(rapid.IntRange(0, 15).Draw(t, "lo")), small(rapid.IntRange(0, 15).Draw(t, "hi"))})
		}
		return Of(runs...)
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
	})
}
