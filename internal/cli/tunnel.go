package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/crypto/ssh"

	"ironbark/internal/clientnet"
	"ironbark/internal/driver"
	"ironbark/internal/flow"
	"ironbark/internal/sentence"
	"ironbark/internal/work"
)

func (a *app) tunnelCommand() *cobra.Command {
	opt := &connecting{}
	var desktop string
	c := &cobra.Command{
		Use: "tunnel MACHINE:SERVICE[=PORT]…", Short: "Forward ports of this computer to services of machines",
		Long: "Lead ports of this computer to TCP services of machines, until it is interrupted: by the way that is open, through a bastion\n" +
			"where that is it. Without =PORT the port is the service's own, or a free one. Only this computer gets in. With --for and\n" +
			"--because what is closed is opened first, and closed at the end.",
		Example: "  ironbark tunnel chart-desk:rdp --desktop-file charts.rdp\n  ironbark tunnel tide-archive:tcp/7400=17400 gauge-web-1:https",
		RunE: a.with(func(ctx context.Context, w *work.Work, args []string) error {
			if a.json {
				return usage("a tunnel has no document: leave --json out")
			}
			if len(args) == 0 {
				return usage("tunnel takes machines and their services: MACHINE:SERVICE")
			}
			if (opt.length == "") != (opt.because == "") {
				return usage("--for and --because go together: for how long, and why")
			}
			if err := opt.caller(w); err != nil {
				return err
			}
			return a.tunnel(ctx, w, args, opt, desktop)
		}),
	}
	opt.flags(c)
	_ = c.Flags().MarkHidden("key") // machines are not logged in to
	c.Flags().Lookup("for").Usage = "open what is closed for at most so long, and close it at the end; with --because"
	c.Flags().StringVar(&desktop, "desktop-file", "", "write how a remote desktop's client gets to the first rdp (a .rdp file)")
	return c
}

// tunnelEnd is one end of a tunnel here, and where it leads.
type tunnelEnd struct {
	machine string
	service flow.Service
	name    string // of the service
	port    uint16 // here; 0: any
}

// tunnelEnds reads MACHINE:SERVICE[=PORT].
func (a *app) tunnelEnds(ctx context.Context, w *work.Work, args []string) (list []tunnelEnd, err error) {
	st, err := w.Installed(ctx)
	if err != nil {
		return nil, err
	}
	for _, word := range args {
		words, here, given := strings.Cut(word, "=")
		machine, service, ok := strings.Cut(words, ":")
		if !ok || sentence.ValidName(machine) != nil {
			return nil, usage("a tunnel leads to MACHINE:SERVICE, such as chart-desk:rdp; “%s” does not", word)
		}
		s, err := sentence.ParseServices(service)
		if err != nil {
			return nil, err
		}
		tcp := flow.ServicesOf(st.Estate, s).Runs()
		if len(tcp) == 0 || tcp[0].Lo != tcp[0].Hi && service != "rdp" || tcp[0].Lo >= flow.UDPPort(0) {
			return nil, usage("a tunnel leads to one TCP port, and “%s” is none", service)
		}
		e := tunnelEnd{machine, tcp[0].Lo, service, tcp[0].Lo.Port()}
		if given {
			n, err := strconv.ParseUint(here, 10, 16)
			if err != nil || n == 0 {
				return nil, usage("“%s” is no port of this computer", here)
			}
			e.port = uint16(n)
		} else if e.port < 1024 {
			e.port = 0
		}
		list = append(list, e)
	}
	return list, nil
}

// tunnel finds the ways, listens, and carries what comes, until it is interrupted.
func (a *app) tunnel(ctx context.Context, w *work.Work, args []string, opt *connecting, desktop string) (err error) {
	ctx, stop := untilSignal(ctx)
	defer stop()
	ctx, end := a.untilUnread(ctx)
	defer end()
	ends, err := a.tunnelEnds(ctx, w, args)
	if err != nil {
		return err
	}
	if desktop != "" && !slices.ContainsFunc(ends, func(e tunnelEnd) bool { return e.name == "rdp" }) {
		return usage("--desktop-file needs a tunnel to rdp")
	}
	carrier := &carrier{a: a, w: w, gates: map[string]*ssh.Client{}}
	defer carrier.close()
	var shuts []func() error // what was opened for it, in the order in which it was
	defer func() {
		for _, shut := range slices.Backward(shuts) {
			err = errors.Join(err, shut())
		}
	}()
	var ways []*work.AccessRoute
	for i, e := range ends {
		way, shut, err := a.serviceRoute(ctx, w, e, opt)
		if shut != nil {
			shuts = append(shuts, shut)
		}
		if err != nil {
			return err
		}
		l, err := listenHere(ctx, args[i], e.port)
		if err != nil {
			return err
		}
		defer l.Close()
		a.print.Line("%s  leads to %s of %s, %s", l.Addr(), e.name, way.Machine, by(way))
		if e.name == "rdp" && desktop != "" {
			if err := writeDesktopFile(desktop, l.Addr().String()); err != nil {
				return err
			}
			a.print.Note("written: %s", desktop)
			desktop = ""
		}
		go carrier.accept(ctx, l, way, opt)
		ways = append(ways, way)
	}
	a.print.Note("tunnels stay open until Ctrl-C, or until what lets them in ends")
	return a.untilClosed(ctx, w, ways, opt)
}

// lookAgain is how often a tunnel looks whether its way is still open.
const lookAgain = time.Second

// untilClosed waits until a signal comes, or until none of some ways is open any more, and reports each that ends. The error is that of the
// last one.
func (a *app) untilClosed(ctx context.Context, w *work.Work, ways []*work.AccessRoute, opt *connecting) error {
	tick := time.NewTicker(lookAgain)
	defer tick.Stop()
	ended := map[*work.AccessRoute]bool{}
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-tick.C:
		}
		for _, way := range ways {
			_, err := w.AccessRouteTo(ctx, way.Machine, way.Service, opt.keys())
			if !isClosed(err) {
				ended[way] = ended[way] && err != nil // another error says nothing of the way
				continue
			}
			if !ended[way] {
				a.print.Note("ended: %s of %s is closed for you now", way.Service, way.Machine)
			}
			ended[way] = true
			if !slices.ContainsFunc(ways, func(o *work.AccessRoute) bool { return !ended[o] }) {
				return err
			}
		}
	}
}

// isClosed reports whether an error says that no way leads to a service: it is closed, or its machine is gone.
func isClosed(err error) bool {
	_, closed := errors.AsType[*work.NoAccessError](err)
	_, gone := errors.AsType[*driver.NoMachineError](err)
	return closed || gone
}

// listenHere listens on a port of this computer: the one that was asked for, the service's own, or where
// that is taken a free one.
func listenHere(ctx context.Context, word string, port uint16) (net.Listener, error) {
	var lc net.ListenConfig
	l, err := lc.Listen(ctx, "tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(int(port))))
	if err != nil && strings.Contains(word, "=") {
		return nil, wrong("port %d of this computer cannot be had: %v", port, err)
	}
	if err != nil {
		return lc.Listen(ctx, "tcp", "127.0.0.1:0")
	}
	return l, nil
}

// serviceRoute finds the way to a service, and opens it where that was asked for or is agreed to. shut, where
// it is not nil, closes it again.
func (a *app) serviceRoute(ctx context.Context, w *work.Work, e tunnelEnd, opt *connecting) (way *work.AccessRoute, shut func() error, err error) {
	way, err = w.AccessRouteTo(ctx, e.machine, e.service, opt.keys())
	if _, closed := errors.AsType[*work.NoAccessError](err); !closed {
		return way, nil, err
	}
	if opt.length == "" {
		a.tellClosed(w, err)
		if !a.offered(w, err, opt) {
			return nil, nil, err
		}
	}
	if shut, err = a.openService(ctx, w, e.name, e.machine, opt); err != nil {
		return nil, nil, err
	}
	way, err = w.AccessRouteTo(ctx, e.machine, e.service, opt.keys())
	a.tellClosed(w, err)
	return way, shut, err
}

// carrier carries what comes to the ends of tunnels. Several share a gateway's connection.
type carrier struct {
	a *app
	w *work.Work

	mu    sync.Mutex
	gates map[string]*ssh.Client
}

func (c *carrier) close() {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, g := range c.gates {
		_ = g.Close()
	}
}

// accept carries each connection that comes.
func (c *carrier) accept(ctx context.Context, l net.Listener, way *work.AccessRoute, opt *connecting) {
	for {
		here, err := l.Accept()
		if err != nil {
			return
		}
		go func() {
			there, err := c.dial(ctx, way, opt)
			if err != nil {
				if ctx.Err() == nil {
					c.a.print.Note("%s of %s: %v", way.Service, way.Machine, err)
				}
				_ = here.Close()
				return
			}
			stop := context.AfterFunc(ctx, func() { _ = there.Close() })
			clientnet.Join(here, there)
			stop()
		}()
	}
}

// dial connects along a way, which is looked for again: what was open may be so no more, and another way may.
func (c *carrier) dial(ctx context.Context, before *work.AccessRoute, opt *connecting) (net.Conn, error) {
	var useless *ssh.Client // whose connection is over
	for {
		way, gate, err := c.gateTo(ctx, before, opt, useless)
		if err != nil {
			return nil, err
		}
		if gate == nil {
			return c.w.Dial(ctx, way)
		}
		conn, err := work.Through(gate, way)
		if _, refused := errors.AsType[*work.NotForwardedError](err); err == nil || refused || useless != nil {
			return conn, err
		}
		useless = gate
	}
}

// gateTo finds the way, and where it leads through a bastion the connection to its gateway: a new one in
// place of one that is of no use. Only this is done one after the other.
func (c *carrier) gateTo(ctx context.Context, before *work.AccessRoute, opt *connecting, useless *ssh.Client) (*work.AccessRoute, *ssh.Client, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	way, err := c.w.AccessRouteTo(ctx, before.Machine, before.Service, opt.keys())
	if err != nil || way.Jump == nil {
		return way, nil, err
	}
	name := way.Jump.Bastion
	if gate := c.gates[name]; gate != nil && gate != useless {
		return way, gate, nil
	} else if gate != nil {
		_ = gate.Close()
		delete(c.gates, name)
	}
	gate, err := c.w.Jump(ctx, way)
	if err == nil {
		c.gates[name] = gate
	}
	return way, gate, err
}

// writeDesktopFile writes what clients of remote desktops open: a line a setting, NAME:TYPE:VALUE.
func writeDesktopFile(path, at string) error {
	text := fmt.Sprintf("full address:s:%s\r\nusername:s:keeper\r\nprompt for credentials:i:1\r\nauthentication level:i:2\r\n", at)
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		return wrong("--desktop-file: %v", err)
	}
	return nil
}
