package work

import (
	"context"
	"errors"

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
