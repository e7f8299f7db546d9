package cli

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"os/signal"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/sys/unix"

	"ironbark/internal/gateway"
	"ironbark/internal/sentence"
	"ironbark/internal/work"
)

// serving are the options of a gateway that serves.
type serving struct {
	listen, metrics, logs string
	idle, longest, drain  string
}

func (a *app) gatewayCommand() *cobra.Command {
	opt := &serving{}
	var who bool
	var end int64
	c := &cobra.Command{
		Use: "gateway [BASTION]", Short: "Run the SSH gateway of a bastion; list and end its sessions",
		Long: "Run the SSH gateway of a bastion, until it is interrupted: people log in to it with their keys, and it forwards them to\n" +
			"what routes let them reach. What is no longer allowed ends within a second. SIGTERM lets what goes on come to its end,\n" +
			"for a while; SIGHUP reads the estate anew at once.\n\n" +
			"With --who the sessions that go on are listed, and with --end one of them is ended.",
		Example: "  ironbark gateway beacon\n  ironbark gateway --who\n  ironbark gateway --end 118\n  ssh -J mara@203.0.113.14 keeper@gauge-web-1", ValidArgsFunction: a.completeNouns("bastion"),
		RunE: a.with(func(ctx context.Context, w *work.Work, args []string) error {
			switch {
			case len(args) > 1:
				return usage("gateway takes one bastion")
			case who && end != 0:
				return usage("say either --who or --end")
			case who || end != 0:
				return a.gatewaySessions(ctx, w, args, end)
			}
			if a.json {
				return usage("a gateway that serves has no document: leave --json out; --log-format json tells what happens")
			}
			name, err := a.oneBastion(ctx, w, args)
			if err != nil {
				return err
			}
			return a.serveGateway(ctx, w, name, opt)
		}),
	}
	c.Flags().BoolVar(&who, "who", false, "list the sessions that go on")
	c.Flags().Int64Var(&end, "end", 0, "end the session of this number")
	c.Flags().StringVar(&opt.listen, "listen", "", "listen on this address and port, too; what comes from this very computer counts as “me”")
	c.Flags().StringVar(&opt.metrics, "metrics", "", "answer /metrics and /health on this loopback address and port")
	c.Flags().StringVar(&opt.logs, "log-format", "text", "text or json: how it tells what happens, on standard error")
	c.Flags().StringVar(&opt.idle, "idle", "1h", "end a session over which nothing comes for so long")
	c.Flags().StringVar(&opt.longest, "longest", "12h", "end a connection that goes on for so long")
	c.Flags().StringVar(&opt.drain, "drain", "30s", "how long what goes on may still take after SIGTERM")
	return c
}

// oneBastion is the bastion that is named, or the only one that there is.
func (a *app) oneBastion(ctx context.Context, w *work.Work, args []string) (string, error) {
	if len(args) == 1 {
		return args[0], nil
	}
	st, err := w.Installed(ctx)
	if err != nil {
		return "", err
	}
	switch list := st.Estate.NamesOf("bastion"); len(list) {
	case 1:
		return list[0], nil
	case 0:
		return "", wrong("there is no bastion here: ironbark add bastion NAME --network NETWORK makes one")
	default:
		return "", usage("say whose gateway: %s", strings.Join(list, " or "))
	}
}

// check judges the addresses that were given, before anything is done.
func (o *serving) check() error {
	if _, err := netip.ParseAddrPort(o.listen); o.listen != "" && err != nil {
		return usage("--listen takes an address and a port, such as 127.0.0.1:2222, not “%s”", o.listen)
	}
	if at, err := netip.ParseAddrPort(o.metrics); o.metrics != "" && (err != nil || !at.Addr().IsLoopback()) {
		return usage("--metrics takes a loopback address and a port, such as 127.0.0.1:9122, not “%s”", o.metrics)
	}
	return nil
}

// limits reads the options' own.
func (o *serving) limits(sessions int) (gateway.Limits, error) {
	l := gateway.DefaultLimits(sessions)
	for _, one := range []struct {
		flag, text string
		to         *time.Duration
	}{{"idle", o.idle, &l.Idle}, {"longest", o.longest, &l.Longest}, {"drain", o.drain, &l.DrainingFor}} {
		d, err := sentence.ParseDuration(one.text)
		if err != nil {
			return l, usage("--%s: %v", one.flag, err)
		}
		*one.to = d.Length()
	}
	return l, nil
}

// serveGateway runs a gateway until it is told to end.
func (a *app) serveGateway(ctx context.Context, w *work.Work, name string, opt *serving) error {
	if err := opt.check(); err != nil {
		return err
	}
	log, err := logTo(a.print.Err, opt.logs)
	if err != nil {
		return err
	}
	g, err := w.Gateway(ctx, name)
	if err != nil {
		return err
	}
	policy, err := g.Policy(ctx)
	if err != nil {
		return err
	}
	limits, err := opt.limits(policy.Sessions)
	if err != nil {
		return err
	}
	dir := w.GatewayDir(name)
	release, err := gateway.Lock(dir, true)
	if errors.Is(err, gateway.ErrRunning) {
		return wrong("the gateway of bastion %s is running already", name)
	}
	if err != nil {
		return err
	}
	defer func() { _ = release() }()
	seed, public, err := w.GatewayKey(name)
	if err != nil {
		return err
	}
	sockets, err := a.gatewaySockets(ctx, w, name, opt.listen)
	if err != nil {
		return err
	}
	defer func() {
		for _, s := range sockets {
			_ = s.File.Close()
		}
	}()
	ctx, stop := signal.NotifyContext(ctx, unix.SIGINT, unix.SIGTERM)
	defer stop()
	background, done := context.WithCancel(context.WithoutCancel(ctx))
	defer done()
	run := gateway.New(g, seed, limits, log, sockets...)
	if err := run.Control(background, dir); err != nil {
		return err
	}
	if err := serveMetrics(background, run, opt.metrics, log); err != nil {
		return err
	}
	if err := g.Starts(ctx); err != nil {
		return err
	}
	rereadOn(background, run)
	run.Ready = func() {
		log.Info("the gateway serves", "bastion", name, "hostKey", public, "sessions", limits.Sessions)
		notifySystemd("READY=1")
	}
	err = run.Run(ctx)
	notifySystemd("STOPPING=1")
	return errors.Join(err, g.Stops(background))
}

// logTo returns a log in one of two forms.
func logTo(out io.Writer, form string) (*slog.Logger, error) {
	switch form {
	case "text":
		return slog.New(slog.NewTextHandler(out, nil)), nil
	case "json":
		return slog.New(slog.NewJSONHandler(out, nil)), nil
	}
	return nil, usage("--log-format is text or json, not “%s”", form)
}

// gatewaySockets lists the sockets that a gateway serves on: those that systemd hands over, or the
// site's, and the one that was asked for.
func (a *app) gatewaySockets(ctx context.Context, w *work.Work, name, listen string) (list []gateway.Listener, err error) {
	if list, err = systemdSockets(); err != nil {
		return nil, err
	}
	if len(list) == 0 {
		sockets, err := w.Site.ListenGateway(ctx, name)
		if err != nil {
			return nil, err
		}
		for _, s := range sockets {
			list = append(list, gateway.Listener{File: s.File, Told: s.Told})
		}
	}
	if listen == "" {
		return list, nil
	}
	var lc net.ListenConfig
	l, err := lc.Listen(ctx, "tcp", listen)
	if err != nil {
		return nil, wrong("--listen: %v", err)
	}
	f, err := l.(*net.TCPListener).File()
	if err = errors.Join(err, l.Close()); err != nil {
		return nil, err
	}
	me, err := w.Site.ClientAddrs(ctx)
	a.print.Note("listening on %s", l.Addr())
	return append(list, gateway.Listener{File: f, Loopback: me}), err
}

// serveMetrics answers questions about how a gateway does, on a loopback address.
func serveMetrics(ctx context.Context, g *gateway.Gateway, at string, log *slog.Logger) error {
	if at == "" {
		return nil
	}
	var lc net.ListenConfig
	l, err := lc.Listen(ctx, "tcp", at)
	if err != nil {
		return wrong("--metrics: %v", err)
	}
	log.Info("metrics", "address", l.Addr().String())
	go func() {
		if err := g.ServeMetrics(ctx, l); err != nil {
			log.Error("metrics", "error", err)
		}
	}()
	return nil
}

// rereadOn has a gateway look at the estate at each SIGHUP.
func rereadOn(ctx context.Context, g *gateway.Gateway) {
	hup := make(chan os.Signal, 1)
	signal.Notify(hup, unix.SIGHUP)
	go func() {
		defer signal.Stop(hup)
		for {
			select {
			case <-ctx.Done():
				return
			case <-hup:
				g.Refresh()
			}
		}
	}()
}

// systemdSockets takes over the sockets of a socket unit (sd_listen_fds(3)).
func systemdSockets() (list []gateway.Listener, err error) {
	n, bad := strconv.Atoi(os.Getenv("LISTEN_FDS"))
	if bad != nil || os.Getenv("LISTEN_PID") != strconv.Itoa(os.Getpid()) {
		return nil, nil
	}
	for i := range n {
		fd := 3 + i
		if listens, err := unix.GetsockoptInt(fd, unix.SOL_SOCKET, unix.SO_ACCEPTCONN); err != nil || listens == 0 {
			return nil, wrong("descriptor %d, which systemd handed over, is no socket that listens", fd)
		}
		unix.CloseOnExec(fd)
		list = append(list, gateway.Listener{File: os.NewFile(uintptr(fd), "socket"), Keep: true})
	}
	return list, nil
}

// notifySystemd tells systemd how it goes (sd_notify(3)), where that asked.
func notifySystemd(state string) {
	if to := os.Getenv("NOTIFY_SOCKET"); to != "" {
		if c, err := net.Dial("unixgram", to); err == nil {
			_, _ = c.Write([]byte(state))
			_ = c.Close()
		}
	}
}
