package estate

import (
	"fmt"
	"slices"
	"strings"

	"go.yaml.in/yaml/v4"
)

// SetEach sets fields of several entries of a mapping of estate.yaml, for example of machines, and takes others out of them,
// each as [Set] and [Remove] do. What is to be taken out need not be there. Cost: linear in the file where entries stand on
// lines of their own, in braces; others are edited one after the other.
func SetEach(data []byte, section string, names []string, set []Field, drop []string) ([]byte, error) {
	root, err := tree(data)
	if err != nil {
		return nil, err
	}
	node := child(root, section)
	if node == nil || node.Kind != yaml.MappingNode {
		return nil, fmt.Errorf("there is no “%s”", section)
	}
	t := newText(data)
	wanted := map[string]bool{}
	for _, name := range names {
		wanted[name] = true
	}
	after := map[string]*yaml.Node{} // as each entry is to be
	var rest []string
	for key, value := range pairs(node) {
		if !wanted[key.Value] {
			continue
		}
		delete(wanted, key.Value)
		if node.Style&yaml.FlowStyle != 0 || !t.alone(key, value) {
			rest = append(rest, key.Value)
			continue
		}
		line, entry, err := setOne(section, t.lines[key.Line-1], key.Value, set, drop)
		if err != nil {
			return nil, err
		}
		t.lines[key.Line-1], after[key.Value] = line, entry
	}
	for name := range wanted {
		return nil, fmt.Errorf("there is no “%s”", name)
	}
	edited := t.bytes()
	if err := confirmEach(root, edited, section, after); err != nil {
		return nil, err
	}
	for _, name := range rest {
		if edited, err = setFields(edited, []string{section, name}, set, drop); err != nil {
			return nil, err
		}
	}
	return edited, nil
}

// alone reports whether an entry stands in braces on one line, and nothing else does.
func (t *text) alone(key, value *yaml.Node) bool {
	if value.Kind != yaml.MappingNode || value.Style&yaml.FlowStyle == 0 || value.Line != key.Line || value.Anchor != "" {
		return false
	}
	line := t.lines[key.Line-1]
	begin := strings.IndexByte(line, '{')
	if begin < 0 {
		return false
	}
	_, whole := flowEnd(line, begin)
	return whole
}

// setOne edits the line of one entry, and returns it with what it says.
func setOne(section, line, name string, set []Field, drop []string) (string, *yaml.Node, error) {
	head := section + ":\n"
	edited, err := setFields([]byte(head+line), []string{section, name}, set, drop)
	if err != nil {
		return "", nil, err
	}
	small, err := tree(edited)
	if err != nil {
		return "", nil, err
	}
	return strings.TrimPrefix(string(edited), head), child(child(small, section), name), nil
}

// setFields sets and takes out fields of one entry.
func setFields(data []byte, path []string, set []Field, drop []string) (_ []byte, err error) {
	for _, f := range set {
		if data, err = Set(data, path, f.Key, f.Value); err != nil {
			return nil, err
		}
	}
	for _, name := range drop {
		if _, there := Lookup(data, path, name); !there {
			continue
		}
		if data, err = Remove(data, path, name); err != nil {
			return nil, err
		}
	}
	return data, nil
}

// confirmEach reads the edited file again and checks that its entries are as they are to be, and all else is as it was.
func confirmEach(old *yaml.Node, edited []byte, section string, after map[string]*yaml.Node) error {
	again, err := tree(edited)
	if err != nil {
		return fmt.Errorf("the file is written in a way that this edit cannot follow; edit it by hand: %w", err)
	}
	was, now := child(old, section), child(again, section)
	one, other := *old, *again
	one.Content, other.Content = slices.Clone(old.Content), slices.Clone(again.Content)
	drop(&one, section)
	drop(&other, section)
	ok := now != nil && len(was.Content) == len(now.Content) && same(&one, &other, nil)
	for i := 0; ok && i < len(was.Content); i += 2 {
		want := was.Content[i+1]
		if entry, edited := after[was.Content[i].Value]; edited {
			want = entry
		}
		ok = was.Content[i].Value == now.Content[i].Value && same(want, now.Content[i+1], nil)
	}
	if !ok {
		return fmt.Errorf("the file is written in a way that this edit cannot follow; edit it by hand")
	}
	return nil
}
