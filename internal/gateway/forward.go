package gateway

import (
	"context"
	"errors"
	"io"
	"net"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/crypto/ssh"

	"ironbark/internal/bastion"
)

// forward is one forwarded session.
type forward struct {
	channel ssh.Channel
	machine net.Conn

	up, down atomic.Int64 // bytes from the client, and to it
	moved    atomic.Int64 // when anything last was, as UnixNano
	over     sync.Once
	reason   atomic.Pointer[string]
}

// reserve gives a session a number, where there is room for one more.
func (s *Server) reserve(l *loggedIn) (id uint64, refused string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case s.draining:
		return 0, "the gateway is about to stop"
	case s.stale():
		return 0, "the gateway does not know what it may forward now"
	case len(l.forwards)+l.pending >= s.limits.PerLogin:
		return 0, "this connection carries as many sessions as it may"
	case len(s.forwards) >= s.limits.Sessions:
		return 0, "the gateway carries as many sessions as it may"
	}
	l.pending++
	id = s.ids.Add(1)
	s.pending[id] = ""
	return id, ""
}

// forward carries one session from its request to its end.
func (l *loggedIn) forward(ctx context.Context, id uint64, ch ssh.NewChannel, host string, port uint16) {
	s := l.server
	machine, err := s.back.Forward(ctx, Forward{ID: id, Request: bastion.Request{Person: l.login.person, Client: l.client, Host: host, Port: port}, Login: l.login.name})
	if err != nil {
		s.release(l, id)
		reason := ssh.Prohibited
		if r, ok := errors.AsType[*RefusedError](err); ok && r.Failed {
			reason = ssh.ConnectionFailed
		}
		_ = ch.Reject(reason, err.Error())
		return
	}
	f := &forward{machine: machine}
	f.touch()
	channel, requests, err := ch.Accept()
	if err != nil {
		_ = machine.Close()
		s.back.Ended(id, 0, 0, "the client left")
		s.release(l, id)
		return
	}
	f.channel = channel
	go func() {
		ssh.DiscardRequests(requests) // until the client closes the channel
		f.end("the client closed it")
	}()
	s.mu.Lock()
	ended := s.pending[id]
	delete(s.pending, id)
	l.pending--
	l.forwards[id], s.forwards[id] = f, f
	s.mu.Unlock()
	if why := l.why.Load(); why != nil { // its connection ended meanwhile
		f.end(*why)
	}
	if ended != "" { // or it was ended itself
		f.end(ended)
	}
	f.carry()
	s.back.Ended(id, f.up.Load(), f.down.Load(), *f.reason.Load())
	s.mu.Lock()
	delete(l.forwards, id)
	delete(s.forwards, id)
	l.ended = time.Now()
	s.mu.Unlock()
}

// release gives a number back that no session came of.
func (s *Server) release(l *loggedIn, id uint64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.pending, id)
	l.pending--
}

// carry copies both ways until both are at their end, or the session is ended.
func (f *forward) carry() {
	done := make(chan struct{})
	go func() {
		defer close(done)
		_, err := io.Copy(counted{f.channel, &f.down, f}, f.machine)
		if err == nil {
			err = f.channel.CloseWrite()
		}
		switch {
		case errors.Is(err, io.EOF): // so tells a channel that the client has closed
			f.end("the client closed it")
		case err != nil:
			f.end("the connection to the machine broke")
		}
	}()
	_, err := io.Copy(counted{f.machine, &f.up, f}, f.channel)
	if half, ok := f.machine.(interface{ CloseWrite() error }); ok && err == nil {
		_ = half.CloseWrite()
		<-done
		f.end("both sides were done")
		return
	}
	f.end("the client left")
	<-done
}

// end ends the session. The first reason is the one that is told.
func (f *forward) end(reason string) {
	f.over.Do(func() {
		f.reason.Store(&reason)
		_ = f.machine.Close()
		_ = f.channel.Close()
	})
}

func (f *forward) touch()          { f.moved.Store(time.Now().UnixNano()) }
func (f *forward) last() time.Time { return time.Unix(0, f.moved.Load()) }

// counted counts what is written.
type counted struct {
	io.Writer
	count *atomic.Int64
	f     *forward
}

func (c counted) Write(p []byte) (int, error) {
	n, err := c.Writer.Write(p)
	c.count.Add(int64(n))
	c.f.touch()
	return n, err
}
