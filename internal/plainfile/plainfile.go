// Package plainfile reads files that somebody names. It refuses a pipe, a device or a socket in the place of an ordinary file at once: to open
// one could block, or act.
package plainfile

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"syscall"
)

// ErrNotPlain says that something is not an ordinary file. It is inside an *fs.PathError.
var ErrNotPlain = errors.New("it is not an ordinary file")

// ErrTooLarge says that a file is larger than the bound of who reads it. It is inside an *fs.PathError.
var ErrTooLarge = errors.New("it is too large")

// Open opens an ordinary file to be read; symbolic links are followed. It does not block. The errors are those of os.Open, and ErrNotPlain.
func Open(path string) (*os.File, error) {
	if info, err := os.Stat(path); err == nil && !info.Mode().IsRegular() { // a device may act when it is opened
		return nil, &fs.PathError{Op: "open", Path: path, Err: ErrNotPlain}
	}
	f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NONBLOCK, 0) // it may have become a pipe since
	if err != nil {
		return nil, err
	}
	return plain(f, path)
}

// OpenIn is Open for a file in a folder. It opens nothing outside of the folder, whatever the name or a symbolic link says.
func OpenIn(dir, name string) (*os.File, error) {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, err
	}
	defer root.Close()
	if info, err := root.Stat(name); err == nil && !info.Mode().IsRegular() {
		return nil, &fs.PathError{Op: "open", Path: name, Err: ErrNotPlain}
	}
	f, err := root.OpenFile(name, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	return plain(f, name)
}

func plain(f *os.File, name string) (*os.File, error) {
	if info, err := f.Stat(); err != nil || !info.Mode().IsRegular() {
		return nil, errors.Join(&fs.PathError{Op: "open", Path: name, Err: ErrNotPlain}, f.Close())
	}
	return f, nil
}

// ReadIn is Read for a file in a folder; see [OpenIn].
func ReadIn(dir, name string, most int64) ([]byte, error) {
	f, err := OpenIn(dir, name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return all(f, name, most)
}

// Read reads a whole ordinary file of so many bytes at most. The errors are those of Open and of reading, and ErrTooLarge.
func Read(path string, most int64) ([]byte, error) {
	f, err := Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return all(f, path, most)
}

func all(f *os.File, name string, most int64) ([]byte, error) {
	data, err := io.ReadAll(io.LimitReader(f, most+1))
	if err == nil && int64(len(data)) > most {
		err = &fs.PathError{Op: "read", Path: name, Err: ErrTooLarge}
	}
	if err != nil {
		return nil, err
	}
	return data, nil
}

// Small is enough for keys, certificates and the like, in bytes.
const Small = 1 << 20
