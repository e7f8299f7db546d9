package picture

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"image/png"
	"io"
	"os/exec"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// estate is a map of some machines, a few of which let somebody in.
func estate(machines int) Map {
	var nodes []Node
	for i := range machines {
		n := Node{Kind: "machine", Name: fmt.Sprintf("gauge-%d", i), About: "running", Down: i%7 == 3}
		if i%10 == 0 {
			n.Lets = []Let{{Service: "https", From: "everywhere", Level: Open}}
		}
		if i == 5 {
			n.Lets = []Let{{Service: "ssh", From: "198.51.100.7", How: "59m left", Level: Administrative}, {Service: "https", From: "a & <b>", Level: Open}}
		}
		nodes = append(nodes, n)
	}
	return Map{Title: "tides", Networks: []Network{
		{Name: "estuary", Space: "10.60.0.0/16", Fronts: []Node{{Kind: "front", Name: "pier", Lets: []Let{{Service: "https", To: "gauge-1"}}}}, Subnets: []Subnet{{Name: "landing", Nodes: nodes}, {Name: "empty"}}},
		{Name: "shoal", Space: "10.61.0.0/16"},
	}, Lines: []Node{{Kind: "line", Name: "headland"}}}
}

// TestNothingOverlapsAndNothingSticksOut looks at each pair of boxes: one is inside
// the other, or they are apart; and all words are inside the drawing.
func TestNothingOverlapsAndNothingSticksOut(t *testing.T) {
	for _, machines := range []int{0, 1, 5, 37, 200} {
		s := LayOut(estate(machines))
		inside := func(a, b rect) bool { return a.x >= b.x && a.y >= b.y && a.x+a.w <= b.x+b.w && a.y+a.h <= b.y+b.h }
		for i, a := range s.rects {
			require.True(t, inside(a, rect{0, 0, s.w, s.h, 0}), "%d machines: box %v sticks out", machines, a)
			for _, b := range s.rects[:i] {
				apart := a.x >= b.x+b.w || b.x >= a.x+a.w || a.y >= b.y+b.h || b.y >= a.y+a.h
				require.True(t, apart || inside(a, b) || inside(b, a), "%d machines: %v and %v overlap", machines, a, b)
			}
		}
		for _, l := range s.labels {
			require.LessOrEqual(t, l.x+wide(l.text), s.w, l.text)
			require.LessOrEqual(t, l.y, s.h, l.text)
		}
	}
}

func TestEachFormIsWellFormedAndHasEverything(t *testing.T) {
	m := estate(37)
	var svg, img, dot bytes.Buffer
	require.NoError(t, LayOut(m).SVG(&svg))
	d := xml.NewDecoder(bytes.NewReader(svg.Bytes()))
	words := ""
	for {
		tok, err := d.Token()
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
		if text, ok := tok.(xml.CharData); ok {
			words += string(text) + "\n"
		}
	}
	for _, want := range []string{"gauge-36", "! ssh ← 198.51.100.7, 59m left", "a & <b>", "https leads to gauge-1", "headland", "empty"} {
		assert.Contains(t, words, want)
	}
	require.NoError(t, LayOut(m).PNG(&img))
	drawn, err := png.Decode(&img)
	require.NoError(t, err)
	assert.Equal(t, 2*width, drawn.Bounds().Dx())
	require.NoError(t, DOT(&dot, m))
	c := exec.Command("dot", "-Tplain")
	c.Stdin = &dot
	out, err := c.Output()
	require.NoError(t, err, "another program reads the DOT")
	assert.True(t, bytes.Contains(out, []byte("gauge-36")))
}
