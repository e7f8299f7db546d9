package wire

import (
	"strings"

	"rsc.io/qr"
)

// QR draws a text as a QR code (ISO/IEC 18004) for a terminal: two rows of squares a line, light on dark and dark on light
// alike, with the margin of four that readers want. The error says that it is too long for one.
func QR(text string) (string, error) {
	code, err := qr.Encode(text, qr.L)
	if err != nil {
		return "", err
	}
	const margin = 4
	dark := func(x, y int) bool { return code.Black(x-margin, y-margin) }
	b := &strings.Builder{}
	for y := 0; y < code.Size+2*margin; y += 2 {
		for x := range code.Size + 2*margin {
			b.WriteString(map[[2]bool]string{{false, false}: "█", {false, true}: "▀", {true, false}: "▄", {true, true}: " "}[[2]bool{dark(x, y), dark(x, y+1)}])
		}
		b.WriteByte('\n')
	}
	return b.String(), nil
}
