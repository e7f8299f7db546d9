// Package stun tells from which address others see this computer, by the binding method of
// STUN (RFC 8489, section 2), and answers such questions.
package stun

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"sync"
	"time"
)

// Port is the one on which STUN servers listen (RFC 8489, section 8.1).
const Port = 3478

// first is how long an answer is waited for before the question is sent again, twice as long
// each time (section 6.2.1), and tries how often it is sent: at most 1.75 seconds in all.
const (
	first = 250 * time.Millisecond
	tries = 3
)

// Addrs asks a server, HOST:PORT, for the addresses from which it sees this computer: one of
// each family in which the server has an address and answers. The error is that of the family
// that was asked first where no family has an answer. Nothing but an answer to the very
// question is taken.
func Addrs(ctx context.Context, server string) ([]netip.Addr, error) {
	var found [2]netip.Addr
	var errs [2]error
	var both sync.WaitGroup
	for i, network := range []string{"udp4", "udp6"} {
		both.Go(func() { found[i], errs[i] = ask(ctx, network, server) })
	}
	both.Wait()
	var list []netip.Addr
	for _, a := range found {
		if a.IsValid() {
			list = append(list, a)
		}
	}
	if len(list) == 0 {
		return nil, fmt.Errorf("the STUN server %s does not tell from which address it sees you: %w", server, errs[0])
	}
	return list, nil
}

var errSilent = errors.New("it does not answer")

func ask(ctx context.Context, network, server string) (netip.Addr, error) {
	c, err := (&net.Dialer{Timeout: first << tries}).DialContext(ctx, network, server)
	if err != nil {
		return netip.Addr{}, err
	}
	defer c.Close()
	question := newID()
	buf := make([]byte, 1500)
	for try := range tries {
		if _, err := c.Write(message(bindingRequest, question)); err != nil {
			return netip.Addr{}, err
		}
		if err := c.SetReadDeadline(time.Now().Add(first << try)); err != nil {
			return netip.Addr{}, err
		}
		for {
			n, err := c.Read(buf)
			if late := net.Error(nil); errors.As(err, &late) && late.Timeout() {
				break
			}
			if err != nil {
				return netip.Addr{}, err
			}
			if a, ok := mapped(buf[:n], question); ok {
				return a, nil
			}
		}
	}
	return netip.Addr{}, errSilent
}

// Serve answers questions that come to a socket until ctx ends: with what tell returns for
// the address that a question came from. Whatever is no question is not answered.
func Serve(ctx context.Context, c net.PacketConn, tell func(netip.AddrPort) netip.AddrPort) error {
	stop := context.AfterFunc(ctx, func() { _ = c.Close() })
	defer stop()
	buf := make([]byte, 1500)
	for {
		n, from, err := c.ReadFrom(buf)
		if ctx.Err() != nil {
			return nil
		}
		if err != nil {
			return err
		}
		at, ok := from.(*net.UDPAddr)
		kind, question, _, asked := parse(buf[:n])
		if !ok || !asked || kind != bindingRequest {
			continue
		}
		if seen := tell(at.AddrPort()); seen.IsValid() {
			_, _ = c.WriteTo(answer(question, seen), from)
		}
	}
}
