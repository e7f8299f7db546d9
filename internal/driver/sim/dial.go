package sim

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	mathrand "math/rand/v2"
	"net"
	"net/netip"
	"os"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/bcrypt"
	"golang.org/x/crypto/ssh"
	"golang.org/x/sys/unix"
	"golang.org/x/term"

	"ironbark/internal/driver"
	"ironbark/internal/driver/sim/guest"
	"ironbark/internal/flow"
	"ironbark/internal/sshkey"
)

// Dial begins a TCP session from an address. The packet walker decides whether
// it comes about, and what answers is a real server inside the machine.
func (s *Site) Dial(ctx context.Context, from netip.Addr, to netip.AddrPort) (net.Conn, error) {
	p := driver.Packet{Source: from, Target: to.Addr(), Service: flow.TCPPort(to.Port())}
	fates, err := s.Probe(ctx, p)
	if err != nil {
		return nil, err
	}
	if bastion, open := gatewayOf(fates); open {
		return s.callGateway(ctx, p, bastion)
	}
	in, service, err := s.answering(ctx, fates, to)
	if err != nil {
		return nil, err
	}
	near, far, err := pair()
	if err != nil {
		return nil, err
	}
	leave := s.enter(driver.Session{Machine: in.resource.Name, From: from, To: to.Addr(), Service: service, Since: s.clock.Now().UTC()})
	ctx, cancel := context.WithCancel(context.WithoutCancel(ctx)) // whoever calls sees the session end
	s.watch(ctx, p, in.resource.Name, func() {
		cancel() // what runs inside the machine for it ends, too
		_ = far.Close()
	})
	go func() {
		defer leave()
		defer cancel()
		defer far.Close()
		s.listener(in, service)(ctx, far)
	}()
	return near, nil
}

// answering picks one of the machines that a packet gets to and that listen, each as likely.
func (s *Site) answering(ctx context.Context, fates []driver.ProbeResult, to netip.AddrPort) (in *machineState, service flow.Service, err error) {
	err = &driver.UnreachableError{To: to, Reason: fates[0].Reason}
	if fates = s.takingPart(ctx, fates, to); len(fates) == 0 {
		return nil, 0, &driver.UnreachableError{To: to, Reason: "draining"}
	}
	for _, i := range mathrand.Perm(len(fates)) {
		if !fates[i].Open || fates[i].Machine == "" {
			continue
		}
		one, failed := s.look(ctx, fates[i].Machine)
		if failed != nil {
			return nil, 0, failed
		}
		arrives, failed := flow.ParseServiceRuns([]string{fates[i].Arrives})
		if failed != nil || arrives.IsEmpty() {
			return nil, 0, errors.Join(failed, errors.New("the tables do not tell what arrives"))
		}
		now := s.clock.Now()
		m := s.at(one.power, now)
		if up(m, now) && listening(one.guest.Listens()).ContainsAll(arrives) {
			return one, arrives.Runs()[0].Lo, nil
		}
		err = &driver.RefusedError{To: to, Machine: one.resource.Name, State: m.State}
	}
	return nil, 0, err
}

// pair returns two ends that are joined. They hold what is on its way, as a
// network does: in SSH both sides speak first.
func pair() (near, far net.Conn, err error) {
	fds, err := unix.Socketpair(unix.AF_UNIX, unix.SOCK_STREAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return nil, nil, err
	}
	var ends [2]net.Conn
	for i, fd := range fds {
		f := os.NewFile(uintptr(fd), "session")
		c, err := net.FileConn(f)
		if err = errors.Join(err, f.Close()); err != nil {
			return nil, nil, err
		}
		ends[i] = c
	}
	return ends[0], ends[1], nil
}

// HostKey returns the public key of a machine's SSH server, as the site knows it.
func (s *Site) HostKey(ctx context.Context, machine string) (string, error) {
	in, err := s.look(ctx, machine)
	if err != nil {
		return "", err
	}
	signer, err := s.hostKey(ctx, in)
	if err != nil {
		return "", err
	}
	return string(ssh.MarshalAuthorizedKey(signer.PublicKey())), nil
}

func (s *Site) hostKey(ctx context.Context, in *machineState) (ssh.Signer, error) {
	if len(in.power.Host) != ed25519.SeedSize {
		in.power.Host = make([]byte, ed25519.SeedSize)
		if _, err := rand.Read(in.power.Host); err != nil {
			return nil, err
		}
		if err := s.keepHost(ctx, in); err != nil {
			return nil, err
		}
	}
	return ssh.NewSignerFromKey(ed25519.NewKeyFromSeed(in.power.Host))
}

// server is one SSH connection to a machine.
type server struct {
	session
}

func (sv *server) serve(ctx context.Context, c net.Conn) error {
	host, err := sv.s.hostKey(ctx, sv.machine)
	if err != nil {
		return err
	}
	config := &ssh.ServerConfig{
		PublicKeyCallback: func(meta ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
			if meta.User() != guest.User || !sshkey.Among(sv.machine.power.Key, string(ssh.MarshalAuthorizedKey(key))) {
				return nil, errors.New("no such key")
			}
			return &ssh.Permissions{}, nil
		},
	}
	if sv.machine.resource.Spec.Password && sv.machine.power.Hash != "" {
		config.PasswordCallback = func(meta ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
			if meta.User() != guest.User || bcrypt.CompareHashAndPassword([]byte(sv.machine.power.Hash), password) != nil {
				return nil, errors.New("wrong password")
			}
			return &ssh.Permissions{}, nil
		}
	}
	config.AddHostKey(host)
	conn, channels, requests, err := ssh.NewServerConn(c, config)
	if err != nil {
		return err
	}
	sv.user = conn.User()
	go ssh.DiscardRequests(requests)
	for ch := range channels {
		if ch.ChannelType() != "session" {
			if err := ch.Reject(ssh.UnknownChannelType, "sessions only"); err != nil {
				return err
			}
			continue
		}
		channel, requests, err := ch.Accept()
		if err != nil {
			return err
		}
		go sv.channel(ctx, channel, requests)
	}
	return nil
}

// channel serves one session (RFC 4254, section 6): a shell, a command, or files.
func (sv *server) channel(ctx context.Context, ch ssh.Channel, requests <-chan *ssh.Request) {
	for req := range requests {
		var payload struct{ Text string }
		ok := true
		switch req.Type {
		case "pty-req", "env", "window-change":
		case "exec", "subsystem":
			ok = ssh.Unmarshal(req.Payload, &payload) == nil && (req.Type == "exec" || payload.Text == "sftp")
		case "shell":
		default:
			ok = false
		}
		if req.WantReply && req.Reply(ok, nil) != nil {
			return
		}
		if !ok {
			continue
		}
		switch req.Type {
		case "exec":
			one := sv.session
			exit(ch, one.run(ctx, payload.Text, ch, ch))
			return
		case "shell":
			one := sv.session // channels of one connection each have a terminal of their own
			one.t = term.NewTerminal(ch, "")
			one.shell(ctx)
			exit(ch, 0)
			return
		case "subsystem":
			fs := &files{ctx: ctx, s: sv.s, machine: sv.machine.resource.Name}
			rs := sftp.NewRequestServer(ch, sftp.Handlers{FileGet: fs, FilePut: fs, FileCmd: fs, FileList: fs})
			_ = rs.Serve()
			exit(ch, 0)
			return
		}
	}
}

func exit(ch ssh.Channel, status int) {
	_, _ = ch.SendRequest("exit-status", false, ssh.Marshal(struct{ Status uint32 }{uint32(status)}))
	_ = ch.Close()
}
