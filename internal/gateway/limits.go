package gateway

import "time"

// Limits bound what a gateway takes on. Each of them is positive.
type Limits struct {
	Sessions    int // forwarded sessions at once
	PerLogin    int // of them in one connection
	Logins      int // authenticated connections at once
	Strangers   int // connections that have not authenticated yet, at once
	PerSource   int // of them from one address (IPv6: one /64)
	Tries       int // keys that one connection may offer
	LoginTime   time.Duration
	PerFailure  time.Duration // that a source waits for each time it came and did not get in, beyond the third
	Idle        time.Duration // a session, or a connection without one, over which nothing comes
	Longest     time.Duration // a connection
	KeepAlive   time.Duration // between two questions whether the client is still there
	Unanswered  time.Duration // after which a client that does not answer is gone
	Stale       time.Duration // without a refresh, after which nothing new is let in
	DrainingFor time.Duration // after SIGTERM, for what goes on
}

// DefaultLimits are those of a gateway that carries so many sessions at once.
func DefaultLimits(sessions int) Limits {
	return Limits{
		Sessions: sessions, PerLogin: 64, Logins: 2*sessions + 16, Strangers: 256, PerSource: 64, Tries: 6,
		LoginTime: 20 * time.Second, PerFailure: 250 * time.Millisecond, Idle: time.Hour, Longest: 12 * time.Hour, KeepAlive: 30 * time.Second, Unanswered: 90 * time.Second,
		Stale: 10 * time.Second, DrainingFor: 30 * time.Second,
	}
}
