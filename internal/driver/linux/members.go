package linux

import (
	"context"
	"crypto/tls"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"slices"
	"strings"
	"time"

	"ironbark/internal/driver"
	"ironbark/internal/flow"
	"ironbark/internal/store"
)

var _ driver.MemberTester = (*Site)(nil)

// Watched is true: the packet filter tests nobody.
func (s *Site) Watched() bool { return true }

// running reports whether a machine's process runs, whatever the spread.
func (s *Site) running(machine, _ string, _ flow.Service) bool { return s.runs(machine) }

// live tells which machines take part in the spreads of a plan: those that run, but for the ones that are out.
func (s *Site) live(ctx context.Context, tx *sql.Tx, plan *flow.Plan) (Live, error) {
	outs, err := readEjected(ctx, tx)
	if err != nil {
		return nil, err
	}
	out, drained := map[string]bool{}, map[string]bool{}
	name := func(machine, front string, at flow.Service) string {
		return fmt.Sprintf("%s %d %s", front, at, machine)
	}
	for _, o := range outs {
		out[name(o.Machine, o.Front, o.Service)] = true
		drained[name(o.Machine, o.Front, o.Service)] = o.Draining
	}
	for _, d := range plan.Doors { // where nobody is left, those that are out are better than nobody
		all := true
		for _, m := range d.To.Machines {
			all = all && (out[name(plan.Machines[m].Name, d.Front, d.Service)] || !s.runs(plan.Machines[m].Name))
		}
		for _, m := range d.To.Machines {
			if one := name(plan.Machines[m].Name, d.Front, d.Service); all && !drained[one] {
				delete(out, one)
			}
		}
	}
	return func(machine, front string, at flow.Service) bool {
		return !out[name(machine, front, at)] && s.runs(machine)
	}, nil
}

// drainingMark begins the reason of a member that is to be stopped or removed.
const drainingMark = "draining: "

func readEjected(ctx context.Context, tx *sql.Tx) (list []driver.EjectedMember, err error) {
	err = store.Each(ctx, tx, `SELECT front, service, machine, since, why FROM outs ORDER BY front, service, machine`, func(scan func(...any) error) error {
		var o driver.EjectedMember
		var service, since string
		if err := scan(&o.Front, &service, &o.Machine, &since, &o.Why); err != nil {
			return err
		}
		o.Why, o.Draining = strings.CutPrefix(o.Why, drainingMark)
		services, err1 := flow.ParseServiceRuns([]string{service})
		at, err2 := time.Parse(time.RFC3339Nano, since)
		if err := errors.Join(err1, err2); err != nil || services.IsEmpty() {
			return errors.Join(err, fmt.Errorf("a member of the spread of %s that is out cannot be read", o.Front))
		}
		o.Service, o.Since = services.Runs()[0].Lo, at
		list = append(list, o)
		return nil
	})
	return list, err
}

// Ejected are the members that get no connections.
func (s *Site) Ejected(ctx context.Context) (list []driver.EjectedMember, err error) {
	err = s.read(ctx, func(tx *sql.Tx) error {
		list, err = readEjected(ctx, tx)
		return err
	})
	return list, err
}

// SetEjected says which members get no connections. The packet filter is written anew where that is
// something new.
func (s *Site) SetEjected(ctx context.Context, out []driver.EjectedMember) error {
	return s.change(ctx, func(tx *sql.Tx, m *meta) error {
		was, err := readEjected(ctx, tx)
		if err != nil {
			return err
		}
		changed := len(was) != len(out)
		for _, o := range out {
			changed = changed || !slices.ContainsFunc(was, func(w driver.EjectedMember) bool { return o.Same(w) && o.Draining == w.Draining })
		}
		if !changed {
			return nil
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM outs`); err != nil {
			return err
		}
		for _, o := range out {
			if o.Draining {
				o.Why = drainingMark + o.Why
			}
			_, err := tx.ExecContext(ctx, `INSERT INTO outs VALUES (?, ?, ?, ?, ?)`, o.Front, flow.ServiceRuns(flow.ServicesAt(o.Service))[0], o.Machine, o.Since.UTC().Format(time.RFC3339Nano), o.Why)
			if err != nil {
				return err
			}
		}
		if !exists(s.prefix) {
			return nil
		}
		return s.rewrite(ctx, tx, m)
	})
}

// testTime is how long a member may take to pass its test.
const testTime = 2 * time.Second

// TestMember tests a member from the router, as its clients' connections come.
func (s *Site) TestMember(ctx context.Context, m driver.Member) error {
	ctx, cancel := context.WithTimeout(ctx, testTime)
	defer cancel()
	if !exists(s.prefix) {
		return errors.New("the site is not on this host")
	}
	dial := func(ctx context.Context, _, _ string) (c net.Conn, err error) {
		err = within(s.prefix, func() (err error) {
			c, err = (&net.Dialer{}).DialContext(ctx, "tcp", m.At.String())
			return err
		})
		return c, err
	}
	if m.Path == "" {
		c, err := dial(ctx, "", "")
		if err != nil {
			return plainly(err)
		}
		return c.Close()
	}
	scheme := "http"
	if m.At.Port() == 443 || m.At.Port() == 8443 {
		scheme = "https"
	}
	// Whose certificate it is does not matter: nothing is told to it.
	client := &http.Client{
		Transport: &http.Transport{
			DialContext: dial, DisableKeepAlives: true, MaxResponseHeaderBytes: 64 << 10, TLSClientConfig: &tls.Config{InsecureSkipVerify: true},
		},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }, // it leads elsewhere
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, scheme+"://"+m.At.String()+m.Path, nil)
	if err != nil {
		return err
	}
	answer, err := client.Do(request)
	if err != nil {
		return plainly(err)
	}
	defer answer.Body.Close()
	_, _ = io.CopyN(io.Discard, answer.Body, 64<<10)
	if answer.StatusCode < 200 || answer.StatusCode > 399 {
		return fmt.Errorf("it answers %s with %d", m.Path, answer.StatusCode)
	}
	return nil
}

// plainly tells why nobody answered.
func plainly(err error) error {
	if timeout, ok := errors.AsType[net.Error](err); ok && timeout.Timeout() || errors.Is(err, context.DeadlineExceeded) {
		return fmt.Errorf("it does not answer within %s", testTime)
	}
	if op, ok := errors.AsType[*net.OpError](err); ok {
		return op.Err
	}
	return err
}
