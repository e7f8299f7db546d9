package site_test

import (
	"context"
	"io"
	"time"

	"ironbark/internal/change"
	"ironbark/internal/driver"
	"ironbark/internal/flow"
	"ironbark/internal/ledger"
)

// killer lets so many writes of both sides through, and dies before the next: after that
// nothing is done any more.
type killer struct {
	after int
	dead  bool
}

func (k *killer) write(do func() error) error {
	if k.after == 0 {
		k.dead = true
	}
	if k.dead {
		return errKilled
	}
	k.after--
	return do()
}

type killedLedger struct {
	ledger.Ledger
	k *killer
}

func (l *killedLedger) Write(ctx context.Context, d ledger.Decision) (r ledger.Receipt, err error) {
	err = l.k.write(func() (err error) {
		r, err = l.Ledger.Write(ctx, d)
		return err
	})
	return r, err
}

type killedDriver struct {
	driver.Driver
	k *killer
}

func (d *killedDriver) Apply(ctx context.Context, c change.Change, r io.Reader) (t change.Resource, err error) {
	err = d.k.write(func() (err error) {
		t, err = d.Driver.Apply(ctx, c, r)
		return err
	})
	return t, err
}

func (d *killedDriver) Install(ctx context.Context, p *flow.Plan, mark string) error {
	return d.k.write(func() error { return d.Driver.Install(ctx, p, mark) })
}

func (d *killedDriver) Pass(ctx context.Context, p driver.Passage) error {
	return d.k.write(func() error { return d.Driver.Pass(ctx, p) })
}

func (d *killedDriver) Shut(ctx context.Context, at time.Time, ids ...int64) error {
	return d.k.write(func() error { return d.Driver.Shut(ctx, at, ids...) })
}

func (d *killedDriver) Keep(ctx context.Context, id driver.Identity) error {
	return d.k.write(func() error { return d.Driver.Keep(ctx, id) })
}
