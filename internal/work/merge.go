package work

import (
	"fmt"
	"strings"

	"github.com/aymanbagabas/go-udiff"

	"ironbark/internal/fault"
)

// Edit is what a command changes in an estate's files: from Old to New. It is thought
// of on some state of the files and can be put into another one, which somebody else
// has edited meanwhile or which was enacted earlier: line by line, as version control
// merges.
type Edit struct{ Old, New Files }

// OverlapError says that an edit cannot be put into files, because the lines that it
// changes are not there as it knows them.
type OverlapError struct{ File string }

// Error tells the file.
func (o *OverlapError) Error() string {
	return fmt.Sprintf("%s: the lines that this edit changes are not as they were", o.File)
}

// Kind is that of something that changed since it was looked at.
func (o *OverlapError) Kind() fault.Kind { return fault.Conflict }

// Advice says what to do.
func (o *OverlapError) Advice() fault.Advice {
	return fault.Say("nothing was changed; look at the file and say it again")
}

// On returns other files with the edit in them. The error is an *OverlapError.
func (e Edit) On(base Files) (Files, error) {
	out := base
	for _, name := range e.Names() {
		data, there := base.find(name)
		after, err := e.file(name, data, there)
		if err != nil {
			return nil, err
		}
		if after == nil {
			out = out.less(name)
		} else {
			out = out.With(name, after)
		}
	}
	return out, nil
}

// Names lists the files that the edit changes.
func (e Edit) Names() (list []string) {
	for _, f := range e.New {
		if old, there := e.Old.find(f.Name); !there || string(old) != string(f.Data) {
			list = append(list, f.Name)
		}
	}
	for _, f := range e.Old {
		if _, there := e.New.find(f.Name); !there {
			list = append(list, f.Name)
		}
	}
	return list
}

// file returns one file with the edit in it, nil where the edit takes it away.
func (e Edit) file(name string, now []byte, there bool) ([]byte, error) {
	before, had := e.Old.find(name)
	after, has := e.New.find(name)
	lines := strings.HasSuffix(name, ".rules") // a rules file that is not there has no lines
	switch {
	case !has && !there, !has && string(now) == string(before):
		return nil, nil
	case !has, !lines && (!had && there && string(now) != string(after) || had && !there):
		return nil, &OverlapError{name}
	case !had && !there, string(now) == string(before):
		return after, nil
	}
	merged, ok := udiff.Merge(udiff.Lines(string(before), string(now)), udiff.Lines(string(before), string(after)))
	if !ok {
		return nil, &OverlapError{name}
	}
	text, err := udiff.Apply(string(before), merged)
	if err != nil {
		return nil, &OverlapError{name}
	}
	return []byte(text), nil
}

func (fs Files) find(name string) ([]byte, bool) {
	for _, f := range fs {
		if f.Name == name {
			return f.Data, true
		}
	}
	return nil, false
}

// less returns the files without one.
func (fs Files) less(name string) (out Files) {
	for _, f := range fs {
		if f.Name != name {
			out = append(out, f)
		}
	}
	return out
}
