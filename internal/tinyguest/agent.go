package tinyguest

import (
	"bufio"
	"encoding/base64"
	"encoding/json"
	"errors"
	"io"
	"os"
	"slices"
	"strings"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"
)

// AgentPort is the port of QEMU's guest agent, whose protocol this system speaks as far as
// it has a use for it (QEMU's manual, “QEMU Guest Agent Protocol Reference”).
const AgentPort = "org.qemu.guest_agent.0"

// agentWait is how long passes between two looks whether the host is at the other end.
const agentWait = 50 * time.Millisecond

// agent answers what the host asks.
func (m *machine) agent() {
	port := openPort(AgentPort)
	if port == nil {
		return
	}
	in := bufio.NewReaderSize(port, 64<<10)
	for {
		line, err := in.ReadSlice('\n')
		if errors.Is(err, io.EOF) { // nobody is at the other end
			time.Sleep(agentWait)
			continue
		}
		if err != nil {
			return
		}
		for len(line) > 0 && line[0] == 0xff { // a client that begins anew
			line = line[1:]
		}
		var asked struct {
			Execute   string          `json:"execute"`
			Arguments json.RawMessage `json:"arguments"`
		}
		if json.Unmarshal(line, &asked) != nil {
			continue
		}
		answer := map[string]any{}
		result, err := m.answer(asked.Execute, asked.Arguments)
		if err != nil {
			answer["error"] = map[string]string{"class": "GenericError", "desc": err.Error()}
		} else {
			answer["return"] = result
		}
		if text, err := json.Marshal(answer); err == nil {
			_, _ = port.Write(append(text, '\n'))
		}
	}
}

func (m *machine) answer(command string, args json.RawMessage) (any, error) {
	var a struct {
		ID       int64  `json:"id"`
		User     string `json:"username"`
		Password []byte `json:"password"` // base64
		Crypted  bool   `json:"crypted"`

		Path string   `json:"path"`
		Args []string `json:"arg"`
	}
	if len(args) > 0 {
		if err := json.Unmarshal(args, &a); err != nil {
			return nil, err
		}
	}
	switch command {
	case "guest-sync":
		return a.ID, nil
	case "guest-ping":
		return struct{}{}, nil
	case "guest-set-user-password":
		if a.User != m.seed.User || !a.Crypted {
			return nil, errors.New("only the salted hash of " + m.seed.User + "'s password can be set")
		}
		m.mu.Lock()
		m.hash = string(a.Password)
		m.passwords = strings.HasPrefix(m.hash, "$") // crypt(5): anything else is no password's
		m.mu.Unlock()
		return struct{}{}, nil
	case "guest-exec": // the one command that is asked for: there are no services
		if a.Path != "systemctl" || !slices.Equal(a.Args, []string{"restart", "serial-getty@ttyS0.service"}) {
			return nil, errors.New("only the login at the serial line can be begun again")
		}
		m.mu.Lock()
		defer m.mu.Unlock()
		if m.hangUp != nil {
			m.hangUp()
		}
		return map[string]int{"pid": 1}, nil
	case "guest-exec-status":
		return map[string]any{"exited": true, "exitcode": 0}, nil
	case "guest-fsfreeze-freeze":
		return 1, freeze(fiFreeze)
	case "guest-fsfreeze-thaw":
		return 1, freeze(fiThaw)
	}
	return nil, errors.New("the command " + base64.StdEncoding.EncodeToString([]byte(command)) + " (base64) is not known")
}

// fiFreeze and fiThaw keep a file system from being written to, and let it go on (linux/fs.h).
const (
	fiFreeze = 0xc0045877
	fiThaw   = 0xc0045878
)

func freeze(what uintptr) error {
	d, err := os.Open(diskPath)
	if err != nil {
		return err
	}
	defer d.Close()
	var none int32
	if _, _, e := unix.Syscall(unix.SYS_IOCTL, d.Fd(), what, uintptr(unsafe.Pointer(&none))); e != 0 {
		return e
	}
	return nil
}
