package sentence

import (
	"cmp"
	"strings"
)

// CompareNames orders names as people count: gauge-2 before gauge-10. Runs of digits are compared as numbers, of any length, and all else
// byte by byte; names that differ in nothing but zeros before a number are ordered as texts.
func CompareNames(a, b string) int {
	x, y := a, b
	for x != "" && y != "" {
		m, n := digits(x), digits(y)
		if m == 0 || n == 0 {
			if x[0] != y[0] {
				return cmp.Compare(x[0], y[0])
			}
			x, y = x[1:], y[1:]
			continue
		}
		p, q := strings.TrimLeft(x[:m], "0"), strings.TrimLeft(y[:n], "0")
		if by := cmp.Or(cmp.Compare(len(p), len(q)), strings.Compare(p, q)); by != 0 {
			return by
		}
		x, y = x[m:], y[n:]
	}
	return cmp.Or(cmp.Compare(len(x), len(y)), strings.Compare(a, b))
}

// digits counts the digits with which a text begins.
func digits(s string) int {
	return len(s) - len(strings.TrimLeft(s, "0123456789"))
}
