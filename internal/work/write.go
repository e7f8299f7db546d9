package work

import (
	"bytes"
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"

	"ironbark/internal/estate"
)

// This file writes the files of an estate. Editors and other commands write them
// too: commands wait for one another at a lock of the kernel's on the folder, and as
// editors know no lock, a new file changes places with the old one in one step
// (renameat2(2), RENAME_EXCHANGE), and what came out is looked at.
//
//	lock ─▶ read ─▶ the edit, on what was read ─▶ exchange ─▶ is it what was read?
//	                                                 ▲              │no: exchange back
//	                                                 └──── again ◀──┘

// tries is how often a file is read and written again where somebody else writes it
// at the same time.
const tries = 5

// Written is an edit that stands in the files. Until Done or Undo is called, other
// commands wait, and the files that were there before are kept beside the new ones: a
// full disk does not keep them from coming back.
type Written struct {
	folder Folder
	edit   Edit
	kept   map[string]string // by the path of a file, that of the one before it
	unlock func()
}

// Apply puts an edit into the files as they are now, whatever was written to them
// since the edit was thought of. The errors are an *OverlapError, with nothing changed,
// and an *UnwritableError.
func (f Folder) Apply(e Edit) (*Written, error) {
	unlock, err := f.lock()
	if err != nil {
		return nil, err
	}
	f.sweep()
	w := &Written{folder: f, kept: map[string]string{}, unlock: unlock}
	if err := f.fits(e); err != nil {
		unlock()
		return nil, err
	}
	for _, name := range e.Names() {
		if err := f.applyTo(name, e, w); err != nil {
			return nil, errors.Join(err, w.Undo())
		}
	}
	return w, nil
}

// Done lets the edit stand. Calling it, or Undo, again does nothing.
func (w *Written) Done() {
	if w.unlock == nil {
		return
	}
	for _, tmp := range w.kept {
		_ = os.Remove(tmp)
	}
	w.unlock()
	w.unlock = nil
}

// fits refuses an edit that would put files in error which are in order now: somebody
// else may have added the same name meanwhile.
func (f Folder) fits(e Edit) error {
	now, err := f.Read()
	if err != nil || now.Equal(e.Old) {
		return err
	}
	if _, err := now.Estate(); err != nil {
		return nil
	}
	merged, err := e.On(now)
	if err != nil {
		return err
	}
	if _, err = merged.Estate(); err != nil {
		return &OverlapError{e.Names()[0]}
	}
	return nil
}

// Undo takes the edit out of the files again, and leaves what others wrote there.
func (w *Written) Undo() error {
	if w.unlock == nil {
		return nil
	}
	defer w.Done()
	back := Edit{Old: w.edit.New, New: w.edit.Old}
	var errs []error
	for _, name := range back.Names() {
		errs = append(errs, w.takeBack(name, back))
	}
	return errors.Join(errs...)
}

// takeBack puts the file back that was there before, or, where somebody wrote to the
// new one meanwhile, takes the edit out of it.
func (w *Written) takeBack(name string, back Edit) error {
	path := filepath.Join(w.folder.Dir, filepath.FromSlash(name))
	if tmp, ok := w.kept[path]; ok {
		real, err := filepath.EvalSymlinks(path)
		if err != nil {
			return err
		}
		if now, err := readFile(real, maxRules); err == nil && bytes.Equal(now, back.Old.Get(name)) {
			return errors.Join(os.Rename(tmp, real), syncDir(filepath.Dir(real)))
		}
	}
	return w.folder.applyTo(name, back, &Written{folder: w.folder, kept: map[string]string{}})
}

// applyTo puts an edit of one file in place, and notes what the file was before and is now.
func (f Folder) applyTo(name string, e Edit, w *Written) error {
	path := filepath.Join(f.Dir, filepath.FromSlash(name))
	for range tries {
		before, err := readFile(path, maxRules)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return &UnwritableError{path, err}
		}
		there := err == nil
		after, err := e.file(name, before, there)
		if err != nil {
			return err
		}
		switch {
		case after == nil:
			err = os.Remove(path)
		case there && bytes.Equal(before, after):
			return nil
		case there:
			var raced bool
			if w.kept[path], raced, err = exchange(path, before, after); raced {
				continue
			}
		default:
			if err = os.MkdirAll(filepath.Dir(path), 0o755); err == nil {
				err = WriteFile(path, after, 0o644)
			}
		}
		if err != nil {
			return err
		}
		if there {
			w.edit.Old = w.edit.Old.With(name, before)
		}
		w.edit.New = w.edit.New.With(name, after)
		return nil
	}
	return &UnwritableError{path, errors.New("somebody else writes it all the time")}
}

// lock waits for other commands that write to the folder, and keeps them waiting. The
// kernel gives the lock back when the process ends.
func (f Folder) lock() (unlock func(), err error) {
	d, err := os.Open(f.Dir)
	if err != nil {
		return nil, &UnwritableError{f.Dir, err}
	}
	for {
		err = unix.Flock(int(d.Fd()), unix.LOCK_EX)
		if !errors.Is(err, unix.EINTR) {
			break
		}
	}
	if err != nil {
		return nil, errors.Join(&UnwritableError{f.Dir, err}, d.Close())
	}
	return func() { _ = d.Close() }, nil
}

// temporary is what the names of half-written files have in them.
const temporary = ".ironbark-tmp-"

// sweep clears away what killed processes left half written. It is called under the lock.
func (f Folder) sweep() {
	for _, dir := range []string{f.Dir, filepath.Join(f.Dir, estate.SetupDir)} {
		left, _ := filepath.Glob(filepath.Join(dir, ".*"+temporary+"*"))
		for _, path := range left {
			_ = os.Remove(path)
		}
	}
}

// exchange puts a file in the place of one that holds before, and returns where that
// one is kept now. It reports whether somebody else wrote the file in between: then it
// is as that one left it.
func exchange(path string, before, after []byte) (kept string, raced bool, err error) {
	real, err := filepath.EvalSymlinks(path) // a link is written through
	if err != nil {
		return "", false, &UnwritableError{path, err}
	}
	path = real
	info, err := os.Stat(path)
	if err != nil {
		return "", false, &UnwritableError{path, err}
	}
	tmp, err := write(path, after, info.Mode().Perm())
	if err != nil {
		return "", false, err
	}
	defer func() {
		if kept == "" {
			_ = os.Remove(tmp)
		}
	}()
	swap := func() error { return unix.Renameat2(unix.AT_FDCWD, tmp, unix.AT_FDCWD, path, unix.RENAME_EXCHANGE) }
	err = swap()
	if errors.Is(err, unix.EINVAL) || errors.Is(err, unix.ENOSYS) { // a file system that cannot: look first, and hope
		if now, err := readFile(path, maxRules); err != nil || !bytes.Equal(now, before) {
			return "", true, nil
		}
		old, failed := write(path, before, info.Mode().Perm())
		if failed != nil {
			return "", false, failed
		}
		if err = os.Rename(tmp, path); err == nil {
			return old, false, syncDir(filepath.Dir(path))
		}
	}
	if err != nil {
		return "", false, &UnwritableError{path, err}
	}
	if out, err := os.ReadFile(tmp); err != nil || !bytes.Equal(out, before) {
		return "", true, swap()
	}
	return tmp, false, syncDir(filepath.Dir(path))
}

// WriteFile writes a file whole or not at all, and leaves nothing else behind. A
// file that is there keeps its permissions, and a link is written through. The error
// is an *UnwritableError.
func WriteFile(path string, data []byte, mode fs.FileMode) error {
	if real, err := filepath.EvalSymlinks(path); err == nil {
		path = real
	}
	if info, err := os.Stat(path); err == nil {
		if mode = info.Mode().Perm(); !info.Mode().IsRegular() {
			return &UnwritableError{path, errors.New("it is no ordinary file")}
		}
	}
	tmp, err := write(path, data, mode)
	if err != nil {
		return err
	}
	if err := os.Rename(tmp, path); err != nil {
		return &UnwritableError{path, errors.Join(err, os.Remove(tmp))}
	}
	return syncDir(filepath.Dir(path))
}

// write writes a temporary file beside path and returns its name.
func write(path string, data []byte, mode fs.FileMode) (string, error) {
	tmp, err := os.CreateTemp(filepath.Dir(path), "."+filepath.Base(path)+temporary+"*")
	if err != nil {
		return "", &UnwritableError{path, err}
	}
	_, err = tmp.Write(data)
	err = errors.Join(err, tmp.Chmod(mode), tmp.Sync(), tmp.Close())
	if err != nil {
		return "", &UnwritableError{path, errors.Join(err, os.Remove(tmp.Name()))}
	}
	return tmp.Name(), nil
}

// syncDir makes a rename in a folder last.
func syncDir(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return &UnwritableError{dir, err}
	}
	if err := errors.Join(d.Sync(), d.Close()); err != nil && !errors.Is(err, unix.EINVAL) {
		return &UnwritableError{dir, err}
	}
	return nil
}
