package sim

import (
	"context"
	"database/sql"
	"errors"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"

	"ironbark/internal/store"
)

// reserveSize is how much of the disk is held back, so that closing works where
// nothing else does any more.
const reserveSize = 4 << 20

func (s *Site) reservePath() string { return filepath.Join(s.dir, "reserve") }

// reserve holds a piece of the disk back, where there is plenty of room.
func (s *Site) reserve() error {
	var fs unix.Statfs_t
	if err := unix.Statfs(s.dir, &fs); err != nil || fs.Bavail*uint64(fs.Bsize) < 4*reserveSize {
		return err
	}
	f, err := os.OpenFile(s.reservePath(), os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		if errors.Is(err, os.ErrExist) {
			return nil
		}
		return err
	}
	err = unix.Fallocate(int(f.Fd()), 0, 0, reserveSize)
	if errors.Is(err, unix.EOPNOTSUPP) {
		_, err = f.Write(make([]byte, reserveSize))
	}
	if err = errors.Join(err, f.Close()); err != nil { // a full disk keeps nobody from reading on
		return os.Remove(s.reservePath())
	}
	return nil
}

// ForClosing frees the reserve where the disk is full: even a reader needs a little
// room, and whoever is to close must be able to look.
func (s *Site) ForClosing() {
	var fs unix.Statfs_t
	if err := unix.Statfs(s.dir, &fs); err == nil && fs.Bavail*uint64(fs.Bsize) < reserveSize/4 {
		_ = os.Remove(s.reservePath())
	}
}

// closing is step for what only closes. On a full disk it frees the reserve and does
// it once more.
func (s *Site) closing(ctx context.Context, f func(ctx context.Context, tx *sql.Tx) (note, error)) error {
	err := s.step(ctx, f)
	if _, full := errors.AsType[*store.Unwritable](err); !full {
		return err
	}
	if os.Remove(s.reservePath()) != nil {
		return err
	}
	return s.step(ctx, f)
}
