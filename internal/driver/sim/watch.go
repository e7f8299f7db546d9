package sim

import (
	"context"
	"database/sql"
	"maps"
	"slices"
	"sync"
	"time"

	"ironbark/internal/driver"
	"ironbark/internal/flow"
	"ironbark/internal/store"
)

// watchEvery is how often a session is judged again. It ends within a second of
// what let it in, whoever ended that, in whichever process.
const watchEvery = 200 * time.Millisecond

// whileItMay asks again and again, in real time, whether something may go on, until ctx ends, and calls
// end once it may not.
func whileItMay(ctx context.Context, may func(context.Context) bool, end func()) {
	tick := time.NewTicker(watchEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			if !may(ctx) && ctx.Err() == nil {
				end()
				return
			}
		}
	}
}

// watched is a session that is judged again and again.
type watched struct {
	packet  driver.Packet
	machine string // that it leads to; "" for a gateway
	end     func()
}

// watcher judges the sessions that this process carries, all of them together: the tables are read again
// only when something was written.
type watcher struct {
	mu       sync.Mutex
	sessions map[*watched]bool
	running  bool
}

// watch judges a session again and again, in real time, until ctx ends, and calls end once it may not go
// on. On doubt it may not.
func (s *Site) watch(ctx context.Context, p driver.Packet, machine string, end func()) {
	one := &watched{p, machine, end}
	s.watching.mu.Lock()
	defer s.watching.mu.Unlock()
	if s.watching.sessions == nil {
		s.watching.sessions = map[*watched]bool{}
	}
	s.watching.sessions[one] = true
	context.AfterFunc(ctx, func() {
		s.watching.mu.Lock()
		defer s.watching.mu.Unlock()
		delete(s.watching.sessions, one)
	})
	if !s.watching.running {
		s.watching.running = true
		go s.lookAgain()
	}
}

// lookAgain judges all sessions until none is left.
func (s *Site) lookAgain() {
	var now judged
	tick := time.NewTicker(watchEvery)
	defer tick.Stop()
	for range tick.C {
		s.watching.mu.Lock()
		list := slices.Collect(maps.Keys(s.watching.sessions))
		if s.watching.running = len(list) > 0; !s.watching.running {
			s.watching.mu.Unlock()
			return
		}
		s.watching.mu.Unlock()
		err := now.read(context.Background(), s)
		for _, one := range list {
			if err == nil && now.passes(s, one) {
				continue
			}
			s.watching.mu.Lock()
			goesOn := s.watching.sessions[one]
			delete(s.watching.sessions, one)
			s.watching.mu.Unlock()
			if goesOn {
				one.end()
			}
		}
	}
}

// judged is what sessions are judged by.
type judged struct {
	stamp  string
	walker *Walker
	meta   meta
	up     map[string]bool // machines that are not stopped, as far as they were asked for
}

// read reads it, if anything was written since.
func (j *judged) read(ctx context.Context, s *Site) error {
	stamp, err := s.stamp(ctx)
	if err != nil || stamp == j.stamp && j.walker != nil {
		return err
	}
	j.walker, j.meta, err = s.walker(ctx)
	j.stamp, j.up = stamp, map[string]bool{}
	return err
}

// passes tells whether packets still get from a client to a machine that is up, or to a gateway.
func (j *judged) passes(s *Site, one *watched) bool {
	fates := j.walker.at(j.meta, s.clock.Now(), one.packet)
	if one.machine == "" {
		_, open := gatewayOf(fates)
		return open
	}
	up, known := j.up[one.machine]
	if !known {
		in, err := s.look(context.Background(), one.machine)
		up = err == nil && in.power.Stop.IsZero()
		j.up[one.machine] = up
	}
	return up && slices.ContainsFunc(fates, func(f driver.ProbeResult) bool { return f.Open && f.Machine == one.machine })
}

// stamp changes whenever anybody wrote to the state, in this process or another.
func (s *Site) stamp(ctx context.Context) (stamp string, err error) {
	db, err := s.open(ctx, false)
	if err != nil {
		return "", err
	}
	err = db.Update(ctx, func(tx *sql.Tx) error {
		return tx.QueryRowContext(ctx, `SELECT (SELECT body FROM meta) || (SELECT group_concat(life) FROM machines)`).Scan(&stamp)
	})
	return stamp, err
}

// walker reads the installed tables.
func (s *Site) walker(ctx context.Context) (w *Walker, m meta, err error) {
	var rows []flow.Row
	err = s.read(ctx, func(tx *sql.Tx) (err error) {
		if err := store.ReadMeta(ctx, tx, &m); err != nil {
			return err
		}
		rows, err = readTables(ctx, tx, ``)
		return err
	})
	if err != nil {
		return nil, m, err
	}
	w, err = NewWalker(rows)
	return w, m, err
}

// at walks a packet by the site's clock. While the computer's clock is behind it,
// openings let nothing pass.
func (w *Walker) at(m meta, clock time.Time, p driver.Packet) []driver.ProbeResult {
	now, behind := m.now(clock)
	if behind > 0 {
		shut := *w
		shut.rules = slices.DeleteFunc(slices.Clone(w.rules), func(r row) bool { return r.Kind == "opening" })
		w = &shut
	}
	return w.Walk(p, now)
}
