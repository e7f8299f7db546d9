package qemu

import "context"

// Full reports whether a machine is paused since it could not write to its disk: the host's is
// full. Nothing of what it wrote is lost, and it can go on.
func Full(ctx context.Context, run string) (bool, error) {
	full := false
	err := with(ctx, run, func(m *Monitor) error {
		var s struct {
			Status string `json:"status"`
		}
		err := m.Do(ctx, "query-status", nil, &s)
		full = s.Status == "io-error"
		return err
	})
	return full, err
}

// GoOn lets a machine that is paused go on: what it could not write it writes again.
func GoOn(ctx context.Context, run string) error {
	return with(ctx, run, func(m *Monitor) error { return m.Do(ctx, "cont", nil, nil) })
}
