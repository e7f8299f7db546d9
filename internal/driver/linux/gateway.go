package linux

import (
	"context"
	"database/sql"
	"errors"
	"net"
	"net/netip"
	"os"
	"slices"
	"time"

	"golang.org/x/sys/unix"

	"ironbark/internal/change"
	"ironbark/internal/driver"
	"ironbark/internal/fault"
	"ironbark/internal/flow"
)

// A bastion is a namespace like a machine's. Its public address leads there on one port, which the table
// has as that of a front (flow.Plan.WithGatewaysAsMachines), and what the gateway begins comes from
// the bastion's own inside address.

var _ driver.GatewayHost = (*Site)(nil)

// ListenGateway listens in a bastion's namespace, on port 22 of its inside addresses.
func (s *Site) ListenGateway(ctx context.Context, bastion string) (list []driver.GatewaySocket, err error) {
	var addrs []netip.Addr
	err = s.read(ctx, func(tx *sql.Tx) error {
		resources, err := readResources(ctx, tx)
		if t, ok := change.Find(resources, change.Bastion, bastion); ok {
			addrs = insideOf(t)
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	if len(addrs) == 0 || !exists(s.prefix+"-"+bastion) {
		return nil, fault.New(fault.Failure, "bastion "+bastion+" is not on this host", fault.Run("site", "restore").Say(" puts back what is gone"))
	}
	defer func() {
		if err != nil {
			for _, one := range list {
				_ = one.File.Close()
			}
		}
	}()
	err = within(s.prefix+"-"+bastion, func() error {
		for _, a := range addrs {
			var lc net.ListenConfig
			l, err := lc.Listen(ctx, "tcp", netip.AddrPortFrom(a, flow.GatewayService.Port()).String())
			if err != nil {
				return err
			}
			f, err := l.(*net.TCPListener).File()
			if err = errors.Join(err, l.Close()); err != nil {
				return err
			}
			list = append(list, driver.GatewaySocket{File: f})
		}
		return nil
	})
	return list, err
}

// whoseAddress names the machine, or the bastion, that has an inside address; "" where none has.
func (s *Site) whoseAddress(ctx context.Context, kind change.Kind, a netip.Addr) (name string, err error) {
	err = s.read(ctx, func(tx *sql.Tx) error {
		list, err := readResources(ctx, tx)
		for _, t := range list {
			if t.Kind == kind && slices.Contains(insideOf(t), a) {
				name = t.Name
			}
		}
		return err
	})
	return name, err
}

// dialTime is how long a gateway waits for a machine to answer.
const dialTime = 5 * time.Second

// dialFrom begins a TCP session from a bastion.
func (s *Site) dialFrom(ctx context.Context, bastion string, from netip.Addr, to netip.AddrPort) (net.Conn, error) {
	var c net.Conn
	err := within(s.prefix+"-"+bastion, func() (err error) {
		c, err = dialer("tcp", from, dialTime).DialContext(ctx, "tcp", to.String())
		return err
	})
	switch {
	case errors.Is(err, unix.ECONNREFUSED):
		name, err := s.whoseAddress(ctx, change.Machine, to.Addr())
		if err != nil {
			return nil, err
		}
		_, m, _ := s.look(ctx, name)
		return nil, &driver.RefusedError{To: to, Machine: name, State: m.State}
	case errors.Is(err, os.ErrDeadlineExceeded) || errors.Is(err, unix.ETIMEDOUT):
		return nil, &driver.UnreachableError{To: to, Reason: "no answer"}
	case err != nil:
		return nil, err
	}
	return &session{c}, nil
}
