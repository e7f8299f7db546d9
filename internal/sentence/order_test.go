package sentence

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func TestNamesAreInNaturalOrder(t *testing.T) {
	list := []string{"gauge-10", "gauge-2", "gauge", "buoy-9", "gauge-02", "gauge-2-b", "gauge-2-a", "gauge-100000000000000000000", "gauge-99999999999999999999", "g7x", "g07x"}
	slices.SortFunc(list, CompareNames)
	assert.Equal(t, []string{"buoy-9", "g07x", "g7x", "gauge", "gauge-02", "gauge-2", "gauge-2-a", "gauge-2-b", "gauge-10", "gauge-99999999999999999999", "gauge-100000000000000000000"}, list)
	rapid.Check(t, func(t *rapid.T) { // it is an order
		name := rapid.StringMatching(`[a-b0-2-]{0,6}`)
		a, b, c := name.Draw(t, "a"), name.Draw(t, "b"), name.Draw(t, "c")
		assert.Equal(t, CompareNames(a, b), -CompareNames(b, a))
		assert.Equal(t, a == b, CompareNames(a, b) == 0)
		if CompareNames(a, b) <= 0 && CompareNames(b, c) <= 0 {
			assert.LessOrEqual(t, CompareNames(a, c), 0)
		}
	})
}
