package gateway

import (
	"context"
	"errors"
	"net"
	"net/http"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"
)

// metrics are what a gateway counts for Prometheus.
type metrics struct {
	registry                            *prometheus.Registry
	sessions, refused, failed, restarts prometheus.Counter
	bytes                               *prometheus.CounterVec
}

func newMetrics() *metrics {
	counter := func(name, help string) prometheus.Counter {
		return prometheus.NewCounter(prometheus.CounterOpts{Namespace: "ironbark", Subsystem: "gateway", Name: name, Help: help})
	}
	m := &metrics{
		registry: prometheus.NewRegistry(),
		sessions: counter("sessions_total", "Sessions that were forwarded."),
		refused:  counter("refused_total", "Requests of people who had logged in that were not forwarded."),
		failed:   counter("failed_logins_total", "Connections that ended before anybody had logged in."),
		restarts: counter("restarts_total", "How often the process that faces the internet was started anew."),
		bytes:    prometheus.NewCounterVec(prometheus.CounterOpts{Namespace: "ironbark", Subsystem: "gateway", Name: "bytes_total", Help: "Bytes that were forwarded."}, []string{"direction"}),
	}
	m.registry.MustRegister(m.sessions, m.refused, m.failed, m.restarts, m.bytes)
	return m
}

func (m *metrics) carried(up, down int64) {
	m.bytes.WithLabelValues("to_machines").Add(float64(max(0, up)))
	m.bytes.WithLabelValues("to_clients").Add(float64(max(0, down)))
}

// ServeMetrics answers /metrics and /health on a listener until ctx ends. Health is 200 while people
// are let in, and 503 otherwise.
func (g *Gateway) ServeMetrics(ctx context.Context, l net.Listener) error {
	g.metrics.registry.MustRegister(
		prometheus.NewGaugeFunc(prometheus.GaugeOpts{Namespace: "ironbark", Subsystem: "gateway", Name: "sessions", Help: "Sessions that go on."}, func() float64 { return float64(len(g.Who())) }),
		prometheus.NewGaugeFunc(prometheus.GaugeOpts{Namespace: "ironbark", Subsystem: "gateway", Name: "refreshed_seconds", Help: "How long ago what the gateway goes by was last known to be right."}, func() float64 {
			_, ago := g.healthy()
			return ago.Seconds()
		}),
	)
	mux := http.NewServeMux()
	mux.Handle("/metrics", promhttp.HandlerFor(g.metrics.registry, promhttp.HandlerOpts{}))
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
