package estate

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v4"

	"ironbark/internal/sentence"
)

// Value is a value to be written into estate.yaml: a word, a list or a mapping.
// The zero Value is the empty word.
type Value struct {
	word   string
	bare   bool // written without quotes whatever it is
	list   []Value
	fields []Field
	kind   byte // 0 word, 'l' list, 'm' mapping
}

// Field is one key and its value.
type Field struct {
	Key   string
	Value Value
}

// Word returns a value of text, quoted where YAML needs it.
func Word(text string) Value { return Value{word: text} }

// Bare returns a value that is written as it is: true, 20.
func Bare(text string) Value { return Value{word: text, bare: true} }

// List returns a list of words.
func List(words ...string) Value {
	v := Value{kind: 'l'}
	for _, w := range words {
		v.list = append(v.list, Word(w))
	}
	return v
}

// Mapping returns a mapping in the given order.
func Mapping(fields ...Field) Value { return Value{kind: 'm', fields: fields} }

// Is reports whether the value is a certain word.
func (v Value) Is(word string) bool { return v.kind == 0 && !v.bare && v.word == word }

// String prints the value as YAML on one line.
func (v Value) String() string { return v.write(false) }

var plain = pattern(`^[A-Za-z][A-Za-z0-9._-]*$|^[0-9]+\.[0-9]+\.[0-9]+\.[0-9]+(/[0-9]+)?$|^(tcp|udp)/[0-9]+(-[0-9]+)?$`)

// YAML words that would be read as something else than text.
var loaded = []string{"true", "false", "null", "yes", "no", "on", "off", "y", "n"}

// write prints the value on one line; strict quotes all words, as JSON needs it.
func (v Value) write(strict bool) string {
	word := func(s string) string {
		if !strict && plain().MatchString(s) && !slices.Contains(loaded, strings.ToLower(s)) {
			return s
		}
		return sentence.Quote(s)
	}
	var parts []string
	switch v.kind {
	case 'l':
		for _, item := range v.list {
			parts = append(parts, item.write(strict))
		}
		return "[" + strings.Join(parts, ", ") + "]"
	case 'm':
		for _, f := range v.fields {
			parts = append(parts, word(f.Key)+": "+f.Value.write(strict))
		}
		return "{" + strings.Join(parts, ", ") + "}"
	}
	if v.bare {
		return v.word
	}
	return word(v.word)
}

// Add writes an entry into a mapping of estate.yaml, for example name under
// machines, and touches no other line. path is the keys that lead to the
// mapping; what of it is missing is made. The result is read again and compared
// with what was meant: where the file is written in a way that the edit cannot
// follow, Add returns an error and the file is to be edited by hand.
func Add(data []byte, path []string, name string, v Value) ([]byte, error) {
	root, err := tree(data)
	if err != nil {
		return nil, err
	}
	t := newText(data)
	node, parent := root, (*yaml.Node)(nil)
	depth := 0
	for depth < len(path) {
		next := child(node, path[depth])
		if next == nil {
			break
		}
		node, parent = next, node
		depth++
	}
	for i := len(path) - 1; i >= depth && i >= 0; i-- {
		v, name = Mapping(Field{name, v}), path[i]
	}
	if child(node, name) != nil {
		return nil, fmt.Errorf("“%s” is there already", name)
	}
	switch {
	case isNull(node) && parent != nil:
		t.underNull(parent, node, name, v)
	case node.Kind == yaml.MappingNode && node.Style&yaml.FlowStyle != 0:
		err = t.intoFlow(node, name, v)
	case node.Kind == yaml.MappingNode:
		t.intoBlock(root, node, name, v)
	default:
		err = fmt.Errorf("“%s” is no mapping", strings.Join(path[:depth], "."))
	}
	if err != nil {
		return nil, err
	}
	return t.bytes(), confirm(root, t.bytes(), append(slices.Clone(path[:depth]), name), true)
}

// Remove takes an entry out of a mapping of estate.yaml; comments stay.
func Remove(data []byte, path []string, name string) ([]byte, error) {
	root, err := tree(data)
	if err != nil {
		return nil, err
	}
	node := root
	for _, key := range path {
		if node = child(node, key); node == nil {
			return nil, fmt.Errorf("there is no “%s”", strings.Join(path, "."))
		}
	}
	if child(node, name) == nil {
		return nil, fmt.Errorf("there is no “%s”", name)
	}
	t := newText(data)
	if node.Style&yaml.FlowStyle != 0 {
		err = t.outOfFlow(node, name)
	} else {
		t.outOfBlock(root, node, name)
	}
	if err != nil {
		return nil, err
	}
	return t.bytes(), confirm(root, t.bytes(), append(slices.Clone(path), name), false)
}

// Set writes a value in place of an entry's own in a mapping of estate.yaml, or
// adds the entry. Values in braces, in brackets or on one line are replaced where
// they stand; others are taken out and added.
func Set(data []byte, path []string, name string, v Value) ([]byte, error) {
	root, err := tree(data)
	if err != nil {
		return nil, err
	}
	node := root
	for _, key := range path {
		if node = child(node, key); node == nil {
			return Add(data, path, name, v)
		}
	}
	old := child(node, name)
	if old == nil {
		return Add(data, path, name, v)
	}
	t := newText(data)
	begin, end, ok := t.extent(old)
	if !ok {
		without, err := Remove(data, path, name)
		if err != nil {
			return nil, err
		}
		return Add(without, path, name, v)
	}
	all := string(data)
	edited := []byte(all[:begin] + v.write(t.json) + all[end:])
	// Both without the entry must say the same.
	if again, err := tree(edited); err == nil {
		drop(node, name)
		if same(again, root, append(slices.Clone(path), name)) {
			return edited, nil
		}
	}
	return nil, fmt.Errorf("the file is written in a way that this edit cannot follow; edit it by hand")
}

// Lookup returns the word that stands under a name in a mapping of estate.yaml,
// "" for what is no word, and whether anything does.
func Lookup(data []byte, path []string, name string) (word string, there bool) {
	node, err := tree(data)
	if err != nil {
		return "", false
	}
	for _, key := range append(slices.Clone(path), name) {
		if node = child(node, key); node == nil {
			return "", false
		}
	}
	return node.Value, true
}

// drop takes an entry out of a mapping's node.
func drop(n *yaml.Node, name string) {
	for i := 0; i < len(n.Content); i += 2 {
		if n.Content[i].Value == name {
			n.Content = slices.Delete(slices.Clone(n.Content), i, i+2)
			return
		}
	}
}

// extent finds where the text of a value begins and ends, if it is on one line
// or in brackets.
func (t *text) extent(n *yaml.Node) (begin, end int, ok bool) {
	if n.Anchor != "" || n.Kind == yaml.AliasNode {
		return 0, 0, false
	}
	all := string(t.bytes())
	begin = t.offset(n)
	switch {
	case n.Kind == yaml.ScalarNode && n.Style&(yaml.DoubleQuotedStyle|yaml.SingleQuotedStyle) != 0:
		end = quoteEnd(all, begin) + 1
		return begin, end, end > 0
	case n.Kind == yaml.ScalarNode && n.Style&(yaml.LiteralStyle|yaml.FoldedStyle) == 0 && !isNull(n):
		end = begin + len(n.Value)
		return begin, end, end <= len(all) && all[begin:end] == n.Value
	case n.Kind != yaml.ScalarNode && n.Style&yaml.FlowStyle != 0:
		end, ok = flowEnd(all, begin)
		return begin, end, ok
	}
	return 0, 0, false
}

func tree(data []byte) (*yaml.Node, error) {
	r := &reader{file: FileName}
	root := r.parse(data, true)
	if len(r.errs) > 0 {
		return nil, r.errs
	}
	if root.Kind != yaml.MappingNode {
		return nil, fmt.Errorf("the file is no mapping")
	}
	return root, nil
}

func child(n *yaml.Node, key string) *yaml.Node {
	if n.Kind == yaml.MappingNode {
		for k, value := range pairs(n) {
			if k.Value == key {
				return value
			}
		}
	}
	return nil
}

// confirm reads the edited file again and checks that it differs from the old
// one by the entry at path and by nothing else.
func confirm(old *yaml.Node, edited []byte, path []string, added bool) error {
	again, err := tree(edited)
	if err != nil {
		return fmt.Errorf("the file is written in a way that this edit cannot follow; edit it by hand: %w", err)
	}
	with, without := again, old
	if !added {
		with, without = old, again
	}
	if !same(with, without, path) {
		return fmt.Errorf("the file is written in a way that this edit cannot follow; edit it by hand")
	}
	return nil
}

// same reports whether two trees say the same, but for the entry at path, which
// with has and without has not. An empty mapping and an empty value are alike.
func same(with, without *yaml.Node, path []string) bool {
	if empty(with) && empty(without) {
		return len(path) == 0
	}
	if with.Kind != without.Kind && !(len(path) > 0 && empty(without)) || with.Kind == yaml.ScalarNode && with.Value != without.Value {
		return false
	}
	if with.Kind != yaml.MappingNode {
		return slices.EqualFunc(with.Content, without.Content, func(a, b *yaml.Node) bool { return same(a, b, nil) })
	}
	matched := 0
	find := func(key string) *yaml.Node { return child(without, key) }
	if without.Kind == yaml.MappingNode && len(without.Content) > 64 { // looking each up one after the other would take long
		index := make(map[string]*yaml.Node, len(without.Content)/2)
		for key, value := range pairs(without) {
			if _, twice := index[key.Value]; !twice {
				index[key.Value] = value
			}
		}
		find = func(key string) *yaml.Node { return index[key] }
	}
	for k, value := range pairs(with) {
		key := k.Value
		other := find(key)
		switch {
		case len(path) > 0 && key == path[0] && len(path) == 1:
			if other != nil {
				return false
			}
			continue
		case other == nil:
			return false
		case len(path) > 0 && key == path[0]:
			if !same(value, other, path[1:]) {
				return false
			}
		case !same(value, other, nil):
			return false
		}
		matched++
	}
	return without.Kind != yaml.MappingNode || matched == len(without.Content)/2
}

func empty(n *yaml.Node) bool {
	return isNull(n) || n.Kind == yaml.MappingNode && len(n.Content) == 0
}

// text is the file as lines, each with its line end.
type text struct {
	lines []string
	end   string // the line end in use
	json  bool   // all words are quoted
}

func newText(data []byte) *text {
	t := &text{end: "\n", json: bytes.HasPrefix(bytes.TrimSpace(data), []byte("{"))}
	for line := range bytes.Lines(data) {
		t.lines = append(t.lines, string(line))
	}
	if len(t.lines) > 0 && strings.HasSuffix(t.lines[0], "\r\n") {
		t.end = "\r\n"
	}
	return t
}

func (t *text) bytes() []byte { return []byte(strings.Join(t.lines, "")) }

// insert puts lines before the line with the given number, counted from 0.
func (t *text) insert(i int, lines ...string) {
	if i > 0 && !strings.HasSuffix(t.lines[i-1], "\n") {
		t.lines[i-1] += t.end
	}
	for j := range lines {
		lines[j] += t.end
	}
	t.lines = slices.Insert(t.lines, i, lines...)
}

// underNull writes the first entry below a key that has no value yet.
func (t *text) underNull(parent, node *yaml.Node, name string, v Value) {
	var key *yaml.Node
	for k, value := range pairs(parent) {
		if value == node {
			key = k
		}
	}
	indent := strings.Repeat(" ", key.Column-1+2)
	t.insert(key.Line, indent+name+": "+v.write(false))
}

// intoBlock writes an entry after the last one of a block mapping. In the
// mapping of the whole file a new section is set off by an empty line, and its
// own entries stand below it.
func (t *text) intoBlock(root, node *yaml.Node, name string, v Value) {
	column := node.Content[0].Column
	i := t.endOfBlock(root, node.Content[len(node.Content)-2], column)
	indent := strings.Repeat(" ", column-1)
	if node != root || v.kind != 'm' {
		t.insert(i, indent+name+": "+v.write(false))
		return
	}
	lines := []string{"", name + ":"}
	for _, f := range v.fields {
		lines = append(lines, "  "+f.Key+": "+f.Value.write(false))
	}
	t.insert(i, lines...)
}

// endOfBlock returns the number of the line after the entry whose key is given
// and stands at a column: before the next thing at that column or left of it,
// less the empty lines and outer comments before that.
func (t *text) endOfBlock(root, key *yaml.Node, column int) int {
	end := len(t.lines)
	for _, line := range keyLines(root, column) {
		if line > key.Line {
			end = min(end, line-1)
		}
	}
	for end > key.Line {
		line := strings.TrimRight(t.lines[end-1], " \t\r\n")
		indent := len(line) - len(strings.TrimLeft(line, " "))
		comment := strings.HasPrefix(line[indent:], "#") && indent < max(column-1, 1)
		if line != "" && !comment && line != "..." {
			break
		}
		end--
	}
	return end
}

// keyLines lists the lines on which keys stand at a column or left of it.
func keyLines(n *yaml.Node, column int) (lines []int) {
	for i, c := range n.Content {
		if n.Kind == yaml.MappingNode && i%2 == 0 && c.Column <= column {
			lines = append(lines, c.Line)
		}
		if n.Style&yaml.FlowStyle == 0 {
			lines = append(lines, keyLines(c, column)...)
		}
	}
	return lines
}

// outOfBlock takes an entry's lines out of a block mapping.
func (t *text) outOfBlock(root, node *yaml.Node, name string) {
	for key := range pairs(node) {
		if key.Value == name {
			t.lines = slices.Delete(t.lines, key.Line-1, t.endOfBlock(root, key, key.Column))
			return
		}
	}
}

// offset finds the byte in the whole text where a node begins.
func (t *text) offset(n *yaml.Node) int {
	off := 0
	for _, line := range t.lines[:n.Line-1] {
		off += len(line)
	}
	line := t.lines[n.Line-1]
	for range n.Column - 1 {
		_, size := utf8.DecodeRuneInString(line)
		off, line = off+size, line[size:]
	}
	return off
}

func (t *text) replace(all string) {
	*t = text{lines: newText([]byte(all)).lines, end: t.end, json: t.json}
}
