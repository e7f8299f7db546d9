package sim

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"slices"

	"golang.org/x/sys/unix"

	"ironbark/internal/driver"
)

// sessionsDir has a file for each session, which is locked by the process that carries it. The
// kernel gives the lock back when the process ends, however it ends.
const sessionsDir = "sessions"

// enter keeps that a session goes on until leave is called. Where that cannot be kept it goes on
// all the same.
func (s *Site) enter(one driver.Session) (leave func()) {
	dir := filepath.Join(s.dir, sessionsDir)
	body, err := json.Marshal(one)
	if err != nil || os.MkdirAll(dir, 0o700) != nil {
		return func() {}
	}
	f, err := os.CreateTemp(dir, "")
	if err != nil {
		return func() {}
	}
	leave = func() {
		_ = os.Remove(f.Name())
		_ = f.Close()
	}
	if unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB) != nil {
		leave()
		return func() {}
	}
	_, _ = f.Write(body)
	return leave
}

// Sessions lists the sessions that go on in any process.
func (s *Site) Sessions(context.Context) (list []driver.Session, err error) {
	entries, _ := os.ReadDir(filepath.Join(s.dir, sessionsDir)) // none before the first session
	for _, e := range entries {
		if one, going := goesOn(filepath.Join(s.dir, sessionsDir, e.Name())); going {
			list = append(list, one)
		}
	}
	slices.SortStableFunc(list, func(a, b driver.Session) int { return a.Since.Compare(b.Since) })
	return list, nil
}

// goesOn reads a session's file, and takes it away where its process has died.
func goesOn(path string) (one driver.Session, going bool) {
	f, err := os.Open(path)
	if err != nil {
		return one, false
	}
	defer f.Close()
	if json.NewDecoder(f).Decode(&one) != nil {
		return one, false // it is being written
	}
	if unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB) == nil {
		_ = os.Remove(path)
		return one, false
	}
	return one, true
}
