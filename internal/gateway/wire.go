package gateway

import (
	"bufio"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"ironbark/internal/bastion"
)

// Two processes speak over three descriptors of the one that faces the internet:
//
//	3  messages, as JSON, one a line, both ways (a stream)
//	4  connections to machines, each with the number of its session (sequenced packets, unix(7))
//	5  and up: the sockets that it accepts clients on
const (
	fdMessages  = 3
	fdMachines  = 4
	fdListeners = 5
)

// message is what one process tells the other. One field besides Op is set, as Op says.
type message struct {
	Op string `json:"op"`

	Hello   *hello          `json:"hello,omitempty"`
	Access  *bastion.Access `json:"access,omitempty"`
	Forward *Forward        `json:"forward,omitempty"`
	Session *session        `json:"session,omitempty"`
	Counts  []session       `json:"counts,omitempty"`
	Client  netip.Addr      `json:"client,omitzero"`
	N       int             `json:"n,omitempty"`
	Now     time.Time       `json:"now,omitzero"` // with access and refresh: it is not earlier
}

// The messages to the one that faces the internet, and those from it.
const (
	opHello   = "hello"
	opAccess  = "access"
	opRefresh = "refresh"
	opLimit   = "sessions"
	opRefuse  = "refuse"
	opEnd     = "end"
	opDrain   = "drain"

	opForward = "forward"
	opEnded   = "ended"
	opCounts  = "counts"
	opFailed  = "failed"
	opDrained = "drained"
	opAlive   = "alive" // each refresh is answered with it
)

// hello is what a process is told at first.
type hello struct {
	HostKey   []byte     `json:"hostKey"` // the seed of an Ed25519 key (RFC 8032)
	Limits    Limits     `json:"limits"`
	Listeners []Listener `json:"listeners"`
}

// session is what is told of one.
type session struct {
	ID     uint64 `json:"id"`
	Up     int64  `json:"up,omitempty"`
	Down   int64  `json:"down,omitempty"`
	Reason string `json:"reason,omitempty"`
	Failed bool   `json:"failed,omitempty"`
}

// wire is one end of the messages, one a line. It is safe for concurrent use.
type wire struct {
	c  net.Conn
	mu sync.Mutex
	in *bufio.Scanner
	to *json.Encoder
}

// The longest messages: the process that faces the internet is trusted with little of the other's memory.
const (
	mostFromChild  = 4 << 20
	mostFromParent = 256 << 20
)

func newWire(c net.Conn, most int) *wire {
	w := &wire{c: c, in: bufio.NewScanner(c), to: json.NewEncoder(c)}
	w.in.Buffer(nil, most)
	return w
}

func (w *wire) send(m message) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.to.Encode(m)
}

// receive returns the next message. It is for one reader.
func (w *wire) receive() (m message, err error) {
	if !w.in.Scan() {
		return m, cmp.Or(w.in.Err(), io.EOF)
	}
	return m, json.Unmarshal(w.in.Bytes(), &m)
}

// sendMachine hands a connection over.
func sendMachine(to *net.UnixConn, id uint64, fd int) error {
	_, _, err := to.WriteMsgUnix(fmt.Appendf(nil, "%d", id), unix.UnixRights(fd), nil)
	return err
}

// receiveMachine takes a connection over.
func receiveMachine(from *net.UnixConn) (id uint64, c net.Conn, err error) {
	text, oob := make([]byte, 32), make([]byte, unix.CmsgSpace(4))
	n, oobn, _, _, err := from.ReadMsgUnix(text, oob)
	if err != nil {
		return 0, nil, err
	}
	if n == 0 {
		return 0, nil, io.EOF
	}
	if _, err := fmt.Sscan(string(text[:n]), &id); err != nil {
		return 0, nil, err
	}
	control, err := unix.ParseSocketControlMessage(oob[:oobn])
	if err != nil || len(control) != 1 {
		return id, nil, errors.Join(err, errors.New("no connection came along"))
	}
	fds, err := unix.ParseUnixRights(&control[0])
	if err != nil || len(fds) != 1 {
		return id, nil, errors.Join(err, errors.New("no connection came along"))
	}
	f := os.NewFile(uintptr(fds[0]), "machine")
	c, err = net.FileConn(f)
	return id, c, errors.Join(err, f.Close())
}

// socketPair returns two ends of a unix socket, the second one as a file for another process.
func socketPair(kind int) (here *net.UnixConn, there *os.File, err error) {
	fds, err := unix.Socketpair(unix.AF_UNIX, kind|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return nil, nil, err
	}
	mine := os.NewFile(uintptr(fds[0]), "wire")
	there = os.NewFile(uintptr(fds[1]), "wire")
	c, err := net.FileConn(mine)
	if err = errors.Join(err, mine.Close()); err != nil {
		return nil, nil, errors.Join(err, there.Close())
	}
	return c.(*net.UnixConn), there, nil
}
