package journal

import (
	"encoding/json"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"sync"
)

// Anchor is what others keep of a journal: which estate it is of, and its head at some moment. A journal that does not have it was altered, or cut off.
type Anchor struct {
	Estate string // 32 hexadecimal digits
	Head   Head
}

// DataID names the structured data of syslog messages that has an anchor (RFC 5424, section 7.2.2). The number is the one that RFC 5612 keeps for
// examples, as Ironbark has none of its own.
const DataID = "ironbark@32473"

// AnchorParam is the parameter of that data, and the key of JSON documents, that has the anchor.
const AnchorParam = "anchor"

// String prints an anchor in one word: ESTATE:SEQ:HASH.
func (a Anchor) String() string { return fmt.Sprintf("%s:%d:%s", a.Estate, a.Head.Seq, a.Head.Hash) }

var anchorWord = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^([0-9a-f]{32}):([0-9]{1,18}):([0-9a-f]{64})$`)
})

// AnchorIn finds the anchor in a line of a log: in the structured data of a syslog message (RFC 5424), with or without its priority and the octet count of a
// stream before it, or under its key in a JSON object. People's own words, such as reasons, are no place for one: text that looks like an anchor is not
// read.
func AnchorIn(line string) (a Anchor, found bool) {
	line = strings.TrimSpace(line)
	word := ""
	if strings.HasPrefix(line, "{") {
		var doc map[string]json.RawMessage
		if json.Unmarshal([]byte(line), &doc) != nil || json.Unmarshal(doc[AnchorParam], &word) != nil {
			return Anchor{}, false
		}
	} else {
		word = dataParam(structuredData(line), DataID, AnchorParam)
	}
	m := anchorWord().FindStringSubmatch(word)
	if m == nil {
		return Anchor{}, false
	}
	seq, err := strconv.ParseInt(m[2], 10, 64)
	return Anchor{m[1], Head{seq, m[3]}}, err == nil
}

var syslogHeader = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^(?:[0-9]+ )?(?:<[0-9]{1,3}>1 )?[0-9]{4}-[0-9]{2}-[0-9]{2}T\S+ \S+ \S+ \S+ \S+ \[`)
})

// structuredData returns a syslog message from its structured data on; empty where it has none.
func structuredData(line string) string {
	at := syslogHeader().FindStringIndex(line)
	if at == nil {
		return ""
	}
	return line[at[1]-1:]
}

// dataParam returns the value of a parameter in an element of structured data (RFC 5424, section 6.3); empty where it is not there, or the data
// is malformed before it.
func dataParam(data, id, name string) string {
	for strings.HasPrefix(data, "[") {
		end := strings.IndexAny(data, " ]")
		if end < 0 {
			return ""
		}
		element := data[1:end]
		for data = data[end:]; strings.HasPrefix(data, " "); {
			param, rest, quoted := strings.Cut(data[1:], `="`)
			if !quoted || strings.ContainsAny(param, ` "]=`) {
				return ""
			}
			value, rest, closed := quotedValue(rest)
			if !closed {
				return ""
			}
			if element == id && param == name {
				return value
			}
			data = rest
		}
		if !strings.HasPrefix(data, "]") {
			return ""
		}
		data = data[1:]
	}
	return ""
}

// quotedValue reads a value up to its closing quote; a backslash stands before each quote, backslash and closing bracket in it.
func quotedValue(text string) (value, rest string, closed bool) {
	var b strings.Builder
	for i := 0; i < len(text); i++ {
		switch {
		case text[i] == '"':
			return b.String(), text[i+1:], true
		case text[i] == '\\' && i+1 < len(text) && strings.IndexByte(`"\]`, text[i+1]) >= 0:
			i++
		}
		b.WriteByte(text[i])
	}
	return "", "", false
}
