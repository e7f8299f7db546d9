// Package tinyguest is the whole of a small Linux system but its kernel: the program that
// the kernel starts first. It runs setup scripts, speaks SSH, answers as a web server and a
// remote desktop begin to, and powers off when it is told to. It is for tests, for the demo,
// and for whoever wants a machine in a few seconds.
//
//	modules ─▶ seed disk ─▶ network, system disk ─▶ listeners ─▶ setup ─▶ “up”
//	            ▲ blank: it waits here, and so does a saved state that machines are copied from
//
// Everything inside it runs as root: whoever is let in has the machine.
package tinyguest

import (
	"errors"
	"fmt"
	"os"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"ironbark/internal/flow"
	"ironbark/internal/seed"
)

// machine is the machine that this program is.
type machine struct {
	seed seed.Seed
	port *os.File // on which it reports; nil: there is none

	there chan struct{} // closed once the system disk is there

	mu        sync.Mutex
	hash      string // of the user's password
	passwords bool   // whether SSH takes it, too
	hangUp    func() // ends the latest login at the console; nil: there was none
}

// Run does all that the machine does. It returns only where nothing can be done.
func Run() error {
	if os.Getpid() != 1 {
		return errors.New("this is the first program of a tiny guest, and runs in no other system")
	}
	m := &machine{there: make(chan struct{})}
	if err := errors.Join(mountKernel(), loadModules()); err != nil {
		m.emergency(err)
	}
	go powerButton(m)
	m.port = openPort(seed.ReportPort)
	if err := m.begin(); err != nil {
		m.emergency(err)
	}
	select {}
}

// begin does everything from the seed on.
func (m *machine) begin() (err error) {
	if m.seed, err = awaitSeed(); err != nil {
		return err
	}
	m.hash, m.passwords = m.seed.Hash, m.seed.Passwords
	stir(m.seed.Entropy)
	setClock(m.seed.Now)
	say("machine %s starts: a tiny guest, instance %s", m.seed.Host, m.seed.Instance)
	if err := errors.Join(unix.Sethostname([]byte(m.seed.Host)), m.network()); err != nil {
		return err
	}
	if err := m.listenAt(flow.TCPPort(22)); err != nil { // whoever is early waits for the disk
		return err
	}
	fresh, err := m.mountDisk()
	if err != nil {
		return err
	}
	if err := m.users(fresh); err != nil {
		return err
	}
	close(m.there)
	listens, err := m.listen()
	if err != nil {
		return err
	}
	go m.agent()
	go m.console()
	go m.resizes()
	say("machine %s is up", m.seed.Host)
	m.report(seed.Report{Up: true, Listens: listens})
	m.setup(fresh)
	return nil
}

// say writes a line to the console.
func say(format string, args ...any) {
	fmt.Printf("[%8.2f] %s\n", uptime(), fmt.Sprintf(format, args...))
}

func uptime() float64 {
	var t unix.Timespec
	_ = unix.ClockGettime(unix.CLOCK_BOOTTIME, &t)
	return float64(t.Nano()) / 1e9
}

// setClock sets the machine's clock to the host's, where it is behind that: it slept in a saved state.
func setClock(now time.Time) {
	if now.After(time.Now()) {
		t := unix.NsecToTimespec(now.UnixNano())
		_ = unix.ClockSettime(unix.CLOCK_REALTIME, &t)
	}
}
