// Package backup keeps an estate in one file, and brings it back: a tar archive (POSIX.1-2001, pax), compressed with gzip
// (RFC 1952), whose first entry lists all others with their SHA-256. Nothing is written before every one of them was read and
// compared.
//
//	manifest.json ─▶ estate.yaml, *.rules, setup/… ─▶ .ironbark/…
package backup

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"ironbark/internal/estate"
	"ironbark/internal/fault"
	"ironbark/internal/plainfile"
	"ironbark/internal/sentence"
)

// Format is the version of the archives that this package writes and reads.
const Format = 1

// StateDir is the folder of an estate that is not for reading, as names in an archive begin.
const StateDir = ".ironbark"

// Bounds of what is read.
const (
	maxManifest = 16 << 20
	maxFile     = 8 << 30
)

const manifestName = "manifest.json"

// Manifest tells what is in an archive.
type Manifest struct {
	Format  int       `json:"format"`
	Estate  string    `json:"estate"`
	Site    string    `json:"site"`
	Ledger  string    `json:"ledger"` // its id; "" where nothing was ever enacted
	Head    Head      `json:"head"`   // the last entry of its journal
	Made    time.Time `json:"made"`
	Program string    `json:"program"` // the version of Ironbark
	Keys    bool      `json:"keys"`    // private halves are in it
	Place   bool      `json:"place"`   // the stand-in cloud is in it
	Files   []File    `json:"files"`
}

// Head is the last entry of a journal, as an archive writes it.
type Head struct {
	Seq  int64  `json:"seq"`
	Hash string `json:"hash"`
}

// File is one file of an archive.
type File struct {
	Name   string `json:"name"` // with slashes, relative to the estate's folder
	Size   int64  `json:"size"`
	SHA256 string `json:"sha256"`
}

// Source is a file that goes into an archive.
type Source struct {
	Name string
	Path string
}

// DamagedError says that a file is no archive, or not as it was written.
type DamagedError struct{ Path, Why string }

// Error tells the file and why.
func (d *DamagedError) Error() string { return d.Path + ": " + d.Why }

// Kind is that of a file that cannot be used.
func (d *DamagedError) Kind() fault.Kind { return fault.Invalid }

// Advice says what that means.
func (d *DamagedError) Advice() fault.Advice {
	return fault.Say("nothing was written; take another copy of it")
}

// Write writes an archive of some files, and returns what is in it. The files must not change meanwhile: the error says
// where one does.
func Write(w io.Writer, m Manifest, sources []Source) (Manifest, error) {
	m.Format, m.Files = Format, nil
	for _, s := range sources {
		if !allowed(s.Name) {
			return m, fmt.Errorf("%s is no file of an estate", s.Name)
		}
		f, err := digest(s)
		if err != nil {
			return m, err
		}
		m.Files = append(m.Files, f)
	}
	head, err := json.MarshalIndent(m, "", "  ")
	if err != nil {
		return m, err
	}
	z := gzip.NewWriter(w)
	t := tar.NewWriter(z)
	put := func(name string, size int64, from io.Reader) error {
		h := &tar.Header{Format: tar.FormatPAX, Typeflag: tar.TypeReg, Name: name, Size: size, Mode: 0o600, ModTime: m.Made}
		if err := t.WriteHeader(h); err != nil {
			return err
		}
		_, err := io.Copy(t, from)
		return err
	}
	if err := put(manifestName, int64(len(head)), bytes.NewReader(head)); err != nil {
		return m, err
	}
	for i, s := range sources {
		h := sha256.New()
		err := reading(s.Path, func(f io.Reader) error {
			return put(s.Name, m.Files[i].Size, io.TeeReader(io.LimitReader(f, m.Files[i].Size), h))
		})
		if err != nil {
			return m, err
		}
		if sum(h) != m.Files[i].SHA256 {
			return m, fmt.Errorf("%s changed while it was read", s.Path)
		}
	}
	return m, errors.Join(t.Close(), z.Close())
}

func sum(h hash.Hash) string { return hex.EncodeToString(h.Sum(nil)) }

func reading(path string, do func(io.Reader) error) error {
	f, err := plainfile.Open(path)
	if err != nil {
		return err
	}
	return errors.Join(do(f), f.Close())
}

func digest(s Source) (f File, err error) {
	h := sha256.New()
	f.Name = s.Name
	err = reading(s.Path, func(r io.Reader) (err error) {
		f.Size, err = io.Copy(h, r)
		return err
	})
	f.SHA256 = sum(h)
	return f, err
}

// allowed reports whether an archive may hold a file of a name: one of an estate's, and nothing that leads elsewhere.
func allowed(name string) bool {
	if path.Clean(name) != name || !filepath.IsLocal(name) || strings.ContainsAny(name, "\\\x00") {
		return false
	}
	dir, base := path.Split(name)
	switch dir {
	case "":
		return base == estate.FileName || strings.HasSuffix(base, ".rules")
	case estate.SetupDir + "/":
		return true
	case StateDir + "/":
		return strings.HasSuffix(base, ".db")
	}
	return dir == StateDir+"/keys/"
}

// Check reads all of an archive, and compares it with its manifest. The error is a *DamagedError.
func Check(file string) (Manifest, error) {
	return each(file, func(_ Manifest, _ File, r io.Reader) error {
		_, err := io.Copy(io.Discard, r)
		return err
	})
}

// Extract writes what is in an archive into a folder, where none of its files may be. Each is compared again as it is
// written; where one differs, the error is a *DamagedError, and the folder is not to be used.
func Extract(file, dir string) (Manifest, error) {
	return each(file, func(_ Manifest, f File, r io.Reader) error {
		to := filepath.Join(dir, filepath.FromSlash(f.Name))
		mode, folder := os.FileMode(0o644), os.FileMode(0o755)
		if strings.HasPrefix(f.Name, StateDir+"/") {
			mode, folder = 0o600, 0o700
		}
		if err := os.MkdirAll(filepath.Dir(to), folder); err != nil {
			return err
		}
		out, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode)
		if err != nil {
			return err
		}
		_, err = io.Copy(out, r)
		return errors.Join(err, out.Sync(), out.Close())
	})
}

// each hands over the files of an archive, in their order, and compares them.
func each(file string, do func(m Manifest, f File, r io.Reader) error) (m Manifest, err error) {
	damaged := func(format string, args ...any) error { return &DamagedError{file, fmt.Sprintf(format, args...)} }
	in, err := plainfile.Open(file)
	if err != nil {
		return m, err
	}
	defer in.Close()
	z, err := gzip.NewReader(in)
	if err != nil {
		return m, damaged("this is no backup of an estate")
	}
	t := tar.NewReader(z)
	h, err := t.Next()
	if err != nil || h.Name != manifestName || h.Size > maxManifest {
		return m, damaged("this is no backup of an estate")
	}
	if err := json.NewDecoder(t).Decode(&m); err != nil {
		return m, damaged("what is in it cannot be read: %v", err)
	}
	if m.Format != Format {
		return m, damaged("it is of version %d, and this program knows %d", m.Format, Format)
	}
	for _, name := range []string{m.Estate, m.Site} { // folders and hints are made of them
		if err := sentence.ValidName(name); name != "" && err != nil {
			return m, damaged("the name %q in it: %v", name, err)
		}
	}
	for i, f := range m.Files {
		twice := slices.ContainsFunc(m.Files[:i], func(o File) bool { return o.Name == f.Name })
		if !allowed(f.Name) || twice || f.Size < 0 || f.Size > maxFile {
			return m, damaged("it holds “%s”, which belongs to no estate", f.Name)
		}
		h, err := t.Next()
		if err != nil || h.Typeflag != tar.TypeReg || h.Name != f.Name || h.Size != f.Size {
			return m, damaged("%s is not whole in it", f.Name)
		}
		digest := sha256.New()
		if err := do(m, f, io.TeeReader(t, digest)); err != nil {
			if _, ok := errors.AsType[*os.PathError](err); ok {
				return m, err
			}
			return m, damaged("%s: %v", f.Name, err)
		}
		if sum(digest) != f.SHA256 {
			return m, damaged("%s is not as it was written: its hash is another one", f.Name)
		}
	}
	if _, err := t.Next(); !errors.Is(err, io.EOF) {
		return m, damaged("it holds more than it says, or is cut off")
	}
	if _, err := io.Copy(io.Discard, z); err != nil { // the checksum of the whole
		return m, damaged("its end is damaged: %v", err)
	}
	return m, nil
}
