package cli

import (
	"context"
	"net"
	"net/netip"
	"strings"

	"github.com/spf13/cobra"

	"ironbark/internal/stun"
	"ironbark/internal/work"
)

// simSTUNCommand runs the stand-in cloud's STUN server.
func (a *app) simSTUNCommand() *cobra.Command {
	var listen string
	c := &cobra.Command{
		Use: "stun", Short: "Run the stand-in cloud's STUN server, until it is interrupted", Args: noArgs,
		Long: "Run a STUN server (RFC 8489) that tells whoever asks from which address the stand-in cloud sees them. An estate\n" +
			"uses it with stun: 127.0.0.1:3478.",
		RunE: a.withSim(func(ctx context.Context, w *work.Work, _ []string) error {
			ctx, stop := untilSignal(ctx)
			defer stop()
			if at, err := netip.ParseAddrPort(listen); err != nil || !at.Addr().IsLoopback() {
				return usage("--listen takes a loopback address and a port, such as 127.0.0.1:3478, not “%s”", listen)
			}
			var own net.ListenConfig
			socket, err := own.ListenPacket(ctx, "udp", listen)
			if err != nil {
				return wrong("%v", err)
			}
			defer socket.Close()
			callers, err := w.Site.ClientAddrs(ctx)
			if err != nil {
				return err
			}
			var words []string
			for _, c := range callers {
				words = append(words, c.String())
			}
			a.print.Line("listening on %s; whoever asks is seen at %s", socket.LocalAddr(), strings.Join(words, " or "))
			return stun.Serve(ctx, socket, func(from netip.AddrPort) netip.AddrPort {
				for _, c := range callers {
					if c.Is4() == from.Addr().Unmap().Is4() {
						return netip.AddrPortFrom(c, from.Port())
					}
				}
				return from
			})
		}),
	}
	c.Flags().StringVar(&listen, "listen", "127.0.0.1:3478", "where it listens: a loopback address and a port; 0 is a free one")
	return c
}
