// Package memory is a driver whose place is in memory, for tests: the least that a
// driver can be. Its machines are there at once, and it judges packets as the analysis
// does. It keeps no record of what others do to it.
package memory

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"iter"
	"maps"
	"net"
	"net/netip"
	"slices"
	"sync"
	"time"

	"ironbark/internal/change"
	"ironbark/internal/cost"
	"ironbark/internal/driver"
	"ironbark/internal/exposure"
	"ironbark/internal/flow"
	"ironbark/internal/flow/span"
)

// Place is a place in memory; each Driver of it is like a process that uses it.
type Place struct {
	clock     driver.Clock
	catalogue cost.Catalogue

	mu        sync.Mutex
	mark      int
	identity  driver.Identity
	resources map[string]change.Resource
	off       map[string]time.Time // machines that are switched off, since when
	hashes    map[string]string
	plan      *flow.Plan
	passing   map[int64]driver.Passage
	shut      map[int64]time.Time
	addresses int
}

// New returns an empty place that offers what a catalogue says.
func New(clock driver.Clock, catalogue cost.Catalogue) *Place {
	plan, err := flow.FromRows(nil)
	if err != nil {
		panic("memory: an empty plan: " + err.Error())
	}
	return &Place{
		clock: clock, catalogue: catalogue, plan: plan, resources: map[string]change.Resource{}, off: map[string]time.Time{}, hashes: map[string]string{},
		passing: map[int64]driver.Passage{}, shut: map[int64]time.Time{},
	}
}

var _ driver.Driver = (*Place)(nil)

// Catalogue returns what the place offers.
func (p *Place) Catalogue() cost.Catalogue { return p.catalogue }

// ClientAddrs returns the one address that everybody comes from.
func (p *Place) ClientAddrs(context.Context) ([]netip.Addr, error) {
	return []netip.Addr{netip.MustParseAddr("198.51.100.7")}, nil
}

// Close does nothing.
func (p *Place) Close() error { return nil }

// change does something that others see.
func (p *Place) change(do func() error) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	err := do()
	if err == nil {
		p.mark++
	}
	return err
}

// Mark tells how often anything was changed.
func (p *Place) Mark(context.Context) (string, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return fmt.Sprint(p.mark), nil
}

// Observe tells all, whatever the scope.
func (p *Place) Observe(_ context.Context, scope driver.Scope) (*driver.Observation, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	o := &driver.Observation{
		Mark: fmt.Sprint(p.mark), Identity: p.identity, Machines: map[string]driver.Machine{}, Keys: map[string]string{}, Plan: p.installed(scope), Shut: maps.Clone(p.shut),
	}
	maps.DeleteFunc(o.Shut, func(id int64, _ time.Time) bool { return !slices.Contains(scope.Openings, id) })
	for _, known := range []iter.Seq[int64]{maps.Keys(p.shut), maps.Keys(p.passing)} {
		for id := range known {
			o.Highest = max(o.Highest, id)
		}
	}
	for _, id := range slices.Sorted(maps.Keys(p.resources)) {
		t := p.resources[id]
		o.Resources = append(o.Resources, t)
		if t.Kind == change.Machine {
			o.Machines[t.Name] = p.machine(t)
			for _, name := range t.Spec.Keys() {
				o.Keys[t.Name] += p.resources["key "+name].Spec.Public + "\n"
			}
		}
	}
	return o, nil
}

// installed is the plan with its openings.
func (p *Place) installed(scope driver.Scope) *flow.Plan {
	var rules []flow.Rule
	for _, id := range slices.Sorted(maps.Keys(p.passing)) {
		if scope.Some && !slices.Contains(scope.Openings, id) {
			continue
		}
		rules = append(rules, p.passing[id].Rules(p.plan)...)
	}
	return p.plan.With(rules...)
}

func (p *Place) machine(t change.Resource) driver.Machine {
	m := driver.Machine{State: driver.Running, Locked: t.Spec.Password && p.hashes[t.Name] == ""}
	if since, off := p.off[t.Name]; off {
		m.State, m.Since, m.Ready = driver.Stopped, since, since
		return m
	}
	m.Listens = flow.ServicesAt(flow.TCPPort(22))
	return m
}

// Apply makes, alters or removes a thing.
func (p *Place) Apply(_ context.Context, c change.Change, content io.Reader) (t change.Resource, err error) {
	t = c.Resource
	if content != nil {
		h := sha256.New()
		if _, err := io.Copy(h, content); err != nil {
			return t, err
		}
		t.Spec.Digest = hex.EncodeToString(h.Sum(nil))
	}
	return t, p.change(func() error {
		if c.Verb == change.Remove {
			delete(p.resources, t.ID())
			delete(p.hashes, t.Name)
			return nil
		}
		t.Given = p.resources[t.ID()].Given
		if t.Spec.Auto4 && !t.Given.Addr4.IsValid() {
			p.addresses++
			t.Given.Addr4 = netip.AddrFrom4([4]byte{203, 0, 113, byte(9 + p.addresses)})
		}
		if t.Kind == change.Machine && !t.Spec.Password {
			delete(p.hashes, t.Name)
		}
		p.resources[t.ID()] = t
		return nil
	})
}

// Install puts a plan in place of the one before.
func (p *Place) Install(_ context.Context, plan *flow.Plan, mark string) error {
	return p.change(func() error {
		if mark != fmt.Sprint(p.mark) {
			return driver.ErrMoved
		}
		var err error
		p.plan, err = flow.FromRows(plan.WithoutOpenings(func(int64) bool { return true }).Rows())
		return err
	})
}

// Pass lets an opening pass.
func (p *Place) Pass(_ context.Context, one driver.Passage) error {
	return p.change(func() error {
		if _, was := p.shut[one.ID]; was {
			return driver.ErrShut
		}
		p.passing[one.ID] = one
		return nil
	})
}

// Shut ends openings for good.
func (p *Place) Shut(_ context.Context, at time.Time, ids ...int64) error {
	return p.change(func() error {
		for _, id := range ids {
			if _, was := p.shut[id]; !was {
				p.shut[id] = at
			}
			delete(p.passing, id)
		}
		return nil
	})
}

// Keep keeps the identity.
func (p *Place) Keep(_ context.Context, id driver.Identity) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.identity = id
	return nil
}

// AcceptClock does nothing: the clock of a place in memory does not go back.
func (p *Place) AcceptClock(context.Context) error { return nil }

// Probe judges a packet as the analysis does.
func (p *Place) Probe(_ context.Context, packet driver.Packet) (list []driver.ProbeResult, err error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	plan := p.installed(driver.Everything)
	view := exposure.NewView(plan, p.clock.Now())
	for _, part := range view.Ask(flow.ServicesAt(packet.Service), span.One(flow.PointOf(packet.Source)), exposure.Target{Machine: -1, Address: packet.Target}) {
		r := driver.ProbeResult{Open: part.Open, Reason: string(part.Reason), By: part.Origin.Sentence}
		if part.Machine >= 0 {
			r.Machine = plan.Machines[part.Machine].Name
		}
		list = append(list, r)
	}
	return list, nil
}

func (p *Place) find(machine string) (change.Resource, error) {
	t, ok := p.resources["machine "+machine]
	if !ok {
		return t, &driver.NoMachineError{Name: machine}
	}
	return t, nil
}

// Power switches a machine on or off at once.
func (p *Place) Power(_ context.Context, machine string, act driver.Power) (m driver.Machine, happened string, err error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	t, err := p.find(machine)
	if err != nil {
		return m, "", err
	}
	_, off := p.off[machine]
	switch {
	case act.Do == driver.Stop && !off:
		p.off[machine] = p.clock.Now()
	case act.Do != driver.Stop:
		delete(p.off, machine)
	}
	m = p.machine(t)
	m.Forced = act.Do != driver.Start && !off && act.Grace == 0
	return m, "", nil
}

// SetPasswordHash keeps a hash.
func (p *Place) SetPasswordHash(_ context.Context, machine, hash string) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	_, err := p.find(machine)
	p.hashes[machine] = hash
	return err
}

// Boot returns a line.
func (p *Place) Boot(_ context.Context, machine string) (driver.Boot, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	_, err := p.find(machine)
	return driver.Boot{Log: "machine " + machine + " is up\n"}, err
}

// Console opens a line that says one thing.
func (p *Place) Console(_ context.Context, machine string, by driver.ConsoleBy) (io.ReadWriteCloser, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	_, err := p.find(machine)
	opens := func(id int64) bool { return p.passing[id].OpensConsole(machine, p.clock.Now()) }
	if err == nil && !by.Emergency && !slices.ContainsFunc(by.Openings, opens) {
		err = driver.ConsoleClosed(machine)
	}
	if err != nil {
		return nil, err
	}
	return &line{Buffer: bytes.NewBufferString("machine " + machine + "\n")}, nil
}

type line struct{ *bytes.Buffer }

func (l *line) Close() error { return nil }

// HostKey returns a made-up key.
func (p *Place) HostKey(_ context.Context, machine string) (string, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	_, err := p.find(machine)
	return "ssh-ed25519 " + machine, err
}

// Dial begins a session with what says no more than that it speaks SSH. It ends with
// what let it in.
func (p *Place) Dial(ctx context.Context, from netip.Addr, to netip.AddrPort) (net.Conn, error) {
	packet := driver.Packet{Source: from, Target: to.Addr(), Service: flow.TCPPort(to.Port())}
	lets := func() (r driver.ProbeResult, up bool) {
		list, _ := p.Probe(ctx, packet)
		i := slices.IndexFunc(list, func(r driver.ProbeResult) bool { return r.Open })
		if i < 0 {
			return list[0], false
		}
		p.mu.Lock()
		defer p.mu.Unlock()
		_, off := p.off[list[i].Machine]
		return list[i], !off
	}
	r, up := lets()
	switch {
	case !r.Open:
		return nil, &driver.UnreachableError{To: to, Reason: r.Reason}
	case !up:
		return nil, &driver.RefusedError{To: to, Machine: r.Machine, State: driver.Stopped}
	}
	near, far := net.Pipe()
	go func() {
		defer far.Close()
		_, _ = io.WriteString(far, "SSH-2.0-memory\r\n")
		for r.Open && up {
			time.Sleep(100 * time.Millisecond)
			r, up = lets()
		}
	}()
	return near, nil
}
