package drivertest

import (
	"context"
	"errors"
	"io"
	"net"
	"net/netip"
	"slices"
	"sync"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ironbark/internal/change"
	"ironbark/internal/driver"
	"ironbark/internal/flow"
)

func (s *suite) dial() {
	s.build()
	to := netip.AddrPortFrom(s.public(), 22)
	closed := &driver.UnreachableError{}
	_, err := s.d.Dial(s.Context(), client, to)
	require.ErrorAs(s, err, &closed)
	assert.Equal(s, "administrative", closed.Reason)
	s.pass(s.passage(1))
	keys := make([]string, 6)
	failed := make([]error, len(keys))
	var all sync.WaitGroup
	for i := range keys { // by whoever asks first, and all at once
		d := s.open()
		all.Go(func() { keys[i], failed[i] = d.HostKey(s.Context(), "gauge-1") })
	}
	all.Wait()
	require.NoError(s, errors.Join(failed...))
	require.Len(s, slices.Compact(keys), 1, "a machine has one key, whoever asks first")
	require.NoError(s, s.begin(to).Close())
	key, err := s.d.HostKey(s.Context(), "gauge-1")
	require.NoError(s, err)
	assert.Equal(s, keys[0], key)
	assert.Contains(s, key, "ssh-")
	again, err := s.open().HostKey(s.Context(), "gauge-1")
	require.NoError(s, err)
	assert.Equal(s, key, again, "it stays")
	m, _, err := s.d.Power(s.Context(), "gauge-1", driver.Power{Do: driver.Stop, Grace: time.Minute})
	require.NoError(s, err)
	s.clock.Set(m.Ready)
	nobody := &driver.RefusedError{}
	_, err = s.d.Dial(s.Context(), client, to)
	require.ErrorAs(s, err, &nobody, "packets pass, and nothing listens")
}

// begin begins a session and hears that SSH is spoken.
func (s *suite) begin(to netip.AddrPort) net.Conn {
	c, err := s.d.Dial(s.Context(), client, to)
	require.NoError(s, err)
	hello := make([]byte, 4)
	_, err = io.ReadFull(c, hello)
	require.NoError(s, err)
	assert.Equal(s, "SSH-", string(hello))
	return c
}

// sessionEnds begins sessions and takes away, as another process, what let them in:
// each ends within a second.
func (s *suite) sessionEnds() {
	s.build()
	to := netip.AddrPortFrom(s.public(), 22)
	ends := func(c net.Conn, why string) {
		require.NoError(s, c.SetReadDeadline(time.Now().Add(2*time.Second))) // a second, and one for a busy machine
		_, err := io.Copy(io.Discard, c)
		require.NoError(s, err, "%s: the session goes on", why)
		require.NoError(s, c.Close())
	}
	other := s.open()
	s.pass(s.passage(1))
	c := s.begin(to)
	if list, known, err := driver.SessionsOf(s.Context(), other); known {
		require.NoError(s, err)
		require.Len(s, list, 1)
		assert.Equal(s, driver.Session{Machine: "gauge-1", From: client, To: to.Addr(), Service: flow.TCPPort(22), Since: list[0].Since}, list[0])
	}
	require.NoError(s, other.Shut(s.Context(), s.clock.Now(), 1))
	ends(c, "its opening was closed")
	s.pass(s.passage(2))
	c = s.begin(to)
	s.wait(2 * time.Hour)
	ends(c, "its opening ended by itself")
	s.pass(s.passage(3))
	c = s.begin(to)
	require.NoError(s, other.Install(s.Context(), s.plan("deny ssh from everywhere to all"), s.observe().Mark))
	ends(c, "a deny came")
	s.install("")
	s.pass(s.passage(4))
	c = s.begin(to)
	_, _, err := other.Power(s.Context(), "gauge-1", driver.Power{Do: driver.Stop, Grace: time.Minute})
	require.NoError(s, err)
	ends(c, "its machine was stopped")
}

// drained begins a session by a front, takes the machine out, and puts it back.
func (s *suite) drained() {
	s.build()
	place, ok := s.d.(driver.MemberTester)
	if !ok {
		return
	}
	s.install("spread pier ssh over gauge-1 on ssh")
	s.pass(s.passage(1))
	pier, ok := change.Find(s.observe().Resources, change.Front, "pier")
	require.True(s, ok)
	to := netip.AddrPortFrom(pier.Given.Addr4, 22)
	c := s.begin(to)
	out := driver.EjectedMember{Front: "pier", Service: flow.TCPPort(22), Machine: "gauge-1", Since: s.clock.Now().UTC(), Why: "it is to be stopped", Draining: true}
	require.NoError(s, place.SetEjected(s.Context(), []driver.EjectedMember{out}))
	outs, err := s.open().(driver.MemberTester).Ejected(s.Context())
	require.NoError(s, err)
	require.Len(s, outs, 1)
	assert.True(s, outs[0].Draining && outs[0].Since.Equal(out.Since) && outs[0].Why == out.Why)
	ctx, cancel := context.WithTimeout(s.Context(), 5*time.Second)
	defer cancel()
	if again, err := s.d.Dial(ctx, client, to); err == nil {
		_, err = io.ReadFull(again, make([]byte, 4))
		require.Error(s, err, "a new session comes about")
	}
	if list, known, err := driver.SessionsOf(s.Context(), s.d); known {
		require.NoError(s, err)
		require.Len(s, list, 1, "what goes on goes on")
		assert.Equal(s, to.Addr(), list[0].To)
	}
	require.NoError(s, c.Close())
	require.NoError(s, s.open().(driver.MemberTester).SetEjected(s.Context(), nil))
	require.NoError(s, s.begin(to).Close())
}
