package store

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
)

// A database with a write-ahead log is read by way of an index beside it (-shm), which SQLite makes. Where that cannot be made, as on a full disk
// or in a folder that cannot be written to, the file is read by other ways:
//
//	the log is empty  the file has everything: it is read as if nobody could write to it
//	else              file and log are copied to memory, and read there

// openAside opens a store for reading where nothing can be written beside it. cause is why that is so.
func openAside(ctx context.Context, path string, format Format, cause error) (*DB, error) {
	if look(path) != "" {
		s, err := open(ctx, path, format, options(path, true)+"&immutable=1")
		if err != nil {
			err = errors.Join(err, cause)
		}
		return s, err
	}
	for _, memory := range []string{"/dev/shm", os.TempDir()} {
		dir, err := os.MkdirTemp(memory, "ironbark-read-")
		if err != nil {
			continue
		}
		if s, err := openCopy(ctx, path, dir, format); err == nil {
			s.aside = dir
			return s, nil
		}
		_ = os.RemoveAll(dir)
	}
	return nil, cause
}

// mostCopied is how long a store and its log may be, in bytes, for them to be copied.
const mostCopied = 1 << 30

// openCopy copies a store and its log to a folder, and opens the copy. Where somebody writes to them meanwhile it fails.
func openCopy(ctx context.Context, path, dir string, format Format) (*DB, error) {
	copied := filepath.Join(dir, filepath.Base(path))
	before := state(path)
	for _, end := range []string{"", "-wal"} {
		if err := copyFile(path+end, copied+end); err != nil {
			return nil, err
		}
	}
	if state(path) != before {
		return nil, errors.New("it was written to while it was copied")
	}
	s, err := open(ctx, copied, format, options(copied, true))
	if err == nil {
		s.path = path
	}
	return s, err
}

// state tells two states of a store and its log apart.
func state(path string) (text string) {
	for _, end := range []string{"", "-wal"} {
		if info, err := os.Stat(path + end); err == nil {
			text += fmt.Sprintln(info.Size(), info.ModTime().UnixNano())
		}
	}
	return text
}

func copyFile(from, to string) error {
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	n, err := io.Copy(out, io.LimitReader(in, mostCopied+1))
	if n > mostCopied {
		err = errors.New("it is too long to be copied")
	}
	return errors.Join(err, out.Close())
}
