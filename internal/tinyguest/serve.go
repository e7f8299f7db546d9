package tinyguest

import (
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path"
	"strconv"
	"sync"
	"time"

	"ironbark/internal/desktop"
	"ironbark/internal/flow"
	"ironbark/internal/sshkey"
)

// Services at which every tiny guest answers, as [flow.ServiceRuns] writes them.
var Services = []string{"tcp/22", "tcp/80", "tcp/443", "tcp/3389"}

// listen answers at each service, and returns them.
func (m *machine) listen() ([]string, error) {
	words := append(append([]string{}, Services...), m.seed.Listens...)
	services, err := flow.ParseServiceRuns(words)
	if err != nil {
		return nil, err
	}
	for _, run := range services.Runs() {
		for service := run.Lo; service <= run.Hi; service++ {
			if service == flow.TCPPort(22) { // since before
				continue
			}
			if err := m.listenAt(service); err != nil {
				return nil, err
			}
		}
	}
	return flow.ServiceRuns(services.Union(flow.ServicesAt(flow.Ping))), nil
}

func (m *machine) listenAt(service flow.Service) error {
	at := ":" + strconv.Itoa(int(service.Port()))
	if service >= flow.UDPPort(0) {
		c, err := net.ListenPacket("udp", at)
		if err != nil {
			return err
		}
		go m.answerPackets(c)
		return nil
	}
	l, err := net.Listen("tcp", at)
	if err != nil {
		return err
	}
	switch service {
	case flow.TCPPort(22):
		go m.serveSSH(l)
	case flow.TCPPort(80):
		go m.web(l)
	case flow.TCPPort(443):
		once := sync.OnceValues(m.certificate) // making one takes a while, and most machines need none
		go m.web(tls.NewListener(l, &tls.Config{MinVersion: tls.VersionTLS12, GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) { return once() }}))
	case flow.TCPPort(3389):
		go accept(l, desktop.Greet)
	default:
		go accept(l, func(c net.Conn) { fmt.Fprintf(c, "%s %s\r\n", m.seed.Host, service) })
	}
	return nil
}

func accept(l net.Listener, serve func(net.Conn)) {
	for {
		c, err := l.Accept()
		if err != nil {
			return
		}
		go func() {
			defer c.Close()
			serve(c)
		}()
	}
}

// answerPackets says who is here to whatever comes over UDP.
func (m *machine) answerPackets(c net.PacketConn) {
	for buffer := make([]byte, 1500); ; {
		_, from, err := c.ReadFrom(buffer)
		if err == nil {
			_, err = c.WriteTo([]byte(m.seed.Host+"\n"), from)
		}
		if errors.Is(err, net.ErrClosed) {
			return
		}
	}
}

// webRoot is where the machine has its pages.
const webRoot = "/srv/www"

// web answers HTTP with the machine's pages. Without a first page, and at /healthz, it says that it is up.
func (m *machine) web(l net.Listener) {
	h := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		at := path.Join(webRoot, path.Clean("/"+r.URL.Path))
		info, err := os.Stat(at)
		if err == nil && info.IsDir() {
			at = path.Join(at, "index.html")
			info, err = os.Stat(at)
		}
		switch {
		case err == nil && info.Mode().IsRegular():
			http.ServeFile(w, r, at)
		case r.URL.Path == "/" || r.URL.Path == "/healthz":
			_, _ = io.WriteString(w, m.seed.Host+" is up\n")
		default:
			http.NotFound(w, r)
		}
	})
	_ = (&http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: time.Minute, MaxHeaderBytes: 64 << 10}).Serve(l)
}

// certificate is the machine's own, signed by its host key.
func (m *machine) certificate() (*tls.Certificate, error) {
	now := time.Now()
	cert, err := sshkey.Certificate(m.seed.HostKey, m.seed.Host, now.Add(-time.Hour), now.AddDate(10, 0, 0))
	return &cert, err
}
