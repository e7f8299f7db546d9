package sentence

import (
	"cmp"
	"fmt"
	"slices"
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

// mostNamed is how many names [Few] has one by one.
const mostNamed = 5

// Few lists names as people count, and of many the first ones: a, b, c, d, e and 895 more.
func Few(names []string) string { return First(slices.SortedFunc(slices.Values(names), CompareNames)) }

// First is [Few] of a list that keeps its order.
func First(list []string) string {
	if more := len(list) - mostNamed; more > 1 {
		return fmt.Sprintf("%s and %d more", strings.Join(list[:mostNamed], ", "), more)
	}
	return strings.Join(list, ", ")
}
