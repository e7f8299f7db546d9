package sim

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"path"
	"slices"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/bcrypt"
	"golang.org/x/crypto/ssh"
	"golang.org/x/sys/unix"
	"golang.org/x/term"

	"ironbark/internal/flow"
	"ironbark/internal/site"
	"ironbark/internal/site/sim/guest"
)

// Dial begins a TCP session from an address. The packet walker decides whether
// it comes about, and what answers is a real server inside the machine.
func (s *Site) Dial(ctx context.Context, from netip.Addr, to netip.AddrPort) (net.Conn, error) {
	fates, err := s.Probe(ctx, site.Packet{Source: from, Target: to.Addr(), Service: flow.TCPPort(to.Port())})
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(fates, func(f site.Fate) bool { return f.Open && f.Machine != "" })
	if i < 0 {
		return nil, &site.Unreachable{To: to, Reason: fates[0].Reason}
	}
	in, err := s.look(ctx, fates[i].Machine)
	if err != nil {
		return nil, err
	}
	now := s.clock.Now()
	m := s.at(in.life, now)
	if !up(m, now) || !in.guest.Running("ssh") {
		return nil, &site.Refused{To: to, Machine: in.thing.Name, State: m.State}
	}
	near, far, err := pair()
	if err != nil {
		return nil, err
	}
	go func() {
		defer far.Close()
		sv := &server{session: session{s: s, in: in}}
		_ = sv.serve(context.WithoutCancel(ctx), far) // whoever calls sees the session end
	}()
	return near, nil
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

func (s *Site) hostKey(ctx context.Context, in *inner) (ssh.Signer, error) {
	if len(in.life.Host) != ed25519.SeedSize {
		in.life.Host = make([]byte, ed25519.SeedSize)
		if _, err := rand.Read(in.life.Host); err != nil {
			return nil, err
		}
		if err := s.keepHost(ctx, in); err != nil {
			return nil, err
		}
	}
	return ssh.NewSignerFromKey(ed25519.NewKeyFromSeed(in.life.Host))
}

// server is one SSH connection to a machine.
type server struct {
	session
}

func (sv *server) serve(ctx context.Context, c net.Conn) error {
	host, err := sv.s.hostKey(ctx, sv.in)
	if err != nil {
		return err
	}
	config := &ssh.ServerConfig{
		PublicKeyCallback: func(meta ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
			mine, _, _, _, err := ssh.ParseAuthorizedKey([]byte(sv.in.life.Key))
			if err != nil || meta.User() != guest.User || string(mine.Marshal()) != string(key.Marshal()) {
				return nil, errors.New("no such key")
			}
			return &ssh.Permissions{}, nil
		},
	}
	if sv.in.thing.Spec.Secret && sv.in.life.Hash != "" {
		config.PasswordCallback = func(meta ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
			if meta.User() != guest.User || bcrypt.CompareHashAndPassword([]byte(sv.in.life.Hash), password) != nil {
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
			exit(ch, sv.run(ctx, payload.Text, ch, ch))
			return
		case "shell":
			sv.t = term.NewTerminal(ch, "")
			sv.shell(ctx)
			exit(ch, 0)
			return
		case "subsystem":
			fs := &files{g: sv.in.guest}
			rs := sftp.NewRequestServer(ch, sftp.Handlers{FileGet: fs, FilePut: fs, FileCmd: fs, FileList: fs})
			_ = rs.Serve()
			_ = sv.s.keep(ctx, sv.in)
			exit(ch, 0)
			return
		}
	}
}

func exit(ch ssh.Channel, status int) {
	_, _ = ch.SendRequest("exit-status", false, ssh.Marshal(struct{ Status uint32 }{uint32(status)}))
	_ = ch.Close()
}

// files serve a guest's files over SFTP.
type files struct{ g *guest.Guest }

func (f *files) Fileread(r *sftp.Request) (io.ReaderAt, error) {
	text, ok := f.g.Read(path.Clean(r.Filepath))
	if !ok {
		return nil, os.ErrNotExist
	}
	return readerAt(text), nil
}

type readerAt string

func (r readerAt) ReadAt(p []byte, off int64) (int, error) {
	if off >= int64(len(r)) {
		return 0, io.EOF
	}
	n := copy(p, r[off:])
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}

func (f *files) Filewrite(r *sftp.Request) (io.WriterAt, error) {
	name := path.Clean(r.Filepath)
	if err := f.g.Write(name, ""); err != nil {
		return nil, err
	}
	return &writerAt{f.g, name}, nil
}

type writerAt struct {
	g    *guest.Guest
	name string
}

func (w *writerAt) WriteAt(p []byte, off int64) (int, error) {
	text, _ := w.g.Read(w.name)
	data := []byte(text)
	if need := int(off) + len(p); need > len(data) {
		data = append(data, make([]byte, need-len(data))...)
	}
	copy(data[off:], p)
	return len(p), w.g.Write(w.name, string(data))
}

func (f *files) Filecmd(r *sftp.Request) error {
	name := path.Clean(r.Filepath)
	switch r.Method {
	case "Mkdir":
		f.g.Mkdir(name)
	case "Remove", "Rmdir":
		if !f.g.Remove(name) {
			return os.ErrNotExist
		}
	case "Setstat":
	default:
		return sftp.ErrSSHFxOpUnsupported
	}
	return nil
}

func (f *files) Filelist(r *sftp.Request) (sftp.ListerAt, error) {
	name := path.Clean(r.Filepath)
	i, err := f.g.Stat(name)
	if err != nil {
		return nil, os.ErrNotExist
	}
	list := lister{i}
	if r.Method == "List" {
		list = nil
		for _, n := range f.g.List(name) {
			i, err := f.g.Stat(path.Join(name, n))
			if err != nil {
				return nil, fmt.Errorf("%s: %w", n, err)
			}
			list = append(list, i)
		}
	}
	return list, nil
}

type lister []os.FileInfo

func (l lister) ListAt(p []os.FileInfo, off int64) (int, error) {
	if off >= int64(len(l)) {
		return 0, io.EOF
	}
	n := copy(p, l[off:])
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}
