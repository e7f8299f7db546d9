// Package notify tells others of entries of the journal: it sends messages to syslog servers, and hands documents to commands.
//
// What a call returns without an error was delivered: a command ended with exit status 0; over TCP and TLS the other host's kernel acknowledged every byte; a socket
// of this computer took it. Over UDP it was sent, and nobody can tell more (RFC 5426, section 4.1).
package notify

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"ironbark/internal/syslog"
)

// Note is one entry, in each of the forms in which somebody is told of it.
type Note struct {
	Message  syslog.Message
	Document []byte // JSON
}

// Sender tells one recipient of notes, one after the other. It is not safe for concurrent use.
type Sender interface {
	// Send delivers a note, or returns why it may not have been.
	Send(ctx context.Context, n Note) error
	Close() error
}

// mostInDatagram is how long a message in one datagram is at most, in bytes: every receiver should take so much (RFC 5424, section 6.1), and it
// arrives in few fragments.
const mostInDatagram = 2048

// Dial connects to a syslog server: transport is socket, udp, tcp or tls. For tls, authorities are certificates in PEM; none: those that the system trusts. The server's name is the host of the address.
func Dial(ctx context.Context, transport, address string, authorities []byte) (Sender, error) {
	var d net.Dialer
	switch transport {
	case "udp":
		c, err := d.DialContext(ctx, "udp", address)
		return datagrams{c}, err
	case "socket":
		c, err := d.DialContext(ctx, "unixgram", address)
		if errors.Is(err, unix.EPROTOTYPE) {
			c, err = d.DialContext(ctx, "unix", address)
			return &stream{conn: c, raw: c, zeros: true}, err
		}
		return datagrams{c}, err
	case "tcp", "tls":
		c, err := d.DialContext(ctx, "tcp", address)
		if err != nil {
			return nil, err
		}
		if transport == "tcp" {
			return &stream{conn: c, raw: c}, nil
		}
		host, _, err := net.SplitHostPort(address)
		if err != nil {
			return nil, errors.Join(err, c.Close())
		}
		config := &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12}
		if authorities != nil {
			config.RootCAs = x509.NewCertPool()
			if !config.RootCAs.AppendCertsFromPEM(authorities) {
				return nil, errors.Join(errors.New("the file of authorities holds no certificate"), c.Close())
			}
		}
		over := tls.Client(c, config)
		if err := over.HandshakeContext(ctx); err != nil {
			return nil, errors.Join(err, c.Close())
		}
		return &stream{conn: over, raw: c}, nil
	}
	return nil, fmt.Errorf("%s is no transport", transport)
}

// datagrams sends each message in a datagram.
type datagrams struct{ net.Conn }

func (d datagrams) Send(ctx context.Context, n Note) error {
	deadline, _ := ctx.Deadline()
	if err := d.SetDeadline(deadline); err != nil {
		return err
	}
	_, err := d.Write(n.Message.Append(nil, mostInDatagram))
	return err
}

// stream sends messages over a connection.
type stream struct {
	conn, raw net.Conn
	zeros     bool // messages end with a zero byte, as on a socket of this computer, and are not counted
}

func (s *stream) Close() error { return s.conn.Close() }

func (s *stream) Send(ctx context.Context, n Note) error {
	deadline, _ := ctx.Deadline()
	if err := s.conn.SetDeadline(deadline); err != nil {
		return err
	}
	message := n.Message.Append(nil, 0)
	if s.zeros {
		message = append(message, 0)
	} else {
		message = syslog.Framed(message)
	}
	if _, err := s.conn.Write(message); err != nil {
		return err
	}
	return acknowledged(ctx, s.raw)
}

// acknowledged waits until the other host's kernel has all that was written (SIOCOUTQ, tcp(7)).
func acknowledged(ctx context.Context, c net.Conn) error {
	t, ok := c.(*net.TCPConn)
	if !ok {
		return nil
	}
	raw, err := t.SyscallConn()
	if err != nil {
		return err
	}
	for wait := 100 * time.Microsecond; ; wait = min(2*wait, 20*time.Millisecond) {
		left, broken := 0, 0
		var err1, err2 error
		err := raw.Control(func(fd uintptr) {
			left, err1 = unix.IoctlGetInt(int(fd), unix.SIOCOUTQ)
			broken, err2 = unix.GetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_ERROR)
		})
		switch {
		case errors.Join(err, err1, err2) != nil:
			return errors.Join(err, err1, err2)
		case broken != 0:
			return unix.Errno(broken)
		case left == 0:
			return nil
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("it did not acknowledge what was sent: %w", ctx.Err())
		case <-time.After(wait):
		}
	}
}

// Command returns the sender that starts a program for each note, with the document on its standard input. It is killed, with what it started, when the context ends.
func Command(words []string) Sender { return command(words) }

type command []string

func (c command) Close() error { return nil }

// mostSaid is how much of what a command says of its failure is told, in bytes.
const mostSaid = 200

func (c command) Send(ctx context.Context, n Note) error {
	cmd := exec.CommandContext(ctx, c[0], c[1:]...)
	var said bytes.Buffer
	cmd.Stdin, cmd.Stderr, cmd.Dir, cmd.Env = bytes.NewReader(n.Document), &said, "/", append(os.Environ(), "LC_ALL=C.UTF-8")
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	cmd.Cancel = func() error { return unix.Kill(-cmd.Process.Pid, unix.SIGKILL) }
	cmd.WaitDelay = 100 * time.Millisecond
	err := cmd.Run()
	if ctx.Err() != nil {
		return fmt.Errorf("%s did not end in time, and was killed", c[0])
	}
	if text := strings.TrimSpace(said.String()); err != nil && text != "" {
		return fmt.Errorf("%w: %s", err, text[:min(len(text), mostSaid)])
	}
	return err
}
