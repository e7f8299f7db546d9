package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"

	"ironbark/internal/cost"
	"ironbark/internal/estate"
	"ironbark/internal/fault"
	"ironbark/internal/sentence"
	"ironbark/internal/sshkey"
	"ironbark/internal/work"
)

// lacking finds out what a new machine lacks: it asks where somebody can be asked, and otherwise tells all of it, each
// with its choices. Where the estate has no key, one is made, if that is wanted: files has it then.
func (a *app) lacking(w *work.Work, files work.Files, e *estate.Estate, name string, in *nounInput, opt *editing) (work.Files, error) {
	l := &machineLacks{a: a, w: w, e: e, c: w.Site.Catalogue(), in: in, name: name}
	if !a.terminal || a.json {
		return files, l.tell()
	}
	if (in.image != "" || in.boot != "") && in.size != "" && len(in.at) > 0 { // whoever says all that is needed is asked nothing
		return files, nil
	}
	for _, ask := range []func() error{l.image, l.size, l.at, l.address} {
		if err := ask(); err != nil {
			return files, err
		}
	}
	return l.key(files, opt)
}

// machineLacks knows what a machine can have.
type machineLacks struct {
	a    *app
	w    *work.Work
	e    *estate.Estate
	c    cost.Catalogue
	in   *nounInput
	name string
}

// tell is the error that tells all that lacks.
func (l *machineLacks) tell() error {
	var errs sentence.Errors
	lacks := func(option, what string, list []choice) {
		words := make([]string, len(list))
		for i, c := range list {
			words[i] = c.name
			if c.about != "" {
				words[i] += " (" + c.about + ")"
			}
		}
		errs = append(errs, &sentence.Error{Problem: fmt.Sprintf("machine %s lacks %s: %s", l.name, option, what), Remedy: fault.Say(strings.Join(words, "; "))})
	}
	if l.in.image == "" && l.in.boot == "" {
		lacks("--image", "the system it starts from", l.images())
	}
	if l.in.size == "" {
		lacks("--size", "how much of a host it gets", l.sizes())
	}
	if len(l.in.at) == 0 {
		lacks("--subnet", "the subnet it stands in", l.subnets())
	}
	if len(errs) == 0 {
		return nil
	}
	return errs
}

func (l *machineLacks) month(m cost.Money) string {
	return fmt.Sprintf("%s %s a month", l.c.Currency, m*cost.HoursAMonth)
}

func (l *machineLacks) images() (list []choice) {
	for _, i := range l.c.Images {
		list = append(list, choice{i.Name, i.About})
	}
	for _, i := range l.e.Images {
		list = append(list, choice{i.Name, "your own image"})
	}
	for _, s := range l.e.Snapshots {
		if s.Machine != "" {
			list = append(list, choice{s.Name, "a snapshot of machine " + s.Machine})
		}
	}
	return list
}

func (l *machineLacks) sizes() (list []choice) {
	for _, s := range l.c.Sizes {
		list = append(list, choice{s.Name, fmt.Sprintf("%d vCPU, %d MiB, %s", s.CPUs, s.MemoryMiB, l.month(s.Hour))})
	}
	return list
}

func (l *machineLacks) subnets() (list []choice) {
	for _, n := range l.e.Networks {
		list = append(list, subnetChoices(n)...)
	}
	return list
}

func (l *machineLacks) image() (err error) {
	if l.in.image == "" && l.in.boot == "" {
		l.in.image, err = l.a.choose("Which image", l.images(), "")
	}
	return err
}

func (l *machineLacks) size() (err error) {
	if l.in.size == "" {
		l.in.size, err = l.a.choose("Which size", l.sizes(), "")
	}
	return err
}

func (l *machineLacks) at() error {
	if len(l.in.at) > 0 {
		return nil
	}
	list := l.subnets()
	if len(list) == 0 {
		return wrong("the estate has no subnet for a machine to stand in: ironbark add network, ironbark add subnet")
	}
	at, err := l.a.choose("Which subnet", list, "")
	l.in.at = []string{at}
	return err
}

// address asks for a public address, where the machine's network can have doors from outside.
func (l *machineLacks) address() error {
	if len(l.in.address) > 0 {
		return nil
	}
	s, _ := l.e.Subnet(l.in.at[0])
	if n, ok := l.e.Network(s.Network); !ok || !n.Outside || !estate.HasFamily(s.Range, sentence.IPv4) {
		return nil
	}
	list := []choice{{"auto", "one is given; nothing gets in by it until a sentence says so; " + l.month(l.c.Prices.Address)}, {none, "it is reached by a front, a bastion or a line"}}
	for _, r := range l.e.Addresses {
		list = append(list, choice{r.Name, "reserved"})
	}
	word, err := l.a.choose("A public address", list, "auto")
	if word != none {
		l.in.address = []string{word}
	}
	return err
}

// key asks by which key administrators get in, and makes one where there is none.
func (l *machineLacks) key(files work.Files, opt *editing) (work.Files, error) {
	if len(l.in.keys) > 0 || l.in.password != "" {
		return files, nil
	}
	var list []choice
	for _, k := range l.e.Keys {
		list = append(list, choice{k.Name, sshkey.Fingerprint(k.Public)})
	}
	if len(list) > 0 {
		name, err := l.a.choose("Which key lets administrators in", list, "")
		l.in.keys = []string{name}
		return files, err
	}
	name, err := l.a.answerTo("Which key lets administrators in? There is none yet; one is made, called [ops]", "ops", nothingChanged)
	if err != nil {
		return files, err
	}
	if bad := sentence.ValidName(name); bad != nil {
		return files, usage("“%s” is no name: %s", name, bad)
	}
	line, save, err := newKey(l.w, name, sshkey.Ed25519)
	if err != nil {
		return files, err
	}
	opt.before, l.in.keys = save, []string{name}
	return files.AddNoun([]string{"keys"}, name, estate.Word(line))
}

// newKey makes a key pair. save keeps its private half, where no other is, and undo takes it away again.
func newKey(w *work.Work, name string, kind sshkey.Kind) (public string, save func() (undo func() error, err error), err error) {
	path := keyPath(w, name)
	if _, err := os.Lstat(path); !errors.Is(err, fs.ErrNotExist) {
		return "", nil, wrong("%s is there already and is not written over", path)
	}
	pair, err := sshkey.New(kind, name)
	if err != nil {
		return "", nil, usage("--algorithm: %v", err)
	}
	return pair.Public, func() (func() error, error) { return func() error { return os.Remove(path) }, pair.Save(path) }, nil
}
