package work

import (
	"context"
	"path/filepath"
	"time"

	"ironbark/internal/driver"
	"ironbark/internal/flow"
	"ironbark/internal/ledger"
	"ironbark/internal/ledger/sqlite"
	"ironbark/internal/site"
)

// turns has several people work on one site at once, a step at a time: each waits for its turn
// before it looks at the place, takes a lock or writes anything. So who comes when is chosen, and
// a run that went wrong can be run again.
type turns struct {
	waits chan int // who has come to its next step, or, as -who-1, to its end
	go_   []chan struct{}
}

// run runs people until all have come to their end. choose picks one of those that wait; after
// is called between two steps.
func (t *turns) run(people []func(step func()), choose func(list []int) int, after func()) {
	t.waits, t.go_ = make(chan int), make([]chan struct{}, len(people))
	var waiting []int
	for i, person := range people {
		t.go_[i] = make(chan struct{})
		step := func() {
			t.waits <- i
			<-t.go_[i]
		}
		go func() {
			step()
			person(step)
			t.waits <- -i - 1
		}()
		waiting = append(waiting, <-t.waits)
	}
	for len(waiting) > 0 {
		at := choose(waiting)
		who := waiting[at]
		waiting = append(waiting[:at:at], waiting[at+1:]...)
		t.go_[who] <- struct{}{}
		if next := <-t.waits; next >= 0 {
			waiting = append(waiting, next)
		}
		after()
	}
}

// steppedSite returns a site that calls step before each step, and what closes its ledger.
func steppedSite(dir string, d driver.Driver, clock driver.Clock, step func()) (*site.Site, func() error) {
	record := sqlite.New(filepath.Join(dir, StateDir), sqlite.Options{})
	return site.New(&steppedLedger{record, step}, &steppedDriver{d, step}, clock), record.Close
}

type steppedLedger struct {
	ledger.Ledger
	step func()
}

func (l *steppedLedger) Write(ctx context.Context, d ledger.Decision) (ledger.Receipt, error) {
	l.step()
	return l.Ledger.Write(ctx, d)
}

func (l *steppedLedger) Fence(ctx context.Context) (int64, error) {
	l.step()
	return l.Ledger.Fence(ctx)
}

func (l *steppedLedger) TryLock(ctx context.Context, which ledger.Lock) (func() error, error) {
	l.step()
	return l.Ledger.TryLock(ctx, which)
}

// Lock lets others go on while it waits.
func (l *steppedLedger) Lock(ctx context.Context, which ledger.Lock) (func() error, error) {
	for {
		if release, err := l.TryLock(ctx, which); release != nil || err != nil {
			return release, err
		}
	}
}

type steppedDriver struct {
	driver.Driver
	step func()
}

func (d *steppedDriver) Observe(ctx context.Context, s driver.Scope) (*driver.Observation, error) {
	d.step()
	return d.Driver.Observe(ctx, s)
}

func (d *steppedDriver) Mark(ctx context.Context) (string, error) {
	d.step()
	return d.Driver.Mark(ctx)
}

func (d *steppedDriver) Install(ctx context.Context, p *flow.Plan, mark string) error {
	d.step()
	return d.Driver.Install(ctx, p, mark)
}

func (d *steppedDriver) Pass(ctx context.Context, p driver.Passage) error {
	d.step()
	return d.Driver.Pass(ctx, p)
}

func (d *steppedDriver) Shut(ctx context.Context, at time.Time, ids ...int64) error {
	d.step()
	return d.Driver.Shut(ctx, at, ids...)
}
