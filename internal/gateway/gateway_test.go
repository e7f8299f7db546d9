package gateway_test

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"ironbark/internal/bastion"
	"ironbark/internal/gateway"
)

func TestASessionIsForwardedAndRecorded(t *testing.T) {
	p, r, mara, _, _, _ := setUp(t, nil)
	c, err := r.login(mara)
	require.NoError(t, err)
	defer c.Close()
	for _, host := range []string{"gauge-1", "10.60.1.2"} {
		s, err := c.Dial("tcp", host+":22")
		require.NoError(t, err)
		p.journal("mara from 127.0.0.1 to gauge-1:22")
		assert.True(t, echoes(s))
		require.Len(t, r.Who(), 1)
		assert.Equal(t, "gauge-1", r.Who()[0].Machine)
		number := r.Who()[0].Number
		require.NoError(t, s.Close())
		p.journal(fmt.Sprintf("end of %d: the client closed it, 4 up, 4 down", number))
		require.Eventually(t, func() bool { return len(r.Who()) == 0 }, time.Second, 5*time.Millisecond)
	}
	// what is sent until the end arrives, also where one side is done before the other
	s, err := c.Dial("tcp", "gauge-1:22")
	require.NoError(t, err)
	sent := bytes.Repeat([]byte("flood and ebb "), 100_000)
	go func() {
		_, _ = s.Write(sent)
		_ = s.(interface{ CloseWrite() error }).CloseWrite()
	}()
	got, err := io.ReadAll(s)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(sent, got), "%d of %d bytes", len(got), len(sent))
}

func TestNothingElseIsForwarded(t *testing.T) {
	p, r, mara, ilse, watch, _ := setUp(t, func(l *gateway.Limits) { l.PerFailure = 0 })
	for what, who := range map[string]person{
		"a stranger's key": {name: "mara", signer: newPerson(t, "x").signer}, "another name": {name: "ops", signer: mara.signer}, "somebody without a route": ilse, "somebody else's key": {name: "mara", signer: ilse.signer}, "the authority itself": {name: "mara", signer: watch.signer},
		"a certificate by nobody":          mara.certified(t, ilse, nil),
		"one for somebody else":            mara.certified(t, watch, func(c *ssh.Certificate) { c.ValidPrincipals = []string{"ilse"} }),
		"one for everybody":                mara.certified(t, watch, func(c *ssh.Certificate) { c.ValidPrincipals = nil }),
		"one that is over":                 mara.certified(t, watch, func(c *ssh.Certificate) { c.ValidBefore = uint64(time.Now().Add(-time.Second).Unix()) }),
		"one that is not good yet":         mara.certified(t, watch, func(c *ssh.Certificate) { c.ValidAfter = uint64(time.Now().Add(time.Minute).Unix()) }),
		"one of a host":                    mara.certified(t, watch, func(c *ssh.Certificate) { c.CertType = ssh.HostCert }),
		"one from elsewhere":               mara.certified(t, watch, func(c *ssh.Certificate) { c.CriticalOptions = map[string]string{"source-address": "192.0.2.0/24"} }),
		"one from mapped addresses":        mara.certified(t, watch, func(c *ssh.Certificate) { c.CriticalOptions = map[string]string{"source-address": "::ffff:0.0.0.0/96"} }),
		"one that forces a command":        mara.certified(t, watch, func(c *ssh.Certificate) { c.CriticalOptions = map[string]string{"force-command": "true"} }),
		"one that permits no forwarding":   mara.certified(t, watch, func(c *ssh.Certificate) { c.Extensions = nil }),
		"one for a person without a route": ilse.certified(t, watch, nil),
	} {
		_, err := r.login(who)
		assert.Error(t, err, what)
	}
	_, err := ssh.Dial("tcp", r.addr, &ssh.ClientConfig{User: "mara", Auth: []ssh.AuthMethod{ssh.Password("tide")}, HostKeyCallback: ssh.InsecureIgnoreHostKey()})
	assert.Error(t, err, "a password")

	c, err := r.login(mara.certified(t, watch, func(c *ssh.Certificate) { c.CriticalOptions = map[string]string{"source-address": "127.0.0.0/8"} }))
	require.NoError(t, err)
	defer c.Close()
	for _, to := range []string{"gauge-2:22", "gauge-1:443", "gauge-1:23", "localhost:22", "127.0.0.1:22", "10.60.9.2:22", "10.60.1.3:22", "[::1]:22", "gauge-1:2222", "beacon:22"} {
		_, err := c.Dial("tcp", to)
		assert.Error(t, err, to)
	}
	_, err = c.NewSession()
	assert.ErrorContains(t, err, "this gateway only forwards")
	_, err = c.Listen("tcp", "127.0.0.1:0")
	assert.Error(t, err)
	for _, kind := range []string{"x11", "auth-agent@openssh.com", "direct-streamlocal@openssh.com", "tun@openssh.com"} {
		_, _, err := c.OpenChannel(kind, nil)
		assert.Error(t, err, kind)
	}
	_, _, err = c.OpenChannel("direct-tcpip", []byte{0, 0})
	assert.Error(t, err)
	p.mu.Lock()
	assert.Empty(t, p.entries, "what was not forwarded is no session")
	p.mu.Unlock()
	s, err := c.Dial("tcp", "gauge-1:22")
	require.NoError(t, err)
	assert.True(t, echoes(s), "and what may be forwarded still is")
}

func TestWhatIsNoLongerAllowedEndsWithinASecond(t *testing.T) {
	p, r, mara, _, watch, files := setUp(t, nil)
	route := "route ssh to gauge-1 via beacon for ops"
	for what, enact := range map[string]func(){
		"a deny of the client":  func() { p.enact(files, route, "deny ssh from 127.0.0.0/8 to gauge-1") },
		"the route":             func() { p.enact(files, "route ssh to gauge-2 via beacon for ops") },
		"the key":               func() { p.enact(strings.Replace(files, mara.public(), newPerson(t, "x").public(), 1), route) },
		"the person":            func() { p.enact(strings.Replace(files, "mara:", "nora:", 1), route) },
		"where people may come": func() { p.enact(strings.Replace(files, "127.0.0.0/8, ", "", 1), route) },
		"the bastion itself": func() {
			p.mu.Lock()
			defer p.mu.Unlock()
			p.policy = &bastion.Policy{}
		},
		"a number": func() { require.True(t, r.End(r.Who()[0].Number, "ended by ilse")) },
	} {
		c, err := r.login(mara)
		require.NoError(t, err, what)
		s, err := c.Dial("tcp", "gauge-1:22")
		require.NoError(t, err, what)
		require.True(t, echoes(s), what)
		enact()
		assert.True(t, ends(s), what)
		require.Eventually(t, func() bool { return len(r.Who()) == 0 }, time.Second, 5*time.Millisecond)
		_ = c.Close()
		p.enact(files, route)
		require.Eventually(t, func() bool { return r.connects(mara) }, 20*time.Second, 50*time.Millisecond, what)
	}
	// a certificate ends its connection when it does
	soon := time.Now().Add(2 * time.Second).Truncate(time.Second)
	c, err := r.login(mara.certified(t, watch, func(c *ssh.Certificate) { c.ValidBefore = uint64(soon.Unix()) }))
	require.NoError(t, err)
	s, err := c.Dial("tcp", "gauge-1:22")
	require.NoError(t, err)
	time.Sleep(time.Until(soon.Add(-200 * time.Millisecond)))
	assert.True(t, echoes(s))
	time.Sleep(time.Until(soon))
	assert.True(t, ends(s))

	// and where this computer's clock is behind the site's, the site's counts
	later := mara.certified(t, watch, nil)
	c, err = r.login(later)
	require.NoError(t, err)
	s, err = c.Dial("tcp", "gauge-1:22")
	require.NoError(t, err)
	p.mu.Lock()
	p.ahead = 2 * time.Hour
	p.mu.Unlock()
	require.Eventually(t, func() bool { return ends(s) }, 4*time.Second, 10*time.Millisecond)
	_, err = r.login(later)
	assert.Error(t, err)
}

func TestOnDoubtNobodyNewIsLetIn(t *testing.T) {
	p, r, mara, _, _, _ := setUp(t, func(l *gateway.Limits) { l.Stale = 1500 * time.Millisecond })
	c, err := r.login(mara)
	require.NoError(t, err)
	s, err := c.Dial("tcp", "gauge-1:22")
	require.NoError(t, err)

	p.break_(nil, errors.New("no space left on device"))
	_, err = c.Dial("tcp", "gauge-1:22")
	assert.ErrorContains(t, err, "cannot record the session")

	p.break_(errors.New("the ledger cannot be read"), nil)
	time.Sleep(6 * time.Second) // for longer than a process may stay silent that was asked
	require.Eventually(t, func() bool {
		s, err := c.Dial("tcp", "gauge-1:22")
		if err == nil {
			_ = s.Close()
		}
		return err != nil && strings.Contains(err.Error(), "does not know")
	}, 20*time.Second, 50*time.Millisecond)
	_, err = r.login(mara)
	assert.Error(t, err)
	assert.True(t, echoes(s), "what goes on goes on")

	p.break_(nil, nil)
	require.Eventually(t, func() bool {
		s, err := c.Dial("tcp", "gauge-1:22")
		return err == nil && s.Close() == nil
	}, 20*time.Second, 50*time.Millisecond)
}

func TestLimits(t *testing.T) {
	_, r, mara, _, _, _ := setUp(t, func(l *gateway.Limits) {
		l.Strangers, l.PerSource, l.LoginTime, l.Idle, l.KeepAlive, l.Unanswered = 32, 32, 3*time.Second, 2*time.Second, time.Second, 2*time.Second
	})
	var silent []net.Conn
	defer func() {
		for _, s := range silent {
			_ = s.Close()
		}
	}()
	for range 500 { // some of which begin to speak
		s, err := net.Dial("tcp", r.addr)
		require.NoError(t, err)
		if len(silent)%2 == 0 {
			_, _ = s.Write([]byte("SSH-2.0-slow\r\n"))
		}
		silent = append(silent, s)
	}
	var c *ssh.Client
	require.Eventually(t, func() (yes bool) { // once those that are there already have been seen
		var err error
		c, err = r.login(mara)
		return err == nil
	}, 10*time.Second, 20*time.Millisecond, "somebody in earnest is let in beside those who only hold on")
	open := 0
	for _, s := range silent {
		_ = s.SetReadDeadline(time.Now().Add(time.Millisecond))
		_, err := io.ReadAll(s)
		if errors.Is(err, os.ErrDeadlineExceeded) {
			open++
		}
	}
	assert.LessOrEqual(t, open, 32)
	var sessions []net.Conn
	for range 3 {
		s, err := c.Dial("tcp", "gauge-1:22")
		require.NoError(t, err)
		sessions = append(sessions, s)
	}
	_, err := c.Dial("tcp", "gauge-1:22")
	require.ErrorContains(t, err, "as many sessions as it may")
	assert.True(t, echoes(sessions[1]))
	require.Eventually(t, func() bool { return len(r.Who()) == 0 }, 5*time.Second, 20*time.Millisecond, "idle sessions end")
	require.Eventually(t, func() bool { _, _, err := c.SendRequest("x", true, nil); return err != nil }, 6*time.Second, 20*time.Millisecond, "and so does a connection without one")
}

// TestGoodClientsGetInBesideThousandsOfSlowOnes: 5,000 come from 250 addresses, some of which begin to speak, and
// none of which goes on.
func TestGoodClientsGetInBesideThousandsOfSlowOnes(t *testing.T) {
	_, r, mara, _, _, _ := setUp(t, nil)
	stop, over := make(chan struct{}), make(chan int)
	go func() {
		came, list := 0, []net.Conn{}
		for i := range 5000 {
			select {
			case <-stop:
			default:
				d := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 0, 1, byte(1+i%250))}}
				if c, err := d.Dial("tcp", r.addr); err == nil {
					came++
					list = append(list, c)
					if i%3 == 0 {
						_, _ = c.Write([]byte("SSH-2.0-slow\r\n"))
					}
				}
			}
		}
		over <- came
		<-stop
		for _, c := range list {
			_ = c.Close()
		}
	}()
	for range 10 {
		began := time.Now()
		require.True(t, r.connects(mara))
		assert.Less(t, time.Since(began), 5*time.Second)
	}
	assert.Equal(t, 5000, <-over)
	require.True(t, r.connects(mara), "and beside those that only hold on")
	close(stop)
}

func TestAProcessThatDiesIsStartedAnew(t *testing.T) {
	p, r, mara, _, _, files := setUp(t, nil)
	c, err := r.login(mara)
	require.NoError(t, err)
	s, err := c.Dial("tcp", "gauge-1:22")
	require.NoError(t, err)
	require.True(t, echoes(s))
	toChildren(t, syscall.SIGKILL)
	assert.True(t, ends(s))
	p.journal("end of 1: the gateway's process ended")
	require.Eventually(t, func() bool { return r.connects(mara) }, 20*time.Second, 50*time.Millisecond)

	// one that does not do what it is told is killed
	c, err = r.login(mara)
	require.NoError(t, err)
	s, err = c.Dial("tcp", "gauge-1:22")
	require.NoError(t, err)
	p.enact(files, "route ssh to gauge-2 via beacon for ops")
	toChildren(t, syscall.SIGSTOP)
	require.Eventually(t, func() bool { return ends(s) }, 15*time.Second, 50*time.Millisecond)
	p.enact(files, "route ssh to gauge-1 via beacon for ops")
	require.Eventually(t, func() bool { return r.connects(mara) }, 20*time.Second, 50*time.Millisecond)
}

func TestItStopsOnceAllIsOver(t *testing.T) {
	p, r, mara, _, _, _ := setUp(t, nil)
	c, err := r.login(mara)
	require.NoError(t, err)
	s, err := c.Dial("tcp", "gauge-1:22")
	require.NoError(t, err)
	r.stop()
	time.Sleep(200 * time.Millisecond)
	_, err = r.login(mara)
	assert.Error(t, err, "nobody new is let in")
	assert.True(t, echoes(s), "what goes on goes on")
	require.NoError(t, s.Close())
	select {
	case err := <-r.over:
		require.NoError(t, err)
		r.over <- nil
	case <-time.After(5 * time.Second):
		t.Fatal("it does not stop")
	}
	p.journal("end of 1: the client closed it")
}
