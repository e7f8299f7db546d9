package estate

import (
	"regexp"
	"sync"
)

// pattern is a regular expression that is compiled when it is first needed: most commands need none of them.
func pattern(text string) func() *regexp.Regexp {
	return sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(text) })
}
