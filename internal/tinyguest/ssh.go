package tinyguest

import (
	"context"
	"errors"
	"io"
	"net"
	"os"
	"strings"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/bcrypt"
	"golang.org/x/crypto/ssh"
	"golang.org/x/term"
)

// serveSSH serves SSH connections. What lets people in is read anew for each login.
func (m *machine) serveSSH(l net.Listener) {
	host, err := ssh.NewSignerFromKey(m.seed.HostKey)
	if err != nil {
		say("no SSH: %v", err)
		return
	}
	always := ssh.ServerConfig{PublicKeyCallback: m.byKey, ServerVersion: "SSH-2.0-tiny"}
	always.AddHostKey(host)
	for {
		c, err := l.Accept()
		if err != nil {
			return
		}
		config := always
		if m.takesPasswords() {
			config.PasswordCallback = m.byPassword
		}
		go m.connection(c, &config)
	}
}

func (m *machine) byKey(meta ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
	<-m.there
	text, err := os.ReadFile(m.keysPath())
	for err == nil && len(text) > 0 && meta.User() == m.seed.User {
		var one ssh.PublicKey
		one, _, _, text, err = ssh.ParseAuthorizedKey(text)
		if err == nil && string(one.Marshal()) == string(key.Marshal()) {
			return &ssh.Permissions{}, nil
		}
	}
	return nil, errors.New("no such key")
}

func (m *machine) takesPasswords() bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.passwords
}

func (m *machine) byPassword(meta ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
	if !m.knows(meta.User(), password) {
		return nil, errors.New("wrong password")
	}
	return &ssh.Permissions{}, nil
}

func (m *machine) knows(user string, password []byte) bool {
	m.mu.Lock()
	hash := m.hash
	m.mu.Unlock()
	return user == m.seed.User && hash != "" && bcrypt.CompareHashAndPassword([]byte(hash), password) == nil
}

func (m *machine) connection(c net.Conn, config *ssh.ServerConfig) {
	defer c.Close()
	conn, channels, requests, err := ssh.NewServerConn(c, config)
	if err != nil {
		return
	}
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	go func() {
		for req := range requests {
			if req.WantReply {
				_ = req.Reply(req.Type == "keepalive@openssh.com", nil)
			}
		}
	}()
	for ch := range channels {
		if ch.ChannelType() != "session" {
			_ = ch.Reject(ssh.UnknownChannelType, "sessions only")
			continue
		}
		channel, requests, err := ch.Accept()
		if err != nil {
			break
		}
		go m.session(ctx, channel, requests)
	}
	_ = conn.Close()
}

// session serves one session (RFC 4254, section 6): a shell, a command, or files.
func (m *machine) session(ctx context.Context, ch ssh.Channel, requests <-chan *ssh.Request) {
	terminal := false
	for req := range requests {
		var payload struct{ Text string }
		var do func() int
		ok := true
		switch req.Type {
		case "pty-req":
			terminal = true
		case "env", "window-change":
		case "exec":
			ok = ssh.Unmarshal(req.Payload, &payload) == nil
			do = func() int {
				return (&shell{in: ch, out: ch, err: ch.Stderr(), dir: m.home(), ctx: ctx}).run("sh", payload.Text)
			}
		case "shell":
			do = func() int {
				if terminal {
					return m.interactive(ctx, term.NewTerminal(ch, ""))
				}
				text, _ := io.ReadAll(io.LimitReader(ch, 1<<20))
				return (&shell{in: strings.NewReader(""), out: ch, err: ch.Stderr(), dir: m.home(), ctx: ctx}).run("sh", string(text))
			}
		case "subsystem":
			ok = ssh.Unmarshal(req.Payload, &payload) == nil && payload.Text == "sftp"
			do = func() int {
				server, err := sftp.NewServer(ch, sftp.WithServerWorkingDirectory(m.home()))
				if err == nil {
					err = server.Serve()
				}
				if err != nil && !errors.Is(err, io.EOF) {
					return 1
				}
				return 0
			}
		default:
			ok = false
		}
		if req.WantReply && req.Reply(ok, nil) != nil {
			return
		}
		if ok && do != nil {
			go func() {
				for req := range requests { // a window may change its size; the rest is refused
					if req.WantReply {
						_ = req.Reply(false, nil)
					}
				}
			}()
			status := do()
			_, _ = ch.SendRequest("exit-status", false, ssh.Marshal(struct{ Status uint32 }{uint32(status)}))
			_ = ch.Close()
			return
		}
	}
}

// interactive reads command lines from a terminal until exit.
func (m *machine) interactive(ctx context.Context, t *term.Terminal) int {
	t.SetPrompt(m.seed.User + "@" + m.seed.Host + ":~$ ")
	s := &shell{in: strings.NewReader(""), out: t, dir: m.home(), ctx: ctx}
	status := 0
	for {
		text, err := t.ReadLine()
		if ctx.Err() != nil { // what was typed is not theirs any more who are logged in
			return status
		}
		if text != "" {
			status = s.run("sh", text)
		}
		if err != nil || s.over() {
			return status
		}
	}
}
