package estate

import (
	"strings"

	"go.yaml.in/yaml/v4"
)

// simple reads the entries of the section machines: that are written in the plainest of
// YAML, from its first on until one is not, without the YAML library, which needs ten
// times as long. What it returns is what the library would (a fuzz test holds it to that);
// whatever it is not certain of it leaves to the library: the rest of the file comes back
// with the lines that were read emptied.
//
// An entry is simple when it is on one line, with its values in braces, or has a line a
// key; words are of ASCII letters, digits and . _ / - or stand in double quotes.
type simple struct {
	section int          // the line of machines:, from 1
	indent  int          // of the entries
	nodes   []*yaml.Node // keys and values by turns
	next    int          // the line from which the library reads on, from 1; 0: the next section or the end of the file
	rest    string
}

// leastSimple is how many lines a file has at least for it to be worth reading it so.
const leastSimple = 4

func readSimple(lines []string) (s simple, ok bool) {
	for i, line := range lines {
		if strings.TrimRight(line, " \r") == "machines:" {
			s.section = i + 1
			break
		}
	}
	if s.section == 0 || len(lines)-s.section < leastSimple {
		return s, false
	}
	left := lines[:s.section:s.section]
	var made nodes
	for at := s.section; at < len(lines); {
		line := lines[at]
		indent := len(line) - len(strings.TrimLeft(line, " "))
		if word := strings.TrimSpace(line); word == "" || word[0] == '#' {
			left = append(left, line)
			at++
			continue
		}
		if s.indent == 0 {
			s.indent = indent
		}
		if indent == 0 {
			left = append(left, lines[at:]...)
			break
		}
		key, value, comments := simpleEntry(&made, lines[at:], at+1, s.indent)
		if key == nil {
			if indent != s.indent || !wordByte(line[indent]) {
				return s, false // it may belong to an entry that is read already
			}
			s.next = at + 1
			left = append(left, lines[at:]...)
			break
		}
		s.nodes = append(s.nodes, key, value)
		left = append(left, comments...)
		at += len(comments)
	}
	s.rest = strings.Join(left, "\n")
	return s, len(s.nodes) > 0
}

// join puts the entries into a document that the library made of the rest. It reports
// false where the section is not, or goes on as, what it was taken for.
func (s *simple) join(doc *yaml.Node) bool {
	if doc.Kind != yaml.DocumentNode || len(doc.Content) != 1 {
		return false
	}
	root := doc.Content[0]
	if root.Kind != yaml.MappingNode || root.Style&yaml.FlowStyle != 0 {
		return false
	}
	for key, value := range pairs(root) {
		if key.Line != s.section || key.Column != 1 || key.Value != "machines" || key.Anchor != "" || value.Anchor != "" {
			continue
		}
		switch {
		case s.next == 0 && isNull(value) && value.Value == "":
		case s.next > 0 && value.Kind == yaml.MappingNode && value.Style&yaml.FlowStyle == 0 && value.Tag == "!!map" && value.Line == s.next && value.Column == s.indent+1:
		default:
			return false
		}
		*value = yaml.Node{Kind: yaml.MappingNode, Tag: "!!map", Line: s.nodes[0].Line, Column: s.nodes[0].Column, Content: append(s.nodes, value.Content...)}
		return true
	}
	return false
}

// simpleEntry reads the entry that begins on the first of some lines, and returns what is
// left of each line that it is on: a comment or nothing. key is nil where it is not simple.
func simpleEntry(made *nodes, lines []string, number, indent int) (key, value *yaml.Node, left []string) {
	l := &simpleLine{text: lines[0], number: number, nodes: made}
	if key = l.key(indent); key == nil {
		return nil, nil, nil
	}
	rest, ok := l.end()
	if !ok {
		value = l.value(0)
		if rest, ok = l.end(); !ok || value == nil || value.Kind != yaml.MappingNode {
			return nil, nil, nil
		}
		return key, value, []string{rest}
	}
	left = []string{rest}
	inner := 0
	for i := 1; i < len(lines); i++ {
		line := strings.TrimRight(lines[i], " \r")
		deep := len(line) - len(strings.TrimLeft(line, " "))
		if line == "" || line[deep] == '#' || deep <= indent {
			break
		}
		if inner == 0 {
			inner = deep
			value = made.one(yaml.MappingNode, "!!map", 0, number+i, deep+1)
		}
		l := &simpleLine{text: lines[i], number: number + i, nodes: made}
		k := l.key(inner)
		if k == nil {
			return nil, nil, nil
		}
		v := l.value(0)
		rest, ok := l.end()
		if v == nil || !ok {
			return nil, nil, nil
		}
		value.Content = append(value.Content, k, v)
		left = append(left, rest)
	}
	if inner == 0 {
		return nil, nil, nil
	}
	return key, value, left
}

// simpleLine reads one line from left to right.
type simpleLine struct {
	text   string
	number int
	at     int
	nodes  *nodes
}

// nodes hands out nodes, many of which are made at once.
type nodes []yaml.Node

func (n *nodes) one(kind yaml.Kind, tag string, style yaml.Style, line, column int) *yaml.Node {
	if len(*n) == 0 {
		*n = make([]yaml.Node, 128)
	}
	made := &(*n)[0]
	*n = (*n)[1:]
	made.Kind, made.Tag, made.Style, made.Line, made.Column = kind, tag, style, line, column
	return made
}

func (l *simpleLine) skip() {
	for l.at < len(l.text) && l.text[l.at] == ' ' {
		l.at++
	}
}

func (l *simpleLine) takes(c byte) bool {
	if l.at < len(l.text) && l.text[l.at] == c {
		l.at++
		return true
	}
	return false
}

// end returns what is left of the line, which is a comment after a space, or nothing.
func (l *simpleLine) end() (left string, ok bool) {
	rest := strings.TrimRight(l.text[l.at:], " \r")
	comment := strings.TrimLeft(rest, " ")
	if rest == "" {
		return "", true
	}
	return comment, comment[0] == '#' && len(comment) < len(rest)
}

// key reads a word at an indentation, with its colon.
func (l *simpleLine) key(indent int) *yaml.Node {
	if l.skip(); l.at != indent {
		return nil
	}
	return l.pair()
}

// pair reads a word that is a key, its colon and the space after it.
func (l *simpleLine) pair() *yaml.Node {
	key := l.word()
	if key == nil || !l.takes(':') {
		return nil
	}
	if l.at < len(l.text) && l.text[l.at] != ' ' && l.text[l.at] != '\r' {
		return nil
	}
	l.skip()
	return key
}

// wordByte reports whether a plain word may begin with a byte.
func wordByte(c byte) bool {
	return 'a' <= c && c <= 'z' || 'A' <= c && c <= 'Z' || '0' <= c && c <= '9'
}

const longestSimple = 256

// word reads a plain word that stands for itself.
func (l *simpleLine) word() *yaml.Node {
	from := l.at
	for l.at < len(l.text) && (wordByte(l.text[l.at]) || l.at > from && strings.IndexByte("._/-", l.text[l.at]) >= 0) {
		l.at++
	}
	word := l.text[from:l.at]
	if word == "" || len(word) > longestSimple || strings.EqualFold(word, "null") {
		return nil
	}
	n := l.nodes.one(yaml.ScalarNode, "!!str", 0, l.number, from+1)
	n.Value = word
	return n
}

// value reads a word, one in double quotes, a list in brackets or a mapping in braces.
func (l *simpleLine) value(depth int) *yaml.Node {
	if l.at == len(l.text) || depth > 4 {
		return nil
	}
	column := l.at + 1
	switch {
	case l.takes('"'):
		from := l.at
		for l.at < len(l.text) && l.text[l.at] != '"' {
			if c := l.text[l.at]; c < ' ' || c > '~' || c == '\\' {
				return nil
			}
			l.at++
		}
		n := l.nodes.one(yaml.ScalarNode, "!!str", yaml.DoubleQuotedStyle, l.number, column)
		if n.Value = l.text[from:l.at]; len(n.Value) > longestSimple || !l.takes('"') {
			return nil
		}
		return n
	case l.takes('['):
		return l.items(l.nodes.one(yaml.SequenceNode, "!!seq", yaml.FlowStyle, l.number, column), ']', depth)
	case l.takes('{'):
		return l.items(l.nodes.one(yaml.MappingNode, "!!map", yaml.FlowStyle, l.number, column), '}', depth)
	}
	return l.word()
}

// items reads what is in brackets or braces, with the closing one.
func (l *simpleLine) items(n *yaml.Node, closing byte, depth int) *yaml.Node {
	if l.skip(); l.takes(closing) {
		return n
	}
	for {
		if n.Kind == yaml.MappingNode {
			key := l.pair()
			if key == nil {
				return nil
			}
			n.Content = append(n.Content, key)
		}
		value := l.value(depth + 1)
		if value == nil {
			return nil
		}
		n.Content = append(n.Content, value)
		l.skip()
		if l.takes(closing) {
			return n
		}
		if !l.takes(',') {
			return nil
		}
		l.skip()
	}
}
