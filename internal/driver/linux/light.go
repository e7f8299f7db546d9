package linux

import (
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// A light machine is a network namespace with listeners in it: a process of this program
// under another name, which says who it is and no more. It outlives whoever started it.

// lightName is what such a process is called.
const lightName = "ironbark-light"

// lightPorts are the TCP ports on which a light machine listens.
var lightPorts = []int{22, 80, 443}

func init() {
	if len(os.Args) == 2 && os.Args[0] == lightName {
		if err := listen(os.Args[1]); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		os.Exit(0)
	}
}

// listen answers on each port until the process is ended.
func listen(machine string) error {
	_ = os.Chdir("/")
	for _, port := range lightPorts {
		l, err := net.Listen("tcp", ":"+strconv.Itoa(port))
		if err != nil {
			return err
		}
		go func() {
			for {
				c, err := l.Accept()
				if err != nil {
					return
				}
				go greet(c, port, machine)
			}
		}()
	}
	fmt.Println("ready")
	_ = os.Stdout.Close()
	select {}
}

// greet says who answers, as whoever listens on such a port would begin, and waits for the
// other side to go.
func greet(c net.Conn, port int, machine string) {
	defer c.Close()
	text := "HTTP/1.0 200 OK\r\n\r\n" + machine + "\n"
	if port == 22 {
		text = "SSH-2.0-" + machine + "\r\n"
	}
	if _, err := c.Write([]byte(text)); err != nil || port != 22 {
		return
	}
	_, _ = c.Read(make([]byte, 1))
}

func (s *Site) pidFile(machine string) string { return filepath.Join(s.dir, "light", machine) }

// startListening starts a light machine's process, if it does not run, and waits until it
// listens.
func (s *Site) startListening(machine string) error {
	if s.listening(machine) {
		return nil
	}
	if err := os.MkdirAll(filepath.Dir(s.pidFile(machine)), 0o700); err != nil {
		return err
	}
	return within(s.prefix+"-"+machine, func() error {
		c := exec.Command("/proc/self/exe")
		c.Args = []string{lightName, machine}
		c.Env = []string{}
		c.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
		out, err := c.StdoutPipe()
		if err != nil {
			return err
		}
		if err := c.Start(); err != nil {
			return err
		}
		if _, err := out.Read(make([]byte, 6)); err != nil {
			return errors.Join(fmt.Errorf("machine %s does not listen: %w", machine, err), c.Wait())
		}
		pid := c.Process.Pid
		return errors.Join(os.WriteFile(s.pidFile(machine), []byte(strconv.Itoa(pid)), 0o600), c.Process.Release())
	})
}

// pid is that of a machine's process, which is known by its name; 0 for none.
func (s *Site) pid(machine string) int {
	text, err := os.ReadFile(s.pidFile(machine))
	if err != nil {
		return 0
	}
	pid, err := strconv.Atoi(string(text))
	if err != nil {
		return 0
	}
	name, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
	if err != nil || strings.TrimRight(string(name), "\x00") != lightName+"\x00"+machine {
		return 0
	}
	return pid
}

func (s *Site) listening(machine string) bool { return s.pid(machine) > 0 }

// stopListening ends a machine's process, and waits until it is gone.
func (s *Site) stopListening(machine string) {
	pid := s.pid(machine)
	if pid == 0 {
		return
	}
	_ = unix.Kill(pid, unix.SIGKILL)
	for range 400 {
		_, _ = unix.Wait4(pid, nil, unix.WNOHANG, nil) // if this process has started it
		stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
		if _, rest, _ := strings.Cut(string(stat), ") "); err != nil || strings.HasPrefix(rest, "Z") { // its sockets are closed by then
			break
		}
		time.Sleep(5 * time.Millisecond)
	}
	_ = os.Remove(s.pidFile(machine))
}
