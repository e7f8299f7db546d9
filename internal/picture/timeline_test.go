package picture

import (
	"bytes"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"ironbark/internal/timeline"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// TestWordsOnATimeLineDoNotOverlap draws lines of few and many bars: all words are inside the drawing, and none lie over others or over a bar.
func TestWordsOnATimeLineDoNotOverlap(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var bars []timeline.Bar
		for i := range rapid.SampledFrom([]int{0, 1, 5, 200}).Draw(t, "bars") {
			b := timeline.Bar{
				Kind: timeline.Kind(rapid.IntRange(1, 6).Draw(t, "kind")), Number: int64(i), Who: "mara", What: "ssh from 198.51.100.7",
				Why: rapid.StringN(0, 150, -1).Draw(t, "why"), Begin: noon.Add(-time.Duration(rapid.IntRange(0, 30).Draw(t, "begin")) * time.Hour),
			}
			if length := rapid.IntRange(0, 40).Draw(t, "length"); length < 40 {
				b.End = b.Begin.Add(time.Duration(length) * time.Hour)
			}
			for m := range 4 {
				if rapid.Bool().Draw(t, "machine") {
					b.Machines = append(b.Machines, fmt.Sprintf("gauge-with-a-long-name-%d", m))
				}
			}
			bars = append(bars, b)
		}
		s := LayOutTimeline("tides", timeline.New(noon.Add(-24*time.Hour), noon, noon.Add(6*time.Hour), bars))
		box := func(l label) rect { return rect{l.x, l.y - 10, wide(l.text), 12, 0} }
		apart := func(a, b rect) bool { return a.x >= b.x+b.w || b.x >= a.x+a.w || a.y >= b.y+b.h || b.y >= a.y+a.h }
		for i, l := range s.labels {
			require.True(t, l.x >= 0 && l.x+wide(l.text) <= s.w && l.y <= s.h, "%q sticks out", l.text)
			for _, o := range s.labels[:i] {
				require.True(t, apart(box(l), box(o)), "%q at %v lies over %q at %v", l.text, box(l), o.text, box(o))
			}
			for _, r := range s.rects {
				if r.look != styleMark && r.look != styleNow && r.look != stylePage {
					require.True(t, apart(box(l), r), "%q lies over a bar", l.text)
				}
			}
		}
	})
}

func TestATimeLineTellsWhoAndWhy(t *testing.T) {
	l := timeline.New(noon.Add(-24*time.Hour), noon, noon.Add(6*time.Hour), []timeline.Bar{
		{
			Kind: timeline.Opening, Number: 3, Who: "mara", What: "ssh from <office>", Why: "new firmware", Begin: noon.Add(-time.Hour), End: noon.Add(time.Hour),
			Machines: []string{"gauge-1", "gauge-2", "gauge-3", "gauge-4", "gauge-5"}, Used: timeline.Span{After: noon.Add(-30 * time.Minute), Before: noon},
		},
	})
	var svg, img bytes.Buffer
	s := LayOutTimeline("tides", l)
	require.NoError(t, s.SVG(&svg))
	assert.Contains(t, svg.String(), "opening 3, mara: ssh from &lt;office&gt;, “new firmware”")
	assert.Contains(t, svg.String(), "and 2 more")
	assert.Contains(t, svg.String(), hex(looks[styleUsed].fill))
	require.NoError(t, s.PNG(&img))
}
