package gateway_test

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"ironbark/internal/bastion"
	"ironbark/internal/change"
	"ironbark/internal/estate"
	"ironbark/internal/flow"
	"ironbark/internal/gateway"
)

// person is somebody with a key.
type person struct {
	name    string
	signer  ssh.Signer
	private ed25519.PrivateKey
}

func newPerson(t testing.TB, name string) person {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	s, err := ssh.NewSignerFromKey(private)
	require.NoError(t, err)
	return person{name, s, private}
}

func (p person) public() string {
	return strings.TrimSpace(string(ssh.MarshalAuthorizedKey(p.signer.PublicKey())))
}

// certified is somebody with a certificate.
func (p person) certified(t testing.TB, by person, alter func(*ssh.Certificate)) person {
	c := &ssh.Certificate{
		Key: p.signer.PublicKey(), CertType: ssh.UserCert, ValidPrincipals: []string{p.name}, ValidAfter: uint64(time.Now().Add(-time.Hour).Unix()), ValidBefore: uint64(time.Now().Add(time.Hour).Unix()),
		Permissions: ssh.Permissions{Extensions: map[string]string{"permit-port-forwarding": ""}},
	}
	if alter != nil {
		alter(c)
	}
	require.NoError(t, c.SignCert(rand.Reader, by.signer))
	s, err := ssh.NewCertSigner(c, p.signer)
	require.NoError(t, err)
	return person{p.name, s, p.private}
}

// place is an estate whose machine answers what it is sent.
type place struct {
	t      testing.TB
	target net.Listener

	mu      sync.Mutex
	policy  *bastion.Policy
	unread  error
	full    error
	ahead   time.Duration // of the site's clock, by which this computer's is behind
	entries []string
	number  int64
}

// accepting listens, and answers each connection.
func accepting(t testing.TB, answer func(net.Conn)) net.Listener {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				answer(c)
			}()
		}
	}()
	return l
}

// newPlace makes a place; %s of nouns are public keys.
func newPlace(t testing.TB, nouns string, rules ...string) *place {
	l := accepting(t, func(c net.Conn) { _, _ = io.Copy(c, c) })
	p := &place{t: t, target: l}
	p.enact(nouns, rules...)
	return p
}

func (p *place) enact(nouns string, rules ...string) {
	e, err := estate.ReadFiles([]estate.File{{Name: estate.FileName, Data: []byte(nouns)}, {Name: estate.RulesName, Data: []byte(strings.Join(rules, "\n") + "\n")}})
	require.NoError(p.t, err)
	wanted, err := change.Desired(e, nil, nil, func(string) int { return 8 })
	require.NoError(p.t, err)
	policy, ok := bastion.Compile(e, flow.Compile(e, change.Assigned(change.Planned(nil, wanted))), "beacon")
	require.True(p.t, ok)
	p.mu.Lock()
	defer p.mu.Unlock()
	p.policy = policy
}

func (p *place) break_(unread, full error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.unread, p.full = unread, full
}

func (p *place) Policy(context.Context) (*bastion.Policy, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.policy, p.unread
}

func (p *place) Now() time.Time {
	p.mu.Lock()
	defer p.mu.Unlock()
	return time.Now().Add(p.ahead)
}

func (p *place) Dial(ctx context.Context, _ netip.Addr, to netip.AddrPort) (net.Conn, error) {
	if to.Port() == 2222 {
		return nil, errors.New("connection refused")
	}
	var d net.Dialer
	return d.DialContext(ctx, "tcp", p.target.Addr().String())
}

func (p *place) write(format string, args ...any) (int64, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.full != nil {
		return 0, p.full
	}
	p.number++
	p.entries = append(p.entries, fmt.Sprintf(format, args...))
	return p.number, nil
}

func (p *place) Began(_ context.Context, s gateway.Session) (int64, error) {
	return p.write("%s from %s to %s:%d", s.Person, s.Client, s.Machine, s.Port)
}

func (p *place) Ended(_ context.Context, s gateway.Session, reason string) error {
	_, err := p.write("end of %d: %s, %d up, %d down", s.Number, reason, s.Up, s.Down)
	return err
}

func (p *place) Failures(_ context.Context, text string) error {
	_, err := p.write("%s", text)
	return err
}

// journal waits until an entry holds some text, and returns it.
func (p *place) journal(text string) (entry string) {
	require.Eventually(p.t, func() bool {
		p.mu.Lock()
		defer p.mu.Unlock()
		for _, e := range p.entries {
			if strings.Contains(e, text) {
				entry = e
				return true
			}
		}
		return false
	}, 20*time.Second, 5*time.Millisecond, "no entry with %q", text)
	return entry
}

const nouns = `estate: small
site: sim
people: {mara: {groups: [ops], keys: ["%s"]}, ilse: {keys: ["%s"]}}
authorities: {watch: "%s"}
networks: {estuary: {space: [10.60.0.0/16], outside: true, subnets: {landing: {range: [10.60.1.0/24]}, lookout: {range: [10.60.9.0/27]}}}}
machines: {gauge-1: {image: i, size: s, at: landing}, gauge-2: {image: i, size: s, at: landing}}
bastions: {beacon: {subnet: lookout, address: 203.0.113.9, from: [127.0.0.0/8, 198.51.100.7], sessions: 3}}
`

// running is a gateway that serves.
type running struct {
	*gateway.Gateway
	addr string
	host ssh.PublicKey
	stop func()
	over chan error
	log  *bytes.Buffer
}

func serve(t testing.TB, p *place, alter func(*gateway.Limits)) *running {
	return serveAt(t, p, p, alter)
}

// serveAt serves a place, with a host of its own.
func serveAt(t testing.TB, p *place, h gateway.Host, alter func(*gateway.Limits)) *running {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	f, err := l.(*net.TCPListener).File()
	require.NoError(t, err)
	require.NoError(t, l.Close())
	seed := make([]byte, ed25519.SeedSize)
	host, err := ssh.NewSignerFromKey(ed25519.NewKeyFromSeed(seed))
	require.NoError(t, err)
	limits := gateway.DefaultLimits(p.policy.Sessions)
	limits.DrainingFor = time.Second
	if alter != nil {
		alter(&limits)
	}
	r := &running{addr: l.Addr().String(), host: host.PublicKey(), over: make(chan error, 1), log: &bytes.Buffer{}}
	r.Gateway = gateway.New(h, seed, limits, slog.New(slog.NewTextHandler(r.log, nil)), gateway.Listener{File: f})
	ctx, stop := context.WithCancel(context.Background())
	r.stop = stop
	go func() { r.over <- r.Run(ctx) }()
	t.Cleanup(func() {
		stop()
		select {
		case <-r.over:
		case <-time.After(10 * time.Second):
			t.Error("the gateway does not stop")
		}
		_ = f.Close()
	})
	return r
}

func (r *running) login(p person) (*ssh.Client, error) {
	return ssh.Dial("tcp", r.addr, &ssh.ClientConfig{User: p.name, Auth: []ssh.AuthMethod{ssh.PublicKeys(p.signer)}, HostKeyCallback: ssh.FixedHostKey(r.host), Timeout: 5 * time.Second})
}

// connects reports whether somebody gets through to gauge-1 now.
func (r *running) connects(p person) bool {
	c, err := r.login(p)
	if err != nil {
		return false
	}
	defer c.Close()
	s, err := c.Dial("tcp", "gauge-1:22")
	return err == nil && echoes(s)
}

// echoes reports whether a session carries what it is sent.
func echoes(c net.Conn) bool {
	if _, err := c.Write([]byte("tide")); err != nil {
		return false
	}
	b := make([]byte, 4)
	_, err := io.ReadFull(c, b)
	return err == nil && string(b) == "tide"
}

// ends reports whether a session ends within a second.
func ends(c net.Conn) bool {
	over := make(chan bool, 1)
	go func() {
		_, err := c.Read(make([]byte, 1))
		over <- err != nil
	}()
	select {
	case yes := <-over:
		return yes
	case <-time.After(time.Second):
		return false
	}
}

func setUp(t testing.TB, alter func(*gateway.Limits)) (p *place, r *running, mara, ilse, watch person, files string) {
	mara, ilse, watch = newPerson(t, "mara"), newPerson(t, "ilse"), newPerson(t, "watch")
	files = fmt.Sprintf(nouns, mara.public(), ilse.public(), watch.public())
	p = newPlace(t, files, "route ssh, tcp/2222 to gauge-1 via beacon for ops")
	return p, serve(t, p, alter), mara, ilse, watch, files
}

// toChildren sends a signal to the processes that face the internet and that this test has started.
func toChildren(t testing.TB, signal syscall.Signal) {
	list, err := os.ReadDir("/proc")
	require.NoError(t, err)
	killed := 0
	for _, e := range list {
		line, _ := os.ReadFile("/proc/" + e.Name() + "/cmdline")
		stat, _ := os.ReadFile("/proc/" + e.Name() + "/stat")
		_, rest, _ := strings.Cut(string(stat), ") ")
		words := strings.Fields(rest)
		if string(line) != "ironbark-gateway\x00" || len(words) < 2 || words[1] != fmt.Sprint(os.Getpid()) {
			continue
		}
		var pid int
		_, err := fmt.Sscan(e.Name(), &pid)
		require.NoError(t, err)
		proc, err := os.FindProcess(pid)
		require.NoError(t, err)
		require.NoError(t, proc.Signal(signal))
		killed++
	}
	require.Positive(t, killed)
}
