package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strconv"

	"ironbark/internal/clientnet"
	"ironbark/internal/flow"
	"ironbark/internal/work"
)

// loopbackFile keeps which port of this computer leads to which one of the estate.
const loopbackFile = "loopback.json"

// The ports that are given, and how many.
const (
	firstPort = 42000
	mostPorts = 2000
)

// listenOnLoopback listens on a port of this computer for each of the estate's, until it is interrupted.
func (a *app) listenOnLoopback(ctx context.Context, w *work.Work, from []netip.Addr) error {
	ctx, stop := untilSignal(ctx)
	defer stop()
	st, err := w.Installed(ctx)
	if err != nil {
		return err
	}
	ports := st.Ports()
	if len(ports) > mostPorts {
		return wrong("the estate has %d ports; %d can be listened for here. A network has no such limit: ironbark sim listen", len(ports), mostPorts)
	}
	kept, err := readLoopback(w)
	if err != nil {
		return err
	}
	rows := [][]string{}
	names := flow.Namings(st.Estate.NamesOf("service"), st.Estate)
	for _, p := range ports {
		l, err := kept.listen(ctx, p.At.String())
		if err != nil {
			return err
		}
		defer l.Close()
		go a.acceptClients(ctx, w, l, from, p.At)
		rows = append(rows, []string{l.Addr().String(), p.At.String(), p.Name, flow.NameService(p.Service, names)})
	}
	if err := kept.write(w); err != nil {
		return err
	}
	if a.json {
		doc := loopbackDoc{Ports: []loopbackPortDoc{}}
		for _, r := range rows {
			doc.Ports = append(doc.Ports, loopbackPortDoc{r[0], r[1], r[2]})
		}
		if err := a.print.JSON(doc); err != nil {
			return err
		}
	} else {
		a.print.Table([]string{"HERE", "LEADS TO", "OF", "SERVICE"}, rows)
	}
	a.print.NoteWrap("", "What is closed is refused here, and not silent as the stand-in cloud has it; other ports and ping are not there at all.")
	<-ctx.Done()
	return nil
}

// acceptClients lets each client in that the stand-in cloud would, and refuses others.
func (a *app) acceptClients(ctx context.Context, w *work.Work, l net.Listener, from []netip.Addr, to netip.AddrPort) {
	for {
		c, err := l.Accept()
		if err != nil {
			return
		}
		go func() {
			for _, client := range from {
				if client.Is4() != to.Addr().Is4() {
					continue
				}
				if there, err := a.cloud(w).Dial(ctx, client, to); err == nil {
					clientnet.Join(c, there)
					return
				}
				break
			}
			_ = c.(*net.TCPConn).SetLinger(0) // a reset, as where nothing listens
			_ = c.Close()
		}()
	}
}

// loopback is which port is for which one of the estate.
type loopback map[string]uint16

func readLoopback(w *work.Work) (loopback, error) {
	kept := loopback{}
	data, err := os.ReadFile(filepath.Join(w.Folder.Dir, work.StateDir, loopbackFile))
	if errors.Is(err, fs.ErrNotExist) {
		return kept, nil
	}
	if err == nil {
		err = json.Unmarshal(data, &kept)
	}
	if err != nil {
		return nil, wrong("%s: %v; remove it, and ports are given anew", loopbackFile, err)
	}
	return kept, nil
}

func (l loopback) write(w *work.Work) error {
	data, err := json.MarshalIndent(l, "", "  ")
	if err != nil {
		return err
	}
	return work.WriteFile(filepath.Join(w.Folder.Dir, work.StateDir, loopbackFile), append(data, '\n'), 0o600)
}

// listen listens on the port that was given before, or on the next one that is free.
func (l loopback) listen(ctx context.Context, to string) (net.Listener, error) {
	var lc net.ListenConfig
	at := func(port uint16) (net.Listener, error) {
		return lc.Listen(ctx, "tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(int(port))))
	}
	if port, known := l[to]; known {
		if s, err := at(port); err == nil {
			return s, nil
		}
	}
	taken := map[uint16]bool{}
	for _, port := range l {
		taken[port] = true
	}
	for port := uint16(firstPort); port < firstPort+2*mostPorts; port++ {
		if taken[port] {
			continue
		}
		if s, err := at(port); err == nil {
			l[to] = port
			return s, nil
		}
	}
	return nil, fmt.Errorf("no port of 127.0.0.1 from %d on is free", firstPort)
}

// loopbackDoc lists the ports of this computer that lead to the stand-in cloud.
type loopbackDoc struct {
	Ports []loopbackPortDoc `json:"ports"`
}

// loopbackPortDoc is a part of the document loopbackDoc.
type loopbackPortDoc struct {
	Here string `json:"here"`
	To   string `json:"to"`
	Of   string `json:"of"`
}
