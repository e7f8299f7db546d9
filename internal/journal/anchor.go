package journal

import (
	"fmt"
	"regexp"
	"strconv"
	"sync"
)

// Anchor is what others keep of a journal: which estate it is of, and its head at some moment. A journal that does not have it was altered, or cut off.
type Anchor struct {
	Estate string // 32 hexadecimal digits
	Head   Head
}

// String prints an anchor in one word: ESTATE:SEQ:HASH.
func (a Anchor) String() string { return fmt.Sprintf("%s:%d:%s", a.Estate, a.Head.Seq, a.Head.Hash) }

var anchorWord = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`\b([0-9a-f]{32}):([0-9]{1,18}):([0-9a-f]{64})\b`)
})

// Anchors finds the anchors in a line of any text, each once.
func Anchors(line string) (list []Anchor) {
	for _, m := range anchorWord().FindAllStringSubmatch(line, -1) {
		seq, err := strconv.ParseInt(m[2], 10, 64)
		a := Anchor{m[1], Head{seq, m[3]}}
		if err == nil && (len(list) == 0 || list[len(list)-1] != a) {
			list = append(list, a)
		}
	}
	return list
}
