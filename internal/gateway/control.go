package gateway

import (
	"context"
	"encoding/json"
	"errors"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"ironbark/internal/unixsocket"
)

// controlName begins the name of the socket by which a running gateway is spoken with. Whoever can open
// it may end sessions: it stands in a folder that only its owner can enter.
const controlName = "control-"

// controlTime is how long one question may take.
const controlTime = 5 * time.Second

// ErrNotRunning says that no gateway serves here.
var ErrNotRunning = errors.New("the gateway is not running")

// ErrRunning says that another process serves already.
var ErrRunning = errors.New("the gateway is running already")

type question struct {
	End    int64  `json:"end,omitempty"`
	Reason string `json:"reason,omitempty"`
}

type reply struct {
	Sessions []Session `json:"sessions"`
	Ended    bool      `json:"ended,omitempty"`
}

// Lock makes a process the only one that serves a bastion, until it ends or calls release; or, for a
// gateway that serves one client alone, one of several of that kind. The error is ErrRunning where another is.
func Lock(dir string, alone bool) (release func() error, err error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	f, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, err
	}
	how := unix.LOCK_EX
	if !alone {
		how = unix.LOCK_SH
	}
	if err := unix.Flock(int(f.Fd()), how|unix.LOCK_NB); err != nil {
		return nil, errors.Join(ErrRunning, f.Close())
	}
	return f.Close, nil
}

// Control answers questions in a folder until ctx ends. The caller holds the folder's lock.
func (g *Gateway) Control(ctx context.Context, dir string) error {
	name := controlName + strconv.Itoa(os.Getpid())
	l, err := unixsocket.Listen(dir, name)
	if err != nil {
		return err
	}
	context.AfterFunc(ctx, func() {
		_ = l.Close()
		_ = os.Remove(filepath.Join(dir, name))
	})
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go g.answer(c)
		}
	}()
	return nil
}

func (g *Gateway) answer(c net.Conn) {
	defer c.Close()
	_ = c.SetDeadline(time.Now().Add(controlTime))
	var q question
	if json.NewDecoder(c).Decode(&q) != nil {
		return
	}
	var r reply
	if q.End != 0 {
		r.Ended = g.End(q.End, q.Reason)
		for until := time.Now().Add(obeyWithin); r.Ended && g.goesOn(q.End) && time.Now().Before(until); {
			time.Sleep(10 * time.Millisecond)
		}
	}
	r.Sessions = g.Who()
	_ = json.NewEncoder(c).Encode(r)
}

func (g *Gateway) goesOn(number int64) bool {
	for _, s := range g.Who() {
		if s.Number == number {
			return true
		}
	}
	return false
}

// Ask lists the sessions of the gateways that serve a bastion, whose folder this is. The error is
// ErrNotRunning where none serves.
func Ask(dir string) ([]Session, error) {
	list, _, err := askAll(dir, question{})
	return list, err
}

// AskEnd ends a session of a bastion, and reports whether it went on. It is over when this returns,
// unless it is still listed.
func AskEnd(dir string, number int64, reason string) (ended bool, left []Session, err error) {
	left, ended, err = askAll(dir, question{End: number, Reason: reason})
	return ended, left, err
}

// askAll asks each gateway that serves.
func askAll(dir string, q question) (list []Session, ended bool, err error) {
	entries, err := os.ReadDir(dir)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, false, err
	}
	serves := false
	for _, e := range entries {
		if !strings.HasPrefix(e.Name(), controlName) {
			continue
		}
		r, err := ask(dir, e.Name(), q)
		if errors.Is(err, ErrNotRunning) { // it was killed
			_ = os.Remove(filepath.Join(dir, e.Name()))
			continue
		}
		if err != nil {
			return nil, false, err
		}
		serves, ended = true, ended || r.Ended
		list = append(list, r.Sessions...)
	}
	if !serves {
		return nil, false, ErrNotRunning
	}
	return list, ended, nil
}

func ask(dir, name string, q question) (r reply, err error) {
	ctx, cancel := context.WithTimeout(context.Background(), controlTime)
	defer cancel()
	c, err := unixsocket.Dial(ctx, dir, name)
	if errors.Is(err, os.ErrNotExist) || errors.Is(err, unix.ECONNREFUSED) {
		return r, ErrNotRunning
	}
	if err != nil {
		return r, err
	}
	defer c.Close()
	if err := c.SetDeadline(time.Now().Add(controlTime)); err != nil {
		return r, err
	}
	if err := json.NewEncoder(c).Encode(q); err != nil {
		return r, err
	}
	return r, json.NewDecoder(c).Decode(&r)
}
