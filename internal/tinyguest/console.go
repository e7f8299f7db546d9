package tinyguest

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"golang.org/x/sys/unix"
	"golang.org/x/term"

	"ironbark/internal/seed"
)

// serialLine is the machine's console.
const serialLine = "/dev/ttyS0"

// openConsole opens the serial line so that each key is told as it is pressed.
func openConsole() (*os.File, error) {
	f, err := os.OpenFile(serialLine, os.O_RDWR, 0)
	if err != nil {
		return nil, err
	}
	_, err = term.MakeRaw(int(f.Fd()))
	return f, err
}

// console offers a login on the serial line.
func (m *machine) console() {
	f, err := openConsole()
	if err != nil {
		say("no console: %v", err)
		return
	}
	t := term.NewTerminal(f, "") // one for all sessions: what is typed ahead waits in it
	for {
		t.SetPrompt(m.seed.Host + " login: ")
		user, err := t.ReadLine()
		if errors.Is(err, io.EOF) { // it would tell so again and again
			t = term.NewTerminal(f, "")
		} else if err != nil {
			return
		}
		if user == "" {
			continue
		}
		ctx := m.login()
		password, err := t.ReadPassword("Password: ")
		if err != nil {
			continue
		}
		if !m.knows(user, []byte(password)) {
			time.Sleep(time.Second)
			fmt.Fprintln(t, "Login incorrect")
			continue
		}
		m.interactive(ctx, t)
	}
}

// login begins a login at the console, which the host can end from then on: also one whose password is being taken away.
func (m *machine) login() context.Context {
	ctx, end := context.WithCancel(context.Background())
	m.mu.Lock()
	defer m.mu.Unlock()
	m.hangUp = end
	return ctx
}

// emergency waits for somebody at the console who remedies what keeps the machine from booting, and starts
// it anew when they say so. It does not return.
func (m *machine) emergency(why error) {
	say("%v", why)
	say("emergency mode: the system waits for somebody at its console")
	if m.port == nil {
		m.port = openPort(seed.ReportPort)
	}
	m.report(seed.Report{Stuck: why.Error()})
	f, err := openConsole()
	if err != nil { // there is nobody to wait for
		for {
			unix.Pause()
		}
	}
	defer f.Close()
	t := term.NewTerminal(f, "(emergency) # ")
	fmt.Fprintln(t, "This machine is in emergency mode. “continue” tries the boot again.")
	s := &shell{in: strings.NewReader(""), out: t, dir: "/"}
	for {
		text, err := t.ReadLine()
		switch strings.TrimSpace(text) {
		case "continue":
			shutDown(unix.LINUX_REBOOT_CMD_RESTART)
		case "":
		default:
			s.run("sh", text)
		}
		if err != nil {
			t = term.NewTerminal(f, "(emergency) # ")
			s.r = nil // it writes to the new one
			s.out, s.err = t, t
		}
	}
}
