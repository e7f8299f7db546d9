package linux

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"ironbark/internal/change"
	"ironbark/internal/confine"
	"ironbark/internal/flow"
	"ironbark/internal/pidfd"
)

// A light machine is a network namespace with listeners in it: a process of this program
// under another name, which says who it is and no more. It runs as a user without privileges, with a seccomp filter, and outlives whoever
// started it.

// lightName is what such a process is called.
const lightName = "ironbark-light"

// everyLight are the services at which every light machine answers, as [flow.ServiceRuns]
// writes them.
var everyLight = []string{"tcp/22", "tcp/80", "tcp/443"}

func init() {
	if len(os.Args) == 3 && os.Args[0] == lightName {
		if err := listen(os.Args[1], os.Args[2]); err != nil {
			fmt.Println(err) // to whoever waits for “ready”
			os.Exit(1)
		}
		os.Exit(0)
	}
}

// lightServices are those at which a light machine answers: every one's, and those that its
// setup names.
func lightServices(t change.Resource) flow.Services {
	words := slices.Clone(everyLight)
	for _, part := range t.Spec.Setup {
		words = append(words, part.Listens...)
	}
	services, err := flow.ParseServiceRuns(words)
	if err != nil { // no plan of ours writes such a thing
		services, _ = flow.ParseServiceRuns(everyLight)
	}
	return services
}

// listen answers at each service until the process is ended.
func listen(machine, words string) error {
	_ = os.Chdir("/")
	services, err := flow.ParseServiceRuns(strings.Split(words, ","))
	if err != nil {
		return err
	}
	for _, run := range services.Runs() {
		for service := run.Lo; service <= run.Hi; service++ {
			if err := listenAt(machine, service); err != nil {
				return err
			}
		}
	}
	// Whoever takes it over from outside can open no file, make no socket and start nothing.
	if err := confine.Calls(confine.Serving...); err != nil {
		return err
	}
	fmt.Println("ready")
	_ = os.Stdout.Close()
	select {}
}

// listenAt answers at one service: over UDP with the machine's name to whatever comes.
func listenAt(machine string, service flow.Service) error {
	at := ":" + strconv.Itoa(int(service.Port()))
	if service >= flow.UDPPort(0) {
		c, err := net.ListenPacket("udp", at)
		if err != nil {
			return err
		}
		go func() {
			for buffer := make([]byte, 1500); ; {
				_, from, err := c.ReadFrom(buffer)
				if err == nil {
					_, err = c.WriteTo([]byte(machine+"\n"), from)
				}
				if errors.Is(err, net.ErrClosed) {
					return
				}
			}
		}()
		return nil
	}
	l, err := net.Listen("tcp", at)
	if err != nil {
		return err
	}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go greet(c, int(service.Port()), machine)
		}
	}()
	return nil
}

// greet says who answers, as whoever listens on such a port would begin, and waits for the
// other side to go.
func greet(c net.Conn, port int, machine string) {
	defer c.Close()
	text := "HTTP/1.0 200 OK\r\n\r\n" + machine + "\n"
	if port == 22 {
		text = "SSH-2.0-" + machine + "\r\n"
	}
	if _, err := c.Write([]byte(text)); err != nil {
		return
	}
	if port == 22 {
		_, _ = c.Read(make([]byte, 1))
		return
	}
	// What the client asked is read: a connection that is closed before that is reset, and the answer may be lost.
	if t, ok := c.(*net.TCPConn); ok && t.CloseWrite() == nil {
		_ = c.SetReadDeadline(time.Now().Add(time.Second))
		_, _ = io.CopyN(io.Discard, c, 64<<10)
	}
}

func (s *Site) pidFile(machine string) string { return filepath.Join(s.dir, "light", machine) }

// startListening starts a light machine's process, if it does not run as it should, and waits
// until it listens.
func (s *Site) startListening(t change.Resource) error {
	machine, services := t.Name, strings.Join(flow.ServiceRuns(lightServices(t)), ",")
	if pid, has := s.process(machine); pid > 0 && has == services {
		return nil
	}
	s.stopListening(machine)
	if err := os.MkdirAll(filepath.Dir(s.pidFile(machine)), 0o700); err != nil {
		return err
	}
	err := s.listenIn(machine, services)
	if err != nil { // one whose number was lost, with this folder say, may be in its way
		if endLight(s.prefix+"-"+machine) > 0 {
			err = s.listenIn(machine, services)
		}
	}
	return err
}

// listenIn starts a light machine's process in its namespace.
func (s *Site) listenIn(machine, services string) error {
	return within(s.prefix+"-"+machine, func() error {
		if err := set(machineSettings); err != nil { // somebody may have changed them
			return err
		}
		c := exec.Command("/proc/self/exe")
		c.Args = []string{lightName, machine, services}
		c.Env = []string{}
		c.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Credential: &syscall.Credential{Uid: nobody, Gid: nobody}}
		out, err := c.StdoutPipe()
		if err != nil {
			return err
		}
		if err := c.Start(); err != nil {
			return err
		}
		told := make([]byte, 512)
		n, err := out.Read(told)
		if text := strings.TrimSpace(string(told[:n])); err != nil || text != "ready" {
			return fmt.Errorf("machine %s does not listen: %s", machine, cmp.Or(text, fmt.Sprint(errors.Join(err, c.Wait()))))
		}
		pid := c.Process.Pid
		return errors.Join(os.WriteFile(s.pidFile(machine), []byte(strconv.Itoa(pid)), 0o600), c.Process.Release())
	})
}

// endLight ends the processes of light machines in some namespaces, whoever remembers them, and tells how many there were. Cost: linear
// in the processes of the host.
func endLight(namespaces ...string) (ended int) {
	in := map[uint64]bool{}
	var is unix.Stat_t
	for _, name := range namespaces {
		if unix.Stat(filepath.Join(namespaceDir, name), &is) == nil {
			in[is.Ino] = true
		}
	}
	list, _ := filepath.Glob("/proc/[0-9]*")
	for _, dir := range list {
		line, err := os.ReadFile(filepath.Join(dir, "cmdline"))
		if err != nil || !strings.HasPrefix(string(line), lightName+"\x00") || unix.Stat(filepath.Join(dir, "ns/net"), &is) != nil || !in[is.Ino] {
			continue
		}
		if pid, err := strconv.Atoi(filepath.Base(dir)); err == nil {
			endProcess(pid)
			ended++
		}
	}
	return ended
}

// process is that of a machine, and the services at which it answers; 0 for none.
func (s *Site) process(machine string) (pid int, services string) {
	return runsAs(s.pidFile(machine), lightName, machine)
}

// runsAs finds the process whose number a file has, if it still is one of this program under a name, for something: 0 where it
// is not. The rest are the words that it was started with besides.
func runsAs(file, name, what string) (pid int, rest string) {
	text, err := os.ReadFile(file)
	if err != nil {
		return 0, ""
	}
	if pid, err = strconv.Atoi(string(text)); err != nil {
		return 0, ""
	}
	line, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
	args := strings.Split(strings.TrimRight(string(line), "\x00"), "\x00")
	if err != nil || len(args) < 2 || args[0] != name || args[1] != what {
		return 0, ""
	}
	return pid, strings.Join(args[2:], " ")
}

func (s *Site) pid(machine string) int {
	pid, _ := s.process(machine)
	return pid
}

func (s *Site) listening(machine string) bool { return s.pid(machine) > 0 }

// stopListening ends a machine's process, and waits until it is gone.
func (s *Site) stopListening(machine string) {
	pid := s.pid(machine)
	if pid == 0 {
		return
	}
	endProcess(pid)
	_ = os.Remove(s.pidFile(machine))
}

// endProcess ends a process, and waits until it is gone with all its threads, at most two seconds.
func endProcess(pid int) {
	fd, err := unix.PidfdOpen(pid, 0)
	if err != nil { // it is gone; where only no descriptor is to be had, it is ended and not waited for
		_ = unix.Kill(pid, unix.SIGKILL)
		return
	}
	defer unix.Close(fd)
	_, _ = pidfd.Kill(fd, 2*time.Second)
	_, _ = unix.Wait4(pid, nil, unix.WNOHANG, nil) // if this process has started it
}
