package work

import (
	"fmt"
	"slices"

	"ironbark/internal/cost"
	"ironbark/internal/estate"
	"ironbark/internal/fault"
	"ironbark/internal/sentence"
)

// Removal is what is to be taken out of the files.
type Removal struct {
	Machines    []string
	Fronts      []string
	Bastions    []string
	Peers       []string
	WithVolumes bool // volumes attached to the machines go too, with their data
}

// Removed is what came of a removal.
type Removed struct {
	Files Files
	Along []string // what went along, in words
	Stays []string // what stays, and keeps costing
}

var sectionOf = map[estate.Kind]string{estate.KindMachine: "machines", estate.KindFront: "fronts", estate.KindBastion: "bastions"}

// Remove returns the files without some machines, fronts and bastions. Sentences
// that speak of nothing else go along, others lose the names; volumes are detached.
func (w *Work) Remove(files Files, rm Removal, c cost.Catalogue) (Removed, error) {
	e, err := files.Estate()
	if err != nil {
		return Removed{}, err
	}
	out := Removed{Files: files}
	gone := map[string]bool{}
	for kind, names := range map[estate.Kind][]string{estate.KindMachine: rm.Machines, estate.KindFront: rm.Fronts, estate.KindBastion: rm.Bastions} {
		for _, name := range names {
			if out.Files, err = out.Files.RemoveNoun([]string{sectionOf[kind]}, name); err != nil {
				return Removed{}, err
			}
			gone[name] = true
		}
	}
	for _, name := range rm.Peers {
		line, ok := e.LineOf(name)
		if !ok {
			return Removed{}, &sentence.Error{Problem: fmt.Sprintf("there is no peer “%s”", name)}
		}
		if out.Files, err = out.Files.RemoveNoun([]string{"lines", line.Name, "peers"}, name); err != nil {
			return Removed{}, err
		}
		gone[name] = true
	}
	for _, v := range e.Volumes {
		switch {
		case !gone[v.Machine]:
			continue
		case rm.WithVolumes:
			out.Files, err = out.Files.RemoveNoun([]string{"volumes"}, v.Name)
			out.Along = append(out.Along, fmt.Sprintf("volume %s goes, with all its data", v.Name))
		default:
			out.Files, err = out.Files.unset([]string{"volumes", v.Name}, "machine", "device")
			out.Stays = append(out.Stays, fmt.Sprintf("volume %s stays, %d GB, with its data: %s %s a month", v.Name, v.GB, c.Currency, c.Prices.Disk(v.Speed)*cost.Money(v.GB)*cost.HoursAMonth))
		}
		if err != nil {
			return Removed{}, err
		}
	}
	for _, m := range e.Machines {
		if !gone[m.Name] {
			continue
		}
		for _, name := range m.Address.Reserved {
			out.Stays = append(out.Stays, fmt.Sprintf("address %s stays reserved: %s %s a month", name, c.Currency, c.Prices.Address*cost.HoursAMonth))
		}
		for _, s := range e.Snapshots {
			if s.Machine == m.Name {
				out.Stays = append(out.Stays, fmt.Sprintf("snapshot %s of %s stays", s.Name, m.Name))
			}
		}
	}
	return out, out.sentences(e.Sentences(), gone)
}

// sentences takes the gone names out of the sentences, and those out that speak
// of nothing then.
func (r *Removed) sentences(list []sentence.Statement, gone map[string]bool) error {
	for _, st := range slices.Backward(list) {
		left, keep := sentence.Without(st.Sentence, func(name string) bool { return gone[name] })
		_, guaranteed := st.Sentence.(sentence.Always)
		switch {
		case !keep && guaranteed:
			return &sentence.Error{At: st.At, Line: st.Text, Problem: "this guarantees what is to be removed", Remedy: fault.Say("take it back first: ").Run("retract", st.At.String())}
		case !keep:
			r.Files = r.Files.without(st)
			r.Along = append(r.Along, "“"+st.Sentence.String()+"” goes")
		case left.String() != st.Sentence.String():
			r.Files = r.Files.With(st.At.File, estate.ReplaceLine(r.Files.Get(st.At.File), st.At.Line, left))
			r.Along = append(r.Along, "“"+st.Sentence.String()+"” becomes “"+left.String()+"”")
		}
	}
	slices.Reverse(r.Along)
	// What is in error now speaks of a tag or a subnet in which nothing is left.
	for range list {
		e, err := r.Files.Estate()
		if e != nil || err == nil {
			return nil
		}
		errs, ok := err.(sentence.Errors)
		if !ok {
			return err
		}
		i := slices.IndexFunc(errs, func(one *sentence.Error) bool { return one.At.File != estate.FileName && one.At.Line > 0 })
		if i < 0 {
			return err
		}
		at := errs[i].At
		r.Along = append(r.Along, "“"+errs[i].Line+"” goes: nothing is left that it speaks of")
		r.Files = r.Files.With(at.File, estate.RemoveLine(r.Files.Get(at.File), at.Line))
	}
	return nil
}

func (fs Files) unset(path []string, fields ...string) (Files, error) {
	for _, f := range fields {
		data, err := estate.Remove(fs.Get(estate.FileName), path, f)
		if err != nil {
			if _, there := fs.field(path, f); !there {
				continue
			}
			return nil, &sentence.Error{At: sentence.Pos{File: estate.FileName}, Problem: err.Error()}
		}
		fs = fs.With(estate.FileName, data)
	}
	return fs, nil
}

func (fs Files) field(path []string, name string) (string, bool) {
	return estate.Lookup(fs.Get(estate.FileName), path, name)
}

// paying are the sections of estate.yaml whose nouns are resources on a site.
var paying = []string{"machines", "volumes", "snapshots", "images", "fronts", "bastions", "addresses", "lines", "networks", "keys", "uplink"}

// RemoveAll returns the files without everything that is on the site, and
// without all sentences. Who is who, names of sources and of services stay.
func (fs Files) RemoveAll() (Files, error) {
	e, err := fs.Estate()
	if err != nil {
		return nil, err
	}
	for _, st := range slices.Backward(e.Sentences()) {
		fs = fs.without(st)
	}
	for _, section := range paying {
		data, err := estate.Remove(fs.Get(estate.FileName), nil, section)
		if err != nil {
			if _, there := fs.field(nil, section); !there {
				continue
			}
			return nil, err
		}
		fs = fs.With(estate.FileName, data)
	}
	return fs, nil
}

// AlterEach returns the files with fields of several entries of a section of estate.yaml set, and others taken out.
func (fs Files) AlterEach(section string, names []string, fields []estate.Field, drop ...string) (Files, error) {
	data, err := estate.SetEach(fs.Get(estate.FileName), section, names, fields, drop)
	if err != nil {
		return nil, &sentence.Error{At: sentence.Pos{File: estate.FileName}, Problem: err.Error()}
	}
	return fs.With(estate.FileName, data), nil
}

// Alter returns the files with fields of an entry of estate.yaml set. One whose
// value is nil is taken out.
func (fs Files) Alter(path []string, fields []estate.Field, drop ...string) (Files, error) {
	for _, f := range fields {
		data, err := estate.Set(fs.Get(estate.FileName), path, f.Key, f.Value)
		if err != nil {
			return nil, &sentence.Error{At: sentence.Pos{File: estate.FileName}, Problem: err.Error()}
		}
		fs = fs.With(estate.FileName, data)
	}
	return fs.unset(path, drop...)
}
