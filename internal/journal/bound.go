package journal

import (
	"fmt"
	"unicode/utf8"
)

// The most bytes that the fields of an entry have. They are recorded so; nothing is refused for their length, since what closes something has to
// be recorded too.
const (
	MostPerson = 63 // as names have, see [ironbark/internal/sentence.MaxName]
	MostText   = 8 << 10
)

// Bound returns the fields of an entry within their lengths. A text that is cut ends with how long it was.
func Bound(person, text string) (string, string) {
	if len(text) > MostText {
		end := fmt.Sprintf("… (cut; it had %d bytes)", len(text))
		text = Cut(text, MostText-len(end)) + end
	}
	return Cut(person, MostPerson), text
}

// Cut returns as much of a text as has so many bytes at most, and no half character.
func Cut(text string, most int) string {
	if len(text) <= most {
		return text
	}
	for most > 0 && !utf8.RuneStart(text[most]) {
		most--
	}
	return text[:max(most, 0)]
}
