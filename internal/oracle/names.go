package oracle

import (
	"fmt"
	"math/rand/v2"
	"regexp"
	"slices"
)

// named are the names in drawn files that are replaced by others. Machines keep their first two characters, by which a pattern finds them.
var named = []string{
	"pier", "beacon", "estuary", "harbour", "shoal", "landing", "deepwater", "lookout", "quay", "bank", "headland", "slip", "office", "buoys", "tidefeed",
	"m-1", "m-2", "m-3", "m-4", "m-5", "m-6",
}

var word = regexp.MustCompile(`[a-z][a-z0-9*-]*`)

// namesOf returns a function that puts other names in place of those in a text, of 3 to 63 characters, the same for one seed. Whatever
// cuts a name short or takes a hash of it for the name meets names that differ late, or little.
func namesOf(seed int) func(string) string {
	r := rand.New(rand.NewPCG(uint64(seed), 11))
	others, taken := map[string]string{}, map[string]bool{}
	common := letters(r, 40)
	for _, name := range named {
		prefix := ""
		if name[:2] == "m-" {
			prefix = "m-"
		}
		for {
			other := prefix + letters(r, 1) + fmt.Sprint(r.IntN(10)) + letters(r, r.IntN(12)+1)
			if r.IntN(4) == 0 { // it differs from some others in its last characters alone
				other = prefix + common + fmt.Sprint(r.IntN(10)) + letters(r, r.IntN(20)+1)
			}
			if !taken[other] {
				others[name], taken[other] = other, true
				break
			}
		}
	}
	return func(text string) string {
		return word.ReplaceAllStringFunc(text, func(w string) string {
			if slices.Contains(named, w) {
				return others[w]
			}
			return w
		})
	}
}

// Name is the name that a drawn world has for one of those in which it is drawn, such as beacon.
func (w World) Name(one string) string {
	if w.rename == nil {
		return one
	}
	return w.rename(one)
}

func letters(r *rand.Rand, n int) string {
	b := make([]byte, n)
	for i := range b {
		b[i] = byte('a' + r.IntN(26))
	}
	return string(b)
}
