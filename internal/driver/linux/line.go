package linux

import (
	"bytes"
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"ironbark/internal/change"
	"ironbark/internal/driver"
	"ironbark/internal/store"
	"ironbark/internal/wire"
)

// A line with peers is a WireGuard tunnel: a tunnel link (tun) in the router's namespace, and a process of this program under
// another name, as a user without privileges, that carries packets between it and the peers. The packet filter takes
// from the link only what comes from its peers' addresses, and those addresses from no other link. The process outlives whoever started
// it; when it ends, nobody gets in by the line.

var _ driver.LineKeeper = (*Site)(nil)

// lineName is what such a process is called.
const lineName = "ironbark-line"

// The descriptors of a line's process besides its input, which is its configuration, and its output.
const (
	tunnelFile = 3
	statusFile = 4
)

func init() {
	if len(os.Args) == 3 && os.Args[0] == lineName {
		fmt.Println(serveLine())
		os.Exit(1)
	}
}

// serveLine is the whole life of a line's process. It returns only with an error.
func serveLine() error {
	_ = os.Chdir("/")
	var d wire.Device
	if err := json.NewDecoder(os.Stdin).Decode(&d); err != nil {
		return err
	}
	_ = os.Stdin.Close()
	return wire.Serve(d, tunnelFile, os.NewFile(statusFile, "status"), func() {
		fmt.Println(lineReady)
		_ = os.Stdout.Close()
	})
}

// lineReady is what a line's process says once it carries packets.
const lineReady = "ready"

// lineState is what the site keeps of a line.
type lineState struct {
	Private string                 `json:"private"`
	Port    int                    `json:"port"`
	Peers   map[string]change.Peer `json:"peers"`
}

func (s *Site) lineFile(line, what string) string {
	return filepath.Join(s.dir, "lines", line+"."+what)
}

// recordLine keeps a line's peers, makes its key, and its link with its addresses and the ways to its peers.
func (s *Site) recordLine(m *meta, t change.Resource) error {
	if len(t.Spec.Peers) == 0 {
		return nil // it is words alone
	}
	l := m.Lines[t.Name]
	if l == nil {
		key, err := wire.NewKey()
		if err != nil {
			return err
		}
		l = &lineState{Private: key.String()}
	}
	gone := addrsGone(l.Peers, t.Spec.Peers)
	l.Port, l.Peers = t.Spec.Port, t.Spec.Peers
	if m.Lines == nil {
		m.Lines = map[string]*lineState{}
	}
	m.Lines[t.Name] = l
	if err := s.forget(m, gone...); err != nil {
		return err
	}
	return within(s.prefix, func() error {
		name := tunnelOf(t.Name)
		if _, err := netlink.LinkByName(name); errors.As(err, &netlink.LinkNotFoundError{}) {
			attrs := netlink.NewLinkAttrs()
			attrs.Name, attrs.Group = drawnName(), groupLine
			tun := &netlink.Tuntap{LinkAttrs: attrs, Mode: netlink.TUNTAP_MODE_TUN, Flags: unix.IFF_NO_PI | unix.IFF_VNET_HDR | unix.IFF_ONE_QUEUE}
			if err := netlink.LinkAdd(tun); err != nil {
				return fmt.Errorf("the link of line %s: %w", t.Name, err)
			}
			if err := nameLink(attrs.Name, name); err != nil {
				return err
			}
			if err := inGroup(name, groupLine); err != nil {
				return err
			}
		}
		link, err := netlink.LinkByName(name)
		if err != nil {
			return err
		}
		if err := netlink.LinkSetMTU(link, lineMTU); err != nil {
			return err
		}
		var own []netip.Prefix
		for _, r := range t.Spec.Ranges {
			a := r.Addr().Next()
			own = append(own, netip.PrefixFrom(a, a.BitLen()))
		}
		if err := address(name, own...); err != nil {
			return err
		}
		for _, a := range gone {
			_ = netlink.RouteDel(&netlink.Route{LinkIndex: link.Attrs().Index, Dst: ipNet(netip.PrefixFrom(a, a.BitLen()))}) // it may not be there
		}
		for _, p := range t.Spec.Peers {
			for _, a := range p.Addrs {
				if err := route(name, netip.PrefixFrom(a, a.BitLen()), netip.Addr{}); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

// lineMTU is how large packets in a tunnel may be (RFC 4459, and what WireGuard takes of 1500: 80 bytes over IPv6).
const lineMTU = 1420

// addrsGone are the addresses that nobody has any more, or somebody with another key.
func addrsGone(before, now map[string]change.Peer) (list []netip.Addr) {
	keys := map[netip.Addr]string{}
	for _, p := range now {
		for _, a := range p.Addrs {
			keys[a] = p.Key
		}
	}
	for _, p := range before {
		for _, a := range p.Addrs {
			if keys[a] != p.Key {
				list = append(list, a)
			}
		}
	}
	return list
}

// provideLine starts the process of a line that has peers, or starts it anew where it was started for others.
func (s *Site) provideLine(ctx context.Context, t change.Resource) error {
	if len(t.Spec.Peers) == 0 {
		return s.takeLine(ctx, t)
	}
	var l *lineState
	err := s.read(ctx, func(tx *sql.Tx) error {
		var m meta
		err := store.ReadMeta(ctx, tx, &m)
		l = m.Lines[t.Name]
		return err
	})
	if err == nil && l == nil {
		err = fmt.Errorf("line %s has no key", t.Name)
	}
	if err != nil {
		return err
	}
	release, err := s.lockGuest(ctx, tunnelOf(t.Name), "starting the line") // no machine has such a name
	if err != nil {
		return err
	}
	defer release()
	d, err := deviceOf(l)
	if err != nil {
		return err
	}
	told, err := json.Marshal(d)
	if err != nil {
		return err
	}
	sum := sha256.Sum256(told)
	shape := hex.EncodeToString(sum[:])
	if pid, has := s.lineProcess(t.Name); pid > 0 && has == shape {
		return nil
	}
	return s.startLine(t.Name, told, shape)
}

// deviceOf is what a line's process is told, in the same order each time.
func deviceOf(l *lineState) (d wire.Device, err error) {
	d.Port = l.Port
	if d.Private, err = wire.ParseKey(l.Private); err != nil {
		return d, err
	}
	for _, p := range l.Peers {
		key, err := wire.ParseKey(p.Key)
		if err != nil {
			return d, err
		}
		d.Peers = append(d.Peers, wire.Peer{Public: key, Addrs: p.Addrs})
	}
	slices.SortFunc(d.Peers, func(a, b wire.Peer) int { return bytes.Compare(a.Public[:], b.Public[:]) })
	return d, nil
}

// startLine starts a line's process with what it is told, in the place of the one that runs, and returns once it carries packets.
func (s *Site) startLine(line string, told []byte, shape string) error {
	s.stopLine(line)
	if err := os.MkdirAll(filepath.Dir(s.lineFile(line, "pid")), 0o700); err != nil {
		return err
	}
	status, err := os.OpenFile(s.lineFile(line, "status"), os.O_RDWR|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	defer status.Close()
	tunnel, err := s.openLink(tunnelOf(line), unix.IFF_TUN)
	if err != nil {
		return err
	}
	defer tunnel.Close()
	return within(s.prefix, func() error {
		c := exec.Command("/proc/self/exe")
		c.Args, c.Env = []string{lineName, s.prefix + "/" + line, shape}, []string{}
		c.Stdin, c.ExtraFiles = bytes.NewReader(told), []*os.File{tunnel, status}
		c.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Credential: &syscall.Credential{Uid: nobody, Gid: nobody}}
		out, err := c.StdoutPipe()
		if err != nil {
			return err
		}
		if err := c.Start(); err != nil {
			return err
		}
		said := make([]byte, 512)
		n, err := out.Read(said)
		if text := strings.TrimSpace(string(said[:n])); err != nil || text != lineReady {
			return errors.Join(fmt.Errorf("line %s carries nothing: %s", line, text), err, c.Wait())
		}
		pid := c.Process.Pid
		return errors.Join(os.WriteFile(s.lineFile(line, "pid"), []byte(strconv.Itoa(pid)), 0o600), c.Process.Release())
	})
}

// lineProcess is that of a line, and for what it was started; 0 for none.
func (s *Site) lineProcess(line string) (pid int, shape string) {
	return runsAs(s.lineFile(line, "pid"), lineName, s.prefix+"/"+line)
}

// stopLine ends a line's process, and waits until it is gone.
func (s *Site) stopLine(line string) {
	if pid, _ := s.lineProcess(line); pid > 0 {
		endProcess(pid)
	}
	_ = os.Remove(s.lineFile(line, "pid"))
}

// takeLine takes away what a line is on this host.
func (s *Site) takeLine(ctx context.Context, t change.Resource) error {
	s.stopLine(t.Name)
	_ = os.Remove(s.lineFile(t.Name, "status"))
	return s.change(ctx, func(_ *sql.Tx, m *meta) error {
		l := m.Lines[t.Name]
		delete(m.Lines, t.Name)
		if l == nil || !exists(s.prefix) {
			return nil
		}
		if err := s.forget(m, addrsGone(l.Peers, nil)...); err != nil {
			return err
		}
		return within(s.prefix, func() error {
			link, err := netlink.LinkByName(tunnelOf(t.Name))
			if errors.As(err, &netlink.LinkNotFoundError{}) {
				return nil
			}
			if err != nil {
				return err
			}
			return netlink.LinkDel(link)
		})
	})
}

// lineLinks are the links of lines, and what may come by them.
func (s *Site) lineLinks(m *meta) (list []link, err error) {
	err = within(s.prefix, func() error {
		for name, l := range m.Lines {
			found, err := netlink.LinkByName(tunnelOf(name))
			if errors.As(err, &netlink.LinkNotFoundError{}) {
				continue
			}
			if err != nil {
				return fmt.Errorf("the link of line %s: %w", name, err)
			}
			one := link{index: found.Attrs().Index, port: uint16(l.Port)}
			for _, p := range l.Peers {
				one.addrs = append(one.addrs, p.Addrs...)
			}
			list = append(list, one)
		}
		return nil
	})
	slices.SortFunc(list, func(a, b link) int { return int(a.port) - int(b.port) })
	return list, err
}

// Line tells how a line is doing.
func (s *Site) Line(ctx context.Context, name string) (l driver.Line, err error) {
	var kept *lineState
	err = s.read(ctx, func(tx *sql.Tx) error {
		var m meta
		err := store.ReadMeta(ctx, tx, &m)
		kept = m.Lines[name]
		return err
	})
	if err != nil || kept == nil {
		return l, errors.Join(err, driver.ErrNoLine)
	}
	key, err := wire.ParseKey(kept.Private)
	if err != nil {
		return l, err
	}
	pid, _ := s.lineProcess(name)
	l = driver.Line{Key: key.Public().String(), Port: kept.Port, Serves: pid > 0, Peers: map[string]driver.LinePeer{}}
	state := wire.ReadState(s.lineFile(name, "status"))
	for peer, p := range kept.Peers {
		one := state[p.Key]
		l.Peers[peer] = driver.LinePeer{Heard: one.Handshake, From: one.From, Received: one.Received, Sent: one.Sent}
	}
	return l, nil
}
