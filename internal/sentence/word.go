package sentence

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
)

// MaxName is the greatest length of a name, in characters.
const MaxName = 63

// reserved are the words of the grammar. None may name anything.
var reserved = []string{
	"all", "allow", "always", "any", "approval", "approvals", "because", "by", "console", "deny",
	"everywhere", "except", "for", "forward", "from", "http", "internet", "me", "needing",
	"never", "on", "open", "over", "permit", "ping", "probe", "route", "spread", "standing",
	"tcp", "tested", "to", "udp", "until", "up", "via", "why",
}

// SetWords are the words of the grammar that stand for sets of sources or targets.
var SetWords = []string{"all", "everywhere", "internet", "me"}

// Reserved reports whether word belongs to the grammar and can name nothing.
func Reserved(word string) bool {
	_, found := slices.BinarySearch(reserved, word)
	return found
}

// ValidName returns what is wrong with s as a name; nil where nothing is.
func ValidName(s string) error {
	switch {
	case s == "":
		return errors.New("a name cannot be empty")
	case len(s) > MaxName:
		return errors.New("a name has at most 63 characters")
	case !isNameShape(s):
		return errors.New("a name is lower-case letters, digits and hyphens, and begins with a letter")
	case Reserved(s):
		return fmt.Errorf("“%s” is a word of the sentence language and cannot be a name", s)
	}
	return nil
}

func isNameShape(s string) bool {
	if s == "" || s[0] < 'a' || s[0] > 'z' {
		return false
	}
	for i := range len(s) {
		if !isNameByte(s[i]) {
			return false
		}
	}
	return true
}

func isNameByte(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= '0' && c <= '9' || c == '-'
}

// ValidTag returns what is wrong with key=value as a tag; nil where nothing is.
// Keys are shaped as names; values are letters, digits, dots, hyphens and
// underscores, at most 63 of them.
func ValidTag(key, value string) error {
	if !isNameShape(key) || len(key) > MaxName {
		return errors.New("a tag's key is lower-case letters, digits and hyphens, and begins with a letter")
	}
	if value == "" || len(value) > MaxName {
		return errors.New("a tag's value has 1 to 63 characters")
	}
	for i := range len(value) {
		c := value[i]
		if !isNameByte(c) && (c < 'A' || c > 'Z') && c != '.' && c != '_' {
			return errors.New("a tag's value is letters, digits, dots, hyphens and underscores")
		}
	}
	return nil
}

// validPattern reports whether s is a pattern: the characters of a name and at least one '*'.
func validPattern(s string) bool {
	for i := range len(s) {
		if !isNameByte(s[i]) && s[i] != '*' {
			return false
		}
	}
	return strings.Contains(s, "*") && len(s) <= MaxName
}

// MatchPattern reports whether name matches pattern, in which '*' stands for any
// number of characters, none included. Cost: O(len(pattern)·len(name)) at worst.
func MatchPattern(pattern, name string) bool {
	parts := strings.Split(pattern, "*")
	if len(parts) == 1 {
		return pattern == name
	}
	if !strings.HasPrefix(name, parts[0]) {
		return false
	}
	name = name[len(parts[0]):]
	last := parts[len(parts)-1]
	for _, part := range parts[1 : len(parts)-1] {
		_, after, found := strings.Cut(name, part)
		if !found {
			return false
		}
		name = after
	}
	return strings.HasSuffix(name, last)
}

// Nearest returns the candidate most like word, and false when none is near
// enough to be what was meant: at most one slip in three characters, and
// two slips in words of up to eight. A slip is a letter left out, put in,
// changed, or two neighbours swapped (the optimal string alignment distance).
func Nearest(word string, candidates []string) (string, bool) {
	most := max(1, min(len(word)/3, 3))
	best, found := "", most+1
	for _, c := range slices.SortedFunc(slices.Values(candidates), cmp.Compare) {
		if d := slips(word, c, found-1); d < found {
			best, found = c, d
		}
	}
	return best, found <= most
}

// slips counts the slips between a and b; more than limit may be told as limit+1.
func slips(a, b string, limit int) int {
	if abs(len(a)-len(b)) > limit {
		return limit + 1
	}
	before, row, next := make([]int, len(b)+1), make([]int, len(b)+1), make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := 1; i <= len(a); i++ {
		next[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			next[j] = min(row[j]+1, next[j-1]+1, row[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				next[j] = min(next[j], before[j-2]+1)
			}
		}
		before, row, next = row, next, before
	}
	return row[len(b)]
}

func abs(n int) int { return max(n, -n) }
