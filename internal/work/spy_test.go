package work

import (
	"context"
	"errors"
	"io"
	"path/filepath"
	"time"

	"ironbark/internal/change"
	"ironbark/internal/driver"
	"ironbark/internal/driver/sim"
	"ironbark/internal/flow"
	"ironbark/internal/ledger"
	"ironbark/internal/ledger/sqlite"
	"ironbark/internal/site"
)

var errKilled = errors.New("killed")

// spy is between a site and both its sides. It calls after each write that was done, of
// the ledger or of the driver, and fails every write after the one at which it is killed,
// as if the process were gone.
type spy struct {
	after func()
	kill  int // after so many writes; negative: never
	steps int
}

func (s *spy) write(do func() error) error {
	if s.kill >= 0 && s.steps >= s.kill {
		return errKilled
	}
	if err := do(); err != nil {
		return err
	}
	s.after()
	s.steps++
	return nil
}

// between returns a site on the same two sides as another, with the spy between.
func (s *spy) between(dir string, d driver.Driver, clock driver.Clock) *site.Site {
	return site.New(&spyLedger{sqlite.New(filepath.Join(dir, StateDir), sqlite.Options{}), s}, &spyDriver{d, s}, clock)
}

// simSite returns the site of a folder on the stand-in cloud, and the stand-in cloud.
func simSite(dir string, clock driver.Clock, f sim.Faults) (*site.Site, *sim.Site) {
	state := filepath.Join(dir, StateDir)
	d := sim.New(state, clock, f)
	return site.New(sqlite.New(state, sqlite.Options{}), d, clock), d
}

type spyLedger struct {
	ledger.Ledger
	spy *spy
}

func (l *spyLedger) Write(ctx context.Context, d ledger.Decision) (r ledger.Receipt, err error) {
	err = l.spy.write(func() (err error) {
		r, err = l.Ledger.Write(ctx, d)
		return err
	})
	return r, err
}

type spyDriver struct {
	driver.Driver
	spy *spy
}

func (d *spyDriver) Apply(ctx context.Context, c change.Change, r io.Reader) (t change.Resource, err error) {
	err = d.spy.write(func() (err error) {
		t, err = d.Driver.Apply(ctx, c, r)
		return err
	})
	return t, err
}

func (d *spyDriver) Install(ctx context.Context, p *flow.Plan, mark string) error {
	return d.spy.write(func() error { return d.Driver.Install(ctx, p, mark) })
}

func (d *spyDriver) Pass(ctx context.Context, p driver.Passage) error {
	return d.spy.write(func() error { return d.Driver.Pass(ctx, p) })
}

func (d *spyDriver) Shut(ctx context.Context, at time.Time, ids ...int64) error {
	return d.spy.write(func() error { return d.Driver.Shut(ctx, at, ids...) })
}
