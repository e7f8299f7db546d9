// Package work does the job's verbs: review, enact, open, close, ask. Each joins
// the pure core to the folder of the estate and to its site. It prints nothing.
package work

import (
	"bufio"
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/sys/unix"

	"ironbark/internal/estate"
	"ironbark/internal/fault"
	"ironbark/internal/plainfile"
	"ironbark/internal/sentence"
)

// Folder is the folder of an estate: estate.yaml and the rules files.
type Folder struct{ Dir string }

// NoEstateError says that there is no estate where one was looked for.
type NoEstateError struct {
	Dir   string
	Above bool // it was looked for above the folder, too
}

// Error tells where it was looked for.
func (n *NoEstateError) Error() string {
	if !n.Above {
		return fmt.Sprintf("there is no %s in %s", estate.FileName, n.Dir)
	}
	return fmt.Sprintf("there is no %s in %s or above it", estate.FileName, n.Dir)
}

// Kind is that of words that name nothing.
func (n *NoEstateError) Kind() fault.Kind { return fault.NotFound }

// Advice says what to do.
func (n *NoEstateError) Advice() fault.Advice {
	return fault.Say("begin one: ").Run("new", "NAME").Say(", or say where it is: --estate DIR")
}

// FindFolder looks for the nearest folder upward from dir with an estate.yaml.
func FindFolder(dir string) (Folder, error) {
	start, err := filepath.Abs(dir)
	if err != nil {
		return Folder{}, err
	}
	for at := start; ; at = filepath.Dir(at) {
		if _, err := os.Stat(filepath.Join(at, estate.FileName)); err == nil {
			return Folder{at}, nil
		}
		if at == filepath.Dir(at) {
			return Folder{}, &NoEstateError{start, true}
		}
	}
}

// FolderAt returns the folder of an estate. The error is a *NoEstateError where neither an
// estate.yaml nor a record stands there: whoever lost the files can still close what is open.
func FolderAt(dir string) (Folder, error) {
	for _, name := range []string{estate.FileName, StateDir} {
		if _, err := os.Stat(filepath.Join(dir, name)); err == nil {
			return Folder{dir}, nil
		} else if !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, unix.ENOTDIR) {
			return Folder{}, err
		}
	}
	return Folder{}, &NoEstateError{Dir: dir}
}

// Files are an estate's files as they stand in a folder: the nouns first, then
// the rules files by name.
type Files []estate.File

// Read reads the files. A file over the size that is read at all is a [TooLargeError].
func (f Folder) Read() (Files, error) {
	nouns, err := readFile(filepath.Join(f.Dir, estate.FileName), estate.MaxFile)
	if err != nil {
		if errors.Is(err, fs.ErrNotExist) {
			return nil, &NoEstateError{Dir: f.Dir}
		}
		return nil, err
	}
	files := Files{{Name: estate.FileName, Data: nouns}}
	entries, err := os.ReadDir(f.Dir)
	if err != nil {
		return nil, err
	}
	for _, entry := range entries {
		if name := entry.Name(); strings.HasSuffix(name, ".rules") && !entry.IsDir() {
			data, err := readFile(filepath.Join(f.Dir, name), maxRules)
			if err != nil {
				return nil, err
			}
			files = append(files, estate.File{Name: name, Data: data})
		}
	}
	scripts, err := f.scripts()
	return append(files, scripts...), err
}

// maxScript is the greatest size of a first-boot script, in bytes.
const maxScript = 64 << 10

// scripts reads the first-boot scripts; a folder without any has none.
func (f Folder) scripts() (files Files, err error) {
	entries, err := os.ReadDir(filepath.Join(f.Dir, estate.SetupDir))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	for _, entry := range entries {
		if !entry.Type().IsRegular() || strings.HasPrefix(entry.Name(), ".") {
			continue
		}
		data, err := readFile(filepath.Join(f.Dir, estate.SetupDir, entry.Name()), maxScript)
		if err != nil {
			return nil, err
		}
		files = append(files, estate.File{Name: estate.SetupDir + "/" + entry.Name(), Data: data})
	}
	return files, nil
}

// maxRules is the greatest size of a rules file, in bytes.
const maxRules = 256 << 20

func readFile(path string, most int) ([]byte, error) {
	if name, bad := sentence.FirstInvisible(filepath.Base(path)); bad {
		return nil, &sentence.Error{Problem: fmt.Sprintf("the name of the file %q holds %s, which does not show", filepath.Base(path), name), Remedy: fault.Say("rename it")}
	}
	data, err := plainfile.Read(path, int64(most))
	switch {
	case errors.Is(err, plainfile.ErrNotPlain):
		return nil, &sentence.Error{Problem: fmt.Sprintf("%s is no ordinary file", path), Remedy: fault.Say("move it away")}
	case errors.Is(err, plainfile.ErrTooLarge):
		size := int64(most) + 1
		if info, err := os.Stat(path); err == nil {
			size = info.Size()
		}
		return nil, &TooLargeError{Name: filepath.Base(path), Size: size, Most: int64(most)}
	}
	return data, err
}

// TooLargeError says that a file is larger than any that is read.
type TooLargeError struct {
	Name       string
	Size, Most int64
}

// Error tells both sizes; that of the file is rounded up, so that it is more than what is read.
func (t *TooLargeError) Error() string {
	unit, name := int64(1<<20), "MB"
	if t.Most < unit {
		unit, name = 1<<10, "KB"
	}
	return fmt.Sprintf("%s: the file is %d %s; at most %d %s are read", t.Name, (t.Size+unit-1)/unit, name, t.Most/unit, name)
}

// Kind is that of files that cannot be read.
func (t *TooLargeError) Kind() fault.Kind { return fault.Invalid }

// Estate reads the files into an estate; nil where there are none.
func (fs Files) Estate() (*estate.Estate, error) { return estate.ReadFiles(fs) }

// Enacted reads files that were enacted; nil where there are none.
func (fs Files) Enacted() (*estate.Estate, error) { return estate.ReadEnactedFiles(fs) }

// With returns the files with the contents of one in place of those it had, or added.
func (fs Files) With(name string, data []byte) Files {
	out := slices.Clone(fs)
	for i := range out {
		if out[i].Name == name {
			out[i].Data = data
			return out
		}
	}
	out = append(out, estate.File{Name: name, Data: data})
	slices.SortFunc(out[1:], func(a, b estate.File) int { return cmp.Compare(a.Name, b.Name) })
	return out
}

// Get returns the contents of a file, nil where there is none.
func (fs Files) Get(name string) []byte {
	for _, f := range fs {
		if f.Name == name {
			return f.Data
		}
	}
	return nil
}

// Equal reports whether two sets of files have the same names and contents.
func (fs Files) Equal(o Files) bool {
	return slices.EqualFunc(sorted(fs), sorted(o), func(a, b estate.File) bool {
		return a.Name == b.Name && string(a.Data) == string(b.Data)
	})
}

func sorted(fs Files) Files {
	out := slices.Clone(fs)
	slices.SortFunc(out, func(a, b estate.File) int { return cmp.Compare(a.Name, b.Name) })
	return out
}

// UnwritableError says that a file could not be written, and is as it was.
type UnwritableError struct {
	Path string
	Why  error
}

// Error tells the file and why.
func (u *UnwritableError) Error() string {
	why := u.Why
	if e, ok := errors.AsType[*fs.PathError](why); ok {
		why = e.Err
	}
	return fmt.Sprintf("%s cannot be written, and is as it was: %v", u.Path, why)
}

// Kind is that of files that cannot be written; nothing was changed.
func (u *UnwritableError) Kind() fault.Kind { return fault.Invalid }

// Unwrap returns why.
func (u *UnwritableError) Unwrap() error { return u.Why }

// SiteName is the kind of place that the estate's file names, as far as that can be told
// without reading all of it: by a line of its own, as the file is mostly written. ""
// where it cannot.
func (f Folder) SiteName() string {
	file, err := plainfile.Open(filepath.Join(f.Dir, estate.FileName))
	if err != nil {
		return ""
	}
	defer file.Close()
	for lines := bufio.NewScanner(file); lines.Scan(); {
		if name, ok := strings.CutPrefix(lines.Text(), "site:"); ok {
			name, _, _ = strings.Cut(name, " #")
			return strings.Trim(strings.TrimSpace(name), `"'`)
		}
	}
	return ""
}
