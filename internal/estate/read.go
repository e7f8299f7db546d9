package estate

import (
	"errors"
	"fmt"
	"iter"
	"net/netip"
	"slices"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v4"

	"ironbark/internal/fault"
	"ironbark/internal/sentence"
)

// MaxFile is the greatest size of estate.yaml, in bytes: room for some 100,000 machines.
const MaxFile = 8 << 20

// File is a file of an estate: its name as errors tell it, and what is in it.
type File struct {
	Name string
	Data []byte
}

// Read reads and checks a whole estate. All that is wrong is told at once, as
// sentence.Errors.
//
// Files below [SetupDir] are first-boot scripts; all others are rules.
func Read(nouns File, others ...File) (*Estate, error) { return read(drafted, nouns, others) }

// ReadEnacted reads files that were enacted, and so were checked when they were:
// what a later version would find wrong with them must not keep anybody from
// looking at what is there, or from mending it. Only what cannot be read at all
// is an error.
func ReadEnacted(nouns File, others ...File) (*Estate, error) { return read(enacted, nouns, others) }

// ReadFiles is Read for files among which [FileName] is; nil where there are none at all.
func ReadFiles(files []File) (*Estate, error) { return readFiles(drafted, files) }

// ReadEnactedFiles is ReadEnacted for files among which [FileName] is; nil where there are
// none at all.
func ReadEnactedFiles(files []File) (*Estate, error) { return readFiles(enacted, files) }

func readFiles(how reading, files []File) (*Estate, error) {
	if len(files) == 0 {
		return nil, nil
	}
	i := slices.IndexFunc(files, func(f File) bool { return f.Name == FileName })
	if i < 0 {
		return nil, fmt.Errorf("there is no %s among the files", FileName)
	}
	return read(how, files[i], slices.Delete(slices.Clone(files), i, i+1))
}

// reading is how files are read.
type reading int

const (
	drafted reading = iota // with all checks
	enacted                // as files that were checked when they were enacted
	again                  // as those, where this very program has read them before
)

func read(how reading, nouns File, others []File) (*Estate, error) {
	r := &reader{file: nouns.Name, estate: &Estate{Scripts: map[string]string{}, text: nouns.Data}}
	var rules []File
	for _, f := range others {
		if name, script := strings.CutPrefix(f.Name, SetupDir+"/"); script {
			r.estate.Scripts[name] = string(f.Data)
		} else {
			rules = append(rules, f)
		}
	}
	if root := r.parse(nouns.Data, how != drafted); root != nil {
		r.document(root)
	}
	r.estate.said = r.sentences(how, rules)
	if how == drafted {
		r.commentsShow(nouns)
		for _, f := range rules {
			r.commentsShow(f)
		}
	}
	switch {
	case len(r.errs) > 0:
	case how != drafted:
		r.buildIndex()
		r.checkStores() // it gives devices to volumes
		r.errs = nil
	default:
		r.check()
	}
	if len(r.errs) > 0 {
		return nil, r.errs[:min(len(r.errs), sentence.MostErrors)]
	}
	return r.estate, nil
}

// reader turns YAML nodes into the typed estate, collecting errors with their places.
type reader struct {
	file   string
	lines  []string
	errs   sentence.Errors
	estate *Estate
	site   *yaml.Node // the value of site:

	machine       Machine          // the one that is being read
	machineFields map[string]field // made once for all machines
}

// fail notes a problem; remedy is prose.
func (r *reader) fail(at sentence.Pos, problem, remedy string) {
	r.advise(at, problem, fault.Say(remedy))
}

// advise notes a problem about which commands help.
func (r *reader) advise(at sentence.Pos, problem string, advice fault.Advice) {
	line := ""
	if at.File == r.file && at.Line > 0 && at.Line <= len(r.lines) {
		line = r.lines[at.Line-1]
	}
	r.errs = append(r.errs, &sentence.Error{At: at, Line: line, Problem: problem, Remedy: advice})
}

func (r *reader) at(n *yaml.Node) sentence.Pos {
	return sentence.Pos{File: r.file, Line: n.Line, Col: n.Column}
}

func (r *reader) failAt(n *yaml.Node, problem, remedy string) { r.fail(r.at(n), problem, remedy) }

// parse turns the bytes into a YAML tree, or fails and returns nil.
func (r *reader) parse(data []byte, enacted bool) *yaml.Node {
	top := sentence.Pos{File: r.file}
	if len(data) > MaxFile {
		r.fail(top, fmt.Sprintf("the file has %d bytes; at most %d are read", len(data), MaxFile), "split the estate: one folder for each team or place")
		return nil
	}
	r.lines = strings.Split(string(data), "\n")
	for i, line := range r.lines {
		if !utf8.ValidString(line) {
			col := utf8.RuneCountInString(line[:firstInvalid(line)]) + 1
			r.lines[i] = strings.ToValidUTF8(line, "?")
			r.fail(sentence.Pos{File: r.file, Line: i + 1, Col: col}, "this is not UTF-8 text", "save the file as UTF-8")
			return nil
		}
	}
	if count, line := countMachines(r.lines); count > MaxMachines {
		r.errs = append(r.errs, tooMany(sentence.Pos{File: r.file, Line: line, Col: 1}, count))
		return nil
	}
	doc, err := load(data, r.lines)
	if err != nil {
		r.syntax(err)
		return nil
	}
	if !enacted && !r.shows(doc) {
		return nil
	}
	if doc.Kind != yaml.DocumentNode || len(doc.Content) != 1 {
		r.fail(top, "the file is empty", "begin with: estate: NAME")
		return nil
	}
	return doc.Content[0]
}

// load turns the bytes into YAML nodes. Two nodes of the same text agree in all but
// comments and the tags of scalars, of which only that of null is told.
func load(data []byte, lines []string) (*yaml.Node, error) {
	if s, ok := readSimple(lines); ok {
		var doc yaml.Node
		if err := yaml.Load([]byte(s.rest), &doc); err == nil && s.join(&doc) {
			return &doc, nil
		}
	}
	var doc yaml.Node
	err := yaml.Load(data, &doc)
	return &doc, err
}

// shows refuses words that would act on the terminal of whoever reads them.
func (r *reader) shows(n *yaml.Node) bool {
	ok := true
	if name, bad := sentence.FirstInvisible(n.Value); bad {
		r.failAt(n, fmt.Sprintf("this holds %s, which does not show", name), "words in one line stand here")
		ok = false
	}
	for _, c := range n.Content {
		ok = r.shows(c) && ok
	}
	return ok
}

func firstInvalid(s string) int {
	for i, c := range s {
		if c == utf8.RuneError {
			if _, size := utf8.DecodeRuneInString(s[i:]); size == 1 {
				return i
			}
		}
	}
	return 0
}

// syntax tells an error of YAML itself. A tab in the indentation, the usual
// cause, is told as what it is.
func (r *reader) syntax(err error) {
	text, at := err.Error(), sentence.Pos{File: r.file}
	if e, ok := errors.AsType[*yaml.LoadError](err); ok {
		text = strings.TrimPrefix(e.Message, "yaml: ")
		at.Line, at.Col = e.Mark.Line, e.Mark.Column
	}
	for i, l := range r.lines {
		indent := l[:len(l)-len(strings.TrimLeft(l, " \t"))]
		if tab := strings.IndexByte(indent, '\t'); tab >= 0 && i+1 >= at.Line-1 {
			r.fail(sentence.Pos{File: r.file, Line: i + 1, Col: tab + 1}, "a tab in the indentation; YAML takes only spaces", "replace each tab by spaces")
			return
		}
	}
	for at.Line = min(at.Line, len(r.lines)); at.Line > 1 && strings.TrimSpace(r.lines[at.Line-1]) == ""; at.Line-- {
		at.Col = 0 // what is missing at the end of the file is missing after its last words
	}
	r.fail(at, "not valid YAML: "+text, "")
}

// field reads the value of one key.
type field func(n *yaml.Node)

// fields reads a mapping with a fixed set of keys.
func (r *reader) fields(n *yaml.Node, what string, keys map[string]field, required ...string) {
	seen := r.entries(n, what, func(key, value *yaml.Node) {
		read, ok := keys[key.Value]
		if !ok {
			remedy := "known here: " + strings.Join(sortedKeys(keys), ", ")
			if near, ok := sentence.Nearest(key.Value, sortedKeys(keys)); ok {
				remedy = fmt.Sprintf("did you mean “%s”?", near)
			}
			r.failAt(key, fmt.Sprintf("unknown key “%s” in %s", key.Value, what), remedy)
			return
		}
		read(value)
	})
	for _, key := range required {
		if _, ok := seen.line(key); !ok && n.Kind == yaml.MappingNode {
			r.failAt(n, fmt.Sprintf("%s lacks “%s”", what, key), "")
		}
	}
}

// named reads a mapping from free names to things.
func (r *reader) named(n *yaml.Node, what string, read func(name string, at sentence.Pos, value *yaml.Node)) {
	if isNull(n) {
		return
	}
	r.entries(n, what, func(key, value *yaml.Node) {
		if bad := sentence.ValidName(key.Value); bad != nil {
			r.failAt(key, fmt.Sprintf("“%s” is no name: %s", key.Value, bad), "")
			return
		}
		read(key.Value, r.at(key), value)
	})
}

// pairs lists the keys of a mapping with their values.
func pairs(n *yaml.Node) iter.Seq2[*yaml.Node, *yaml.Node] {
	return func(yield func(key, value *yaml.Node) bool) {
		for pair := range slices.Chunk(n.Content, 2) {
			if !yield(pair[0], pair[1]) {
				return
			}
		}
	}
}

// entries walks a mapping's pairs and fails on keys that come twice.
func (r *reader) entries(n *yaml.Node, what string, read func(key, value *yaml.Node)) (seen keysSeen) {
	if !r.is(n, yaml.MappingNode, what+" is keys and values") {
		return seen
	}
	for key, value := range pairs(n) {
		if key.Kind != yaml.ScalarNode || key.Tag == "!!merge" {
			r.failAt(key, "a key is a plain word here", "")
			continue
		}
		if line, twice := seen.line(key.Value); twice {
			r.failAt(key, fmt.Sprintf("“%s” stands twice in %s, first on line %d", key.Value, what, line), "remove one of the two")
			continue
		}
		seen.add(key)
		read(key, value)
	}
	return seen
}

// keysSeen are keys of one mapping. The zero value has none.
type keysSeen struct {
	few  []*yaml.Node // up to fewKeys
	many map[string]int
}

// fewKeys is up to how many keys looking at each is faster than a map.
const fewKeys = 16

// line tells the line of a key.
func (k *keysSeen) line(key string) (line int, ok bool) {
	if k.many != nil {
		line, ok = k.many[key]
		return line, ok
	}
	for _, n := range k.few {
		if n.Value == key {
			return n.Line, true
		}
	}
	return 0, false
}

func (k *keysSeen) add(key *yaml.Node) {
	if k.many == nil && len(k.few) < fewKeys {
		k.few = append(k.few, key)
		return
	}
	if k.many == nil {
		k.many = map[string]int{}
		for _, n := range k.few {
			k.many[n.Value] = n.Line
		}
	}
	k.many[key.Value] = key.Line
}

func isNull(n *yaml.Node) bool { return n.Kind == yaml.ScalarNode && n.Tag == "!!null" }

func (r *reader) is(n *yaml.Node, kind yaml.Kind, problem string) bool {
	if n.Anchor != "" || n.Kind == yaml.AliasNode {
		r.failAt(n, "YAML anchors and aliases are not read", "write the value out")
		return false
	}
	if n.Kind != kind {
		r.failAt(n, problem, "")
		return false
	}
	return true
}

// text reads a scalar as it is written.
func (r *reader) text(n *yaml.Node, what string) (string, bool) {
	if !r.is(n, yaml.ScalarNode, what+" is one word here") || isNull(n) {
		if isNull(n) {
			r.failAt(n, what+" has no value", "")
		}
		return "", false
	}
	return n.Value, true
}

// list reads a sequence, or a single value that stands for a sequence of one.
func (r *reader) list(n *yaml.Node, what string, read func(*yaml.Node)) {
	if n.Kind == yaml.ScalarNode && !isNull(n) && n.Anchor == "" {
		read(n)
		return
	}
	if r.is(n, yaml.SequenceNode, what+" is a list") {
		for _, item := range n.Content {
			read(item)
		}
	}
}

func (r *reader) boolean(n *yaml.Node, what string) bool {
	text, ok := r.text(n, what)
	if ok && text != "true" && text != "false" {
		r.failAt(n, fmt.Sprintf("%s is true or false, not “%s”", what, text), "")
	}
	return ok && text == "true"
}

func (r *reader) name(n *yaml.Node, what string) string {
	text, ok := r.text(n, what)
	if !ok {
		return ""
	}
	if bad := sentence.ValidName(text); bad != nil {
		r.failAt(n, fmt.Sprintf("%s: “%s” is no name: %s", what, text, bad), "")
	}
	return text
}

func (r *reader) names(n *yaml.Node, what string) (list []string) {
	r.list(n, what, func(item *yaml.Node) { list = append(list, r.name(item, what)) })
	return list
}

func (r *reader) prefixes(n *yaml.Node, what string) (list []netip.Prefix) {
	r.list(n, what, func(item *yaml.Node) {
		text, ok := r.text(item, what)
		if !ok {
			return
		}
		p, err := sentence.ParsePrefix(text)
		if err != nil {
			problem, remedy := err.Error(), ""
			if near, why := nearPrefix(text); why != "" {
				problem, remedy = fmt.Sprintf("%s: %s %s", what, text, why), "write "+near.String()
			}
			r.failAt(item, problem, remedy)
			return
		}
		list = append(list, p)
	})
	return list
}

// nearPrefix tells what a word lacks to be the prefix of a network, and the prefix
// that was probably meant; "" where it is further off than that.
func nearPrefix(text string) (near netip.Prefix, why string) {
	if a, err := sentence.ParseAddress(text); err == nil {
		bits := 64
		if a.Is4() {
			bits = 24
		}
		near, err := a.Prefix(bits)
		if err != nil {
			return near, ""
		}
		return near, "has no prefix length"
	}
	if p, err := netip.ParsePrefix(text); err == nil && p != p.Masked() {
		return p.Masked(), "has host bits"
	}
	return near, ""
}

func (r *reader) atoms(n *yaml.Node, what string, kinds ...sentence.AtomKind) (list []sentence.Atom) {
	r.list(n, what, func(item *yaml.Node) {
		text, ok := r.text(item, what)
		if !ok {
			return
		}
		a, err := sentence.ParseAtom(text)
		switch {
		case err != nil:
			r.failAt(item, err.Error(), "")
		case !slices.Contains(kinds, a.Kind()):
			r.failAt(item, fmt.Sprintf("“%s” cannot stand in %s", text, what), "")
		default:
			list = append(list, a.WithPos(r.at(item)))
		}
	})
	return list
}

func (r *reader) services(n *yaml.Node, what string) (list []sentence.Service) {
	r.list(n, what, func(item *yaml.Node) {
		text, ok := r.text(item, what)
		if !ok {
			return
		}
		for part := range strings.SplitSeq(text, ",") {
			s, err := sentence.ParseService(strings.TrimSpace(part))
			if err != nil {
				r.failAt(item, err.Error(), "")
				return
			}
			list = append(list, s.WithPos(r.at(item)))
		}
	})
	return list
}

func (r *reader) address(n *yaml.Node) (a Address) {
	r.list(n, "address", func(item *yaml.Node) {
		text, ok := r.text(item, "address")
		if !ok {
			return
		}
		if text == "auto" {
			a.Auto = true
			return
		}
		if sentence.ValidName(text) == nil {
			a.Reserved = append(a.Reserved, text)
			return
		}
		addr, err := sentence.ParseAddress(text)
		if err != nil {
			r.failAt(item, err.Error(), "write auto, an address, or the name of a reserved one")
			return
		}
		a.Fixed = append(a.Fixed, addr)
	})
	if a.Auto && len(a.Fixed)+len(a.Reserved) > 0 {
		r.failAt(n, "an address is auto or given, not both", "")
	}
	return a
}

func sortedKeys[V any](m map[string]V) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}
