package estate

import (
	"fmt"
	"strings"

	"go.yaml.in/yaml/v4"
)

// This file edits mappings in braces, YAML's flow style and JSON: the tree tells
// where they begin, and the text is walked for where their parts end.

// intoFlow writes an entry at the end of a mapping in braces.
func (t *text) intoFlow(node *yaml.Node, name string, v Value) error {
	all := string(t.bytes())
	begin := t.offset(node)
	parts, ok := flowParts(all, begin)
	if !ok {
		return fmt.Errorf("the braces of the mapping on line %d do not close", node.Line)
	}
	entry := Mapping(Field{name, v}).write(t.json)
	entry = entry[1 : len(entry)-1]
	last := parts[len(parts)-1]
	switch all[last-1] {
	case '{':
	case ',':
		entry = " " + entry
	default:
		entry = ", " + entry
	}
	t.replace(all[:last] + entry + all[last:])
	return nil
}

// outOfFlow takes an entry out of a mapping in braces.
func (t *text) outOfFlow(node *yaml.Node, name string) error {
	all := string(t.bytes())
	parts, ok := flowParts(all, t.offset(node))
	if !ok {
		return fmt.Errorf("the braces of the mapping on line %d do not close", node.Line)
	}
	for i := 0; i < len(node.Content); i += 2 {
		if node.Content[i].Value != name {
			continue
		}
		from, to := t.offset(node.Content[i]), parts[i/2+1]
		if all[to-1] != ',' && i > 0 { // the last one goes with the comma before it
			from = parts[i/2] - 1
		}
		if all[to-1] == ',' {
			to += len(all[to:]) - len(strings.TrimLeft(all[to:], " "))
		}
		t.replace(all[:from] + all[to:])
		return nil
	}
	return fmt.Errorf("there is no “%s”", name)
}

// flowEnd finds the offset after the bracket that closes the one at off.
func flowEnd(s string, off int) (end int, ok bool) {
	_, end, ok = scanYAMLFlowMapping(s, off)
	return end, ok
}

// flowParts walks a mapping in braces that begins at off. It returns the offset
// after the opening brace, after each comma between entries, and after the last
// character that is neither space nor comment before the closing brace.
func flowParts(s string, off int) (parts []int, ok bool) {
	parts, _, ok = scanYAMLFlowMapping(s, off)
	return parts, ok
}

func scanYAMLFlowMapping(s string, off int) (parts []int, end int, ok bool) {
	depth, last := 0, off
	for i := off; i < len(s); i++ {
		switch c := s[i]; {
		case (c == '"' || c == '\'') && strings.IndexByte(" \t\n{[,:", s[i-1]) >= 0:
			quote := quoteEnd(s, i)
			if quote < 0 {
				return nil, 0, false
			}
			i = quote
		case c == '#' && strings.ContainsRune(" \t\n", rune(s[i-1])):
			if skip := strings.IndexByte(s[i:], '\n'); skip >= 0 {
				i += skip
				continue
			}
			return nil, 0, false
		case c == '{' || c == '[':
			depth++
			if depth == 1 {
				parts = append(parts, i+1)
			}
		case c == '}' || c == ']':
			depth--
			if depth == 0 {
				if last != parts[len(parts)-1] || len(parts) == 1 {
					parts = append(parts, last)
				}
				return parts, i + 1, true
			}
		case c == ',' && depth == 1:
			parts = append(parts, i+1)
		case c == ' ' || c == '\t' || c == '\n' || c == '\r':
			continue
		}
		last = i + 1
	}
	return nil, 0, false
}

// quoteEnd finds the quote that closes the one at i, or -1.
func quoteEnd(s string, i int) int {
	q := s[i]
	for j := i + 1; j < len(s); j++ {
		switch {
		case s[j] == '\\' && q == '"':
			j++
		case s[j] == q && q == '\'' && j+1 < len(s) && s[j+1] == q:
			j++
		case s[j] == q:
			return j
		}
	}
	return -1
}
