package picture

import (
	"encoding/xml"
	"fmt"
	"image"
	"image/color"
	"image/draw"
	"image/png"
	"io"
	"math"
	"strings"

	"golang.org/x/image/font"
	"golang.org/x/image/font/gofont/gomono"
	"golang.org/x/image/font/gofont/gomonobold"
	"golang.org/x/image/font/opentype"
	"golang.org/x/image/math/fixed"
)

// look is how a style is drawn: what fills a box and what bounds it, or the
// colour of words.
type look struct {
	fill, edge color.RGBA
	dashed     bool
	bold       bool
}

func grey(v uint8) color.RGBA { return color.RGBA{v, v, v, 255} }

// Closed things are grey on white; only what is open has a colour.
var looks = map[style]look{
	stylePage:               {fill: grey(255), edge: grey(255)},
	styleNetwork:            {fill: grey(250), edge: grey(150)},
	styleSubnet:             {fill: grey(255), edge: grey(205)},
	styleClosed:             {fill: grey(246), edge: grey(222)},
	styleDown:               {fill: grey(255), edge: grey(200), dashed: true},
	styleThrough:            {fill: color.RGBA{255, 251, 242, 255}, edge: color.RGBA{226, 178, 110, 255}},
	styleOpen:               {fill: color.RGBA{255, 243, 224, 255}, edge: color.RGBA{214, 126, 20, 255}},
	styleAdministrative:     {fill: color.RGBA{255, 226, 222, 255}, edge: color.RGBA{190, 30, 20, 255}},
	styleText:               {fill: grey(60)},
	styleQuiet:              {fill: grey(120)},
	styleHead:               {fill: grey(20), bold: true},
	styleOpenText:           {fill: color.RGBA{150, 80, 0, 255}},
	styleAdministrativeText: {fill: color.RGBA{165, 15, 10, 255}, bold: true},
	styleAsked:              {fill: grey(255), edge: color.RGBA{214, 126, 20, 255}, dashed: true},
	styleUsed:               {fill: color.RGBA{214, 126, 20, 255}, edge: color.RGBA{214, 126, 20, 255}},
	styleDeny:               {fill: grey(225), edge: grey(140)},
	styleOutside:            {fill: color.RGBA{90, 60, 150, 255}, edge: color.RGBA{90, 60, 150, 255}},
	styleNow:                {fill: color.RGBA{20, 90, 170, 255}, edge: color.RGBA{20, 90, 170, 255}},
	styleMark:               {fill: grey(225), edge: grey(225)},
}

func hex(c color.RGBA) string { return fmt.Sprintf("#%02x%02x%02x", c.R, c.G, c.B) }

// SVG writes the scene as SVG 1.1.
func (s *Scene) SVG(w io.Writer) error {
	b := &strings.Builder{}
	fmt.Fprintf(b, `<svg xmlns="http://www.w3.org/2000/svg" width="%g" height="%g" viewBox="0 0 %g %g" font-family="'Go Mono','DejaVu Sans Mono',monospace" font-size="%d">`+"\n", s.w, s.h, s.w, s.h, size)
	fmt.Fprintf(b, `<rect width="%g" height="%g" fill="%s"/>`+"\n", s.w, s.h, hex(looks[stylePage].fill))
	for _, r := range s.rects {
		l := looks[r.look]
		dash := ""
		if l.dashed {
			dash = ` stroke-dasharray="4 3"`
		}
		fmt.Fprintf(b, `<rect x="%g" y="%g" width="%g" height="%g" fill="%s" stroke="%s"%s/>`+"\n", r.x, r.y, r.w, r.h, hex(l.fill), hex(l.edge), dash)
	}
	for _, t := range s.labels {
		l := looks[t.look]
		weight := ""
		if l.bold {
			weight = ` font-weight="bold"`
		}
		// The length holds the words to their boxes whatever face is at hand.
		fmt.Fprintf(b, `<text x="%g" y="%g" fill="%s"%s textLength="%.1f" xml:space="preserve">`, t.x, t.y, hex(l.fill), weight, max(wide(t.text), 1))
		if err := xml.EscapeText(b, []byte(t.text)); err != nil {
			return err
		}
		b.WriteString("</text>\n")
	}
	b.WriteString("</svg>\n")
	_, err := io.WriteString(w, b.String())
	return err
}

// PNG writes the scene as a PNG of twice its size, so that it can be looked at closely.
func (s *Scene) PNG(w io.Writer) error {
	const zoom = 2
	face := map[bool]font.Face{}
	for bold, ttf := range map[bool][]byte{false: gomono.TTF, true: gomonobold.TTF} {
		f, err := opentype.Parse(ttf)
		if err != nil {
			return err
		}
		if face[bold], err = opentype.NewFace(f, &opentype.FaceOptions{Size: size * zoom, DPI: 72, Hinting: font.HintingFull}); err != nil {
			return err
		}
	}
	px := func(v float64) int { return int(math.Round(v * zoom)) }
	img := image.NewRGBA(image.Rect(0, 0, px(s.w), px(s.h)))
	fill := func(r image.Rectangle, c color.RGBA) { draw.Draw(img, r, image.NewUniform(c), image.Point{}, draw.Src) }
	fill(img.Bounds(), looks[stylePage].fill)
	for _, r := range s.rects {
		l := looks[r.look]
		box := image.Rect(px(r.x), px(r.y), px(r.x+r.w), px(r.y+r.h))
		fill(box, l.edge)
		if l.dashed {
			for x := box.Min.X; x < box.Max.X; x += 14 {
				fill(image.Rect(x, box.Min.Y, min(x+6, box.Max.X), box.Max.Y), looks[styleSubnet].fill)
			}
		}
		fill(box.Inset(zoom), l.fill)
	}
	for _, t := range s.labels {
		l := looks[t.look]
		d := font.Drawer{Dst: img, Src: image.NewUniform(l.fill), Face: face[l.bold], Dot: fixed.P(px(t.x), px(t.y))}
		for _, r := range t.text { // each in its own column, whatever the face does
			d.DrawString(string(r))
			t.x += charWide
			d.Dot.X = fixed.I(px(t.x))
		}
	}
	return png.Encode(w, img)
}
