package sim

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"ironbark/internal/change"
	"ironbark/internal/driver"
	"ironbark/internal/driver/sim/guest"
	"ironbark/internal/flow"
	"ironbark/internal/sentence"
	"ironbark/internal/store"
)

// life is how a machine is doing, as moments from which its state at any other
// moment follows: nothing runs in between.
//
//	booted ──build──▶ starting ──start, setup──▶ running ──listen──▶ listens
//	stopped ──took──▶ stopped for good
type powerState struct {
	Booted  time.Time            `json:"booted"` // when its last start began
	Fresh   bool                 `json:"fresh,omitempty"`
	Setup   time.Duration        `json:"setup,omitempty"` // how long its first boot took at that start
	Stop    time.Time            `json:"stop,omitzero"`   // when its stop began; zero: it is on
	Took    time.Duration        `json:"took,omitempty"`  // how long the stop took
	Forced  bool                 `json:"hard,omitempty"`
	Stuck   bool                 `json:"stuck,omitempty"`
	SetUp   bool                 `json:"setUp,omitempty"` // its first boot was run
	Keyed   bool                 `json:"keyed,omitempty"` // the key is inside: Key is what is inside now
	Key     string               `json:"key,omitempty"`   // the public key inside it
	Hash    string               `json:"hash,omitempty"`  // of its first user's password
	Host    []byte               `json:"host,omitempty"`  // the seed of its SSH server's key
	Listens []string             `json:"listens,omitempty"`
	Results []driver.SetupResult `json:"results,omitempty"`
}

// millis is a length of the catalogue's, which are in milliseconds.
func (s *Site) millis(n int) time.Duration { return time.Duration(n) * time.Millisecond }

// up reports whether a machine runs and listens.
func up(m driver.Machine, now time.Time) bool {
	return m.State == driver.Running && !now.Before(m.Ready)
}

// at computes the state at a moment, but for what the machine listens on.
func (s *Site) at(l powerState, now time.Time) driver.Machine {
	if !l.Stop.IsZero() {
		end := l.Stop.Add(l.Took)
		m := driver.Machine{State: driver.Stopped, Since: end, Ready: end, Forced: l.Forced}
		if now.Before(end) {
			m.State, m.Since = driver.Stopping, l.Stop
		}
		return m
	}
	build := s.millis(s.cat.Life.Build)
	if !l.Fresh {
		build = 0
	}
	start := build + s.millis(s.cat.Life.Start) + l.Setup
	listen := start + s.millis(s.cat.Life.Listen)
	m := driver.Machine{State: driver.Running, Since: l.Booted.Add(start), Ready: l.Booted.Add(listen), Forced: l.Forced}
	switch age := now.Sub(l.Booted); {
	case age < 0: // a restart stops it first
		m.State, m.Since = driver.Stopping, l.Booted
	case age < build:
		m.State, m.Since = driver.Building, l.Booted
	case age < start:
		m.State, m.Since = driver.Starting, l.Booted.Add(build)
	case l.Stuck:
		m.State, m.Ready = driver.Stuck, m.Since
	}
	for _, r := range l.Results {
		if r.Exit != 0 && m.Failed == "" {
			m.Failed = r.Name
		}
	}
	return m
}

// listening turns the words of what a guest listens on into services.
func listening(words []string) flow.Services {
	var list sentence.Services
	for _, word := range words {
		one, err := sentence.ParseService(word)
		if err != nil {
			panic("sim: a guest listens on what is no service: " + err.Error())
		}
		list.List = append(list.List, one)
	}
	return flow.ServicesOf(shippedNames{}, list)
}

// machines fills an observation with how the machines are doing.
func (s *Site) machines(ctx context.Context, tx *sql.Tx, r *driver.Observation, now time.Time) error {
	resources := map[string]*change.Resource{}
	for i := range r.Resources {
		if t := &r.Resources[i]; t.Kind == change.Machine {
			resources[t.Name] = t
		}
	}
	services := map[string]flow.Services{} // most machines listen on the same
	return store.Each(ctx, tx, `SELECT name, life FROM machines`, func(scan func(...any) error) error {
		var name, text string
		if err := scan(&name, &text); err != nil {
			return err
		}
		t, there := resources[name]
		if !there {
			return nil
		}
		l, err := s.readLife(text, *t)
		if err != nil {
			return err
		}
		m := s.at(l, now)
		if words := strings.Join(l.Listens, " "); up(m, now) {
			if _, known := services[words]; !known {
				services[words] = listening(l.Listens)
			}
			m.Listens = services[words]
		}
		m.Locked = t.Spec.Password && l.Hash == ""
		r.Machines[name], r.Keys[name] = m, l.Key
		return nil
	})
}

// machine is one of them.
func (s *Site) machine(l powerState, t change.Resource, now time.Time) driver.Machine {
	m := s.at(l, now)
	if up(m, now) {
		m.Listens = listening(l.Listens)
	}
	m.Locked = t.Spec.Password && l.Hash == ""
	return m
}

func (s *Site) readLife(text string, t change.Resource) (l powerState, err error) {
	if err := json.Unmarshal([]byte(text), &l); err != nil {
		return l, fmt.Errorf("machine %s: %w", t.Name, err)
	}
	if l.Listens == nil { // from before machines had an inside
		l.Fresh, l.SetUp = true, true
		l.Listens = s.fresh(t).Listens()
	}
	return l, nil
}

// fresh is the inside of a machine that was just made.
func (s *Site) fresh(t change.Resource) *guest.Guest {
	packages, ok := s.cat.Inside[t.Spec.Image]
	if !ok {
		packages = s.cat.Inside[""]
	}
	return guest.New(t.Name, packages)
}

// within is what is in a machine, as the store holds it; "" for a fresh one.
func (s *Site) within(t change.Resource, body string) (*guest.Guest, error) {
	g := s.fresh(t)
	if body != "" {
		g = &guest.Guest{}
		if err := json.Unmarshal([]byte(body), g); err != nil {
			return nil, err
		}
		g.Name = t.Name
	}
	return g, nil
}

// inner is a machine with what is in it.
type machineState struct {
	resource change.Resource
	power    powerState
	guest    *guest.Guest
	log      string
}

// inner reads a machine. The error is a *driver.NoMachineError.
func (s *Site) loadMachine(ctx context.Context, tx *sql.Tx, name string) (*machineState, error) {
	in := &machineState{}
	var err error
	row := tx.QueryRowContext(ctx, `SELECT `+resourceColumns+` FROM resources WHERE kind = 'machine' AND name = ?`, name)
	if in.resource, err = readResource(row.Scan); errors.Is(err, sql.ErrNoRows) {
		return nil, &driver.NoMachineError{Name: name}
	}
	if err != nil {
		return nil, err
	}
	var text, body string
	if err := tx.QueryRowContext(ctx, `SELECT life, guest, log FROM machines WHERE name = ?`, name).Scan(&text, &body, &in.log); err != nil {
		return nil, err
	}
	if in.power, err = s.readLife(text, in.resource); err != nil {
		return nil, err
	}
	if in.guest, err = s.within(in.resource, body); err != nil {
		return nil, err
	}
	if err := in.letIn(); err != nil {
		return nil, err
	}
	if in.guest.Around, err = s.around(ctx, tx, in.resource); err != nil {
		return nil, err
	}
	in.guest.Reach = s.reach(in)
	return in, nil
}

// save writes a machine's life and inside.
func (in *machineState) save(ctx context.Context, tx *sql.Tx) error {
	if err := in.letIn(); err != nil {
		return err
	}
	if in.power.Keyed {
		in.power.Key = in.guest.Files[authorizedKeys]
	}
	in.power.Listens = in.guest.Listens()
	text, err := json.Marshal(in.power)
	if err != nil {
		return err
	}
	body, err := json.Marshal(in.guest)
	if err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, `INSERT INTO machines VALUES (?, ?, ?, ?) ON CONFLICT DO UPDATE SET life = excluded.life, guest = excluded.guest, log = excluded.log`,
		in.resource.Name, string(text), string(body), in.log)
	return err
}

// boot starts a machine at a moment. Its first boot is run where it never was, and
// with setup anew: what came of its scripts is among runs, and a *needsSetupError is
// returned where it is not.
func (s *Site) boot(in *machineState, now time.Time, setup bool, runs setups) error {
	l := &in.power
	l.Booted, l.Stop, l.Took, l.Forced, l.Setup = now.UTC(), time.Time{}, 0, false, 0
	l.Stuck = slices.Contains(s.faults.Stuck, in.resource.Name)
	b := &strings.Builder{}
	stamp := func(after time.Duration, format string, args ...any) {
		fmt.Fprintf(b, "[%8.2f] %s\n", after.Seconds(), fmt.Sprintf(format, args...))
	}
	stamp(0, "machine %s starts, image %s, size %s", in.resource.Name, in.resource.Spec.Image, in.resource.Spec.Size)
	for _, a := range in.resource.InsideWords() {
		stamp(300*time.Millisecond, "network: %s", a)
	}
	for i, v := range in.guest.Around.Volumes {
		stamp(time.Duration(350+10*i)*time.Millisecond, "disk %s is there", v.Device)
	}
	for _, why := range in.guest.Remount() {
		stamp(450*time.Millisecond, "mount: %s", why)
	}
	if l.Stuck {
		stamp(500*time.Millisecond, "mounting /srv failed: the disk does not answer")
		stamp(600*time.Millisecond, "emergency mode: the system waits for somebody at its console")
		in.log = b.String()
		return nil
	}
	if setup || !l.SetUp {
		list, known := runs[in.resource.Name]
		if !known && len(in.resource.Spec.Setup) > 0 {
			return &needsSetupError{in}
		}
		l.Results, l.SetUp = nil, true
		for _, r := range list {
			stamp(600*time.Millisecond+l.Setup, "setup %s begins", r.Name)
			l.Setup += r.Took
			l.Results = append(l.Results, driver.SetupResult{Name: r.Name, At: now.Add(l.Setup).UTC(), Exit: r.Exit, Output: r.Output})
			b.WriteString(r.Output)
			stamp(600*time.Millisecond+l.Setup, "setup %s ended with %d", r.Name, r.Exit)
			if err := in.guest.Apply(r.Delta); err != nil {
				return err
			}
		}
	}
	for _, w := range in.guest.Listens() {
		if w != "ping" {
			stamp(s.millis(s.cat.Life.Start)+l.Setup, "listens on %s", w)
		}
	}
	stamp(s.millis(s.cat.Life.Start)+l.Setup, "machine %s is up", in.resource.Name)
	in.log = b.String()
	return nil
}

// setups are what the scripts of first boots came to, by machine.
type setups map[string][]guest.Result

// needsSetupError says that a machine's scripts must be run before it can start.
type needsSetupError struct{ in *machineState }

func (n *needsSetupError) Error() string {
	return "the setup of machine " + n.in.resource.Name + " was not run yet"
}

// withSetups does something in which machines may start. Their scripts run outside
// of any transaction, so that nobody waits for them but whoever starts the machine;
// then it is done once more, with what they came to.
func (s *Site) withSetups(ctx context.Context, do func(setups) error) error {
	runs := setups{}
	for {
		err := do(runs)
		need, ok := errors.AsType[*needsSetupError](err)
		if !ok || ctx.Err() != nil {
			return err
		}
		runs[need.in.resource.Name] = s.runSetup(ctx, need.in)
	}
}

// runSetup runs a machine's scripts in their order, until one fails.
func (s *Site) runSetup(ctx context.Context, in *machineState) (list []guest.Result) {
	for _, part := range in.resource.Spec.Setup {
		script := part.Script
		if r, ok := s.cat.Offer.Recipe(part.Name); ok && script == "" {
			script = r.Script
		}
		r := in.guest.Run(ctx, part.Name, script)
		list = append(list, r)
		if r.Exit != 0 {
			break
		}
	}
	return list
}

// Power starts, stops or restarts a machine.
func (s *Site) Power(ctx context.Context, machine string, act driver.Power) (m driver.Machine, happened string, err error) {
	err = s.withSetups(ctx, func(runs setups) error {
		return s.commit(ctx, func(tx *sql.Tx, _ *meta) (err error) {
			m, happened, err = s.power(ctx, tx, machine, act, runs)
			return err
		})
	})
	return m, happened, err
}

func (s *Site) power(ctx context.Context, tx *sql.Tx, machine string, act driver.Power, runs setups) (m driver.Machine, happened string, err error) {
	in, err := s.loadMachine(ctx, tx, machine)
	if err != nil {
		return m, "", err
	}
	now := s.clock.Now()
	state := s.at(in.power, now).State
	switch {
	case act.Do == driver.Start && in.power.Stop.IsZero(), act.Do == driver.Stop && !in.power.Stop.IsZero():
		return s.at(in.power, now), ", which it was already", nil
	case act.Do == driver.Stop:
		s.halt(in, now, state, act.Grace)
	default:
		if act.Do == driver.Restart && in.power.Stop.IsZero() {
			s.halt(in, now, state, act.Grace)
		}
		begin := in.power.Stop.Add(in.power.Took) // after the stop, which may be under way
		if begin.Before(now) {
			begin = now
		}
		forced := in.power.Forced
		in.power.Fresh = false
		if err := s.boot(in, begin, act.Setup, runs); err != nil {
			return m, "", err
		}
		in.power.Forced = forced && act.Do == driver.Restart
		if act.Setup {
			happened = ", its setup runs again"
		}
	}
	if in.power.Forced {
		happened += fmt.Sprintf("; it did not stop within %s and was switched off", act.Grace)
	}
	return s.at(in.power, now), happened, in.save(ctx, tx)
}

// halt stops a machine: cleanly if it is up, and hard after the grace time if it
// does not answer or takes longer.
func (s *Site) halt(in *machineState, now time.Time, state driver.State, grace time.Duration) {
	in.power.Stop, in.power.Took, in.power.Forced = now.UTC(), s.millis(s.cat.Life.Stop), false
	if state != driver.Running || in.power.Took > grace {
		in.power.Took, in.power.Forced = grace, true
	}
}

// SetPasswordHash sets the hash of the password of a machine's first user.
func (s *Site) SetPasswordHash(ctx context.Context, machine, hash string) error {
	return s.commit(ctx, func(tx *sql.Tx, _ *meta) error { return s.setHash(ctx, tx, machine, hash) })
}

func (s *Site) setHash(ctx context.Context, tx *sql.Tx, machine, hash string) error {
	in, err := s.loadMachine(ctx, tx, machine)
	if err != nil || in.power.Hash == hash {
		return err
	}
	in.power.Hash = hash
	return in.save(ctx, tx)
}

// Boot returns a machine's boot log and what its first boot came to.
func (s *Site) Boot(ctx context.Context, machine string) (b driver.Boot, err error) {
	in, err := s.look(ctx, machine)
	if err != nil {
		return b, err
	}
	return driver.Boot{Log: in.log, Setup: in.power.Results}, nil
}

// look reads a machine outside of any step.
func (s *Site) look(ctx context.Context, machine string) (in *machineState, err error) {
	err = s.read(ctx, func(tx *sql.Tx) error {
		in, err = s.loadMachine(ctx, tx, machine)
		return err
	})
	if in == nil && err == nil {
		err = &driver.NoMachineError{Name: machine}
	}
	return in, err
}
