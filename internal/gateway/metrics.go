package gateway

import (
	"context"
	"errors"
	"net"
	"net/http"
	"time"

	"github.com/VictoriaMetrics/metrics"
)

// counters are what a gateway counts, for whoever reads the Prometheus text format.
type counters struct {
	set                                 *metrics.Set
	sessions, refused, failed, restarts *metrics.Counter
	toMachines, toClients               *metrics.Counter // bytes
}

// prefix begins the names of all metrics.
const prefix = "ironbark_gateway_"

func newCounters() *counters {
	set := metrics.NewSet()
	return &counters{
		set:        set,
		sessions:   set.NewCounter(prefix + "sessions_total"),
		refused:    set.NewCounter(prefix + "refused_total"),
		failed:     set.NewCounter(prefix + "failed_logins_total"),
		restarts:   set.NewCounter(prefix + "restarts_total"),
		toMachines: set.NewCounter(prefix + `bytes_total{direction="to_machines"}`),
		toClients:  set.NewCounter(prefix + `bytes_total{direction="to_clients"}`),
	}
}

func (c *counters) carried(up, down int64) {
	c.toMachines.AddInt64(max(0, up))
	c.toClients.AddInt64(max(0, down))
}

// ServeMetrics answers /metrics and /health on a listener until ctx ends. Health is 200 while people
// are let in, and 503 otherwise.
func (g *Gateway) ServeMetrics(ctx context.Context, l net.Listener) error {
	g.counters.set.NewGauge(prefix+"sessions", func() float64 { return float64(len(g.Who())) })
	g.counters.set.NewGauge(prefix+"refreshed_seconds", func() float64 {
		_, ago := g.healthy()
		return ago.Seconds()
	})
	metrics.ExposeMetadata(true) // which of them are counters
	mux := http.NewServeMux()
	mux.HandleFunc("/metrics", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/plain; version=0.0.4; charset=utf-8")
		g.counters.set.WritePrometheus(w)
	})
	mux.HandleFunc("/health", func(w http.ResponseWriter, _ *http.Request) {
		if ok, ago := g.healthy(); !ok {
			http.Error(w, "nobody new is let in: what the gateway goes by was last read "+ago.Round(time.Second).String()+" ago", http.StatusServiceUnavailable)
			return
		}
		_, _ = w.Write([]byte("ok\n"))
	})
	s := &http.Server{Handler: mux, ReadHeaderTimeout: 5 * time.Second, WriteTimeout: 10 * time.Second, MaxHeaderBytes: 8 << 10}
	defer context.AfterFunc(ctx, func() { _ = s.Close() })()
	if err := s.Serve(l); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

func (g *Gateway) healthy() (bool, time.Duration) {
	g.mu.Lock()
	defer g.mu.Unlock()
	ago := time.Since(g.fresh)
	return g.child != nil && ago <= g.limits.Stale, ago
}
