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
	few, left = line.First(1)
	assert.Equal(t, 4, left)
	assert.Len(t, few.Rows, 1, "rows of which no bar is told are left out")
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
		line.Until = line.Since.Add(time.Duration(rapid.Int64Range(int64(time.Minute), int64(8000*day)).Draw(t, "length")))
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

// TestMarksAreAsManyAsMayBe writes the marks of some lines out.
func TestMarksAreAsManyAsMayBe(t *testing.T) {
	for _, c := range []struct {
		length time.Duration
		most   int
		want   string
	}{
		{day, 9, "12:00 15:00 18:00 21:00 24 Nov 03:00 06:00 09:00"},
		{day, 8, "12:00 18:00 24 Nov 06:00"},
		{20 * time.Minute, 5, "12:00 12:05 12:10 12:15"},
		{4 * day, 5, "24 Nov 25 Nov 26 Nov 27 Nov"},
		{60 * day, 6, "7 Dec 21 Dec 4 Jan 18 Jan"},
		{60 * day, 9, "30 Nov 7 Dec 14 Dec 21 Dec 28 Dec 4 Jan 11 Jan 18 Jan"},
		{1300 * day, 4, "Nov 2027 Nov 2028 Nov 2029"},
		{5000 * day, 4, "Nov 2030 Nov 2034 Nov 2038"},
	} {
		var words []string
		for _, m := range (Line{Since: noon, Until: noon.Add(c.length)}).Marks(c.most) {
			words = append(words, m.Text)
		}
		assert.Equal(t, c.want, strings.Join(words, " "), "%s, at most %d", c.length, c.most)
	}
}

func TestRowsAndBarsAreToldInWords(t *testing.T) {
	for want, machines := range map[string][]string{"the site": nil, "a": {"a"}, "a, b, c, d": {"a", "b", "c", "d"}, "a, b, c and 2 more": {"a", "b", "c", "d", "e"}} {
		assert.Equal(t, want, Row{Machines: machines}.Name())
	}
	for want, b := range map[string]Bar{
		"a network was made":                                            {Kind: Outside, What: "a network was made"},
		"mara: deny ssh from internet to all":                           {Kind: Deny, Who: "mara", What: "deny ssh from internet to all"},
		"opening 7, mara: ssh to gauge-1, “new firmware”":               {Kind: Opening, Number: 7, Who: "mara", What: "ssh to gauge-1", Why: "new firmware"},
		"opening 8, mara: ssh to gauge-1, not approved, “new firmware”": {Kind: Asked, Number: 8, Who: "mara", What: "ssh to gauge-1", Why: "new firmware"},
	} {
		assert.Equal(t, want, b.Text())
	}
	for i, name := range []string{"invalid", "outside", "opening", "asked", "standing", "deny", "allow", "invalid", "invalid"} {
		assert.Equal(t, name, Kind(i).String())
	}
}
