package work

import (
	"context"
	"errors"
	"fmt"

	"ironbark/internal/driver"
)

// Power starts, stops or restarts a machine. Where the answer is lost the site is
// asked how the machine is doing, so that it is not restarted twice.
func (w *Work) Power(ctx context.Context, machine string, act driver.Power) (m driver.Machine, err error) {
	m, err = w.Site.Power(ctx, w.Person, machine, act)
	if !errors.Is(err, driver.ErrLost) {
		return m, err
	}
	report, err := w.Site.Report(ctx)
	if err != nil {
		return m, err
	}
	m = report.Machines[machine]
	if !m.State.Settled() || act.Do == driver.Stop && m.State == driver.Stopped {
		return m, nil
	}
	return w.Site.Power(ctx, w.Person, machine, act)
}

// StartInterrupted starts the machines that ended by themselves, or with their host, and returns which. It leaves out those for which may
// is false; a nil may is true of all. It starts the others also where one does not start.
func (w *Work) StartInterrupted(ctx context.Context, may func(machine string) bool) (started []string, err error) {
	report, err := w.Site.Report(ctx)
	if err != nil {
		return nil, err
	}
	for _, name := range report.Interrupted() {
		if may != nil && !may(name) {
			continue
		}
		if _, failed := w.Power(ctx, name, driver.Power{Do: driver.Start}); failed != nil {
			err = errors.Join(err, fmt.Errorf("start %s: %w", name, failed))
			continue
		}
		started = append(started, name)
	}
	return started, err
}
