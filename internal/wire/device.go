package wire

import (
	"bufio"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net/netip"
	"os"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"
	"golang.zx2c4.com/wireguard/conn"
	"golang.zx2c4.com/wireguard/device"
	"golang.zx2c4.com/wireguard/tun"

	"ironbark/internal/confine"
)

// PeerState is how a peer is doing.
type PeerState struct {
	Handshake time.Time      `json:"handshake,omitzero"` // the last one
	From      netip.AddrPort `json:"from,omitzero"`      // where it was heard from last
	Received  int64          `json:"received"`           // bytes
	Sent      int64          `json:"sent"`
}

// State is how the peers of a device are doing, by their public keys.
type State map[string]PeerState

// Serve is the whole life of a device's process: it carries packets between a tunnel link, whose descriptor it has, and its
// peers, and writes now and then to a file how they are doing. Once its sockets are open it gives up all that it does not
// need. It returns only with an error.
func Serve(d Device, link int, status *os.File, ready func()) error {
	t, _, err := tun.CreateUnmonitoredTUNFromFD(link)
	if err != nil {
		return fmt.Errorf("the tunnel's link: %w", err)
	}
	dev := device.NewDevice(t, conn.NewDefaultBind(), device.NewLogger(device.LogLevelSilent, ""))
	if err := dev.IpcSet(d.uapi()); err != nil {
		return fmt.Errorf("the tunnel's peers: %w", err)
	}
	if err := dev.Up(); err != nil {
		return fmt.Errorf("the tunnel does not come up: %w", err)
	}
	// Sockets are there by now. Batches of packets are read and written at once, and the status is written in place.
	if err := confine.Calls(append(confine.Serving, unix.SYS_RECVMMSG, unix.SYS_SENDMMSG, unix.SYS_PWRITE64, unix.SYS_FTRUNCATE)...); err != nil {
		return err
	}
	ready()
	was := ""
	for {
		if text, err := dev.IpcGet(); err == nil && status != nil {
			if now, err := json.Marshal(stateOf(text)); err == nil && string(now) != was {
				was = string(now)
				if _, err := status.WriteAt(now, 0); err == nil {
					_ = status.Truncate(int64(len(now)))
				}
			}
		}
		select {
		case <-dev.Wait():
			return fmt.Errorf("the tunnel has ended")
		case <-time.After(time.Second):
		}
	}
}

// stateOf reads what a device tells of itself.
func stateOf(text string) State {
	s := State{}
	key := ""
	var sec int64
	for line := range strings.Lines(text) {
		name, value, _ := strings.Cut(strings.TrimSpace(line), "=")
		one := s[key]
		n, _ := strconv.ParseInt(value, 10, 64)
		switch name {
		case "public_key":
			raw, _ := hex.DecodeString(value)
			key = base64.StdEncoding.EncodeToString(raw)
			s[key] = PeerState{}
			continue
		case "endpoint":
			one.From, _ = netip.ParseAddrPort(value)
		case "last_handshake_time_sec":
			sec = n
		case "last_handshake_time_nsec":
			if sec > 0 {
				one.Handshake = time.Unix(sec, n).UTC()
			}
		case "rx_bytes":
			one.Received = n
		case "tx_bytes":
			one.Sent = n
		}
		if key != "" {
			s[key] = one
		}
	}
	return s
}

// ReadState reads what a device's process wrote last; nothing where it has written nothing yet.
func ReadState(path string) State {
	f, err := os.Open(path)
	if err != nil {
		return nil
	}
	defer f.Close()
	s := State{}
	if json.NewDecoder(bufio.NewReader(f)).Decode(&s) != nil {
		return nil
	}
	return s
}
