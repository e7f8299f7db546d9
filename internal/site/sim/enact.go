package sim

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"ironbark/internal/change"
	"ironbark/internal/estate"
	"ironbark/internal/flow"
	"ironbark/internal/opening"
	"ironbark/internal/site"
	"ironbark/internal/store"
)

func absentIsEmpty(err error) error {
	if errors.Is(err, store.ErrAbsent) {
		return nil
	}
	return err
}

// play plays the faults that were asked for, after a step was done.
func (s *Site) play(ctx context.Context) error {
	s.steps++
	if s.faults.Halt > 0 && s.steps >= s.faults.Halt {
		// As a power cut would: nothing of this process runs after it.
		if err := syscall.Kill(os.Getpid(), syscall.SIGKILL); err != nil {
			return err
		}
		select {}
	}
	if s.faults.Slow > 0 {
		return s.clock.Sleep(ctx, s.faults.Slow)
	}
	return nil
}

// enactment holds the lock on .ironbark/enacting, which the kernel gives back
// when the process ends, however it ends.
type enactment struct {
	s      *Site
	person string
	lock   *os.File
}

// Begin takes the lock and marks the site as unfinished.
func (s *Site) Begin(ctx context.Context, person string, revision int64) (_ site.Enactment, err error) {
	if err := s.makeDir(); err != nil {
		return nil, err
	}
	lock, err := os.OpenFile(filepath.Join(s.dir, "enacting"), os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, lock.Close())
		}
	}()
	if err := unix.Flock(int(lock.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		if !errors.Is(err, unix.EWOULDBLOCK) {
			return nil, err
		}
		busy := &site.Busy{}
		if r, err := s.Report(ctx); err == nil {
			busy.Who = r.Unfinished
		}
		return nil, busy
	}
	err = s.step(ctx, func(ctx context.Context, tx *sql.Tx) (note, error) {
		m, err := readMeta(ctx, tx)
		if err != nil {
			return note{}, err
		}
		if m.revision != revision {
			return note{}, site.ErrChanged
		}
		u := site.Unfinished{Person: person, Since: s.clock.Now().UTC()}
		text := "began an enactment"
		if m.unfinished != nil {
			text = "took up the enactment that " + m.unfinished.Person + " began"
		}
		return note{person, "enact", text, record{}}, errors.Join(setMeta(ctx, tx, "unfinished", u), setMeta(ctx, tx, "revision", m.revision+1))
	})
	if err != nil {
		return nil, err
	}
	return &enactment{s: s, person: person, lock: lock}, nil
}

func (e *enactment) Close() error { return e.lock.Close() }

func (e *enactment) Install(ctx context.Context, rows []flow.Row, text string) error {
	return e.s.step(ctx, func(ctx context.Context, tx *sql.Tx) (note, error) {
		d, err := install(ctx, tx, base, rows)
		return note{e.person, "tables", fmt.Sprintf("%s (%d rows out, %d in)", text, len(d.Out), len(d.In)), record{Tables: []delta{d}}}, err
	})
}

func (e *enactment) End(ctx context.Context, why string, ids ...int64) error {
	return e.s.End(ctx, e.person, why, ids...)
}

func (e *enactment) Narrow(ctx context.Context, o opening.Opening, rows []flow.Row) error {
	return e.s.step(ctx, func(ctx context.Context, tx *sql.Tx) (note, error) {
		d, err := install(ctx, tx, o.ID, rows)
		if err != nil {
			return note{}, err
		}
		return note{e.person, "narrow", fmt.Sprintf("opening %d: now for %v", o.ID, o.Machines), opened(o, d)}, putOpening(ctx, tx, o)
	})
}

func (e *enactment) Do(ctx context.Context, c change.Change) error {
	return e.s.step(ctx, func(ctx context.Context, tx *sql.Tx) (note, error) {
		n := note{e.person, string(c.Verb), fmt.Sprintf("%s %s: %s", c.Thing.Kind, c.Thing.Name, c.Thing.Describe()), record{Spec: c.Thing.Spec}}
		if c.Verb == change.Remove {
			_, err := tx.ExecContext(ctx, `DELETE FROM things WHERE kind = ? AND name = ?`, c.Thing.Kind, c.Thing.Name)
			return n, err
		}
		return n, e.s.put(ctx, tx, c)
	})
}

// put makes or alters a thing. It may be there already, from an enactment that
// was broken off: then nothing is made twice.
func (s *Site) put(ctx context.Context, tx *sql.Tx, c change.Change) error {
	t := c.Thing
	given, err := s.address(ctx, tx, t)
	if err != nil {
		return err
	}
	spec, err := json.Marshal(t.Spec)
	if err != nil {
		return err
	}
	gave, err := json.Marshal(given)
	if err != nil {
		return err
	}
	now := s.clock.Now().UTC().Format(time.RFC3339Nano)
	booted := `things.booted`
	if c.Restart {
		booted = `excluded.booted`
	}
	_, err = tx.ExecContext(ctx, `INSERT INTO things VALUES (?, ?, ?, ?, ?, ?)
		ON CONFLICT DO UPDATE SET spec = excluded.spec, given = excluded.given, booted = `+booted,
		t.Kind, t.Name, string(spec), string(gave), now, now)
	return err
}

// address gives a thing the public addresses that it asks for: those that it has
// already, then the lowest free ones of the pool.
func (s *Site) address(ctx context.Context, tx *sql.Tx, t change.Thing) (flow.Public, error) {
	if !t.Spec.Auto4 && !t.Spec.Auto6 && len(t.Spec.Fixed) == 0 {
		return flow.Public{}, nil
	}
	taken := map[netip.Addr]string{}
	var has flow.Public
	err := each(ctx, tx, `SELECT kind, name, spec, given FROM things`, func(scan func(...any) error) error {
		var o change.Thing
		var spec, given string
		if err := scan(&o.Kind, &o.Name, &spec, &given); err != nil {
			return err
		}
		if err := errors.Join(json.Unmarshal([]byte(spec), &o.Spec), json.Unmarshal([]byte(given), &o.Given)); err != nil {
			return err
		}
		if o.ID() == t.ID() {
			has = o.Given
			return nil
		}
		for _, a := range append([]netip.Addr{o.Given.Addr4, o.Given.Addr6}, o.Spec.Fixed...) {
			taken[a] = o.ID()
		}
		return nil
	})
	if err != nil {
		return flow.Public{}, err
	}
	if len(t.Spec.Fixed) > 0 {
		return s.fixed(t.Spec.Fixed, taken)
	}
	var public flow.Public
	if t.Spec.Auto4 {
		if public.Addr4, err = s.free(true, has.Addr4, taken); err != nil {
			return flow.Public{}, err
		}
	}
	if t.Spec.Auto6 {
		public.Addr6, err = s.free(false, has.Addr6, taken)
	}
	return public, err
}

// fixed gives the very addresses that were asked for.
func (s *Site) fixed(want []netip.Addr, taken map[netip.Addr]string) (public flow.Public, err error) {
	for _, a := range want {
		lo, hi := s.pool(a.Is4())
		if a.Less(lo) || hi.Less(a) {
			return flow.Public{}, fmt.Errorf("%s is not one of this site's public addresses (%s-%s)", a, lo, hi)
		}
		if holder, held := taken[a]; held {
			return flow.Public{}, fmt.Errorf("%s is held by %s", a, holder)
		}
		if a.Is4() {
			public.Addr4 = a
		} else {
			public.Addr6 = a
		}
	}
	return public, nil
}

// free gives the address that was held before, or the lowest free one of the pool.
func (s *Site) free(v4 bool, old netip.Addr, taken map[netip.Addr]string) (netip.Addr, error) {
	lo, hi := s.pool(v4)
	if old.IsValid() && taken[old] == "" {
		return old, nil
	}
	for a := lo; !hi.Less(a); a = a.Next() {
		if _, held := taken[a]; !held {
			return a, nil
		}
	}
	return netip.Addr{}, fmt.Errorf("the site has no public address left: all of %s-%s are held", lo, hi)
}

func (e *enactment) Finish(ctx context.Context, rows []flow.Row, files []estate.File, text string) error {
	return e.s.step(ctx, func(ctx context.Context, tx *sql.Tx) (note, error) {
		d, err := install(ctx, tx, base, rows)
		if err != nil {
			return note{}, err
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM files`); err != nil {
			return note{}, err
		}
		for _, f := range files {
			if _, err := tx.ExecContext(ctx, `INSERT INTO files VALUES (?, ?)`, f.Name, f.Data); err != nil {
				return note{}, err
			}
		}
		m, err := readMeta(ctx, tx)
		if err != nil {
			return note{}, err
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM meta WHERE key = 'unfinished'`); err != nil {
			return note{}, err
		}
		contents := map[string]string{}
		for _, f := range files {
			contents[f.Name] = string(f.Data)
		}
		return note{e.person, "enact", text, record{Tables: []delta{d}, Files: contents}}, setMeta(ctx, tx, "revision", m.revision+1)
	})
}
