package work

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"

	"golang.org/x/crypto/ssh"

	"ironbark/internal/change"
	"ironbark/internal/driver"
	"ironbark/internal/exposure"
	"ironbark/internal/flow"
	"ironbark/internal/sentence"
)

// AccessPath is how a person gets into a machine: from which of their addresses, to
// which one, with which key.
type AccessPath struct {
	Machine string
	User    string
	From    netip.Addr
	To      netip.AddrPort
	KeyPath string // of the private half; "" where the machine has no key, or an SSH agent has it alone
	key     key
	HostKey string // of the machine's SSH server, as the site knows it
	Answer  *Answer
	Part    exposure.Part // that lets the person in
}

// NoAccessError says that there is no way in now. The answer tells why.
type NoAccessError struct {
	Machine string
	Answer  *Answer
}

// Error tells the machine.
func (c *NoAccessError) Error() string {
	return fmt.Sprintf("there is no open way to ssh on %s now", c.Machine)
}

// ExitStatus is that of the answer no.
func (c *NoAccessError) ExitStatus() int { return 3 }

// BadKeyError says that a key cannot be used for a machine, and what to do.
type BadKeyError struct {
	Why  string
	Mend string
	Err  error
}

// Error tells why.
func (b *BadKeyError) Error() string { return b.Why }

// ExitStatus is that of files that cannot be used.
func (b *BadKeyError) ExitStatus() int { return 2 }

// Hint tells what to do.
func (b *BadKeyError) Hint() string { return b.Mend }

// Unwrap returns the cause, which may be a *sshkey.Loose.
func (b *BadKeyError) Unwrap() error { return b.Err }

var sshAsk = func(machine string) sentence.Ask {
	s, err := sentence.ParseArgs([]string{"why", "ssh", "from", "me", "to", machine}, fileTime)
	if err != nil {
		panic("work: " + err.Error())
	}
	return s.(sentence.Ask)
}

// AccessPath finds the way into a machine and checks the key for it, before anything is
// tried. keyPath is a private half; "" for that of the machine's key. The errors
// are *driver.NoMachineError, *NoAccessError and *BadKeyError.
func (w *Work) AccessPath(ctx context.Context, machine, keyPath string) (*AccessPath, error) {
	st, t, err := w.machine(ctx, machine)
	if err != nil {
		return nil, err
	}
	way := &AccessPath{Machine: machine, User: "keeper"}
	if image, ok := w.Site.Catalogue().Image(t.Spec.Image); ok && image.User != "" {
		way.User = image.User
	}
	ask := sshAsk(machine)
	if ask.From, _, err = w.fromMe(st, ask.From, flow.NewResolver(st.Estate, st.Plan).Group(ask.To)); err != nil {
		return nil, err
	}
	if way.Answer, err = w.Ask(st, ask, w.Clock.Now()); err != nil {
		return nil, err
	}
	callers, err := w.Caller.Addrs(st.Estate)
	if err != nil {
		return nil, err
	}
	if !way.find(callers) {
		return nil, &NoAccessError{machine, way.Answer}
	}
	if way.HostKey, err = w.Site.HostKey(ctx, machine); err != nil {
		return nil, err
	}
	way.key, err = w.keyFor(st, t, keyPath)
	way.KeyPath = way.key.path
	return way, err
}

// CheckKey checks the key for a machine, as Way does, and nothing else. The
// errors are *driver.NoMachineError and *BadKeyError.
func (w *Work) CheckKey(ctx context.Context, machine, keyPath string) error {
	st, t, err := w.machine(ctx, machine)
	if err != nil {
		return err
	}
	_, err = w.keyFor(st, t, keyPath)
	return err
}

// machine finds a machine of the site. The error is a *driver.NoMachineError.
func (w *Work) machine(ctx context.Context, name string) (*State, change.Resource, error) {
	st, err := w.Installed(ctx)
	if err != nil {
		return nil, change.Resource{}, err
	}
	var known []string
	for _, t := range st.Report.Resources {
		switch {
		case t.Kind != change.Machine:
		case t.Name == name:
			return st, t, nil
		default:
			known = append(known, t.Name)
		}
	}
	near, _ := sentence.Nearest(name, known)
	return nil, change.Resource{}, &driver.NoMachineError{Name: name, Near: near}
}

// find takes the first door that is open for one of the caller's addresses.
func (w *AccessPath) find(callers []netip.Addr) bool {
	ssh := flow.TCPPort(22)
	for _, from := range callers {
		for _, call := range w.Answer.Doors(from) {
			called := call.Calls(ssh)
			target := exposure.Target{Machine: -1, Address: call.Address}
			for _, p := range w.Answer.View.Ask(flow.ServicesAt(called), flow.AddrsAt(from), target) {
				if p.Open && p.Machine >= 0 && w.Answer.State.Plan.Machines[p.Machine].Name == w.Machine {
					w.From, w.To, w.Part = from, netip.AddrPortFrom(call.Address, called.Port()), p
					return true
				}
			}
		}
	}
	return false
}

// Secret asks for a machine's password, where there is no key.
type Secret func() (string, error)

// Connect makes an SSH connection along a way. The host's key must be the one
// that the site knows.
func (w *Work) Connect(ctx context.Context, way *AccessPath, secret Secret) (*ssh.Client, error) {
	conn, err := w.Site.Dial(ctx, way.From, way.To)
	if err != nil {
		return nil, err
	}
	host, _, _, _, err := ssh.ParseAuthorizedKey([]byte(way.HostKey))
	if err != nil {
		return nil, errors.Join(fmt.Errorf("the site's record of the host key of %s: %w", way.Machine, err), conn.Close())
	}
	config := &ssh.ClientConfig{User: way.User, HostKeyCallback: ssh.FixedHostKey(host), Auth: []ssh.AuthMethod{ssh.PasswordCallback(secret)}}
	if way.key.path != "" || way.key.agent {
		signer, done, err := w.signer(way.key)
		if err != nil {
			return nil, errors.Join(err, conn.Close())
		}
		defer done()
		config.Auth = []ssh.AuthMethod{ssh.PublicKeys(signer)}
	}
	c, channels, requests, err := ssh.NewClientConn(conn, way.To.String(), config)
	if err != nil {
		return nil, errors.Join(fmt.Errorf("%s did not let %s in: %w", way.Machine, way.User, err), ignoreClosed(conn.Close()))
	}
	return ssh.NewClient(c, channels, requests), nil
}

func ignoreClosed(err error) error {
	if errors.Is(err, net.ErrClosed) {
		return nil
	}
	return err
}
