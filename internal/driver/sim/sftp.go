package sim

import (
	"context"
	"database/sql"
	"fmt"
	"io"
	"os"
	"path"
	"sync"

	"github.com/pkg/sftp"

	"ironbark/internal/driver/sim/guest"
)

// files serve a machine's files over SFTP. Each request reads or writes what is in
// the machine by then, so that what several sessions write at once is all kept. They
// are safe for concurrent use.
type files struct {
	ctx     context.Context
	s       *Site
	machine string
}

// look returns the machine's inside as it is now.
func (f *files) look() (*guest.Guest, error) {
	in, err := f.s.look(f.ctx, f.machine)
	if err != nil {
		return nil, err
	}
	return in.guest, nil
}

// alter changes the machine's inside as it is now.
func (f *files) alter(do func(*guest.Guest) error) error {
	db, err := f.s.open(f.ctx, true)
	if err != nil {
		return err
	}
	return db.Update(f.ctx, func(tx *sql.Tx) error {
		in, err := f.s.loadMachine(f.ctx, tx, f.machine)
		if err != nil {
			return err
		}
		if err := do(in.guest); err != nil {
			return err
		}
		return in.save(f.ctx, tx)
	})
}

func (f *files) Fileread(r *sftp.Request) (io.ReaderAt, error) {
	g, err := f.look()
	if err != nil {
		return nil, err
	}
	text, ok := g.Read(path.Clean(r.Filepath))
	if !ok {
		return nil, os.ErrNotExist
	}
	return readerAt(text), nil
}

type readerAt string

func (r readerAt) ReadAt(p []byte, off int64) (int, error) {
	if off < 0 || off >= int64(len(r)) {
		return 0, io.EOF
	}
	n := copy(p, r[off:])
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}

func (f *files) Filewrite(r *sftp.Request) (io.WriterAt, error) {
	w := &upload{f: f, name: path.Clean(r.Filepath)}
	return w, f.alter(func(g *guest.Guest) error {
		if old, there := g.Read(w.name); there && !r.Pflags().Trunc {
			w.data = []byte(old)
			return nil
		}
		return g.Write(w.name, "")
	})
}

// upload gathers what is written to a file, and puts it in place when it is closed.
type upload struct {
	f    *files
	name string

	mu   sync.Mutex
	data []byte
}

func (u *upload) WriteAt(p []byte, off int64) (int, error) {
	u.mu.Lock()
	defer u.mu.Unlock()
	if off < 0 || off+int64(len(p)) > guest.MaxFiles {
		return 0, guest.ErrFull
	}
	if need := int(off) + len(p); need > len(u.data) {
		u.data = append(u.data, make([]byte, need-len(u.data))...)
	}
	return copy(u.data[off:], p), nil
}

// Close puts the file in place.
func (u *upload) Close() error {
	u.mu.Lock()
	defer u.mu.Unlock()
	return u.f.alter(func(g *guest.Guest) error { return g.Write(u.name, string(u.data)) })
}

func (f *files) Filecmd(r *sftp.Request) error {
	name := path.Clean(r.Filepath)
	switch r.Method {
	case "Mkdir":
		return f.alter(func(g *guest.Guest) error { return g.Mkdir(name) })
	case "Remove", "Rmdir":
		return f.alter(func(g *guest.Guest) error {
			if !g.Remove(name) {
				return os.ErrNotExist
			}
			return nil
		})
	case "Rename", "PosixRename":
		return f.alter(func(g *guest.Guest) error { return g.Rename(name, path.Clean(r.Target)) })
	case "Setstat":
		return nil
	}
	return sftp.ErrSSHFxOpUnsupported
}

func (f *files) Filelist(r *sftp.Request) (sftp.ListerAt, error) {
	g, err := f.look()
	if err != nil {
		return nil, err
	}
	name := path.Clean(r.Filepath)
	i, err := g.Stat(name)
	if err != nil {
		return nil, os.ErrNotExist
	}
	list := lister{i}
	if r.Method == "List" {
		list = nil
		for _, n := range g.List(name) {
			i, err := g.Stat(path.Join(name, n))
			if err != nil {
				return nil, fmt.Errorf("%s: %w", n, err)
			}
			list = append(list, i)
		}
	}
	return list, nil
}

type lister []os.FileInfo

func (l lister) ListAt(p []os.FileInfo, off int64) (int, error) {
	if off >= int64(len(l)) {
		return 0, io.EOF
	}
	n := copy(p, l[off:])
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}
