package sim

import (
	"bytes"
	"context"
	"crypto/tls"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"ironbark/internal/change"
	"ironbark/internal/driver"
	"ironbark/internal/driver/sim/guest"
	"ironbark/internal/flow"
)

// mostHops is how many machines may be logged in to from others at once: each is a process.
const mostHops = 8

// reachTime is how long what a program inside a machine asks of the network may take.
const reachTime = 10 * time.Second

// reach is the network of a machine: what its programs ask for goes through the installed tables, as packets of the
// machine's own addresses.
func (s *Site) reach(in *machineState) func(context.Context, guest.Request) guest.Reply {
	return func(ctx context.Context, r guest.Request) guest.Reply {
		ctx, cancel := context.WithTimeout(ctx, reachTime)
		defer cancel()
		from, to, err := s.resolve(ctx, in, r.Target)
		if err != nil {
			return guest.Reply{Err: fmt.Sprintf("%s: %s\n", r.Kind, err), Exit: map[string]int{"ping": 2, "ssh": 255}[r.Kind] + map[string]int{"http": 6, "https": 6}[r.Kind]}
		}
		switch r.Kind {
		case "ping":
			return s.pings(ctx, in, r, from, to)
		case "ssh":
			return s.hop(ctx, r, from, to)
		}
		return s.fetch(ctx, r, from, to)
	}
}

// resolve finds the address of a machine or an address, and the one from which this machine calls it.
func (s *Site) resolve(ctx context.Context, in *machineState, target string) (from, to netip.Addr, err error) {
	var own []netip.Addr
	for _, at := range in.resource.Spec.Subnets {
		own = append(own, in.resource.Spec.Inside[at]...)
	}
	source := func(to netip.Addr) (netip.Addr, bool) {
		i := slices.IndexFunc(own, func(a netip.Addr) bool { return a.Is4() == to.Is4() })
		if i < 0 {
			return netip.Addr{}, false
		}
		return own[i], true
	}
	if to, err = netip.ParseAddr(target); err == nil {
		if from, ok := source(to); ok {
			return from, to, nil
		}
		return from, to, errors.New("the network is unreachable: this machine has no address of that family")
	}
	if target == "localhost" && len(own) > 0 {
		return own[0], own[0], nil
	}
	var t change.Resource
	err = s.read(ctx, func(tx *sql.Tx) (err error) {
		t, err = findResource(ctx, tx, change.Machine, target)
		return err
	})
	if err != nil {
		return from, to, err
	}
	for _, four := range []bool{true, false} {
		for _, at := range t.Spec.Subnets {
			for _, a := range t.Spec.Inside[at] {
				if from, ok := source(a); ok && a.Is4() == four {
					return from, a, nil
				}
			}
		}
	}
	if t.Name != "" {
		return from, to, fmt.Errorf("%s has no address of a family that this machine has", target)
	}
	return from, to, fmt.Errorf("%s: name or service not known", target)
}

// pings sends echo requests.
func (s *Site) pings(ctx context.Context, in *machineState, r guest.Request, from, to netip.Addr) guest.Reply {
	b := &strings.Builder{}
	fmt.Fprintf(b, "PING %s (%s)\n", r.Target, to)
	answered := 0
	for i := range r.Count {
		if s.answersPing(ctx, in, from, to) {
			answered++
			fmt.Fprintf(b, "64 bytes from %s: icmp_seq=%d\n", to, i+1)
		}
	}
	fmt.Fprintf(b, "%d packets transmitted, %d received\n", r.Count, answered)
	exit := 0
	if answered == 0 {
		exit = 1
	}
	return guest.Reply{Out: b.String(), Exit: exit}
}

func (s *Site) answersPing(ctx context.Context, in *machineState, from, to netip.Addr) bool {
	if from == to {
		return true
	}
	for _, l := range in.guest.Around.Links {
		if slices.Contains(l.Gateways, to) {
			return true
		}
	}
	results, err := s.Probe(ctx, driver.Packet{Source: from, Target: to, Service: flow.Ping})
	if err != nil || len(results) == 0 || !results[0].Open || results[0].Machine == "" {
		return false
	}
	other, err := s.look(ctx, results[0].Machine)
	now := s.clock.Now()
	return err == nil && up(s.at(other.power, now), now)
}

// call begins a TCP connection from a machine, to another one or to itself.
func (s *Site) call(ctx context.Context, from, to netip.Addr, port int) (net.Conn, string) {
	c, err := s.Dial(ctx, from, netip.AddrPortFrom(to, uint16(port)))
	if err == nil {
		return c, ""
	}
	if _, refused := errors.AsType[*driver.RefusedError](err); refused {
		return nil, "connection refused"
	}
	return nil, "connection timed out"
}

// hop runs a command on another machine over SSH.
func (s *Site) hop(ctx context.Context, r guest.Request, from, to netip.Addr) guest.Reply {
	failed := func(format string, args ...any) guest.Reply {
		return guest.Reply{Err: fmt.Sprintf(format, args...) + "\n", Exit: 255}
	}
	if s.hops.Add(1) > mostHops {
		s.hops.Add(-1)
		return failed("ssh: too many machines are logged in to from one another (%d)", mostHops)
	}
	defer s.hops.Add(-1)
	c, why := s.call(ctx, from, to, r.Port)
	if c == nil {
		return failed("ssh: connect to host %s port %d: %s", r.Target, r.Port, why)
	}
	defer c.Close()
	stop := context.AfterFunc(ctx, func() { _ = c.Close() })
	defer stop()
	var signers []ssh.Signer
	for _, text := range r.Keys {
		if one, err := ssh.ParsePrivateKey([]byte(text)); err == nil {
			signers = append(signers, one)
		}
	}
	config := &ssh.ClientConfig{
		User: r.User, Auth: []ssh.AuthMethod{ssh.PublicKeys(signers...)},
		HostKeyCallback: ssh.InsecureIgnoreHostKey(), // the stand-in itself leads there
	}
	conn, channels, requests, err := ssh.NewClientConn(c, r.Target, config)
	if err != nil {
		return failed("%s@%s: permission denied (publickey)", r.User, r.Target)
	}
	client := ssh.NewClient(conn, channels, requests)
	defer client.Close()
	session, err := client.NewSession()
	if err != nil {
		return failed("ssh: %v", err)
	}
	var out, errs limitedBuffer // the two are written to at the same time
	session.Stdout, session.Stderr = &out, &errs
	err = session.Run(r.Line)
	reply := guest.Reply{Out: out.b.String(), Err: errs.b.String()}
	if exit, ok := errors.AsType[*ssh.ExitError](err); ok {
		reply.Exit = exit.ExitStatus()
	} else if err != nil {
		reply.Exit = 255
	}
	return reply
}

// mostReply is how much a reply from the network may be, in bytes.
const mostReply = 1 << 20

type limitedBuffer struct{ b bytes.Buffer }

func (l *limitedBuffer) Write(p []byte) (int, error) {
	l.b.Write(p[:min(len(p), max(mostReply-l.b.Len(), 0))])
	return len(p), nil
}

// fetch asks another machine for a page.
func (s *Site) fetch(ctx context.Context, r guest.Request, from, to netip.Addr) guest.Reply {
	why := ""
	dial := func(ctx context.Context, _, _ string) (c net.Conn, err error) {
		if c, why = s.call(ctx, from, to, r.Port); c == nil {
			return nil, errors.New(why)
		}
		return c, nil
	}
	client := &http.Client{Transport: &http.Transport{DialContext: dial, DisableKeepAlives: true, TLSClientConfig: &tls.Config{InsecureSkipVerify: true}}} // a machine signs its own certificate
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, fmt.Sprintf("%s://%s%s", r.Kind, netip.AddrPortFrom(to, uint16(r.Port)), r.Path), nil)
	if err != nil {
		return guest.Reply{Err: "curl: " + err.Error() + "\n", Exit: 3}
	}
	answer, err := client.Do(request)
	if why != "" {
		return guest.Reply{Err: fmt.Sprintf("curl: %s port %d: %s\n", r.Target, r.Port, why), Exit: 7}
	}
	if err != nil {
		return guest.Reply{Err: "curl: what answers does not speak HTTP\n", Exit: 1}
	}
	defer answer.Body.Close()
	body, _ := io.ReadAll(io.LimitReader(answer.Body, mostReply))
	return guest.Reply{Out: string(body)}
}
