package sqlite

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sys/unix"

	"ironbark/internal/ledger"
)

// TryLock takes a lock on a file (flock(2)), which the kernel gives back when the
// process ends.
func (l *Ledger) TryLock(_ context.Context, which ledger.Lock) (release func() error, err error) {
	if err := MakeDir(l.dir); err != nil {
		return nil, err
	}
	f, err := os.OpenFile(filepath.Join(l.dir, string(which)), os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, err
	}
	if err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		if errors.Is(err, unix.EWOULDBLOCK) {
			err = nil
		}
		return nil, errors.Join(err, f.Close())
	}
	return f.Close, nil
}

// lockEvery is how often a lock that somebody else has is tried again.
const lockEvery = 5 * time.Millisecond

// Lock waits until the lock is to be had.
func (l *Ledger) Lock(ctx context.Context, which ledger.Lock) (func() error, error) {
	for {
		release, err := l.TryLock(ctx, which)
		if release != nil || err != nil {
			return release, err
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(lockEvery):
		}
	}
}

// reserveSize is how much of the disk is held back, so that closing works where
// nothing else does any more.
const reserveSize = 4 << 20

func (l *Ledger) reservePath() string { return filepath.Join(l.dir, "reserve") }

// reserve holds a piece of the disk back, where there is plenty of room.
func (l *Ledger) reserve() error {
	if _, err := os.Stat(l.reservePath()); err == nil {
		return nil
	}
	var fs unix.Statfs_t
	if err := unix.Statfs(l.dir, &fs); err != nil || fs.Bavail*uint64(fs.Bsize) < 4*reserveSize {
		return err
	}
	f, err := os.OpenFile(l.reservePath(), os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
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
		return os.Remove(l.reservePath())
	}
	return nil
}

// FreeReserve frees the reserve where the disk is full: even a reader needs a little
// room, and whoever is to close must be able to look.
func (l *Ledger) FreeReserve() bool {
	var fs unix.Statfs_t
	if err := unix.Statfs(l.dir, &fs); err != nil || fs.Bavail*uint64(fs.Bsize) >= reserveSize/4 {
		return false
	}
	return os.Remove(l.reservePath()) == nil
}
