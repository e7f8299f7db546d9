package gateway

import (
	"context"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/crypto/ssh"
)

// loggedIn is one connection of somebody who has authenticated.
type loggedIn struct {
	server *Server
	conn   *ssh.ServerConn
	client netip.Addr
	login  login
	since  time.Time

	asked    atomic.Int64 // when it was last asked whether it is still there, as UnixNano
	answered atomic.Int64
	over     sync.Once
	why      atomic.Pointer[string]
	forwards map[uint64]*forward // under the server's lock
	pending  int                 // under the server's lock
	ended    time.Time           // when the last of them ended, under the server's lock
}

// serve takes channels in until the connection is over.
func (l *loggedIn) serve(ctx context.Context, channels <-chan ssh.NewChannel, requests <-chan *ssh.Request) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	go ssh.DiscardRequests(requests) // remote forwarding among them: each is refused
	for ch := range channels {
		if ch.ChannelType() != "direct-tcpip" {
			_ = ch.Reject(ssh.Prohibited, "this gateway only forwards to machines: ssh -J "+l.login.person+"@GATEWAY MACHINE")
			continue
		}
		var to struct {
			Host   string
			Port   uint32
			Origin string
			From   uint32
		}
		if err := ssh.Unmarshal(ch.ExtraData(), &to); err != nil || to.Port == 0 || to.Port > 65535 || len(to.Host) > mostHost {
			_ = ch.Reject(ssh.ConnectionFailed, "that is no host and port")
			continue
		}
		id, refused := l.server.reserve(l)
		if refused != "" {
			_ = ch.Reject(ssh.ResourceShortage, refused)
			continue
		}
		go l.forward(ctx, id, ch, to.Host, uint16(to.Port))
	}
}

// quiet is how long nothing has been forwarded.
func (l *loggedIn) quiet(now time.Time) time.Duration {
	last := l.since
	if l.ended.After(last) {
		last = l.ended
	}
	return now.Sub(last)
}

// ask asks the client from time to time whether it is still there, and ends what is not.
func (l *loggedIn) ask(now time.Time, limits Limits) {
	asked := l.asked.Load()
	answered := max(l.answered.Load(), l.since.UnixNano())
	switch {
	case asked > answered && now.UnixNano()-answered > int64(limits.Unanswered):
		go l.end("the client does not answer")
	case asked <= answered && now.UnixNano()-answered > int64(limits.KeepAlive):
		l.asked.Store(now.UnixNano())
		go func() { // any answer is one, also that nobody knows the question
			if _, _, err := l.conn.SendRequest("keepalive@openssh.com", true, nil); err == nil {
				l.answered.Store(time.Now().UnixNano())
			}
		}()
	}
}

// end ends the connection, and all that is forwarded over it.
func (l *loggedIn) end(reason string) {
	l.over.Do(func() {
		l.why.Store(&reason)
		l.server.mu.Lock()
		var list []*forward
		for _, f := range l.forwards {
			list = append(list, f)
		}
		l.server.mu.Unlock()
		for _, f := range list {
			f.end(reason)
		}
		_ = l.conn.Close()
	})
}
