package gateway

import (
	"container/list"
	"net/netip"
	"sync"
	"time"
)

// preauthLimiter is all connections that have not authenticated yet. It never grows beyond its limits: where
// one more comes, the oldest goes of the source that has most. Who is in earnest needs a few round
// trips; whoever only holds on is pushed out. It is safe for concurrent use.
type preauthLimiter struct {
	most, perSource int
	perFailure      time.Duration

	mu      sync.Mutex
	all     int
	sources map[netip.Prefix]*list.List // of func(), which end a connection; the oldest first
	failed  map[netip.Prefix]*failures
}

// failures are how often a source came and did not get in.
type failures struct {
	count float64
	last  time.Time
}

// How failing slows a source down, and how it is forgotten.
const (
	freeTries   = 3 // without any delay
	mostDelay   = 5 * time.Second
	forgetEvery = 20 * time.Second // one failure
	mostKnown   = 4096             // sources that are remembered
)

func newPreauthLimiter(l Limits) *preauthLimiter {
	return &preauthLimiter{most: l.Strangers, perSource: l.PerSource, perFailure: l.PerFailure, sources: map[netip.Prefix]*list.List{}, failed: map[netip.Prefix]*failures{}}
}

// sourceOf is what counts as one source: an IPv4 address, or the /64 that an IPv6 host has to itself.
func sourceOf(a netip.Addr) netip.Prefix {
	a = a.Unmap().WithZone("")
	if a.Is4() {
		return netip.PrefixFrom(a, 32)
	}
	p, _ := a.Prefix(64)
	return p
}

// enter takes a connection in, and ends another one where there is no room. leave takes it out again;
// it may be called more than once.
func (c *preauthLimiter) enter(from netip.Prefix, end func()) (leave func()) {
	c.mu.Lock()
	defer c.mu.Unlock()
	mine := c.sources[from]
	if mine == nil {
		mine = list.New()
		c.sources[from] = mine
	}
	if mine.Len() >= c.perSource {
		c.push(from)
	}
	if c.all >= c.most {
		c.push(c.largest())
	}
	if c.sources[from] == nil { // the last of it was pushed out
		c.sources[from] = mine
	}
	e := mine.PushBack(end)
	c.all++
	return func() {
		c.mu.Lock()
		defer c.mu.Unlock()
		c.drop(from, mine, e)
	}
}

// push ends the oldest connection of a source.
func (c *preauthLimiter) push(from netip.Prefix) {
	l := c.sources[from]
	if l == nil || l.Len() == 0 {
		return
	}
	e := l.Front()
	end := e.Value.(func())
	c.drop(from, l, e)
	end()
}

func (c *preauthLimiter) drop(from netip.Prefix, l *list.List, e *list.Element) {
	if e.Value == nil {
		return
	}
	l.Remove(e)
	e.Value = nil
	c.all--
	if l.Len() == 0 && c.sources[from] == l {
		delete(c.sources, from)
	}
}

// largest is the source that has most connections.
func (c *preauthLimiter) largest() (from netip.Prefix) {
	most := 0
	for p, l := range c.sources {
		if l.Len() > most {
			from, most = p, l.Len()
		}
	}
	return from
}

// delay is how long a source waits before it may try.
func (c *preauthLimiter) delay(from netip.Prefix, now time.Time) time.Duration {
	c.mu.Lock()
	defer c.mu.Unlock()
	f := c.failed[from]
	if f == nil {
		return 0
	}
	f.fade(now)
	return min(mostDelay, time.Duration(max(0, f.count-freeTries)*float64(c.perFailure)))
}

func (f *failures) fade(now time.Time) {
	f.count = max(0, f.count-float64(now.Sub(f.last))/float64(forgetEvery))
	f.last = now
}

// fail counts that a source came and did not get in.
func (c *preauthLimiter) fail(from netip.Prefix, now time.Time) {
	c.mu.Lock()
	defer c.mu.Unlock()
	f := c.failed[from]
	if f == nil {
		if len(c.failed) >= mostKnown {
			c.forget(now)
		}
		f = &failures{last: now}
		c.failed[from] = f
	}
	f.fade(now)
	f.count++
}

// forget makes room: what has faded goes, or else whoever failed least.
func (c *preauthLimiter) forget(now time.Time) {
	var least netip.Prefix
	lowest := -1.0
	for p, f := range c.failed {
		if f.fade(now); f.count == 0 {
			delete(c.failed, p)
		} else if lowest < 0 || f.count < lowest {
			least, lowest = p, f.count
		}
	}
	if len(c.failed) >= mostKnown {
		delete(c.failed, least)
	}
}

// succeed forgets what a source failed.
func (c *preauthLimiter) succeed(from netip.Prefix) {
	c.mu.Lock()
	defer c.mu.Unlock()
	delete(c.failed, from)
}
