package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"os/signal"

	"github.com/spf13/cobra"
	"golang.org/x/sys/unix"

	"ironbark/internal/clientnet"
	"ironbark/internal/driver"
	"ironbark/internal/flow"
	"ironbark/internal/work"
)

// simListenCommand makes a network in which plain programs are clients of the stand-in cloud.
func (a *app) simListenCommand() *cobra.Command {
	var from []string
	var loopback bool
	c := &cobra.Command{
		Use: "listen [-- COMMAND…]", Short: "Let plain programs be clients of the stand-in cloud: ssh, curl",
		Long: "Run a command in a network in which the addresses of the estate are real: each packet is judged by the installed\n" +
			"tables, and what passes gets to the machines, which speak SSH (scp and sftp, too), HTTP, and the first words of a remote desktop.\n" +
			"What is closed is silent. The command has the addresses from which the stand-in cloud sees you, or those of --from.\n\n" +
			"Without a command, a shell. Where no network can be made (it needs /dev/net/tun), or with --loopback, it listens on high\n" +
			"ports of 127.0.0.1 instead, until it is interrupted, and tells which port leads where: what would be silent is refused there.",
		Example: "  ironbark sim listen -- ssh keeper@203.0.113.10\n  ironbark sim listen --from 192.0.2.77 -- curl -m 2 https://203.0.113.11\n  ironbark sim listen --loopback",
		RunE: a.withSim(func(ctx context.Context, w *work.Work, args []string) error {
			addrs, err := a.clientAddrs(ctx, w, from)
			if err != nil {
				return err
			}
			if a.json && !loopback {
				return usage("a command among clients has no document: leave --json out")
			}
			if loopback && len(args) > 0 {
				return usage("--loopback takes no command: run it beside")
			}
			if loopback {
				return a.listenOnLoopback(ctx, w, addrs)
			}
			command := args
			if len(args) == 0 {
				command = []string{shell()}
			}
			err = a.amongClients(ctx, w, addrs, command)
			if never, ok := errors.AsType[*clientnet.NeverError](err); ok && len(args) == 0 {
				a.print.NoteWrap("", never.Error())
				return a.listenOnLoopback(ctx, w, addrs)
			}
			return err
		}),
	}
	c.Flags().StringSliceVar(&from, "from", nil, "the addresses that the command has (default: yours, as the stand-in cloud sees you)")
	c.Flags().BoolVar(&loopback, "loopback", false, "listen on high ports of 127.0.0.1")
	return c
}

func shell() string {
	if s := os.Getenv("SHELL"); s != "" {
		return s
	}
	return "/bin/sh"
}

func (a *app) clientAddrs(ctx context.Context, w *work.Work, from []string) (list []netip.Addr, err error) {
	if len(from) == 0 {
		return w.Site.ClientAddrs(ctx)
	}
	for _, word := range from {
		addr, err := netip.ParseAddr(word)
		if err != nil || addr.Zone() != "" || addr.IsLoopback() || addr.IsMulticast() || addr.IsUnspecified() {
			return nil, usage("--from takes addresses of clients, not “%s”", word)
		}
		list = append(list, addr.Unmap())
	}
	return list, nil
}

// amongClients runs a command in a network of clients, and ends as it does.
func (a *app) amongClients(ctx context.Context, w *work.Work, addrs []netip.Addr, command []string) error {
	c, tun, begin, err := clientnet.Command(addrs, command, a.in, a.print.Out, a.print.Err)
	if err != nil {
		return err
	}
	defer tun.Close()
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	served := make(chan error, 1)
	go func() { served <- clientnet.Serve(ctx, int(tun.Fd()), a.cloud(w)) }()
	signals := make(chan os.Signal, 8) // a terminal sends them to the command, too: it decides
	signal.Notify(signals, unix.SIGINT, unix.SIGQUIT)
	defer signal.Stop(signals)
	if err := begin(); err != nil {
		return err
	}
	ended := make(chan error, 1)
	network := clientnet.Network(c.Process.Pid)
	go func() { ended <- c.Wait() }()
	select {
	case err = <-ended:
		clientnet.EndLeftovers(network)
	case err = <-served:
		_ = c.Process.Kill()
		return errors.Join(err, <-ended)
	}
	if e, ok := errors.AsType[*exec.ExitError](err); ok {
		if e.ExitCode() > 0 {
			return remoteStatusError(e.ExitCode())
		}
		return fmt.Errorf("the command was ended: %w", e)
	}
	return err
}

// cloud is the stand-in cloud as its clients meet it.
func (a *app) cloud(w *work.Work) clientnet.Cloud { return &standIn{w} }

type standIn struct{ w *work.Work }

// Dial connects a client. What a gateway would answer that is not running is refused.
func (s *standIn) Dial(ctx context.Context, from netip.Addr, to netip.AddrPort) (net.Conn, error) {
	c, err := s.w.Site.Dial(ctx, from, to)
	_, refused := errors.AsType[*driver.RefusedError](err)
	gateway, none := errors.AsType[*driver.NoGatewayError](err)
	if none && s.w.ServeOne != nil {
		return s.w.ServeOne(ctx, gateway.Bastion, from)
	}
	if refused || none {
		return nil, clientnet.ErrRefused
	}
	return c, err
}

// Ping reports whether an echo request is answered.
func (s *standIn) Ping(ctx context.Context, from, to netip.Addr) bool {
	list, err := s.w.Site.Probe(ctx, driver.Packet{Source: from, Target: to, Service: flow.Ping})
	if err != nil {
		return false
	}
	for _, f := range list {
		if f.Open && f.Machine != "" {
			st, err := s.w.Installed(ctx)
			return err == nil && st.Report.Machines[f.Machine].State == driver.Running
		}
	}
	return false
}
