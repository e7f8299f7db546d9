package work

import (
	"context"

	"ironbark/internal/site"
)

// Power starts, stops or restarts a machine. Where the answer is lost the site is
// asked how the machine is doing, so that it is not restarted twice.
func (w *Work) Power(ctx context.Context, machine string, act site.Power) (m site.Machine, err error) {
	err = answered(func() (err error) {
		m, err = w.Site.Power(ctx, w.Person, machine, act)
		return err
	}, func() (bool, error) {
		report, err := w.Site.Report(ctx)
		if err != nil {
			return false, err
		}
		m = report.Machines[machine]
		return !m.State.Settled() || act.Do == site.Stop && m.State == site.Stopped, nil
	})
	return m, err
}
