package timeline

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func TestMachinesWithTheSameBarsShareARow(t *testing.T) {
	line := New(noon.Add(-day), noon, noon.Add(day), []Bar{
		{Kind: Opening, Begin: noon.Add(-time.Hour), End: noon.Add(time.Hour), Number: 2, Machines: []string{"gauge-10", "gauge-2", "tide-archive"}},
		{Kind: Deny, Begin: noon.Add(-2 * time.Hour), Machines: []string{"tide-archive"}},
		{Kind: Outside, Begin: noon, End: noon, What: "a network was made"},
		{Kind: Opening, Begin: noon.Add(-3 * day), End: noon.Add(-day), Number: 1, Machines: []string{"gauge-2"}},
		{Kind: Opening, Begin: noon.Add(2 * day), Number: 3, Machines: []string{"gauge-2"}},
		{Kind: Standing, Machines: []string{"gauge-3"}},
	})
	require.Len(t, line.Rows, 4)
	assert.Empty(t, line.Rows[0].Machines)
	assert.Equal(t, []string{"gauge-2", "gauge-10"}, line.Rows[1].Machines, "what was over when it begins, and what begins when it is over, is left out")
	assert.Equal(t, []string{"gauge-3"}, line.Rows[2].Machines)
	require.Len(t, line.Rows[3].Bars, 2)
	assert.Equal(t, Deny, line.Rows[3].Bars[0].Kind, "by their beginnings")
	few, left := line.First(4)
	assert.Equal(t, 1, left)
	assert.Len(t, few.Rows, 4)
	assert.Len(t, few.Rows[3].Bars, 1)
	begin, end := line.Extent(line.Rows[1].Bars[0])
	assert.InDelta(t, 23.0/48, begin, 1e-9)
	assert.InDelta(t, 25.0/48, end, 1e-9)
	begin, end = line.Extent(line.Rows[2].Bars[0])
	assert.Equal(t, []float64{0, 1}, []float64{begin, end}, "it always was, and it has no end")
}

// TestMarksAreRoundAndFew looks at lines of minutes to years.
func TestMarksAreRoundAndFew(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		line := Line{Since: noon.Add(time.Duration(rapid.Int64Range(0, int64(90*day)).Draw(t, "since")))}
		line.Until = line.Since.Add(time.Duration(rapid.Int64Range(int64(time.Minute), int64(800*day)).Draw(t, "length")))
		most := rapid.IntRange(3, 20).Draw(t, "most")
		marks := line.Marks(most)
		require.LessOrEqual(t, len(marks), most)
		for i, m := range marks {
			require.False(t, m.At.Before(line.Since) || m.At.After(line.Until))
			require.Zero(t, m.At.Second())
			require.Equal(t, m.At.Hour()+m.At.Minute() > 0, strings.Contains(m.Text, ":"), "midnight is written as the day")
			require.True(t, i == 0 || m.At.After(marks[i-1].At))
		}
	})
}
