package work

import (
	"context"
	"errors"
	"fmt"
	"net"

	"golang.org/x/crypto/ssh"

	"ironbark/internal/change"
	"ironbark/internal/driver"
	"ironbark/internal/fault"
	"ironbark/internal/flow"
	"ironbark/internal/sentence"
)

// AccessPath is how a person gets into a machine: the way to its SSH server, as whom, and with which key.
type AccessPath struct {
	AccessRoute
	User    string
	KeyPath string // of the private half; "" where the machine has no key, or an SSH agent has it alone
	key     key
	HostKey string // of the machine's SSH server, as the site knows it
}

// NoAccessError says that there is no way in now. The answer tells why.
type NoAccessError struct {
	Machine string
	Service flow.Service
	Answer  *Answer
}

// Error tells the machine.
func (c *NoAccessError) Error() string {
	return fmt.Sprintf("there is no open way to %s on %s now", flow.NameService(c.Service, flow.Namings(nil, c.Answer.State.Estate)), c.Machine)
}

// Kind is that of the answer no.
func (c *NoAccessError) Kind() fault.Kind { return fault.Unavailable }

// BadKeyError says that a key cannot be used for a machine, and what to do.
type BadKeyError struct {
	Why string
	Try fault.Advice
	Err error
}

// Error tells why.
func (b *BadKeyError) Error() string { return b.Why }

// Kind is that of files that cannot be used.
func (b *BadKeyError) Kind() fault.Kind { return fault.Invalid }

// Advice says what to do.
func (b *BadKeyError) Advice() fault.Advice { return b.Try }

// Unwrap returns the cause, which may be a *sshkey.LooseError.
func (b *BadKeyError) Unwrap() error { return b.Err }

// AccessPath finds the way into a machine and checks the keys for it, before anything is
// tried. The errors are *driver.NoMachineError, *NoAccessError and *BadKeyError.
func (w *Work) AccessPath(ctx context.Context, machine string, keys Keys) (*AccessPath, error) {
	st, t, err := w.machine(ctx, machine)
	if err != nil {
		return nil, err
	}
	path, err := w.access(ctx, st, t, keys.Own)
	if err != nil {
		return nil, err
	}
	path.key, err = w.keyFor(st, t, keys.Machine)
	path.KeyPath = path.key.path
	return path, err
}

// access is AccessPath without the machine's key.
func (w *Work) access(ctx context.Context, st *State, t change.Resource, own string) (*AccessPath, error) {
	path := &AccessPath{User: "keeper"}
	if image, ok := w.Site.Catalogue().Image(t.Spec.Image); ok && image.User != "" {
		path.User = image.User
	}
	way, err := w.accessRouteTo(st, t.Name, flow.TCPPort(22), own)
	if err != nil {
		return nil, err
	}
	path.AccessRoute = *way
	path.HostKey, err = w.Site.HostKey(ctx, t.Name)
	return path, err
}

// CheckKey checks the key for a machine, as AccessPath does, and nothing else. The
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

// Secret asks for a machine's password, where there is no key.
type Secret func() (string, error)

// Connect makes an SSH connection along a way. The hosts' keys must be those that the site knows.
func (w *Work) Connect(ctx context.Context, way *AccessPath, secret Secret) (*ssh.Client, error) {
	conn, err := w.Dial(ctx, &way.AccessRoute)
	if err != nil {
		return nil, err
	}
	auth := []ssh.AuthMethod{ssh.PasswordCallback(secret)}
	if way.key.path != "" || way.key.agent {
		signer, done, err := w.signer(way.key)
		if err != nil {
			return nil, errors.Join(err, conn.Close())
		}
		defer done()
		auth = []ssh.AuthMethod{ssh.PublicKeys(signer)}
	}
	client, err := handshake(conn, way.Machine, way.HostKey, way.User, auth)
	if err != nil {
		return nil, errors.Join(err, ignoreClosed(conn.Close()))
	}
	return client, nil
}

// handshake begins SSH over a connection, and takes a host's key only if it is the one that is known.
func handshake(conn net.Conn, host, hostKey, user string, auth []ssh.AuthMethod) (*ssh.Client, error) {
	known, _, _, _, err := ssh.ParseAuthorizedKey([]byte(hostKey))
	if err != nil {
		return nil, fmt.Errorf("the record of the host key of %s: %w", host, err)
	}
	c, channels, requests, err := ssh.NewClientConn(conn, host, &ssh.ClientConfig{User: user, HostKeyCallback: ssh.FixedHostKey(known), Auth: auth})
	if err != nil {
		return nil, fmt.Errorf("%s did not let %s in: %w", host, user, err)
	}
	return ssh.NewClient(c, channels, requests), nil
}

func ignoreClosed(err error) error {
	if errors.Is(err, net.ErrClosed) {
		return nil
	}
	return err
}
